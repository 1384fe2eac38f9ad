"""The view Strands: what a library refers to, and where it lies."""
