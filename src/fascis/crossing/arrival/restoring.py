"""Documents of a library that comes back get their earlier bytes, where these are right.

They are right if nobody edited the document since, and every reference in the earlier bytes leads
at the new path to the same file as the document's reference now. Otherwise the document is
rewritten like any other.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import closing
from itertools import zip_longest
from pathlib import Path

from fascis.crossing.arrival.below import old_folder
from fascis.crossing.arrival.routes import path_of
from fascis.crossing.arrival.spelling import is_of_copied, leads_of
from fascis.crossing.journal.copies import Copies, Item
from fascis.crossing.journal.leads import Led
from fascis.crossing.places.arrived import Arrived
from fascis.crossing.places.places import Places
from fascis.documents.model import (
    DocumentKind,
    Means,
    NotUnderstood,
    OpenDocument,
    Reference,
    names_of,
)
from fascis.files.disk.digest import digest_at
from fascis.files.disk.medium import Medium
from fascis.files.errors import EnvironmentTrouble
from fascis.files.names import join, parent
from fascis.library.identity import Identity
from fascis.library.own import OWN
from fascis.library.references.reading import MediumSource

_AS_IT_WAS = OWN + b"/as-it-was"
# The largest document restored as a whole, in bytes.
_LARGEST = 2 << 30


class Restoring:
    """Finds the earlier bytes of documents on one destination.

    Args:
        medium: the opened destination; ``root`` is the staged library in it.
    """

    def __init__(
        self, copies: Copies, places: Places, arrived: Arrived, medium: Medium, root: bytes,
        cache: Path,
    ) -> None:  # fmt: skip
        self._copies, self._places, self._arrived = copies, places, arrived
        self._medium, self._root, self._cache = medium, root, cache
        header = places.header
        mount = places.destination_mount or Path(places.drive.mount)
        self._mounts = {**header.mounts, places.drive.uuid: str(mount)}
        self._target = bytes(places.target).rstrip(b"/") + b"/"
        identity = Identity.model_validate(header.identity) if header.identity else None
        self._crossings = [c.id for c in reversed(identity.history)] if identity else []

    def before(self, kind: DocumentKind, document: OpenDocument, item: Item) -> bytes | None:
        """The earlier bytes of a document; None if not known, or not right."""
        if item.known is None or item.known != item.digest:
            # It was edited since, or its earlier state is not recorded.
            return None
        place = self._kept(item.there)
        if place is None or any(self._medium.exists(place + end) for end in kind.journals):
            # It contains now what its journal had then; the earlier bytes do not.
            return None
        led = self._copies.journal.led(item.id)
        if led is None or not is_of_copied(kind, led, item):
            return None
        try:
            with MediumSource(self._medium, place, self._cache) as source:
                right = kind.recognises(source.head())
                right = right and self._is_right(kind, source, document, led, item)
                return self._content(place) if right else None
        except (NotUnderstood, EnvironmentTrouble, OSError):
            return None

    def _kept(self, there: bytes) -> bytes | None:
        """Where the earlier version of a document is kept."""
        for crossing in self._crossings:
            place = join(self._root, join(join(_AS_IT_WAS, crossing.encode()), there))
            if self._medium.exists(place):
                return place
        return None

    def _content(self, place: bytes) -> bytes | None:
        with closing(self._medium.open(place)) as file:
            size = file.opened.st_size
            if size > _LARGEST:
                return None
            content = bytearray(size)
            view, filled = memoryview(content), 0
            while filled < size and (count := file.readinto(view[filled:])):
                filled += count
            return bytes(content) if filled == size else None

    # -- whether it is right -----------------------------------------------------------------------

    def _is_right(
        self, kind: DocumentKind, source: MediumSource, document: OpenDocument, led: Led, item: Item
    ) -> bool:
        leads, by_number = leads_of(led, document), led.by_photo()
        with kind.open(source) as before:
            for mine, now in zip_longest(_followed(before), _followed(document)):
                if mine is None or now is None or mine.means is not now.means:
                    return False
                if mine.means is Means.BELOW:
                    if mine.number != now.number:
                        return False
                    lead = by_number.get(now.number)
                    if lead is None or not self._leads_there(self._below(mine), lead, led):
                        return False
                    continue
                led_to = next(leads, None)
                if mine.means is not Means.PATH:
                    continue
                if not self._path_is_right(kind, mine, item, led_to, led):
                    return False
        return True

    def _path_is_right(
        self,
        kind: DocumentKind,
        reference: Reference,
        item: Item,
        led_to: list[int] | None,
        led: Led,
    ) -> bool:
        ways = kind.readings(reference.as_written)
        if not ways:
            return True
        folder, names = self._target + parent(item.there), names_of(reference)
        if led_to is None or len(led_to) != len(names):
            return False
        return all(
            self._leads_there([path_of(way, folder, name) for way in ways], lead, led)
            for name, lead in zip(names, led_to, strict=True)
        )

    def _below(self, reference: Reference) -> list[bytes]:
        above = old_folder(reference.place, self._mounts)
        if above is None:
            return []
        return [os.path.normpath(above + b"/" + os.fsencode(reference.as_written))]

    def _leads_there(self, paths: list[bytes], lead: int, led: Led) -> bool:
        """True if a reference leads to the same file as now.

        Args:
            lead: an entry, or something outside the library.
        """
        for path in paths:
            if path.startswith(self._target):
                entry = self._arrived.at(path[len(self._target) :])
                if entry is not None:
                    return lead >= 0 and self._arrived.same(entry, lead)
            elif os.path.lexists(path):
                if lead < 0:
                    return led.path(lead) == path
                return same_outside(path, self._arrived.digest_of(lead))
        return lead < 0 and led.path(lead) is None


def _followed(document: OpenDocument) -> Iterator[Reference]:
    return (r for r in document.references() if r.means is not Means.FOLDER)


def same_outside(path: bytes, digest: bytes | None) -> bool:
    """True if a file outside has this content."""
    return digest is not None and digest_at(path) == digest
