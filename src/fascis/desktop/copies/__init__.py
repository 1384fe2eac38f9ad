"""The copies of a library in the window: verifying, repairing, updating, bringing back."""
