"""Opens every document at its new path.

Finds where its references lead, and whether a sample of every strand can be seen. This is what the
scales show about documents. It reads only the copy, never the old place.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator
from contextlib import ExitStack, closing
from pathlib import Path
from typing import Any

from msgspec import Struct, field
from msgspec.structs import asdict

from fascis.crossing.arrival.below import old_folder
from fascis.crossing.arrival.restoring import same_outside
from fascis.crossing.arrival.rewriting import documents_of
from fascis.crossing.arrival.routes import IntoCopy, path_of
from fascis.crossing.arrival.spelling import is_of_copied, leads_of
from fascis.crossing.journal.copies import Copies, Item, arrives_at
from fascis.crossing.journal.leads import Led
from fascis.crossing.journal.which import Which
from fascis.crossing.places.arrived import Arrived
from fascis.crossing.places.places import Places
from fascis.documents.model import (
    DocumentKind,
    KnownBy,
    Means,
    NotUnderstood,
    OpenDocument,
    Reference,
    names_of,
)
from fascis.documents.registry import kind_of
from fascis.documents.targets import Target
from fascis.drives.rules import Rules
from fascis.files.disk.medium import Medium
from fascis.files.errors import EnvironmentTrouble
from fascis.files.names import parent, shown
from fascis.files.times import mtime_of
from fascis.library.decoding import decode
from fascis.library.references.reading import MediumSource
from fascis.library.roles import Role
from fascis.words.speech import tr
from fascis.workspace import Workspace

_MOST_WRONG = 100


# Seconds of decoding for all strands together: a sample shows that files open, it does not prove
# it.
SAMPLE_SECONDS = 20.0


class Opened(Struct):
    """The result of opening the documents of a copy; all but ``wrong`` are counts.

    Attributes:
        documents: documents opened.
        closed: documents not understood.
        references: references by path, in all documents.
        found: references to a verified file of the copy.
        left_out: references to files left out by choice.
        lost: references that lead nowhere, as before.
        elsewhere: references to files outside the library, as before.
        wrong: references to other content than before, or to a file that is missing now:
            ``document: target``.
        sampled: strands of which a picture or clip was tried.
        seen: those that could be decoded.
        not_sampled: strands for which there was no time.
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
    not_sampled: int = 0

    def as_json(self) -> dict[str, Any]:
        """For the journal and the receipt."""
        return asdict(self)


def open_documents(
    workspace: Workspace, copies: Copies, places: Places, library: Medium, rules: Rules
) -> Opened:
    """Opens every document of a library that has arrived and follows its references there.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    return _Opening(workspace, copies, places, library, rules).run()


class _Opening:
    """One pass over all documents of a copy.

    Every reference is followed in the copy on the drive. What it leads to is compared, by content,
    with what it led to when the plan was made, so that a mistake in writing the document cannot
    pass.
    """

    def __init__(
        self, workspace: Workspace, copies: Copies, places: Places, library: Medium, rules: Rules
    ) -> None:
        self._workspace, self._copies, self._places, self._library = (
            workspace,
            copies,
            places,
            library,
        )
        self._route = IntoCopy(copies, places)
        self._arrived = Arrived(copies, rules.fold if rules.folds_case else bytes)
        self._root = bytes(places.target).rstrip(b"/") + b"/"
        mount = places.destination_mount or Path(places.drive.mount)
        self._mounts = {**places.header.mounts, places.drive.uuid: str(mount)}
        self._derived = copies.derived()
        self._restores = places.header.restores
        self._there: dict[bytes, bool] = {}
        self._found = Opened()

    def run(self) -> Opened:
        """Everything."""
        for item in documents_of(self._copies):
            try:
                self._document(item)
                self._found.documents += 1
            except NotUnderstood:
                self._found.closed += 1
        self._links()
        return self._found

    # -- documents ---------------------------------------------------------------------------------

    def _document(self, item: Item) -> None:
        with self._source(item.there) as source:
            kind = kind_of(item.place, source.head())
            if kind is None:
                raise NotUnderstood(tr("This document's format is not known here."))
            with kind.open(source) as document:
                known = self._led(kind, document, item)
                by_number = known.by_photo() if known else {}
                leads = leads_of(known, document)
                before = self._texts_before(kind, item)
                for reference in document.references():
                    if reference.means is Means.FOLDER:
                        continue
                    if reference.means is Means.BELOW:
                        lead = by_number.get(reference.number)
                        self._below(reference, item, known, lead)
                        continue
                    text = next(before, None)
                    changed = text is not None and text != reference.as_written
                    self._reference(kind, reference, item, known, next(leads, None), changed)

    def _source(self, place: bytes) -> MediumSource:
        return MediumSource(self._library, place, self._workspace.private)

    def _led(self, kind: DocumentKind, document: OpenDocument, item: Item) -> Led | None:
        """Where the references of a document led.

        None if that is not known, or if a person edited the document since.
        """
        led = self._copies.journal.led(item.id)
        if led is None:
            return None
        if kind.known_by is KnownBy.LOOK:
            return led if is_of_copied(kind, led, item) and self._is_ours(item) else None
        anew = self._derived.get(item.id)
        ours = document.seen in (item.digest, anew[1] if anew else b"")
        return led if ours and is_of_copied(kind, led, item) else None

    def _reference(
        self,
        kind: DocumentKind,
        reference: Reference,
        item: Item,
        known: Led | None,
        led_to: list[int] | None,
        changed: bool,
    ) -> None:
        """Follows one reference by a path.

        Args:
            led_to: where it led before, for each frame.
            changed: true if it was rewritten.
        """
        ways = []
        if reference.means is Means.PATH:
            ways = kind.readings(reference.as_written)
        if not ways:
            return
        self._found.references += 1
        folder = self._root + parent(item.there)
        kinds = [
            self._kind(ways, folder, name, led_to[i] if led_to else None, known, changed)
            for i, name in enumerate(names_of(reference))
        ]
        told = next((k for k in kinds if k != "found"), "found")
        self._count(told, item.there, reference.as_written)

    def _below(self, reference: Reference, item: Item, known: Led | None, lead: int | None) -> None:
        """Follows one reference below a top folder."""
        self._found.references += 1
        above = old_folder(reference.place, self._mounts)
        if above is None:
            told = "lost" if lead is None or lead < 0 else "wrong"
            self._count(told, item.there, reference.as_written)
            return
        path = os.path.normpath(above + b"/" + os.fsencode(reference.as_written))
        if lead is None:
            told = self._of_path(path)
        else:
            told = self._kind([Target(os.fsdecode(path))], self._root, b"", lead, known, False)
        self._count(told, item.there, reference.as_written)

    def _texts_before(self, kind: DocumentKind, item: Item) -> Iterator[str | None]:
        """The earlier references of a rewritten document."""
        if not item.rewritten or kind.known_by is KnownBy.LOOK:
            return iter(())
        try:
            place = arrives_at(item, self._places.crossing)
            with self._source(place) as source, kind.open(source) as kept:
                return iter([r.as_written for r in kept.references()])
        except (NotUnderstood, EnvironmentTrouble):
            return iter(())

    def _count(self, kind: str, document: bytes, target: str) -> None:
        if kind != "wrong":
            setattr(self._found, kind, getattr(self._found, kind) + 1)
        elif len(self._found.wrong) < _MOST_WRONG:
            self._found.wrong.append(f"{shown(document)}: {shown(target)}")

    def _kind(
        self,
        ways: list[Target],
        folder: bytes,
        inner: bytes,
        lead: int | None,
        led: Led | None,
        changed: bool,
    ) -> str:
        """The outcome for one reference, or for one frame.

        Args:
            lead: where it led before; None if not known.
            changed: the target was rewritten, and every way of reading it must lead there.
        """
        paths = [path_of(way, folder, inner) for way in ways]
        if lead is None or led is None:
            return self._by_plan(paths)
        found = [p for p in map(self._entry_of, paths) if p is not None]
        if lead >= 0:
            if not found:
                digest = self._arrived.digest_of(lead)
                if self._restores and any(same_outside(p, digest) for p in paths):
                    # As before, it names the file outside the library.
                    return "found"
                return "left_out" if digest is None else "wrong"
            right = self._arrived.same(found[0], lead) and not (
                changed and any(not self._arrived.same(f, lead) for f in found)
            )
            return "found" if right else "wrong"
        if found:
            # It led out of the library, or nowhere, and leads into the copy now.
            return "wrong"
        before = led.path(lead)
        if before is not None:
            # The file in the existing folder may be the one that it referred to.
            as_before = all(os.path.normpath(p) == before for p in paths)
            outside = any(not p.startswith(self._root) for p in paths)
            return "elsewhere" if outside or as_before else "wrong"
        leads_out = not paths[0].startswith(self._root) and self._route.to(paths[0]) is None
        return "elsewhere" if leads_out else "lost"

    def _entry_of(self, path: bytes) -> int | None:
        """The entry to whose copy a path leads on the drive now."""
        if not path.startswith(self._root):
            return None
        place = path[len(self._root) :]
        entry = self._arrived.at(place)
        return entry if entry is not None and self._is_there(place) else None

    def _is_there(self, place: bytes) -> bool:
        if place not in self._there:
            try:
                self._there[place] = self._library.exists(place)
            except OSError:
                self._there[place] = False
        return self._there[place]

    # -- documents of which it is not known where they led -----------------------------------------

    def _by_plan(self, paths: list[bytes]) -> str:
        first = ""
        for path in paths:
            kind = self._of_path(path)
            if kind == "found":
                return kind
            first = first or kind
        return first

    def _of_path(self, path: bytes) -> str:
        if not path.startswith(self._root):
            return "elsewhere" if self._route.to(path) is None else "wrong"
        place = path[len(self._root) :]
        if self._arrived.at(place) is not None:
            return "found"
        return "left_out" if self._arrived.is_planned(place) else "lost"

    # -- links and catalogs ------------------------------------------------------------------------

    def _links(self) -> None:
        """A link to a file of the library leads to the same content in the copy."""
        for item in self._copies.items(Which.LINKS_MADE):
            led = self._copies.journal.led(item.id)
            if led is None or not led.of or led.of[0] < 0:
                continue
            try:
                target = self._library.read_link(item.there)
            except OSError:
                # A drive without links, or it was replaced since.
                continue
            path = os.path.normpath(os.path.join(self._root + parent(item.there), target))
            entry, lead = self._entry_of(path), led.of[0]
            gone = entry is None and self._arrived.digest_of(lead) is not None
            if gone or (entry is not None and not self._arrived.same(entry, lead)):
                self._count("wrong", item.there, os.fsdecode(target))

    def _is_ours(self, item: Item) -> bool:
        """True while a document is as this crossing left it."""
        anew = self._derived.get(item.id)
        seen = item.copy_seen
        if item.rewritten:
            seen = anew[0] if anew else None
        try:
            status = self._library.status(item.there)
        except OSError:
            return False
        return seen is not None and (status.st_size, mtime_of(status)) == seen[:2]


# -- one picture or clip of every strand -----------------------------------------------------------


def see_samples(copies: Copies, library: Medium, opened: Opened) -> None:
    """Decodes the smallest picture or clip of every strand in the copy, and counts the successes.

    For a limited time in all.

    Raises:
        EnvironmentTrouble: the drive failed.
    """
    rows = copies.smallest_of_strands([r for r in Role if r is Role.ORIGINAL or r.remakeable])
    opened.sampled = opened.seen = 0
    until = time.monotonic() + SAMPLE_SECONDS
    for first in range(0, len(rows), 64):
        with ExitStack() as held:
            handles = []
            for place in rows[first : first + 64]:
                try:
                    handles.append(held.enter_context(closing(library.open(place))).handle)
                except OSError as error:
                    raise EnvironmentTrouble(
                        tr("Could not open {place} in the copy.", place=shown(place)), place
                    ) from error
            pictures = decode(handles, 64, until=until)
            opened.sampled += len(pictures)
            opened.seen += sum(picture is not None for picture in pictures)
            if len(pictures) < len(handles):
                break
    opened.not_sampled = len(rows) - opened.sampled
