"""The view Shelves: drives as shelves with their libraries."""
