"""What documents that name top folders of drives, and files below them, say in the copy.

A folder that is copied as a whole includes everything in it; a file that is copied without its
folder, or renamed, is handled by itself.
"""

from __future__ import annotations

import os
from collections.abc import Mapping

from fascis.crossing.arrival.routes import IntoCopy
from fascis.crossing.journal.copies import Copies
from fascis.crossing.places.places import Places
from fascis.documents.model import Change, Locator, Means, OpenDocument, Place
from fascis.drives.model import Drive
from fascis.files.names import join, parent
from fascis.library.catalogs import placed


def old_folder(place: Place | None, mounts: Mapping[str, str]) -> bytes | None:
    """The path of a top folder, by where its drive was mounted.

    None for an unknown drive.
    """
    if place is None:
        return None
    if place.drive_uuid is None:
        return os.fsencode(place.path)
    mount = mounts.get(place.drive_uuid)
    return None if mount is None else os.fsencode(mount) + b"/" + os.fsencode(place.path)


class Below:
    """The new names of folders and files below top folders."""

    def __init__(self, copies: Copies, places: Places, drive: Drive, route: IntoCopy) -> None:
        self._copies, self._places, self._drive, self._route = copies, places, drive, route

    def changes(self, document: OpenDocument) -> dict[Locator, Change]:
        """What changes in a document, by its present content."""
        moves: dict[Locator, Change] = {}
        olds: dict[Locator, bytes] = {}
        left: dict[Locator, tuple[bytes, str]] = {}
        gathered = self._gathered_folders()
        for reference in document.references():
            if reference.means is not Means.FOLDER:
                continue
            above = old_folder(reference.place, self._places.header.mounts)
            if above is None:
                continue
            path = reference.as_written
            old = os.path.normpath(above + b"/" + os.fsencode(path))
            new = self._new_folder(old, gathered)
            if new is None:
                left[reference.locator] = old, path
            else:
                moves[reference.locator], olds[reference.locator] = self._placed(new, path), old
        found = self._found(document, left, moves)
        return {**moves, **found, **self._renamed(document, olds, moves)}

    def _renamed(
        self, document: OpenDocument, olds: Mapping[Locator, bytes], moves: Mapping[Locator, Change]
    ) -> dict[Locator, Change]:
        """Files whose folder is in the library, and whose own name changes."""
        found: dict[Locator, Change] = {}
        for reference in document.references() if self._route.renames_files else ():
            if reference.within not in olds:
                continue
            name = os.fsencode(reference.as_written.rpartition("/")[2])
            place = self._route.planned.to(olds[reference.within] + b"/" + name)
            if place is None or (new := self._route.called(place)) == place:
                continue
            if new.rpartition(b"/")[2] != place.rpartition(b"/")[2]:
                folder = moves[reference.within]
                found[reference.locator] = _in(folder, new.rpartition(b"/")[2])
        return found

    def _found(
        self,
        document: OpenDocument,
        left: Mapping[Locator, tuple[bytes, str]],
        moves: dict[Locator, Change],
    ) -> dict[Locator, Change]:
        """Files of folders outside the library that were relinked.

        A folder that was found as a whole is added to ``moves``.
        """
        found: dict[Locator, dict[Locator, tuple[bytes, bool]]] = {}
        asked = self._route.knows_other_names and left
        for reference in document.references() if asked else ():
            if reference.within not in left:
                continue
            name = os.fsencode(reference.as_written.rpartition("/")[2])
            place = self._route.planned.to(left[reference.within][0] + b"/" + name)
            if place is not None:
                place = self._route.called(place)
                same = place.endswith(b"/" + name)
                found.setdefault(reference.within, {})[reference.locator] = place, same
        files: dict[Locator, Change] = {}
        for folder, some in found.items():
            path = left[folder][1]
            to = {parent(place) for place, _ in some.values()}
            if len(to) == 1 and all(same for _, same in some.values()):
                moves[folder] = self._placed(to.pop(), path)
                continue
            for locator, (place, _) in some.items():
                files[locator] = _in(self._placed(parent(place), path), place.rpartition(b"/")[2])
        return files

    def _new_folder(self, old: bytes, gathered: Mapping[bytes, bytes]) -> bytes | None:
        for path in (old, os.path.realpath(old)):
            if path in gathered:
                return gathered[path]
            inner = self._route.to(path + b"/")
            if inner is not None:
                return inner
        return None

    def _gathered_folders(self) -> dict[bytes, bytes]:
        rows = self._copies.journal.gathered_into()
        return {parent(outside): self._route.called(place + b"/") for outside, place in rows}

    def _placed(self, new: bytes, path: str) -> Change:
        """A folder of the new library as a top folder and a path below it, the same if possible."""
        if new.startswith(b"/"):
            return Change("", place=Place(None, os.fsdecode(new)))
        root = bytes(self._places.target)
        place, inner = placed(self._drive, join(root, new), path, root)
        return Change(inner, place=place)


def _in(folder: Change, name: bytes) -> Change:
    """A file in a folder with this name."""
    text = os.fsdecode(name)
    return Change(f"{folder.target}/{text}" if folder.target else text, place=folder.place)
