"""The two sides of copying: where files come from, and where they go."""

from __future__ import annotations

from typing import Protocol

from msgspec import Struct

from fascis.crossing.model.seen import Fidelity
from fascis.files.disk.medium import Medium


class Side(Struct):
    """A side: the medium, and the drive's name for messages."""

    medium: Medium
    name: str


class Loose(Protocol):
    """Opens loose media, which lies outside the library, for reading."""

    def of(self, path: bytes) -> tuple[Medium, bytes]:
        """The opened folder of a path, and the name there. Raises ``OSError``."""


class Ends(Struct, frozen=True):
    """The two sides between which files are copied.

    ``root`` is the staging folder of the library's files at the destination, ``keeps`` the
    properties that copies keep there.
    """

    source: Side
    destination: Side
    root: bytes
    keeps: Fidelity
    loose: Loose | None = None
