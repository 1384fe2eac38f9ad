"""What the window knows of one crossing: read from its journal in one go, off the interface thread."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import islice
from typing import Any

from fascis.crossing.copies import StrandProgress
from fascis.crossing.crossing import Crossing
from fascis.crossing.engine import hindrance_sentence
from fascis.crossing.plan import After
from fascis.crossing.states import State
from fascis.desktop.answers import Situation

MOST_HINDERED = 200  # sentences that are shown; the count is of all


@dataclass(slots=True)
class Seen:
    """One reading of a journal. Sizes in bytes, times in seconds since 1970; ``release`` is the record of a release."""

    id: str
    state: State
    drive: str
    source_drive: str
    name: str
    after: After
    planned: tuple[int, int]
    going: tuple[int, int]
    verified: tuple[int, int]
    proven: bool
    looked: bool
    settled_at: float | None
    parked_at: str | None
    release: dict[str, Any] | None
    strands: list[StrandProgress]
    attention: list[tuple[bytes, str, str, float]]
    hindered: list[str]

    def situation(self, even: bool) -> Situation:
        """What the answers depend on while nothing runs."""
        left, files = self.going[1] - self.verified[1], self.going[0] - self.verified[0]
        return Situation(
            self.state, False, self.drive, max(0, left), max(0, files), None, self.proven, self.looked, even
        )


def read_seen(crossing: Crossing) -> Seen:
    """Reads a crossing's journal; takes a second or two with a million files."""
    header, journal = crossing.places.header, crossing.journal
    return Seen(
        crossing.id,
        crossing.state,
        crossing.places.label,
        header["source_drive"]["label"],
        header["name"],
        After(journal.value("after", crossing.after.value)),
        journal.planned(),
        crossing.copies.going(),
        crossing.verified,
        crossing.proven,
        bool(journal.value("looked_at")),
        journal.value("settled_at"),
        journal.value("parked_at"),
        journal.value("release"),
        crossing.copies.strands(),
        journal.attentions(),
        [hindrance_sentence(p, s) for p, s in islice(crossing.hindrances(), MOST_HINDERED)],
    )
