"""Where it is: the old place, staging, what arrived; and what changed there."""
