"""Searching for libraries, and for what is big, on this machine and its drives."""
