"""Connected drives, their file-system rules, space and stand-ins. Independent of libraries."""
