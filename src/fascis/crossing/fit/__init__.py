"""What a destination can store: names, limits, obstacles, room."""
