"""The place Shelves: drives as shelves, and what stands on them."""
