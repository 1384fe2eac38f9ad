"""The new content of a document.

Lost references lead to the found files, and nothing else changes.
"""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Collection, Mapping, Sequence
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from fascis.documents.model import (
    ByLocator,
    Change,
    DocumentKind,
    Locator,
    Means,
    Members,
    NotUnderstood,
    OpenDocument,
    Place,
    Reference,
)
from fascis.drives.connected import Drives
from fascis.files.codes import Code
from fascis.files.errors import Refused
from fascis.files.names import shown
from fascis.library.catalogs import placed
from fascis.library.references.reading import DocumentSource, place_folder
from fascis.library.references.uses import Document, LostReference, Uses
from fascis.library.references.whereabouts import DriveRoots
from fascis.relink.lost import Lost, path_of_document
from fascis.words.speech import tr

# Number of a lost file → the absolute path of the found one; for a sequence that of its first
# frame.
Found = Mapping[int, bytes]


class Retarget(Struct, frozen=True):
    """The references of one document that change.

    ``to`` is by their position in the document, or by photo of a catalog.
    """

    document: Document
    path: Path
    to: dict[int, tuple[LostReference, bytes]]


def retargets(lost: Sequence[Lost], uses: Uses, root: Path, found: Found) -> list[Retarget]:
    """The documents that change, and which references of each.

    Args:
        root: the library's folder.
        found: the found files.
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


def new_content(
    retarget: Retarget, source: DocumentSource, drives: Drives, roots: DriveRoots
) -> bytes | Path:
    """A document with its new targets; for a link, its target.

    Args:
        source: its location; a returned file is removed with it.

    Raises:
        Refused: it changed since it was surveyed.
        NotUnderstood: a target cannot be written in it; ``EnvironmentTrouble``: it cannot be read.
    """
    kind = retarget.document.kind
    folder = bytes(retarget.path.parent)
    with kind.open(source) as document:
        if document.seen != retarget.document.seen:
            raise changed(retarget.path)
        below = _Below(retarget, document, drives, roots)
        if changes := below.changes:
            # A kind that names files below folders names no others.
            new = document.retargeted(ByLocator(changes))
            assert new is not None
            return new

        def wanted(number: int, reference: Reference) -> Change | None:
            if reference.means is not Means.PATH or number not in retarget.to:
                return None
            lost, found = retarget.to[number]
            target = os.fsdecode(_target(kind, reference, lost, found, folder))
            return Change(target, as_url=reference.as_written[:5].lower() == "file:")

        new = document.retargeted(wanted)
    if new is None:
        raise NotUnderstood(tr("It no longer contains the path that was lost; it was not changed."))
    return new


def changed(path: Path) -> Refused:
    """The refusal of a document that changed since the survey."""
    return Refused(
        Code.DOCUMENT_CHANGED,
        tr(
            "{name} changed since it was looked at; look again. Nothing was changed.",
            name=shown(path.name),
        ),
    )


def _target(
    kind: DocumentKind, reference: Reference, lost: LostReference, found: bytes, folder: bytes
) -> bytes:
    """The new target, relative or absolute like the old one; relative only on one drive."""
    new = found.rpartition(b"/")[0] if lost.sequence else found
    ways = kind.readings(reference.as_written)
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


class _Below:
    """Changes in a document that names folders of drives, and files below them.

    Folders that moved as a whole get their new path, other files change without their folder.
    """

    def __init__(
        self, retarget: Retarget, document: OpenDocument, drives: Drives, roots: DriveRoots
    ) -> None:
        self._retarget, self._document = retarget, document
        self._drives, self._roots = drives, roots

    @cached_property
    def changes(self) -> dict[Locator, Change]:
        """By the document's content; found when first needed."""
        folders: dict[Locator, tuple[Place, str]] = {}
        files: dict[Locator, Members] = {}
        for members in self._document.members():
            folder = members.folder
            # Nothing was found in any other one: its top folder is not named.
            if folder.place is not None:
                folders[folder.locator] = folder.place, folder.as_written
                if not self._retarget.to.keys().isdisjoint(members.numbers):
                    files[folder.locator] = members
        if not files:
            return {}
        known = _Known(self._drives, self._roots, folders.values())
        found: dict[Locator, Change] = {}
        for locator, members in files.items():
            found |= self._in_folder(locator, folders[locator], members, known)
        for change in found.values():
            _check_is_text(change)
        return found

    def _in_folder(
        self, folder: Locator, was: tuple[Place, str], members: Members, known: _Known
    ) -> dict[Locator, Change]:
        """Changes of one folder: of itself, or of files in it."""
        to = self._retarget.to
        tied = {n: to[n][1] for n in members.numbers if n in to}
        place, path = was
        names = dict(zip(members.numbers, members.names, strict=True))
        target = _whole_move(tied, names, known.above(place), path)
        new = known.placed(target, place, path) if target is not None else None
        if new is not None and not known.has(new):
            return {folder: new}
        found: dict[Locator, Change] = {}
        for number, path_found in tied.items():
            there, _, name = path_found.rpartition(b"/")
            inside = known.placed(there, place, path)
            text = os.fsdecode(name)
            inner = f"{inside.target}/{text}" if inside.target else text
            found[members.locator(number)] = Change(inner, place=inside.place)
        return found


def _check_is_text(change: Change) -> None:
    """Raises ``NotUnderstood`` for a name that is not text: a database of texts cannot store it."""
    text = change.target
    if not text.isprintable() and any("\udc80" <= c <= "\udcff" for c in text):
        raise NotUnderstood(
            tr("{text} is no text, and a catalog is; it was not changed.", text=shown(text))
        )


def _whole_move(
    tied: dict[int, bytes], names: dict[int, str], above: bytes | None, path: str
) -> bytes | None:
    """The new path of a catalog's folder.

    None if its photos moved to several folders, or only some moved.
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
    """A document's top folders, and its folders below them."""

    def __init__(
        self, drives: Drives, roots: DriveRoots, folders: Collection[tuple[Place, str]]
    ) -> None:
        self._drives = drives
        self._folders = set(folders)
        tops = dict.fromkeys(place for place, _ in folders)
        self._where = {t: place_folder(roots, t.drive_uuid, t.path)[0] for t in tops}

    def above(self, place: Place) -> bytes | None:
        """The path of a top folder; None for an unknown drive."""
        return self._where[place]

    def has(self, folder: Change) -> bool:
        """True if the document has such a folder already."""
        return (folder.place, folder.target) in self._folders

    def placed(self, folder: bytes, first: Place, path: str) -> Change:
        """A folder as a top folder and a path below it.

        One of the document's top folders, if the folder is below one.
        """
        longest = sorted(self._where, key=lambda place: -len(self._where[place] or b""))
        for place in (first, *longest):
            above = self._where[place]
            if above is None or above == b"/":
                continue
            if (folder + b"/").startswith(above.rstrip(b"/") + b"/"):
                return Change(os.fsdecode(folder[len(above.rstrip(b"/")) + 1 :]), place=place)
        drive = self._drives.at(Path(os.fsdecode(folder)), measured=False)
        new, inner = placed(drive, folder, path, folder)
        return Change(inner, place=new)
