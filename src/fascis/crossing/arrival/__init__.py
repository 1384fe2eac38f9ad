"""A staged copy becomes a library: rewriting, checking, settling, bringing along."""
