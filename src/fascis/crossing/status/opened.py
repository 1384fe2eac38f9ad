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
        with self._lock:
            found, _ = all_crossings(self._workspace, self._crossings)
            new = [c for c in self._crossings.values() if c not in found]
            self._crossings = {c.id: c for c in [*new, *found]}
            return [*new, *found]

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
