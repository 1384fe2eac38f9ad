"""What a document must say from now on.

Lost references led to what was found, and nothing else of it changed.
"""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from fascis.documents.catalog import Catalog, Place, move_folders
from fascis.documents.model import LARGEST, DocumentFormat, Means, NotUnderstood, Reference, rewrite
from fascis.documents.registry import format_of
from fascis.documents.targets import readings
from fascis.drives.connected import Drives
from fascis.files.codes import Code
from fascis.files.digest import digest_of_bytes
from fascis.files.errors import Refused
from fascis.files.names import shown
from fascis.library.catalogs import placed
from fascis.library.reading import catalog_folder, read_outside
from fascis.library.roles import CATALOG
from fascis.library.uses import LINKS, Document, LostReference, Uses
from fascis.library.whereabouts import DriveRoots
from fascis.relink.lost import Lost, path_of_document

Found = Mapping[
    int, bytes
]  # number of a lost file → the absolute path of what it is; of a sequence its first frame's


@dataclass(frozen=True, slots=True)
class Retarget:
    """The references of one document that change.

    ``to`` is by their place in the document, or by photo of a catalog.
    """

    document: Document
    path: Path
    to: dict[int, tuple[LostReference, bytes]]


def retargets(lost: Sequence[Lost], uses: Uses, root: Path, found: Found) -> list[Retarget]:
    """The documents that change, and which references of each.

    Args:
        root: the library's folder.
        found: what the lost files are.
    """
    by_document: dict[int, dict[int, tuple[LostReference, bytes]]] = defaultdict(dict)
    for i, path in sorted(found.items()):
        for reference in lost[i].references:
            by_document[reference.document][reference.at] = reference, path
    return [
        Retarget(
            uses.documents[n], Path(os.fsdecode(path_of_document(root, uses.documents[n]))), to
        )
        for n, to in sorted(by_document.items())
    ]


def new_content(retarget: Retarget) -> bytes:
    """A text document with its new targets.

    Raises:
        Refused: it changed since it was surveyed.
        NotUnderstood: a target cannot be written in it; ``EnvironmentTrouble``: it cannot be read.
    """
    format = format_of(bytes(retarget.path))
    assert format
    content = read_outside(bytes(retarget.path), LARGEST)
    if digest_of_bytes(content) != retarget.document.seen:
        raise changed(retarget.path)
    references = format.read(content)
    targets, urls = {}, set()
    folder = bytes(retarget.path.parent)
    for at, (lost, found) in retarget.to.items():
        reference = references[at]
        if reference.means is not Means.PATH:
            continue
        targets[reference.locator] = os.fsdecode(_target(format, reference, lost, found, folder))
        if reference.as_written[:5].lower() == "file:":
            urls.add(reference.locator)
    return rewrite(format, content, targets, references, urls)


def changed(path: Path) -> Refused:
    """The refusal of a document that is not what was surveyed."""
    return Refused(
        Code.DOCUMENT_CHANGED,
        f"{shown(path.name)} changed since it was looked at; look again. Nothing was changed.",
    )


def _target(
    format: DocumentFormat, reference: Reference, lost: LostReference, found: bytes, folder: bytes
) -> bytes:
    """The new target, relative or absolute as the old one was; relative only on one drive."""
    new = found.rpartition(b"/")[0] if lost.sequence else found
    ways = readings(reference.as_written, format.uris)
    relative = bool(ways) and not any(w.absolute or w.foreign for w in ways)
    if relative and _one_drive(folder, found):
        new = os.path.relpath(new, os.path.realpath(folder))
    slash = lost.sequence and reference.as_written.endswith(("/", "\\"))
    return new.rstrip(b"/") + b"/" if slash else new


def _one_drive(folder: bytes, found: bytes) -> bool:
    try:
        return os.stat(folder).st_dev == os.stat(found.rpartition(b"/")[0]).st_dev
    except OSError:
        return False


def new_link(retarget: Retarget) -> bytes:
    """The target of a link from now on.

    Raises:
        Refused: it changed since it was surveyed.
    """
    (_, found) = next(iter(retarget.to.values()))
    folder = bytes(retarget.path.parent)
    relative = not os.readlink(bytes(retarget.path)).startswith(b"/")
    if relative and _one_drive(folder, found):
        return os.path.relpath(found, os.path.realpath(folder))
    return found


def is_catalog(retarget: Retarget) -> bool:
    """True for a photo catalog."""
    return retarget.document.format == CATALOG.decode()


def is_link(retarget: Retarget) -> bool:
    """True for a link, which is a reference too."""
    return retarget.document.format == LINKS


def change_catalog(copy: Path, retarget: Retarget, drives: Drives, roots: DriveRoots) -> None:
    """In a private copy.

    Folders that moved whole get their new place, other photos go without their folder.

    Raises:
        NotUnderstood: it is no catalog.
    """
    with closing(Catalog(copy)) as catalog:
        places = {p.id: p for p in catalog.places()}
        where = {id: catalog_folder(roots, p.drive_uuid, p.path)[0] for id, p in places.items()}
        folders = {id: (place, path) for id, place, path in catalog.folders()}
        photos: dict[int, list[tuple[int, str]]] = defaultdict(list)
        for photo in catalog.photos():
            photos[photo.folder_id].append((photo.id, photo.path.rpartition("/")[2]))
    known = _Known(drives, places, where, set(folders.values()))
    moves: dict[int, tuple[Place, str]] = {}
    single: dict[int, tuple[Place, str, str]] = {}
    for folder, members in photos.items():
        tied = {id: retarget.to[id][1] for id, _ in members if id in retarget.to}
        if not tied:
            continue
        place_id, path = folders[folder]
        target = _whole_move(tied, dict(members), where[place_id], path)
        new = known.placed(target, place_id, path) if target is not None else None
        if new is not None and (known.number(new[0]), new[1]) not in known.folders:
            moves[folder] = new
            continue
        for id, found in tied.items():
            there, _, name = found.rpartition(b"/")
            single[id] = (*known.placed(there, place_id, path), os.fsdecode(name))
    for text in (
        *(p for _, p in moves.values()),
        *(t for _, *both in single.values() for t in both),
    ):
        if not text.isprintable() and any("\udc80" <= c <= "\udcff" for c in text):
            raise NotUnderstood(f"{shown(text)} is no text, and a catalog is; it was not changed.")
    move_folders(copy, moves, photos=single)


def _whole_move(
    tied: dict[int, bytes], names: dict[int, str], above: bytes | None, path: str
) -> bytes | None:
    """The folder that a catalog's folder is now.

    None when its photos went to several, or not all went.
    """
    to = {found.rpartition(b"/")[0] for found in tied.values()}
    same_names = all(found.endswith(b"/" + os.fsencode(names[id])) for id, found in tied.items())
    if len(to) != 1 or not same_names:
        return None
    if len(tied) < len(names) and above is not None:
        old = (above.rstrip(b"/") + b"/" + os.fsencode(path)).rstrip(b"/")
        if any(
            os.path.lexists(old + b"/" + os.fsencode(n))
            for id, n in names.items()
            if id not in tied
        ):
            return None
    return next(iter(to))


class _Known:
    """The places that a catalog has."""

    def __init__(
        self,
        drives: Drives,
        places: dict[int, Place],
        where: dict[int, bytes | None],
        folders: set[tuple[int, str]],
    ) -> None:
        self._drives, self._places, self._where, self.folders = drives, places, where, folders

    def number(self, place: Place) -> int:
        """The number of a place; 0 for a new one."""
        same = (
            n
            for n, p in self._places.items()
            if (p.drive_uuid, p.path) == (place.drive_uuid, place.path)
        )
        return next(same, 0)

    def placed(self, folder: bytes, first: int, path: str) -> tuple[Place, str]:
        """A folder as a place and a path below it.

        A place that the catalog has, where the folder is below one.
        """
        own = [first, *sorted(self._places, key=lambda n: -len(self._where[n] or b""))]
        for n in own:
            above = self._where[n]
            if (
                above is not None
                and above != b"/"
                and (folder + b"/").startswith(above.rstrip(b"/") + b"/")
            ):
                return self._places[n], os.fsdecode(folder[len(above.rstrip(b"/")) + 1 :])
        drive = self._drives.at(Path(os.fsdecode(folder)))
        return placed(drive, folder, path, folder)
