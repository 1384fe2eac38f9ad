"""What the core tells while it works, and how it is told to pause or stop.

Plain values, one callback.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from dataclasses import dataclass

from fascis.crossing.model.states import State
from fascis.files.errors import Cancelled


@dataclass(frozen=True, slots=True)
class Advanced:
    """Bytes or files were copied or verified, counted for one strand on one destination."""

    strand: int
    copied_bytes: int = 0
    copied_files: int = 0
    verified_bytes: int = 0
    verified_files: int = 0
    destination: int = 0


@dataclass(frozen=True, slots=True)
class Entered:
    """A state was entered: by the crossing, or by one of its destinations alone."""

    state: State
    destination: int | None = None


@dataclass(frozen=True, slots=True)
class Attention:
    """Something needed attention; ``meaning`` says what it means for the files."""

    place: bytes
    drive: str
    meaning: str


@dataclass(frozen=True, slots=True)
class Released:
    """Originals were deleted."""

    files: int
    bytes: int


Event = Advanced | Entered | Attention | Released
Report = Callable[[Event], None]


def silent(_event: Event) -> None:
    """Reports to nobody."""


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
        """True once it was stopped."""
        return self._stopped

    def pause(self) -> None:
        """Holds the work at the next chunk."""
        self.pauses += 1
        self._go.clear()

    def go_on(self) -> None:
        """Lets it go on."""
        self._go.set()

    def stop(self) -> None:
        """Ends the work at the next chunk; what is verified is kept."""
        self._stopped = True
        self._go.set()

    def checkpoint(self) -> None:
        """Called by the work between chunks.

        Raises:
            Cancelled: it was stopped.
        """
        if not self._go.is_set():
            self._go.wait()
        if self._stopped:
            raise Cancelled("Stopped. What is verified is kept; it can go on another day.")
