"""Opening every document at its new place: where its references lead there, and whether a sample of every strand can be seen.

This is what the scales say of documents. It reads the copy alone, and never looks at the old place.
"""

from __future__ import annotations

import os
from contextlib import ExitStack, closing
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from fascis.crossing.copies import Copies, CopyState
from fascis.crossing.places import Places
from fascis.crossing.rewriting import Whither, documents_of, old_folder, path_of, private_copy
from fascis.documents.catalog import Catalog
from fascis.documents.model import Means, NotUnderstood
from fascis.documents.registry import format_of
from fascis.documents.targets import Target, readings
from fascis.files.errors import EnvironmentTrouble
from fascis.files.medium import Medium
from fascis.files.names import join, parent, shown
from fascis.library.decoding import decode
from fascis.library.reading import read_document
from fascis.library.roles import ROLES, Role
from fascis.library.uses import CATALOG
from fascis.workspace import Workspace

_MOST_WRONG = 100


@dataclass(slots=True)
class Opened:
    """What opening the documents of a copy found; all but ``wrong`` are counts.

    Attributes:
        documents: that were opened.
        closed: that are not understood.
        references: by path, in all of them.
        found: that lead to a verified file of the copy.
        left_out: that lead to what was left out by choice.
        lost: that lead nowhere, as they did before.
        elsewhere: that lead out of the library, to where they led before.
        wrong: those that still lead to the old place, or past what was gathered: ``document: target``.
        sampled: strands of which one picture or clip was to be decoded.
        seen: that could be.
    """

    documents: int = 0
    closed: int = 0
    references: int = 0
    found: int = 0
    left_out: int = 0
    lost: int = 0
    elsewhere: int = 0
    wrong: list[str] = field(default_factory=list)
    sampled: int = 0
    seen: int = 0

    def as_json(self) -> dict[str, Any]:
        """For the journal and the receipt."""
        return asdict(self)


def open_documents(workspace: Workspace, copies: Copies, places: Places, library: Medium) -> Opened:
    """Opens every document of a library that has arrived and follows its references there.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    return _Opening(workspace, copies, places, library).run()


class _Opening:
    """One pass over all documents of a copy."""

    def __init__(self, workspace: Workspace, copies: Copies, places: Places, library: Medium) -> None:
        self._workspace, self._copies, self._places, self._library = workspace, copies, places, library
        self._old = Whither(copies, places)
        self._root = bytes(places.target).rstrip(b"/") + b"/"
        self._names: dict[bytes, dict[bytes, bool]] = {}
        self._found = Opened()

    def run(self) -> Opened:
        """Everything."""
        for item in documents_of(self._copies):
            try:
                if item.place.lower().endswith(b"." + CATALOG):
                    self._catalog(item.there)
                else:
                    self._document(item.there)
                self._found.documents += 1
            except NotUnderstood:
                self._found.closed += 1
        return self._found

    def _document(self, place: bytes) -> None:
        format = format_of(place)
        assert format
        folder = self._root + parent(place)
        for reference in format.read(read_document(self._library, place)):
            if reference.means is not Means.PATH:
                continue
            ways = readings(reference.as_written, format.uris)
            if not ways:
                continue
            self._found.references += 1
            inner = reference.sequence.names() if reference.sequence else [""]
            kinds = [self._kind(ways, folder, os.fsencode(name)) for name in inner]
            self._count(next((k for k in kinds if k != "found"), "found"), place, reference.as_written)

    def _count(self, kind: str, document: bytes, target: str) -> None:
        if kind != "wrong":
            setattr(self._found, kind, getattr(self._found, kind) + 1)
        elif len(self._found.wrong) < _MOST_WRONG:
            self._found.wrong.append(f"{shown(document)}: {shown(target)}")

    def _kind(self, ways: list[Target], folder: bytes, inner: bytes) -> str:
        first = ""
        for way in ways:
            kind = self._of_path(path_of(way, folder, inner))
            if kind == "found":
                return kind
            first = first or kind
        return first

    def _of_path(self, path: bytes) -> str:
        if path.startswith(self._root):
            return self._of_place(path[len(self._root) :])
        return "elsewhere" if self._old.place_of(path) is None else "wrong"

    def _of_place(self, place: bytes) -> str:
        folder, _, name = place.rpartition(b"/")
        if folder not in self._names:
            rows = self._copies.journal.read(
                "SELECT coalesce(e.there, e.name), c.state FROM entry e JOIN folder f ON f.id=e.folder LEFT JOIN copy c ON c.entry=e.id AND"
                " c.destination=? WHERE coalesce(f.there, f.place)=?",
                (self._copies.number, folder),
            )
            known = self._names[folder] = {}
            for n, state in rows:  # what was left out may have the name that something else has there
                known[n] = known.get(n, False) or state == CopyState.VERIFIED
        verified = self._names[folder].get(name)
        return "lost" if verified is None else "found" if verified else "left_out"

    def _catalog(self, place: bytes) -> None:
        mount = self._places.destination_mount or Path(self._places.drive["mount"])
        mounts = {**self._places.header.get("mounts", {}), self._places.drive["uuid"]: str(mount)}
        with (
            private_copy(self._library, {"": place}, self._workspace.private) as copy,
            closing(Catalog(copy)) as catalog,
        ):
            folders = {p.id: old_folder(p, mounts) for p in catalog.places()}
            for photo in catalog.photos():
                self._found.references += 1
                above = folders.get(photo.place_id)
                path = None if above is None else os.path.normpath(above + b"/" + os.fsencode(photo.path))
                self._count("lost" if path is None else self._of_path(path), place, photo.path)


# -- one picture or clip of every strand ------------------------------------------------------------------------------


def see_samples(copies: Copies, library: Medium, opened: Opened) -> None:
    """Decodes the smallest picture or clip of every strand in the copy, and counts.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    marks = ",".join(str(ROLES.index(r)) for r in Role if r is Role.ORIGINAL or r.remakeable)
    rows = copies.journal.read(
        "SELECT coalesce(f.there, f.place), coalesce(e.there, e.name), min(e.size) FROM entry e JOIN folder f ON f.id=e.folder JOIN copy c ON c.entry=e.id AND"
        f" c.destination=? WHERE e.kind=0 AND e.fate=0 AND c.state=2 AND e.size>0 AND e.role IN ({marks}) GROUP BY e.strand",
        (copies.number,),
    )
    opened.sampled, opened.seen = len(rows), 0
    for first in range(0, len(rows), 64):
        with ExitStack() as held:
            handles = []
            for folder, name, _ in rows[first : first + 64]:
                try:
                    handles.append(held.enter_context(closing(library.open(join(folder, name)))).handle)
                except OSError as error:
                    raise EnvironmentTrouble(
                        f"Could not open {shown(name)} in the copy.", join(folder, name)
                    ) from error
            opened.seen += sum(picture is not None for picture in decode(handles, 64))
