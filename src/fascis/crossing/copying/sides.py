"""The two ends of a passage: where files come from, and where they go to."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol

from fascis.crossing.model.seen import Fidelity
from fascis.files.disk.medium import Medium


@dataclass(slots=True)
class Side:
    """A place the engine works on: the medium, and the drive's name for telling."""

    medium: Medium
    name: str


class Loose(Protocol):
    """Gives loose media, which lies outside the library, for reading."""

    def of(self, path: bytes) -> tuple[Medium, bytes]:
        """The folder a path lies in, open, and the name there. Raises ``OSError``."""


@dataclass(frozen=True, slots=True)
class Ends:
    """Between what files are copied.

    ``root`` is the staging folder of the library's files at the destination, ``keeps`` what copies
    keep of their sources there.
    """

    source: Side
    destination: Side
    root: bytes
    keeps: Fidelity
    loose: Loose | None = None
