"""What becomes of home and originals after a crossing."""

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
