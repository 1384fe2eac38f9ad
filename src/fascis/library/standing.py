"""Standing: where a file is with respect to its library."""

from __future__ import annotations

from enum import StrEnum

from fascis.words.speech import tr


class Standing(StrEnum):
    """Where a file is with respect to its library."""

    # In the library's folder, and used.
    HELD = "held"
    LOOSE = "loose"  # Used, but outside.
    # On a drive that is not connected.
    AWAY = "away"
    # Not at its path, although its drive is connected.
    MISSING = "missing"
    UNUSED = "unused"  # In the library's folder, but unused.

    @property
    def inside(self) -> bool:
        """True if the file lies in the library's folder."""
        return self in (Standing.HELD, Standing.UNUSED)

    @property
    def words(self) -> str:
        """Its name for people."""
        return _WORDS[self]


STANDINGS = tuple(Standing)
_WORDS = {
    Standing.HELD: tr("held"),
    Standing.LOOSE: tr("loose"),
    Standing.AWAY: tr("away"),
    Standing.MISSING: tr("missing"),
    Standing.UNUSED: tr("unused"),
}
