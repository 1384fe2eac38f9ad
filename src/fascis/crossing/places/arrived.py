"""The contents of a copy, by their places there.

The verified entries of the plan, with names as the destination's drive treats them.
"""

from __future__ import annotations

import os
from collections.abc import Callable

from fascis.crossing.journal.copies import Copies
from fascis.crossing.model.states import CopyState
from fascis.documents.targets import Target
from fascis.files.names import join, parent


class Arrived:
    """The verified files and links of one destination, looked up folder by folder.

    Args:
        fold: gives the form of a name in which equal names for the drive are equal.
    """

    def __init__(self, copies: Copies, fold: Callable[[bytes], bytes] = bytes) -> None:
        self._copies, self._fold = copies, fold
        self._folders: dict[bytes, list[bytes]] | None = None
        self._stood: dict[bytes, list[tuple[int, bytes, int | None]]] = {}
        self._names: dict[bytes, dict[bytes, int]] = {}
        self._planned: dict[bytes, set[bytes]] = {}
        self._places: dict[int, bytes] = {}
        self._digests: dict[int, bytes | None] = {}

    def at(self, place: bytes) -> int | None:
        """The entry whose verified copy is at a place; None if there is none."""
        folder, _, name = place.rpartition(b"/")
        key = self._key(folder)
        if key not in self._names:
            self._load(key)
        return self._names[key].get(self._fold(name))

    def is_planned(self, place: bytes) -> bool:
        """True if the plan has something with that name there, copied or not."""
        folder, _, name = place.rpartition(b"/")
        key = self._key(folder)
        if key not in self._names:
            self._load(key)
        return self._fold(name) in self._planned[key]

    def place_of(self, entry: int) -> bytes:
        """The place of an entry in the copy, whether it is copied or not."""
        if entry not in self._places:
            self._read(entry)
        return self._places[entry]

    def digest_of(self, entry: int) -> bytes | None:
        """The digest of an entry's content as read from its original.

        None if it was not verified.
        """
        if entry not in self._digests:
            self._read(entry)
        return self._digests[entry]

    def same(self, one: int, other: int) -> bool:
        """True for one entry, and for two with the same content."""
        return one == other or (
            self.digest_of(one) is not None and self.digest_of(one) == self.digest_of(other)
        )

    def _key(self, folder: bytes) -> bytes:
        return b"/".join(map(self._fold, folder.split(b"/")))

    def _load(self, key: bytes) -> None:
        if self._folders is None:
            self._folders = {}
            for _, there in self._copies.journal.folders():
                self._folders.setdefault(self._key(there), []).append(there)
            for entry, place, state in self._copies.standing_elsewhere():
                above, _, name = place.rpartition(b"/")
                self._stood.setdefault(self._key(above), []).append((entry, name, state))
        found: dict[bytes, int] = {}
        planned: set[bytes] = set()
        for entry, name, state in self._stood.get(key, ()):
            planned.add(self._fold(name))
            if state == CopyState.VERIFIED:
                found[self._fold(name)] = entry
        for folder in self._folders.get(key, ()):
            for entry, name, state in self._copies.names_there(folder):
                planned.add(self._fold(name))
                if state == CopyState.VERIFIED:
                    found[self._fold(name)] = entry
        self._names[key], self._planned[key] = found, planned

    def _read(self, entry: int) -> None:
        item = self._copies.item(entry)
        self._places[entry] = item.there
        self._digests[entry] = item.digest if item.copy is CopyState.VERIFIED else None


def place_from(folder: bytes, said: bytes) -> bytes | None:
    """The place that a relative path means from a folder of the library.

    None if it leads out of the library.
    """
    place = os.path.normpath(join(folder, said)) if said else folder
    if place.startswith((b"/", b"../")) or place == b"..":
        return None
    return b"" if place == b"." else place


def relative(place: bytes, document: bytes) -> bytes:
    """A place as a path relative to a document's folder."""
    return os.path.relpath(b"/" + place, b"/" + parent(document))


def leads_only(
    readings: list[Target],
    text: str,
    folder: bytes,
    inner: bytes,
    wanted: int | None,
    arrived: Arrived,
) -> bool:
    """True if a relative target, however it is read, leads only to the wanted entry.

    With None, to no entry at all.

    Args:
        readings: the ways of reading it.
        folder: the document's folder in the copy.
        inner: a name below it, if the target names a folder.
    """
    found = False
    ways = [os.fsencode(way.path) for way in readings]
    if "+" in text:
        ways.append(
            ways[-1].replace(b"+", b" ") if ways else b""
        )  # Some programs read it as a space.
    for way in ways:
        place = place_from(folder, join(way.rstrip(b"/"), inner) if inner else way)
        entry = None if place is None else arrived.at(place)
        if entry is not None and (wanted is None or not arrived.same(entry, wanted)):
            return False
        found = found or entry is not None
    return found or wanted is None
