"""What becomes of home and originals after a crossing."""

from __future__ import annotations

from enum import StrEnum


class After(StrEnum):
    """What becomes of home and originals."""

    COPY = "copy"  # the old place stays home; this is one more copy
    KEEP = "keep"  # the new place is home; originals stay
    PARK = "park"  # and they are set aside
    RELEASE = "release"  # and they are deleted
