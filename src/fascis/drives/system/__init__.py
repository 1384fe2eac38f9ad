"""What the system says of drives: mounts, block devices, who holds them, its service for them."""
