"""A library is read again where it stands, and compared with its lists and those of others."""
