"""The route from the old place into the new library, by the plan.

The old place is not read. Files in the new library have a place; files outside, relinked or left,
have an absolute path.
"""

from __future__ import annotations

import os

from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.places.places import Places
from fascis.documents.targets import Target
from fascis.files.names import join, parent
from fascis.files.route import Exactly, Moved, Renamed, Route


class IntoCopy(Route):
    """The new paths for paths of the old place.

    Attributes:
        planned: path → place in the plan.
        named: place in the plan → path on the destination's drive.
    """

    def __init__(self, copies: Copies, places: Places) -> None:
        header = places.header
        self._copies, self._aliases = copies, copies.journal.aliases()
        self._names: dict[bytes, set[bytes]] = {}
        self.real_source = bytes(header.real_root)
        planned: Route = Exactly(self._aliases)
        for root in {os.fsencode(header.source), self.real_source}:
            planned = planned.otherwise(Moved(root, b""))
        self.planned = planned
        self._renamed = Renamed(*copies.journal.renamed())
        self.named = Exactly(copies.journal.standing()).otherwise(self._renamed)
        self._whole = self.planned.then(self.named)

    def to(self, path: bytes) -> bytes | None:
        """The new path; None if it leads out of the library."""
        return self._whole.to(path)

    def called(self, place: bytes) -> bytes:
        """The path there for a place of the plan; an absolute path is unchanged."""
        named = self.named.to(place)
        return place if named is None else named

    def folder_of(self, item: Item) -> bytes:
        """The folder at the old place from which a document's relative paths count."""
        if item.outside:
            return parent(item.outside)
        return join(self.real_source, parent(item.place)).rstrip(b"/")

    @property
    def renames_files(self) -> bool:
        """True if files of the plan have other names in the new library."""
        return bool(self._renamed.files)

    @property
    def found_again(self) -> frozenset[bytes]:
        """Paths of lost files that were found again and stay outside."""
        return frozenset(place for place in self._aliases.values() if place.startswith(b"/"))

    @property
    def knows_other_names(self) -> bool:
        """True if some paths have an alias, independent of their folder."""
        return bool(self._aliases)

    def is_planned(self, place: bytes) -> bool:
        """True if the plan has a file with this place, copied or not."""
        folder, _, name = place.rpartition(b"/")
        if folder not in self._names:
            self._names[folder] = self._copies.journal.names_of_files(folder)
        return name in self._names[folder]


def path_of(way: Target, folder: bytes, inner: bytes) -> bytes:
    """The absolute path for one way of reading a target; paths of other systems are unchanged.

    Args:
        folder: the folder from which relative paths count.
        inner: a name within it, for a target that names a folder.
    """
    path = os.fsencode(way.path)
    if inner:
        path = path.rstrip(b"/") + b"/" + inner
    if way.foreign:
        return path
    return os.path.normpath(path if way.absolute else folder + b"/" + path)
