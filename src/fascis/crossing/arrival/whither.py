"""Where paths of the old place lead in the new library, as the plan says.

Nothing here looks at the old place.
"""

from __future__ import annotations

import os

from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.places.places import Places
from fascis.documents.targets import Target
from fascis.files.names import join, parent


class Whither:
    """Where paths of the old place lead in the new library, as the plan says."""

    def __init__(self, copies: Copies, places: Places) -> None:
        header = places.header
        roots = {os.fsencode(header.source), bytes(header.real_root)}
        self._roots = [r.rstrip(b"/") + b"/" for r in roots]
        self.real_source = bytes(header.real_root)
        self._copies, self._aliases = copies, copies.journal.aliases()
        self._names: dict[bytes, set[bytes]] = {}
        self._folders, self._files = copies.journal.renamed()

    def folder_of(self, item: Item) -> bytes:
        """The folder at the old place from which a document's relative paths count."""
        if item.outside:
            return parent(item.outside)
        return join(self.real_source, parent(item.place)).rstrip(b"/")

    def place_of(self, path: bytes) -> bytes | None:
        """The place in the new library of an absolute path; None for one that leads out of it.

        What was found again and stays outside has an absolute path for its place.
        """
        if (known := self._aliases.get(path)) is not None:
            return known
        return next((path[len(root) :] for root in self._roots if path.startswith(root)), None)

    def there(self, place: bytes) -> bytes:
        """Where a place of the plan is in the new library.

        Names that are kept apart are others there. An absolute path stays.
        """
        if place.startswith(b"/") or not (self._folders or self._files):
            return place
        return join(self.folder(parent(place)), self._files.get(place, place.rpartition(b"/")[2]))

    def folder(self, place: bytes) -> bytes:
        """Where a folder of the plan is in the new library."""
        if not place or not self._folders:
            return place
        known = self._folders.get(place)
        return (
            join(self.folder(parent(place)), place.rpartition(b"/")[2]) if known is None else known
        )

    @property
    def renames_files(self) -> bool:
        """True when files of the plan have other names in the new library."""
        return bool(self._files)

    @property
    def found_again(self) -> frozenset[bytes]:
        """Paths of what was lost and found again, and stays outside."""
        return frozenset(place for place in self._aliases.values() if place.startswith(b"/"))

    @property
    def knows_other_names(self) -> bool:
        """True when some paths lead by their own word, and not by the folder they are in."""
        return bool(self._aliases)

    def is_there(self, place: bytes) -> bool:
        """True when the plan has a file of that place, copied or not."""
        folder, _, name = place.rpartition(b"/")
        if folder not in self._names:
            self._names[folder] = self._copies.journal.names_of_files(folder)
        return name in self._names[folder]

    def new_target(
        self, ways: list[Target], document: bytes, folder: bytes, inner: bytes = b""
    ) -> bytes | None:
        """What a document must say from now on: a path relative to it, or an absolute one.

        None when it may stay as it is.

        Args:
            ways: the ways to read what it says now, the likeliest first.
            document: the document's place in the new library.
            folder: the folder at the old place from which its relative paths count.
            inner: a name within the target, for one that names a folder.
        """
        first: tuple[Target, bytes, bytes | None] | None = None
        for way in ways:
            path = path_of(way, folder, inner)
            place = self.place_of(path)
            if place is not None and (place.startswith(b"/") or self.is_there(place)):
                return self._from(way, path, place, document, inner)
            if first is None or (first[2] is None and place is not None):
                first = (way, path, place)
        return self._from(*first, document, inner) if first else None

    def _from(
        self, way: Target, path: bytes, place: bytes | None, document: bytes, inner: bytes
    ) -> bytes | None:
        here, was = parent(self.there(document)), place
        place = None if place is None else self.there(place)
        said = os.fsencode(way.path)
        if place is None:
            if way.absolute or way.foreign:
                return None  # it goes on leading to where it leads now
            target = path
        elif place.startswith(b"/"):
            target = place
        else:
            if not way.absolute and not way.foreign and _joined(here, said, inner) == place:
                return None
            if inner and place.rpartition(b"/")[2] != (was or b"").rpartition(b"/")[2]:
                return None  # a frame cannot be called otherwise; the plan sees to that
            target = os.path.relpath(b"/" + place, b"/" + here)
        if inner:
            target = parent(target) or (b"." if not target.startswith(b"/") else b"/")
            target += b"/" if said.endswith(b"/") else b""
        return target


def path_of(way: Target, folder: bytes, inner: bytes) -> bytes:
    """The absolute path that one way to read a target means; one of another system as it is.

    Args:
        folder: from which relative paths count.
        inner: a name within it, for a target that names a folder.
    """
    path = os.fsencode(way.path)
    if inner:
        path = path.rstrip(b"/") + b"/" + inner
    if way.foreign:
        return path
    return os.path.normpath(path if way.absolute else folder + b"/" + path)


def _joined(here: bytes, said: bytes, inner: bytes) -> bytes:
    path = said.rstrip(b"/") + b"/" + inner if inner else said
    return os.path.normpath(b"/" + here + b"/" + path)[1:].lstrip(b"/")
