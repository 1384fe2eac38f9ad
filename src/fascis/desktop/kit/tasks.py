"""Long work outside the interface thread: a function goes in, a result comes out.

Exceptions are returned as values.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from functools import cache, partial
from pathlib import Path
from typing import Any

from PyQt6 import sip
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from fascis.crossing.model.events import Advanced, Event
from fascis.files.errors import FascisError
from fascis.files.own.unexpected import told_unexpected

# Where unexpected errors are stored; the window sets it.
reports: Path | None = None


class _Letters(QObject):
    """Passes calls from any thread to the window's."""

    posted = pyqtSignal(object, object)

    def __init__(self) -> None:
        super().__init__()
        self.posted.connect(self._open)

    def _open(self, owner: QObject, call: Callable[[], object]) -> None:
        if not sip.isdeleted(owner):
            call()


@cache
def _letters() -> _Letters:
    # It has no parent, and is never deleted: a thread may use it while a window is being closed,
    # and using a deleted object from another thread crashes the program.
    return _Letters()


def post(owner: QObject, call: Callable[[], object]) -> None:
    """Has a function called in the window's thread, from any thread.

    Nothing is called if ``owner`` is gone by then, or the whole program is ending.
    """
    letters = _letters()
    if not sip.isdeleted(letters):
        letters.posted.emit(owner, call)


class Task(QObject):
    """One long task in a thread of its own; ``then`` gets its result or its exception."""

    def __init__(
        self, work: Callable[[], Any], then: Callable[[Any], None], parent: QObject
    ) -> None:
        super().__init__(parent)
        # Made in the window's thread, which receives the calls.
        _letters()
        self._work, self._then = work, then
        self.thread_ = threading.Thread(target=self._run, daemon=True)
        self.thread_.start()

    def _end(self, outcome: Any) -> None:
        self._then(outcome)
        self.deleteLater()

    def _run(self) -> None:
        try:
            outcome: Any = self._work()
        except (FascisError, OSError) as error:
            outcome = error
        except Exception as error:
            outcome = told_unexpected(error, reports) if reports else error
        except BaseException as error:
            outcome = error
        post(self, partial(self._end, outcome))


class Coalescer(QObject):
    """Collects events of any thread for the window, which gets them at most 20 times a second."""

    batch = pyqtSignal(list)
    MILLISECONDS = 50

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._lock = threading.Lock()
        self._events: list[Event] = []
        self._advanced: dict[tuple[int, int], list[int]] = {}
        self._timer = QTimer(self)
        self._timer.setInterval(self.MILLISECONDS)
        self._timer.timeout.connect(self.flush)

    def start(self) -> None:
        """Starts passing events on."""
        self._timer.start()

    def stop(self) -> None:
        """Passes the rest on and stops."""
        self._timer.stop()
        self.flush()

    def take(self, event: Event) -> None:
        """Takes one event, from any thread."""
        with self._lock:
            if isinstance(event, Advanced):
                sums = self._advanced.setdefault((event.strand, event.destination), [0, 0, 0, 0])
                for i, v in enumerate(
                    (
                        event.copied_bytes,
                        event.copied_files,
                        event.verified_bytes,
                        event.verified_files,
                    )
                ):
                    sums[i] += v
            else:
                self._events.append(event)

    def flush(self) -> None:
        """Passes on what has arrived; the last value is always delivered."""
        with self._lock:
            events: list[Event] = [
                Advanced(strand, s[0], s[1], s[2], s[3], on)
                for (strand, on), s in self._advanced.items()
            ]
            events += self._events
            self._events, self._advanced = [], {}
        if events:
            self.batch.emit(events)
