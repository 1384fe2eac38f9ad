"""The reports of the core while it works.

Plain values, one callback.
"""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from fascis.crossing.model.states import State


class Advanced(Struct, frozen=True):
    """Bytes or files were copied or verified, counted for one strand on one destination."""

    strand: int
    copied_bytes: int = 0
    copied_files: int = 0
    verified_bytes: int = 0
    verified_files: int = 0
    destination: int = 0


class Entered(Struct, frozen=True):
    """A state was entered: by the crossing, or by one of its destinations alone."""

    state: State
    destination: int | None = None


class Attention(Struct, frozen=True):
    """Something needs attention; ``meaning`` is what it means for the files."""

    place: bytes
    drive: str
    meaning: str


class Released(Struct, frozen=True):
    """Originals were deleted."""

    files: int
    bytes: int


Event = Advanced | Entered | Attention | Released
Report = Callable[[Event], None]


def silent(_event: Event) -> None:
    """Ignores all reports."""
