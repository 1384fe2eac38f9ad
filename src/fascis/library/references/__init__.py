"""A library's references: reading documents, following references, and the files they need."""
