"""What a person decides about home, originals and names that are taken."""

from __future__ import annotations

from enum import StrEnum


class After(StrEnum):
    """What happens to home and originals."""

    # The old place stays home; this is one more copy.
    COPY = "copy"
    # The new place becomes home; originals stay.
    KEEP = "keep"
    PARK = "park"  # The originals are set aside.
    RELEASE = "release"  # The originals are deleted.


class Shared(StrEnum):
    """What happens to a file that is copied and that a document which stays also uses.

    Its original stays, or that document is updated to the new place.
    """

    STAYS = "stays"
    FOLLOWS = "follows"


class Taken(StrEnum):
    """What happens to an arriving file whose name is taken.

    It gets another name there, or stays at the old place.
    """

    RENAMED = "renamed"
    LEFT_OUT = "left-out"
