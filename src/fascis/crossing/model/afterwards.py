"""What becomes of home, of originals and of names that are taken, as a person decides."""

from __future__ import annotations

from enum import StrEnum


class After(StrEnum):
    """What becomes of home and originals."""

    # The old place stays home; this is one more copy.
    COPY = "copy"
    # The new place is home; originals stay.
    KEEP = "keep"
    PARK = "park"  # and they are set aside
    RELEASE = "release"  # and they are deleted


class Shared(StrEnum):
    """What becomes of a file that goes and that a document which stays also uses.

    Its original stays, or that document is led to the new place.
    """

    STAYS = "stays"
    FOLLOWS = "follows"


class Taken(StrEnum):
    """What becomes of a file that arrives where something else has its name.

    It gets another name there, or it stays at the old place.
    """

    RENAMED = "renamed"
    LEFT_OUT = "left-out"
