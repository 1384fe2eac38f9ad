"""Where every reference of a survey leads, in the plan's terms.

A lead is the number of an entry, ``NOWHERE``, or a path outside that stays.
"""

from __future__ import annotations

from array import array
from collections.abc import Mapping

from fascis.crossing.journal.leads import LeadRows
from fascis.crossing.scope.gathering import Gathering
from fascis.library.references.uses import NOWHERE, Uses, led_outside
from fascis.library.survey import Survey


def lead_rows(
    uses: Uses,
    survey: Survey,
    gathering: Gathering,
    entries: Mapping[bytes, int] | None = None,
    elsewhere: Mapping[bytes, bytes] | None = None,
) -> LeadRows:
    """Translates the leads of a survey into those of the plan.

    Args:
        entries: place → number, for entries not numbered like the survey's rows.
        elsewhere: place → the new path outside of the same content.
    """
    if not uses.leads:
        return LeadRows([], [])
    places = {place: row for row, _, place in survey.rows()}
    numbers = dict(entries) if entries is not None else dict(places)
    if entries is None:
        numbers |= {place: len(survey) + i for i, (place, _) in enumerate(gathering.items)}
    by_row = {row: numbers[place] for place, row in places.items() if place in numbers}
    outside = _Outside(uses, survey, gathering, numbers)
    by_row |= {places[place]: outside.at(path) for place, path in (elsewhere or {}).items()}
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
    """Leads to files outside the library, or missing.

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
        """The plan's lead for a lead of the survey."""
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
        return NOWHERE if path in self._lost else self.at(path)

    def at(self, path: bytes) -> int:
        """The plan's lead to a path that stays."""
        index = self._index.setdefault(path, len(self._index))
        if index == len(self.paths):
            self.paths.append(path)
        return led_outside(index)
