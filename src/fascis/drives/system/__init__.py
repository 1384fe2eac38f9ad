"""The system's information on drives: mounts, block devices, who uses them, its drive service."""
