"""Where every reference led when the plan was made, in the journal's terms.

What each must lead to in the copy.

A lead is the number of an entry of the plan, ``NOWHERE``, or a path outside of the library that
stays where it is. The documents
of the copy are written by it, and it is what the scales compare with: reference by reference, the
content before with the content
after.
"""

from __future__ import annotations

from array import array
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

from fascis.crossing.gathering import Gathering
from fascis.library.survey import Survey
from fascis.library.uses import NOWHERE, Uses, led_outside


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

    def by_photo(self) -> dict[int, int]:
        """A catalog's photos, and where each leads."""
        return dict(zip(self.photos, self.of, strict=True))


@dataclass(slots=True)
class LeadRows:
    """The leads of a whole plan as the journal keeps them.

    ``(entry, seen, leads, photos)``, and paths by their index.
    """

    rows: list[tuple[int, bytes, bytes, bytes]]
    outside: list[bytes]


def lead_rows(
    uses: Uses, survey: Survey, gathering: Gathering, entries: Mapping[bytes, int] | None = None
) -> LeadRows:
    """Translates the leads of a survey into the plan's.

    Args:
        entries: place → number, for entries that are not numbered as the survey's rows are.
    """
    if not uses.leads:
        return LeadRows([], [])
    places = {place: row for row, _, place in survey.rows()}
    numbers = dict(entries) if entries is not None else dict(places)
    if entries is None:
        numbers |= {place: len(survey) + i for i, (place, _) in enumerate(gathering.items)}
    by_row = {row: numbers[place] for place, row in places.items() if place in numbers}
    outside = _Outside(uses, survey, gathering, numbers)
    seen = {d.place or d.path: d.seen for d in uses.documents}
    rows = []
    for document, leads in uses.leads.items():
        place = gathering.aliases.get(document, b"") if document.startswith(b"/") else document
        entry = numbers.get(place)
        if entry is not None:
            found = array(
                "q",
                (by_row.get(lead, NOWHERE) if lead >= 0 else outside.of(lead) for lead in leads.of),
            )
            rows.append(
                (
                    entry,
                    seen.get(document, b""),
                    found.tobytes(),
                    (leads.photos or array("q")).tobytes(),
                )
            )
    return LeadRows(rows, outside.paths)


class _Outside:
    """Leads to what lies outside the library, or is lost.

    Gathered, found again, staying, or nowhere.
    """

    def __init__(
        self, uses: Uses, survey: Survey, gathering: Gathering, numbers: Mapping[bytes, int]
    ) -> None:
        self._uses, self._gathering, self._numbers = uses, gathering, numbers
        self._lost = {o.path for o in uses.outside if not o.mode}
        self._known: dict[int, int] = {}
        self._index: dict[bytes, int] = {}
        self.paths: list[bytes] = []

    def of(self, lead: int) -> int:
        """The plan's lead for the survey's."""
        if lead == NOWHERE:
            return NOWHERE
        if lead not in self._known:
            self._known[lead] = self._find(self._uses.led_paths[led_outside(lead)])
        return self._known[lead]

    def _find(self, path: bytes) -> int:
        place = self._gathering.aliases.get(path)
        if place is not None and not place.startswith(b"/"):
            return self._numbers.get(place, NOWHERE)
        path = place or path
        if path in self._lost:
            return NOWHERE
        index = self._index.setdefault(path, len(self._index))
        if index == len(self.paths):
            self.paths.append(path)
        return led_outside(index)


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
