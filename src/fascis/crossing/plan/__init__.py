"""What a crossing would do. Writes nothing."""
