"""Standing: where a file is with respect to its library."""

from __future__ import annotations

from enum import StrEnum


class Standing(StrEnum):
    """Where a file is with respect to its library."""

    HELD = "held"  # in the library's folder, and used
    LOOSE = "loose"  # used, but outside
    AWAY = "away"  # on a drive that is not connected
    MISSING = "missing"  # not where it should be, though its drive is there
    UNUSED = "unused"  # held, but nothing uses it

    @property
    def inside(self) -> bool:
        """True when the file lies in the library's folder."""
        return self in (Standing.HELD, Standing.UNUSED)


STANDINGS = tuple(Standing)
