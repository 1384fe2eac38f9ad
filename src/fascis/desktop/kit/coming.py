"""Libraries on their way to a drive, reported by running crossings and drawn on the shelves."""

from __future__ import annotations

from msgspec import Struct


class Coming(Struct, frozen=True):
    """A library on its way to a drive; ``done`` is the verified share."""

    drive: str
    name: str
    bytes: int
    done: float
    words: str
