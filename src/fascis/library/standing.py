"""Standing: where a file is with respect to its library."""

from __future__ import annotations

from enum import StrEnum

from fascis.words.speech import tr


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

    @property
    def words(self) -> str:
        """What a person calls it."""
        return _WORDS[self]


STANDINGS = tuple(Standing)
_WORDS = {
    Standing.HELD: tr("held"),
    Standing.LOOSE: tr("loose"),
    Standing.AWAY: tr("away"),
    Standing.MISSING: tr("missing"),
    Standing.UNUSED: tr("unused"),
}
