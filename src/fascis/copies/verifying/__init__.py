"""Reading a library again at its path, and comparing it with its lists and those of others."""
