"""What becomes of a library's copies in the years after a crossing."""
