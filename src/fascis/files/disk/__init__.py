"""What touches the disk: handles, walking, reading, writing, and the one door to deletion."""
