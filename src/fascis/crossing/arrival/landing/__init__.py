"""How a library comes to stand at its new place: staged, arriving, arrived, or taken back."""
