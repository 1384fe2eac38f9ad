"""Progress on standard error: a bar on a terminal, a line every ten seconds elsewhere."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable
from types import TracebackType
from typing import TYPE_CHECKING, Self, TypeVar

from fascis.commands.telling import say
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.events import Advanced, Attention, Entered, Event, Released
from fascis.crossing.status.pace import Pace
from fascis.files.control import Control
from fascis.files.errors import Cancelled
from fascis.files.names import shown
from fascis.files.sizes import counted, duration, number, size

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

_LINE_SECONDS = 10.0
# Seconds; a stop that takes longer hangs in a drive that does not answer.
_PATIENCE = 2.0
T = TypeVar("T")


class Hanging(Cancelled):
    """It was stopped, and a thread still waits in the kernel for a drive that does not answer.

    The program cannot end as usual.
    """


def stoppable(work: Callable[[], T], control: Control) -> T:
    """Does long work so that Ctrl+C stops it at once, even while a drive does not answer.

    Raises:
        Cancelled: it was stopped; :class:`Hanging` when a part of it still waits for a drive.
    """
    outcome: list[T] = []
    trouble: list[BaseException] = []

    def run() -> None:
        try:
            outcome.append(work())
        except BaseException as error:
            trouble.append(error)
        finally:
            ended.set()

    # A join that is interrupted takes the thread for ended, though it is not.
    ended = threading.Event()
    threading.Thread(target=run, name="work", daemon=True).start()
    try:
        while not ended.wait(0.2):
            pass
    except KeyboardInterrupt:
        control.stop()
        if not ended.wait(_PATIENCE):
            raise Hanging(
                "Stopped. A drive is still busy with what was begun. What is verified is kept; "
                "fascis resume goes on."
            ) from None
    if trouble:
        raise trouble[0]
    if not outcome:
        raise Cancelled("Stopped. What is verified is kept; fascis resume goes on.")
    return outcome[0]


def _bar() -> Progress:
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.fields[words]}"))
    return Progress(*columns, console=Console(stderr=True), transient=True)


class Telling:
    """Receives the engine's events, from any of its threads, and tells them."""

    def __init__(self, crossing: Crossing) -> None:
        files, total = crossing.journal.planned()
        self._paces = [Pace(files, total, *d.copies.verified()) for d in crossing.destinations]
        self._said = ""
        self._names = [d.label for d in crossing.destinations]
        self._total = sum(p.total_bytes for p in self._paces)
        self._lock = threading.Lock()
        self._next = time.monotonic() + _LINE_SECONDS
        self._task: TaskID | None = None
        self._progress: Progress | None = None
        if sys.stderr.isatty():
            self._progress = _bar()

    def __enter__(self) -> Self:
        if self._progress:
            self._progress.start()
            self._task = self._progress.add_task("copying", total=max(self._total * 2, 1), words="")
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._progress:
            self._progress.stop()

    def __call__(self, event: Event) -> None:
        """Takes one event."""
        with self._lock:
            if isinstance(event, Advanced):
                self._paces[event.destination].advance(event)
                self._draw()
            elif isinstance(event, Entered):
                several = len(self._names) > 1 and event.destination is not None
                words = event.state.value
                words = (
                    f"{shown(self._names[event.destination or 0])}: {words}" if several else words
                )
                if words != self._said:
                    self._said = words
                    say(words)
            elif isinstance(event, Attention):
                say(f"{shown(event.place)} ({shown(event.drive)}): {event.meaning}.")
            elif isinstance(event, Released) and event.files:
                say(f"deleted {counted(event.files, 'original')}, {size(event.bytes)}")

    def _draw(self) -> None:
        words = "; ".join(
            (f"{shown(name)}: " if len(self._names) > 1 else "")
            + f"{size(p.copied_bytes)} copied, {size(p.verified_bytes)} of {size(p.total_bytes)} "
            f"verified, {number(p.verified_files)} of {counted(p.files, 'file')}, "
            f"{size(p.bytes_a_second())}/s{p.ready_words()}"
            for name, p in zip(self._names, self._paces, strict=True)
        )
        if self._progress and self._task is not None:
            done = sum(p.copied_bytes + p.verified_bytes for p in self._paces)
            self._progress.update(self._task, completed=done, words=words)
        elif time.monotonic() >= self._next:
            self._next = time.monotonic() + _LINE_SECONDS
            say(words)


class Counting:
    """Tells how much of a library was read, of how much, and when it will be done."""

    def __init__(self, name: str) -> None:
        self._name, self._begun = name, time.monotonic()
        self._next = self._begun + _LINE_SECONDS
        self._progress: Progress | None = _bar() if sys.stderr.isatty() else None
        self._task: TaskID | None = None

    def __enter__(self) -> Self:
        if self._progress:
            self._progress.start()
            self._task = self._progress.add_task(self._name, total=None, words="")
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._progress:
            self._progress.stop()

    def __call__(self, files: int, done: int, of: int = 0) -> None:
        """Takes how many files and bytes were read, and of how many bytes."""
        seconds = time.monotonic() - self._begun
        words = f"{counted(files, 'file')}, {size(done)}"
        if of > done and seconds > 2:
            left = (of - done) * seconds / max(done, 1)
            words += f" of {size(of)}, about {duration(left)} left"
        if self._progress and self._task is not None:
            self._progress.update(self._task, completed=done, total=of or None, words=words)
        elif time.monotonic() >= self._next:
            self._next = time.monotonic() + _LINE_SECONDS
            say(f"{self._name}: {words} read")
