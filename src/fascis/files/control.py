"""Pausing, continuing and stopping work, in one way everywhere."""

from __future__ import annotations

import threading

from fascis.files.errors import Cancelled
from fascis.words.speech import tr


class Control:
    """Pause, go on and stop, from another thread. ``pauses`` counts how often it was paused."""

    def __init__(self) -> None:
        self._go = threading.Event()
        self._go.set()
        self._stopped = False
        self.pauses = 0

    @property
    def paused(self) -> bool:
        """True between pause and go on."""
        return not self._go.is_set()

    @property
    def stopped(self) -> bool:
        """True after it was stopped."""
        return self._stopped

    def pause(self) -> None:
        """Pauses the work at the next chunk."""
        self.pauses += 1
        self._go.clear()

    def go_on(self) -> None:
        """Lets it continue."""
        self._go.set()

    def stop(self) -> None:
        """Ends the work at the next chunk; verified files are kept."""
        self._stopped = True
        self._go.set()

    def checkpoint(self) -> None:
        """Called by the work between chunks.

        Raises:
            Cancelled: it was stopped.
        """
        if not self._go.is_set():
            self._go.wait()
        if self.stopped:
            raise Cancelled(tr("Stopped. What is verified is kept; it can go on another day."))


class Within(Control):
    """For a part of some work: stopped and paused with the whole, or stopped by itself."""

    def __init__(self, whole: Control) -> None:
        super().__init__()
        self._whole = whole

    @property
    def stopped(self) -> bool:
        """True once it, or the whole, was stopped."""
        return self._stopped or self._whole.stopped

    def checkpoint(self) -> None:
        """Called by the work between chunks.

        Raises:
            Cancelled: it, or the whole, was stopped.
        """
        self._whole.checkpoint()
        super().checkpoint()


class _Unstopped(Control):
    """Nobody pauses or stops it."""

    def pause(self) -> None:
        raise AssertionError("this work cannot be paused: it was given no control of its own")

    def stop(self) -> None:
        raise AssertionError("this work cannot be stopped: it was given no control of its own")


UNSTOPPED = _Unstopped()
"""For work that nobody waits for, or that takes a moment."""
