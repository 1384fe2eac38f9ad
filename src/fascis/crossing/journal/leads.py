"""Where every reference led when the plan was made, in the journal's terms.

What each must lead to in the copy.

A lead is the number of an entry of the plan, ``NOWHERE``, or a path outside of the library that
stays where it is. The documents of the copy are written by it, and it is what the scales compare
with: reference by reference, the content before with the content after.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from fascis.library.references.uses import NOWHERE, led_outside


@dataclass(frozen=True, slots=True)
class Led:
    """The leads of one document, or link.

    Attributes:
        seen: what the document was when they were found, see ``Document.seen``; nothing for a link.
        of: the lead of every reference in the order of the document, frame by frame.
        photos: of a catalog the photos' ids, one for each lead.
        outside: the paths of leads that are neither an entry nor ``NOWHERE``, by lead.
    """

    seen: bytes
    of: array[int]
    photos: array[int]
    outside: Mapping[int, bytes]

    def path(self, lead: int) -> bytes | None:
        """The path outside of the library that a lead is; None for an entry or nowhere."""
        return self.outside.get(lead)

    def by_photo(self) -> dict[int | None, int]:
        """The numbers of references that have such, and where each leads; none for others."""
        return dict(zip(self.photos, self.of, strict=True)) if self.photos else {}


@dataclass(slots=True)
class LeadRows:
    """The leads of a whole plan as the journal keeps them.

    ``(entry, seen, leads, photos)``, and paths by their index.
    """

    rows: list[tuple[int, bytes, bytes, bytes]]
    outside: list[bytes]


def read_led(row: tuple[bytes, bytes, bytes], outside: Mapping[int, bytes]) -> Led:
    """A row of the journal: what the document was, its leads, its photos."""
    seen, leads, photos = row
    found, ids = array("q"), array("q")
    found.frombytes(leads)
    ids.frombytes(photos)
    return Led(seen, found, ids, outside)


def frames(led: Led, counts: Iterator[int]) -> Iterator[list[int]]:
    """The leads of each reference; ``counts`` tells how many each has."""
    at = 0
    for count in counts:
        yield list(led.of[at : at + count])
        at += count


def with_kept(
    leads: LeadRows, kept: Iterable[tuple[int, bytes, bytes, bytes]], paths: Mapping[int, bytes]
) -> LeadRows:
    """New leads, and of other documents those that were known: one list of paths for all.

    Args:
        kept: rows as the journal had them; ``paths`` are those that they name.
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
