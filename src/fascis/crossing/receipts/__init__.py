"""What a crossing did, to keep."""
