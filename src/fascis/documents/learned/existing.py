"""The existing files, with which values are compared to decide whether they are paths."""

from __future__ import annotations

import os
import unicodedata
from collections.abc import Callable, Iterable, Mapping

# Folders that are searched for one name.
_MOST_ALIKE = 64


def plain(text: str) -> str:
    """A name in composed form, for comparing."""
    return text if text.isascii() else unicodedata.normalize("NFC", text)


class Existing:
    """Files by their names, each with the folders that contain one.

    Args:
        paths: of files, absolute.
        folder: the document's own, absolute.
        drives: identity of a connected drive → where it is mounted.
        is_file: checks whether another file exists.
    """

    def __init__(
        self,
        paths: Iterable[bytes],
        folder: bytes,
        drives: Mapping[str, str] | None = None,
        is_file: Callable[[str], bool] | None = None,
    ) -> None:
        self.folder = plain(os.fsdecode(folder))
        self.drives = dict(drives or {})
        self._is_file = is_file
        self._looked: dict[str, bool] = {}
        self._folders: list[str] = []
        self._numbers: dict[str, int] = {}
        self._by_name: dict[str, int | list[int]] = {}
        self._by_stem: dict[str, int | list[int]] | None = None
        self._by_number: list[list[str]] = []
        for path in paths:
            above, _, name = plain(os.fsdecode(path)).rpartition("/")
            self._add(self._by_name, name, self._number(above))

    def _number(self, folder: str) -> int:
        number = self._numbers.get(folder)
        if number is None:
            number = self._numbers[folder] = len(self._folders)
            self._folders.append(folder)
        return number

    @staticmethod
    def _add(known: dict[str, int | list[int]], name: str, folder: int) -> None:
        there = known.get(name)
        if there is None:
            known[name] = folder
        elif isinstance(there, int):
            if there != folder:
                known[name] = [there, folder]
        elif len(there) < _MOST_ALIKE:
            there.append(folder)

    def __len__(self) -> int:
        return len(self._by_name)

    def has_name(self, name: str) -> bool:
        """True if some file has this name."""
        return plain(name) in self._by_name

    def has_stem(self, stem: str) -> bool:
        """True if some file has this name without its ending."""
        return plain(stem) in self._stems

    @property
    def _stems(self) -> dict[str, int | list[int]]:
        if self._by_stem is None:
            self._by_stem = {}
            for name, folders in self._by_name.items():
                stem = name.rpartition(".")[0]
                if stem:
                    for folder in [folders] if isinstance(folders, int) else folders:
                        self._add(self._by_stem, stem, folder)
        return self._by_stem

    def folders_with(self, name: str, stem: bool = False) -> list[str]:
        """The folders with a file of this name, or of this name without its ending."""
        known = self._stems if stem else self._by_name
        found = known.get(plain(name))
        if found is None:
            return []
        return [self._folders[n] for n in ([found] if isinstance(found, int) else found)]

    def is_there(self, path: str) -> bool:
        """True for the absolute path of a file that exists."""
        return self.folder_of(path) is not None

    def folder_of(self, path: str) -> str | None:
        """The folder of a file that exists, by its absolute path; None for any other."""
        above, _, name = plain(path).rpartition("/")
        found = self._by_name.get(name)
        if found is not None and (number := self._numbers.get(above)) is not None:
            if found == number or (isinstance(found, list) and number in found):
                return above
            if isinstance(found, int) or len(found) < _MOST_ALIKE:
                # All files with that name are known, and the folder was searched.
                return None
        if self._is_file is None:
            return None
        known = self._looked.get(path)
        if known is None:
            known = self._looked[path] = self._is_file(path)
        return above if known else None
