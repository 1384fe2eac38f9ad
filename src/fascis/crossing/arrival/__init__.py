"""A staged copy becomes a library: rewriting, checking, settling, copying later changes."""
