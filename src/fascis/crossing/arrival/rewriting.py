"""Rewriting documents and links of a copy, so that they lead to the new paths.

The earlier bytes are kept. A copied and verified document is never changed: it moves to
``.fascis/as-it-was/<crossing>/``, and the rewritten one, in which only target strings differ, takes
its path. The old place is not read again. The plan decides where each reference leads: by where it
led when the plan was made and, if that is not known, by its path.
"""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import BinaryIO

from fascis.crossing.arrival.below import Below
from fascis.crossing.arrival.restoring import Restoring
from fascis.crossing.arrival.routes import IntoCopy
from fascis.crossing.arrival.spelling import Spelling, leads_of
from fascis.crossing.journal.copies import Copied, Copies, Item, arrives_at, as_it_was, own_place
from fascis.crossing.journal.which import Which
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import copy_seen_of, seen_of
from fascis.crossing.model.states import CopyState
from fascis.crossing.places.arrived import Arrived, place_from, relative
from fascis.crossing.places.places import Places, fidelity
from fascis.crossing.places.putting import Like, make_parents, put
from fascis.documents.learned.kind import LearnedDocument
from fascis.documents.learned.stored import Stored
from fascis.documents.model import (
    Change,
    DocumentKind,
    Locator,
    Means,
    NotUnderstood,
    OpenDocument,
    Reference,
    Wanted,
)
from fascis.documents.registry import LINK, endings, kind_of
from fascis.documents.targets import Target
from fascis.drives.model import Drive
from fascis.files.disk.digest import digest_of_bytes
from fascis.files.disk.medium import Medium, move, remove_own
from fascis.files.names import join, parent, shown
from fascis.library.references.reading import MediumSource
from fascis.library.survey import Kind

_CHUNK = 1 << 22

# Documents that a copy has unchanged although they should be rewritten: place there → reason.
CARRIED = "carried"


def why_carried(copies: Copies, wrong: Sequence[str]) -> list[str]:
    """Why documents lead elsewhere than they should: those that could not be rewritten.

    Args:
        wrong: references, each as ``document: target``.
    """
    carried: dict[str, str] = copies.value(CARRIED, {})
    return [
        f"{place} is as it was: {why}"
        for place, why in carried.items()
        if any(one.startswith(f"{place}: ") for one in wrong)
    ][:2]


class Rewriting:
    """Rewrites documents and links of one destination.

    Can be called again after any interruption.
    """

    def __init__(self, copies: Copies, places: Places, drive: Drive, cache: Path) -> None:
        self._copies, self._places, self._drive, self._cache = copies, places, drive, cache
        self._known: IntoCopy | None = None
        self._arrived: Arrived | None = None
        # Confirmed readings of documents of unknown make among these.
        self.readings: dict[bytes, Stored] = {}

    @property
    def arrived(self) -> Arrived:
        """The files of the copy; found when first needed."""
        if self._arrived is None:
            rules = self._drive.rules
            self._arrived = Arrived(self._copies, rules.fold if rules.folds_case else bytes)
        return self._arrived

    @property
    def route(self) -> IntoCopy:
        """The new paths; found when first needed."""
        if self._known is None:
            self._known = IntoCopy(self._copies, self._places)
        return self._known

    # -- documents ---------------------------------------------------------------------------------

    def documents(self, medium: Medium, root: bytes, only: frozenset[int] | None = None) -> None:
        """Rewrites every document below ``root`` whose targets change.

        Args:
            only: only these entries. Those already moved on from ``root`` are left alone.

        Raises:
            EnvironmentTrouble: the destination failed. An ``OSError`` is the caller's to translate.
        """
        carried: dict[str, str] = self._copies.value(CARRIED, {})
        before = dict(carried)
        for item in documents_of(self._copies):
            if item.stood:
                # It existed there before, and means the same there as here.
                continue
            if (only is None or item.id in only) and medium.exists(self._as_copied(root, item)):
                carried.pop(shown(item.there), None)
                try:
                    self._document(medium, root, item)
                except NotUnderstood as error:
                    # Copied as it is; the scales show where it leads.
                    carried[shown(item.there)] = str(error)
        if carried != before:
            self._copies.put(CARRIED, carried)

    def _document(self, medium: Medium, root: bytes, item: Item) -> None:
        """Rewrites one document. Its journals are then part of it, and are kept as they were."""
        with MediumSource(medium, self._as_copied(root, item), self._cache) as source:
            kind = kind_of(item.place, source.head())
            if kind is None:
                return
            beside = [j for end in kind.journals if (j := self._copies.at(item.place + end))]
            if any(j.kind is not Kind.FILE for j in beside):
                # Not understood, and reported in the survey.
                return
            journals = [j for j in beside if j.copy is CopyState.VERIFIED]
            source.beside = {j.place[len(item.place) :]: self._as_copied(root, j) for j in journals}
            with kind.open(source) as document:
                if isinstance(document, LearnedDocument):
                    self.readings[document.stored.shape] = document.stored
                new: bytes | Path | None = None
                if not beside:
                    # The journal's content is not in the earlier bytes.
                    new = self._before(kind, document, item, medium, root)
                if new is None:
                    new = document.retargeted(self._wanted(kind, document, item), self._title(item))
            if new is None:
                return
            for each in (*journals, item):
                self._keep_as_it_was(medium, root, each)
            self._put(medium, root, item, new)

    def _before(
        self, kind: DocumentKind, document: OpenDocument, item: Item, medium: Medium, root: bytes
    ) -> bytes | None:
        """A document's earlier bytes, if the library comes back to that path."""
        if not self._places.header.restores:
            return None
        restoring = Restoring(self._copies, self._places, self.arrived, medium, root, self._cache)
        return restoring.before(kind, document, item)

    def _wanted(self, kind: DocumentKind, document: OpenDocument, item: Item) -> Wanted:
        """The new target of each reference of a document."""
        led = self._copies.journal.led(item.id)
        # For a database it is not certain that they belong to this content: it is read again.
        known = led if led and led.seen == item.digest else None
        spelling = Spelling(kind, item, self.route, self.arrived, known)
        leads = leads_of(known, document)
        below: dict[Locator, Change] | None = None

        def wanted(_number: int, reference: Reference) -> Change | None:
            nonlocal below
            if reference.means in (Means.FOLDER, Means.BELOW):
                if below is None:
                    below = Below(self._copies, self._places, self._drive, self.route).changes(
                        document
                    )
                return below.get(reference.locator)
            lead = next(leads, None)
            if reference.means is not Means.PATH:
                return None
            change = spelling.change(reference, lead)
            if change and kind.stays_absolute and reference.as_written.startswith("/"):
                return self._absolute(change, item)
            return change

        return wanted

    def _absolute(self, change: Change, item: Item) -> Change:
        """A change to an absolute path: where the copy will be."""
        here = bytes(self._places.target) + b"/" + parent(item.there)
        whole = os.path.normpath(here + b"/" + os.fsencode(change.target))
        return Change(os.fsdecode(whole))

    def _title(self, item: Item) -> str | None:
        """The title of a document that is the library, if it gets another name."""
        header = self._places.header
        own = bool(header.named) and os.fsdecode(item.place) == header.document
        return header.name if own else None

    def _as_copied(self, root: bytes, item: Item) -> bytes:
        """Where the copied bytes are: at their path, or already moved aside."""
        return join(root, arrives_at(item, self._places.crossing))

    def _keep_as_it_was(self, medium: Medium, root: bytes, item: Item) -> None:
        """Moves the copied bytes aside, where they stay as the verified version."""
        # If it is interrupted between the two, the next run finds nothing there and copies it
        # again.
        if not item.rewritten:
            kept = join(root, as_it_was(item.there, self._places.crossing))
            self._copies.begin_rewriting(item.id)
            make_parents(medium, root, kept)
            move(medium, join(root, item.there), kept)

    def _put(self, medium: Medium, root: bytes, item: Item, content: bytes | Path) -> None:
        kept = join(root, as_it_was(item.there, self._places.crossing))

        def fill(out: BinaryIO) -> None:
            if isinstance(content, bytes):
                out.write(content)
                return
            with open(content, "rb") as file:
                while part := file.read(_CHUNK):
                    out.write(part)

        seen, digest = put(
            medium, join(root, item.there), fill, Like.of(medium, kept, fidelity(self._drive))
        )
        self._copies.record_derived(item.id, seen, digest)

    # -- links -------------------------------------------------------------------------------------

    def links(self, source: Medium, medium: Medium, root: bytes) -> None:
        """Makes the links of the library.

        A link that would lead to the old place leads to the same file at the new one.
        """
        for item in self._copies.items(Which.LINKS_TO_MAKE):
            self.link(source, medium, root, item)

    def link(self, source: Medium, medium: Medium, root: bytes, item: Item) -> None:
        """Makes one link below ``root``, with a new target if it would lead elsewhere."""
        status, target = source.status(item.place), source.read_link(item.place)
        if item.fate is Fate.OWN:
            self._make_link(
                medium, join(root, own_place(item.there, self._places.crossing)), target, status
            )
            kept = own_place(item.there, self._places.crossing)
        else:
            new = self._link_target(item, target)
            kept = item.there if new is None else as_it_was(item.there, self._places.crossing)
            make_parents(medium, root, join(root, kept))
            self._make_link(medium, join(root, kept), target, status)
            if new is not None:
                self._make_link(medium, join(root, item.there), new, status)
        seen = seen_of(status)
        copy = copy_seen_of(medium.status(join(root, kept)))
        self._copies.record_copies(
            [Copied(item.id, CopyState.COPIED, digest_of_bytes(target), seen, copy)]
        )
        if kept != item.there and item.fate is Fate.COPY:
            self._copies.begin_rewriting(item.id)
        if medium.read_link(join(root, kept)) == target:
            self._copies.record_verified([(item.id, True)])

    def rewritten(self, item: Item, target: bytes) -> bytes:
        """The target of a link in the copy.

        Rewritten if it would lead elsewhere.
        """
        return self._link_target(item, target) or target

    def _link_target(self, item: Item, target: bytes) -> bytes | None:
        ways = [Target(os.fsdecode(target))]
        led = self._copies.journal.led(item.id)
        if led and led.of and led.of[0] >= 0:
            wanted = self.arrived.place_of(led.of[0])
            stays = not target.startswith(b"/") and place_from(parent(item.there), target) == wanted
            return None if stays else relative(wanted, item.there)
        new = Spelling(LINK, item, self.route, self.arrived, led).by_plan(ways)
        if new is not None and new.startswith(b"/") and not os.path.lexists(new):
            # It led nowhere, and stays unchanged.
            return None
        return new

    @staticmethod
    def _make_link(medium: Medium, place: bytes, target: bytes, status: os.stat_result) -> None:
        if medium.exists(place):
            remove_own(medium, place)
        medium.make_link(target, place)
        with suppress(PermissionError):
            medium.set_link_time(place, status)


def documents_of(copies: Copies) -> Iterator[Item]:
    """Every verified document of a destination."""
    # All of them first, because the journal is written to meanwhile.
    ids = copies.verified_documents(endings())
    return (copies.item(id) for id in ids)
