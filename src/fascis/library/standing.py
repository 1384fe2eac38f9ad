"""Standing: where a file is with respect to its library."""

from __future__ import annotations

from enum import StrEnum


class Standing(StrEnum):
    """Where a file is with respect to its library."""

    # In the library's folder, and used.
    HELD = "held"
    LOOSE = "loose"  # used, but outside
    # On a drive that is not connected.
    AWAY = "away"
    # Not where it should be, though its drive is there.
    MISSING = "missing"
    UNUSED = "unused"  # held, but nothing uses it

    @property
    def inside(self) -> bool:
        """True when the file lies in the library's folder."""
        return self in (Standing.HELD, Standing.UNUSED)


STANDINGS = tuple(Standing)
