"""Where what crosses is to stand, as a plan says it."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path


@dataclass(frozen=True, slots=True)
class NewFolder:
    """In a folder of its own, which is made for it.

    Attributes:
        folder: the folder that it stands in.
        name: its own folder's name there.
    """

    folder: Path
    name: str

    @property
    def target(self) -> Path:
        """The folder that places of the copy count from: the library's own."""
        return self.folder / self.name

    @property
    def told(self) -> Path:
        """Where a person finds what crossed."""
        return self.target


@dataclass(frozen=True, slots=True)
class IntoExisting:
    """In a folder that is there, among what stands there.

    Attributes:
        folder: the folder that places of the copy count from: the library that it is, or lies in;
            without one, itself.
        inner: where a person finds what crossed, as a place in that folder.
        library: the id of that library, where it has records of its own; else nothing.
        updates: it is a copy of what crosses, which is brought up to it.
    """

    folder: Path
    inner: bytes = b""
    library: str = ""
    name: str = ""
    updates: bool = False

    @property
    def target(self) -> Path:
        """The folder that places of the copy count from."""
        return self.folder

    @property
    def told(self) -> Path:
        """Where a person finds what crossed."""
        return self.folder / os.fsdecode(self.inner)


Landing = NewFolder | IntoExisting
"""All ways of landing that there are."""
