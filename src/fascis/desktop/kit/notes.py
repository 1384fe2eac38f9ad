"""Short notes beside drives.

Renamed, mounted, a library recognised, something new at an old place. Pure.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence

from fascis.crossing.status.old_place import Begun
from fascis.files.names import elided, shown
from fascis.library.known.shelves import Shelf
from fascis.words.speech import tr, trn

# Seconds for which news of a drive stays beside it.
STAYS = 90.0
_MOST = 40


class Notes:
    """The notes beside each drive, and their duration."""

    def __init__(self, clock: Callable[[], float] = time.monotonic) -> None:
        self._clock = clock
        self._news: dict[str, tuple[str, str, float]] = {}
        self._lasting: dict[str, tuple[str, str]] = {}

    def look(self, before: Sequence[Shelf], now: Sequence[Shelf], begun: Sequence[Begun]) -> None:
        """Compares the earlier and the present shelves; the first time nothing counts as new."""
        usable = {s.drive.uuid for s in before if s.drive.connected}
        for shelf in now:
            uuid = shelf.drive.uuid
            if shelf.back is not None and shelf.drive.connected:
                self._tell(uuid, *_back(shelf))
            elif before and shelf.drive.connected and uuid not in usable:
                self._tell(uuid, "Back." if shelf.standings else "Connected.", _brings(shelf))
            elif not shelf.drive.connected:
                self._news.pop(uuid, None)
        self._lasting = {s.drive.uuid: _new_at(b) for b in begun for s in now if _on(b, s)}
        for shelf in now:
            if shelf.used:
                words = trn(
                    "{n} file that libraries here use is on it",
                    "{n} files that libraries here use are on it",
                    shelf.used,
                )
                self._lasting[shelf.drive.uuid] = "", words
            if new := [s for s in shelf.standings if s.offered]:
                names = ", ".join(elided(shown(s.name), _MOST) for s in new[:2])
                self._lasting.setdefault(
                    shelf.drive.uuid,
                    (trn("{n} library new here.", "{n} libraries new here.", len(new)), names),
                )

    def _tell(self, uuid: str, bold: str, quiet: str) -> None:
        self._news[uuid] = bold, quiet, self._clock()

    def shown(self) -> dict[str, tuple[str, str]]:
        """The present notes, by the drive's UUID."""
        now = self._clock()
        self._news = {u: n for u, n in self._news.items() if now - n[2] < STAYS}
        return {**self._lasting, **{u: (bold, quiet) for u, (bold, quiet, _) in self._news.items()}}


def _back(shelf: Shelf) -> tuple[str, str]:
    assert shelf.back
    label, mount = shown(shelf.back.label), shown(str(shelf.back.mount))
    if shelf.back.label != shelf.drive.label:
        return tr("Known again: it was called {label}.", label=elided(label, _MOST)), _brings(shelf)
    return tr("Known again, at another place."), tr(
        "It was at {mount}. {brings}", mount=elided(mount, 60), brings=_brings(shelf)
    )


def _brings(shelf: Shelf) -> str:
    known = [s for s in shelf.standings if not s.offered]
    if not known:
        return ""
    return trn("{n} library on it is known.", "{n} libraries on it are known.", len(known))


def _on(begun: Begun, shelf: Shelf) -> bool:
    return (
        shelf.drive.connected
        and begun.path.is_relative_to(shelf.drive.mount)
        and str(shelf.drive.mount) != "/"
    )


def _new_at(begun: Begun) -> tuple[str, str]:
    bold = tr("There is something new where {name} was.", name=elided(shown(begun.name), _MOST))
    return bold, tr(
        "Its home is {home_drive}; open it from there.",
        home_drive=elided(shown(begun.home_drive), _MOST),
    )
