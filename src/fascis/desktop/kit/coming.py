"""What is on its way to a drive, told by what runs and drawn on the shelves."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Coming:
    """A library on its way to a drive; ``done`` is the part of it that is verified there."""

    drive: str
    name: str
    bytes: int
    done: float
    words: str
