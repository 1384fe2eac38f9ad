"""When crossings resume and are finished.

When a drive that was away is back, and one after the other in the queue. Pure; tested alone.
"""

from __future__ import annotations

from fascis.desktop.crossings.answers import Situation, clock
from fascis.desktop.crossings.seen import Listed
from fascis.files.names import elided
from fascis.words.speech import tr


class Returns:
    """Crossings that stopped because a drive was removed.

    They resume after it was seen to be missing, and is back.
    """

    def __init__(self) -> None:
        self._wanted: dict[str, set[str]] = {}
        self._absent: set[str] = set()
        self._missed: dict[str, bool] = {}

    def expect(self, crossing: Listed) -> None:
        """A crossing stopped for this reason."""
        wanted = set(crossing.drives)
        self._wanted[crossing.id] = wanted
        self._missed[crossing.id] = bool(wanted & self._absent)

    def forget(self, id: str) -> None:
        """It resumed, or was given up."""
        self._wanted.pop(id, None)

    def awaited(self, id: str) -> bool:
        """True while it waits for a drive."""
        return id in self._wanted

    def look(self, connected: set[str]) -> set[str]:
        """Takes the drives connected now; returns the crossings whose drives are all back."""
        everything = set().union(*self._wanted.values(), self._absent)
        self._absent = everything - connected
        ready = set()
        for id, wanted in self._wanted.items():
            if wanted - connected:
                self._missed[id] = True
            elif self._missed[id]:
                ready.add(id)
        return ready


def ready_times(first: float | None, waiting: list[Listed]) -> list[float | None]:
    """The times at which queued crossings will be finished, by their plans, one after the other.

    Pure.
    """
    at, times = first, []
    for crossing in waiting:
        at = at + crossing.estimate if at else None
        times.append(at)
    return times


def whole_words(s: Situation) -> str:
    """The large text when one drive is whole and another is not yet: ``Heron A.

    Whole, verified 01:12``. Pure.

    Whole, verified 01:12``. Pure.
    """
    return " · ".join(
        tr("{drive}: whole, verified {time}", drive=elided(d.label, 32), time=clock(d.whole_at))
        for d in s.whole
    )
