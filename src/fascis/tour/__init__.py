"""Drives the real window through the demo, and takes pictures of it."""
