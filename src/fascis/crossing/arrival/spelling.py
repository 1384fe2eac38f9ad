"""The new targets of a copied document.

Each leads where it led before, however it is read: programs that take it literally and programs
that decode it first find the same file.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from itertools import repeat

from fascis.crossing.arrival.routes import IntoCopy, path_of
from fascis.crossing.journal.copies import Item
from fascis.crossing.journal.leads import Led, frames
from fascis.crossing.places.arrived import Arrived, leads_only, place_from, relative
from fascis.documents.model import Change, DocumentKind, KnownBy, OpenDocument, Reference, names_of
from fascis.documents.targets import Target
from fascis.files.names import join, parent
from fascis.library.references.uses import NOWHERE

MISSING_FOLDER = b"missing"


def leads_of(led: Led | None, document: OpenDocument) -> Iterator[list[int] | None]:
    """Where each reference of a document leads, in order.

    None if that is not known, belongs to another version, or does not match the document's
    references.
    """
    if led is None or led.photos:
        return repeat(None)
    if sum(_counts(document)) != len(led.of):
        return repeat(None)
    return frames(led, _counts(document))


def is_of_copied(kind: DocumentKind, led: Led, item: Item) -> bool:
    """True if the recorded references are those of the copied version.

    A database is recognised by size and time: other bytes can have the same content.
    """
    if kind.known_by is KnownBy.DIGEST:
        return led.seen == item.digest
    seen = item.seen or (0, 0)
    return bool(led.seen and item.seen) and led.seen.split()[:2] == [b"%d" % n for n in seen[:2]]


def _counts(document: OpenDocument) -> Iterator[int]:
    """The number of targets of each reference: one for each frame of a sequence."""
    for reference in document.references():
        yield reference.sequence.frames if reference.sequence else 1


class Spelling:
    """The new targets of one document in the copy."""

    def __init__(
        self, kind: DocumentKind, item: Item, route: IntoCopy, arrived: Arrived, led: Led | None
    ) -> None:
        self._kind, self._item, self._route, self._arrived, self._led = (
            kind,
            item,
            route,
            arrived,
            led,
        )
        self._old_folder = route.folder_of(item)
        self._here = parent(item.there)

    def change(self, reference: Reference, leads: list[int] | None) -> Change | None:
        """The new target of a reference, and its spelling where that matters.

        None if it can stay unchanged.

        Args:
            leads: where it led, for each frame; None if not known.
        """
        ways = self._kind.readings(reference.as_written)
        names = names_of(reference)
        if not ways or not names:
            return None
        if leads is None:
            new = self.by_plan(ways, names[0])
            return None if new is None else Change(os.fsdecode(new))
        at = next((i for i, lead in enumerate(leads) if lead != NOWHERE), 0)
        if leads[at] >= 0:
            return self._to_entry(reference, ways, leads[at], names[at])
        if (path := self._led.path(leads[at]) if self._led else None) is not None:
            return self._to_outside(ways, path, names[at])
        return self._to_nowhere(reference, ways, names[at])

    def by_plan(self, ways: list[Target], inner: bytes = b"") -> bytes | None:
        """The new target by its path, if it is not known to which file it led.

        A path relative to the document, or an absolute one; None if it can stay unchanged.

        Args:
            ways: the ways of reading it, likeliest first.
            inner: a name below it, if the target names a folder.
        """
        first: tuple[Target, bytes, bytes | None] | None = None
        for way in ways:
            path = path_of(way, self._old_folder, inner)
            place = self._route.planned.to(path)
            if place is not None and (place.startswith(b"/") or self._route.is_planned(place)):
                return self._leading(way, path, place, inner)
            if first is None or (first[2] is None and place is not None):
                first = (way, path, place)
        return self._leading(*first, inner) if first else None

    def _leading(self, way: Target, path: bytes, place: bytes | None, inner: bytes) -> bytes | None:
        """A target for a place of the plan or, outside the library, for the present path."""
        here, said = parent(self._route.called(self._item.place)), os.fsencode(way.path)
        if place is None:
            if way.absolute or way.foreign:
                # It still leads where it leads now.
                return None
            target = path
        elif place.startswith(b"/"):
            target = place
        else:
            there = self._route.called(place)
            if not way.absolute and not way.foreign and _joined(here, said, inner) == there:
                return None
            if inner and there.rpartition(b"/")[2] != place.rpartition(b"/")[2]:
                # A frame cannot get another name; the plan ensures this.
                return None
            target = os.path.relpath(b"/" + there, b"/" + here)
        if inner:
            target = parent(target) or (b"." if not target.startswith(b"/") else b"/")
            target += b"/" if said.endswith(b"/") else b""
        return target

    def _to_entry(
        self, reference: Reference, ways: list[Target], lead: int, inner: bytes
    ) -> Change | None:
        if self._stays(reference, ways, lead, inner):
            return None
        place = self._arrived.place_of(lead)
        wanted = lead if self._arrived.digest_of(lead) is not None else None
        return self._spelled(self._said(place, inner, ways), inner, wanted)

    def _stays(self, reference: Reference, ways: list[Target], lead: int, inner: bytes) -> bool:
        """True if a relative target leads where it led before, by every way of reading it."""
        if any(way.absolute or way.foreign for way in ways):
            return False
        wanted = self._arrived.place_of(lead)
        places = [place_from(self._here, _within(way, inner)) for way in ways]
        if wanted not in places:
            return False
        if self._leads_only(reference.as_written, inner, lead):
            return True
        # A target with two meanings keeps both: the same two files have the same names there.
        before = [path_of(way, self._old_folder, inner) for way in ways]
        planned = [p and self._route.planned.to(p) for p in before]
        if any(p is None or not self._route.is_planned(p) for p in planned):
            return False
        return places[0] == wanted and [self._route.called(p or b"") for p in planned] == places

    def _said(self, place: bytes, inner: bytes, ways: list[Target]) -> str:
        """A place as a path from the document; for a frame, its folder."""
        target = relative(place, self._item.there)
        if inner:
            target = parent(target) or b"."
            target += b"/" if ways[0].path.endswith("/") else b""
        return os.fsdecode(target)

    def _spelled(self, target: str, inner: bytes, wanted: int | None) -> Change:
        """A target, and a spelling for all programs if the usual one does not work."""
        for text in self._kind.spellings(target):
            if self._leads_only(text, inner, wanted):
                return Change(target, text)
        return Change(target)

    def _leads_only(self, text: str, inner: bytes, wanted: int | None) -> bool:
        """True if a text, however it is read, leads only to the wanted entry."""
        ways = self._kind.readings(text)
        return leads_only(ways, text, self._here, inner, wanted, self._arrived)

    def _to_outside(self, ways: list[Target], path: bytes, inner: bytes) -> Change | None:
        """Refers to a file outside at its present path.

        An absolute target needs no change.
        """
        if any(way.absolute or way.foreign for way in ways) and path not in self._route.found_again:
            return None
        target = os.fsdecode(parent(path) if inner else path) + (
            "/" if inner and ways[0].path.endswith("/") else ""
        )
        for text in self._kind.spellings(target):
            others = {_within(way, inner) for way in self._kind.readings(text)} - {path}
            if not any(os.path.lexists(other) for other in others):
                return Change(target, text)
        return Change(target)

    def _to_nowhere(self, reference: Reference, ways: list[Target], inner: bytes) -> Change | None:
        """A reference that led nowhere leads nowhere there.

        Relative to the library, if it named a place in it.
        """
        new = self.by_plan(ways, inner)
        text = reference.as_written if new is None else os.fsdecode(new)
        if new is None and any(way.absolute or way.foreign for way in ways):
            return None
        if self._leads_only(text, inner, None):
            return None if new is None else Change(text)
        name = inner or os.fsencode(ways[0].path).rstrip(b"/").rpartition(b"/")[2]
        return self._spelled(self._said(join(MISSING_FOLDER, name), inner, ways), inner, None)


def _within(way: Target, inner: bytes) -> bytes:
    said = os.fsencode(way.path)
    return join(said.rstrip(b"/"), inner) if inner else said


def _joined(here: bytes, said: bytes, inner: bytes) -> bytes:
    path = said.rstrip(b"/") + b"/" + inner if inner else said
    return os.path.normpath(b"/" + here + b"/" + path)[1:].lstrip(b"/")
