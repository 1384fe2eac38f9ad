"""Connected drives, their file-system rules, space and stand-ins. Knows nothing of libraries."""
