"""Where a plan puts the copy."""

from __future__ import annotations

import os
from pathlib import Path

from msgspec import Struct


class NewFolder(Struct, frozen=True):
    """In a new folder of its own.

    Attributes:
        folder: the folder that will contain it.
        name: the name of its own folder.
    """

    folder: Path
    name: str

    @property
    def target(self) -> Path:
        """The folder from which places of the copy count: the library's own."""
        return self.folder / self.name

    @property
    def told(self) -> Path:
        """Where a person finds the copy."""
        return self.target


class IntoExisting(Struct, frozen=True):
    """In an existing folder.

    Attributes:
        folder: the folder from which places of the copy count: the library that it is or lies in,
            otherwise the folder itself.
        inner: where a person finds the copy, as a place in that folder.
        library: the id of that library if it has its own records, otherwise empty.
        updates: the folder is a copy of the same library, which is updated.
    """

    folder: Path
    inner: bytes = b""
    library: str = ""
    name: str = ""
    updates: bool = False

    @property
    def target(self) -> Path:
        """The folder from which places of the copy count."""
        return self.folder

    @property
    def told(self) -> Path:
        """Where a person finds the copy."""
        return self.folder / os.fsdecode(self.inner)


Landing = NewFolder | IntoExisting
"""All ways of landing that there are."""
