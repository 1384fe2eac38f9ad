"""What a destination can hold: names, limits, obstacles, room."""
