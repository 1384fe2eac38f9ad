"""How a library gets to its new path: staged, arriving, arrived, or moved back."""
