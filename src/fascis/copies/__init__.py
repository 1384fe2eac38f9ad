"""What happens to a library's copies in the years after a crossing."""
