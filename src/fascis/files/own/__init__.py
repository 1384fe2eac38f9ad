"""Fascis's own state files: private, safely replaced, and reported when damaged."""
