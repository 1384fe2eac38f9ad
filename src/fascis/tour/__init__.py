"""Drives the real window over the demo's world, and takes pictures of it."""
