"""The running crossing, as the window knows it.

From its journal at the start, and from its reports since.
"""

from __future__ import annotations

import time

from fascis.crossing.model.events import Advanced, Attention, Entered, Event
from fascis.crossing.model.states import State
from fascis.crossing.status.pace import Pace
from fascis.desktop.crossings.answers import DriveNow, Situation
from fascis.desktop.crossings.seen import Listed, Seen
from fascis.desktop.crossings.stations import Lane
from fascis.files.control import Control


class Running:
    """One run of one crossing.

    Its journal belongs to the work meanwhile: the window uses this instead.
    """

    def __init__(self, crossing: Listed) -> None:
        self.crossing, self.control = crossing, Control()
        self.state = State.PLANNED
        self.seen: Seen | None = None
        self.lanes: dict[int, Lane] = {}
        self.attention: list[tuple[bytes, str, str, float]] = []
        self.awake = ""
        self.stopping = False
        self._paces: dict[int, Pace] = {}
        self._whole: dict[int, float] = {}

    def begin(self, seen: Seen) -> None:
        """Takes the journal's content at the start."""
        self.seen, self.lanes, self.attention = seen, seen.lanes(), list(seen.attention)
        self._paces = {d.number: Pace(*seen.planned, *d.verified) for d in seen.drives}
        self._whole = {
            d.number: d.settled_at or 0.0 for d in seen.drives if d.state is State.SETTLED
        }

    def take(self, events: list[Event]) -> None:
        """Takes a report."""
        for event in events:
            if isinstance(event, Advanced) and event.destination in self._paces:
                self._paces[event.destination].advance(event)
                if lane := self.lanes.get(event.strand):
                    on = lane.drives[list(self._paces).index(event.destination)]
                    on.copied += event.copied_bytes
                    on.verified += event.verified_bytes
            elif isinstance(event, Attention):
                self.attention = [
                    *self.attention,
                    (event.place, event.drive, event.meaning, time.time()),
                ]
            elif isinstance(event, Entered):
                self._entered(event)

    def _entered(self, event: Entered) -> None:
        if event.destination is None or len(self._paces) == 1:
            self.state = event.state
        elif event.state is State.SETTLED:
            self._whole[event.destination] = time.time()
        else:
            self.state = State.COPYING

    def situation(self) -> Situation:
        """The facts for the answers now."""
        assert self.seen
        files, total = self.seen.planned
        drives = []
        for d in self.seen.drives:
            pace, whole = self._paces[d.number], self._whole.get(d.number)
            left, files_left = (
                max(0, total - pace.verified_bytes),
                max(0, files - pace.verified_files),
            )
            ready = None if whole else pace.ready_at()
            drives.append(DriveNow(d.label, left, files_left, ready, whole, d.proven, d.number))
        return Situation(self.state, True, tuple(drives), awake=self.awake)

    def bytes_a_second(self) -> float:
        """Verified bytes a second on all drives together."""
        return sum(p.bytes_a_second() for n, p in self._paces.items() if n not in self._whole)

    def ready_at(self) -> float | None:
        """When the last drive will be finished, in seconds since 1970.

        None if not known yet.
        """
        at = [p.ready_at() for n, p in self._paces.items() if n not in self._whole]
        known = [a for a in at if a]
        return max(known) if known and len(known) == len(at) else None
