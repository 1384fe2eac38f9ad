"""Access to the disk: handles, walking, reading, writing, and the one door to deletion."""
