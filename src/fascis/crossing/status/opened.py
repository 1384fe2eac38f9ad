"""The crossings that one program has open, each once; for its tasks."""

from __future__ import annotations

import threading

from fascis.crossing.crossing import Crossing
from fascis.crossing.status.queue import all_crossings
from fascis.workspace import Workspace


class Opened:
    """Opens journals once, and finds a crossing by its id. Safe to use from several threads.

    A window's thread asks nothing of a crossing, not even its state: that is read from its journal.
    """

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._lock = threading.Lock()
        self._crossings: dict[str, Crossing] = {}

    def look(self) -> list[Crossing]:
        """Opens what is not open yet; gives all, newest first, those that began here before."""
        # Journals are opened without the lock: whoever adds one waits for no drive.
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
        """Takes over a crossing that was begun elsewhere in this program."""
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
