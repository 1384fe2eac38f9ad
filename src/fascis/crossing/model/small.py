"""Which files count as small."""

SMALL_FILE = 1 << 20
"""Bytes of the largest file that is read in one piece, and copied by helpers where that helps."""
