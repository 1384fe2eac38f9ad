"""The crossings that one program has open, each once, for its tasks."""

from __future__ import annotations

import threading

from fascis.crossing.crossing import Crossing
from fascis.crossing.status.queue import all_crossings
from fascis.workspace import Workspace


class Opened:
    """Opens journals once, and finds a crossing by its id. Safe to use from several threads.

    A window's thread reads nothing from a crossing, not even its state, which is in its journal.
    """

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._lock = threading.Lock()
        self._crossings: dict[str, Crossing] = {}

    def look(self) -> list[Crossing]:
        """Opens those not open yet; returns all, newest first, including those started here."""
        # Journals are opened without the lock: adding one never waits for a drive.
        with self._lock:
            held = dict(self._crossings)
        found, _ = all_crossings(self._workspace, held)
        twice = []
        with self._lock:
            for crossing in found:
                if self._crossings.setdefault(crossing.id, crossing) is not crossing:
                    twice.append(crossing)
            ids = {c.id for c in found}
            new = [c for id, c in self._crossings.items() if id not in ids]
            all = [*new, *(self._crossings[c.id] for c in found)]
        for crossing in twice:
            crossing.close()
        return all

    def add(self, crossing: Crossing) -> None:
        """Takes over a crossing that was started elsewhere in this program."""
        with self._lock:
            self._crossings.setdefault(crossing.id, crossing)

    def of(self, id: str) -> Crossing:
        """The crossing with an id. Raises ``KeyError`` for one that was never opened here."""
        with self._lock:
            return self._crossings[id]

    def all(self) -> list[Crossing]:
        """All that are open."""
        with self._lock:
            return list(self._crossings.values())
