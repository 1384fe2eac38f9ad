"""Where every reference led when the plan was made, in the journal's terms.

A lead is the number of an entry of the plan, ``NOWHERE``, or a path outside the library that stays.
The documents of the copy are written accordingly, and the scales compare reference by reference:
the content before with the content after.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Mapping

from msgspec import Struct

from fascis.library.references.uses import NOWHERE, led_outside


class Led(Struct, frozen=True):
    """The leads of one document or link.

    Attributes:
        seen: the document's state when they were found, see ``Document.seen``; empty for a link.
        of: the lead of every reference (every frame), in the order of the document.
        photos: the ids of a catalog's photos, one for each lead.
        outside: the paths of all other leads, by lead.
    """

    seen: bytes
    of: array[int]
    photos: array[int]
    outside: Mapping[int, bytes]

    def path(self, lead: int) -> bytes | None:
        """The path outside the library for a lead; None for an entry or nowhere."""
        return self.outside.get(lead)

    def by_photo(self) -> dict[int | None, int]:
        """The ids of a catalog's photos, and where each leads; None for other documents."""
        return dict(zip(self.photos, self.of, strict=True)) if self.photos else {}


class LeadRows(Struct):
    """The leads of a whole plan as stored in the journal.

    ``(entry, seen, leads, photos)``, and paths by their index.
    """

    rows: list[tuple[int, bytes, bytes, bytes]]
    outside: list[bytes]


def read_led(row: tuple[bytes, bytes, bytes], outside: Mapping[int, bytes]) -> Led:
    """A row of the journal: the document's state, its leads, its photos."""
    seen, leads, photos = row
    found, ids = array("q"), array("q")
    found.frombytes(leads)
    ids.frombytes(photos)
    return Led(seen, found, ids, outside)


def frames(led: Led, counts: Iterator[int]) -> Iterator[list[int]]:
    """The leads of each reference; ``counts`` has the number of each."""
    at = 0
    for count in counts:
        yield list(led.of[at : at + count])
        at += count


def with_kept(
    leads: LeadRows, kept: Iterable[tuple[int, bytes, bytes, bytes]], paths: Mapping[int, bytes]
) -> LeadRows:
    """New leads together with the known ones of other documents, with one list of paths for all.

    Args:
        kept: rows from the journal; ``paths`` are those they name.
    """
    outside = list(leads.outside)
    index = {path: i for i, path in enumerate(outside)}
    rows = list(leads.rows)
    for entry, seen, old, photos in kept:
        found = array("q")
        found.frombytes(old)
        for at, lead in enumerate(found):
            if lead < NOWHERE:
                path = paths[led_outside(lead)]
                if path not in index:
                    index[path] = len(outside)
                    outside.append(path)
                found[at] = led_outside(index[path])
        rows.append((entry, seen, found.tobytes(), photos))
    return LeadRows(rows, outside)
