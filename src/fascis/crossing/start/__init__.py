"""A plan becomes a crossing."""
