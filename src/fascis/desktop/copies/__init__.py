"""The copies of a library in the window: verified, repaired, brought up to date, brought back."""
