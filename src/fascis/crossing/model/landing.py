"""Where a library is to stand, as a plan says it."""

from __future__ import annotations

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
        """The library's own folder."""
        return self.folder / self.name


Landing = NewFolder
"""All ways of landing that there are."""
