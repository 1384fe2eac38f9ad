"""Copies files, reads them back, and proves where the bytes came from."""
