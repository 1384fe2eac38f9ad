"""Long work on the command line: it can be stopped, and reports its progress.

On a terminal with a bar, otherwise with a line every ten seconds.
"""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable
from types import TracebackType
from typing import TYPE_CHECKING, Self, TypeVar

from fascis.commands.telling import say
from fascis.files.control import Control
from fascis.files.errors import Cancelled
from fascis.words.figures import duration, size
from fascis.words.speech import tr, trn

if TYPE_CHECKING:
    from rich.progress import Progress, TaskID

LINE_SECONDS = 10.0
# Seconds. If a stop takes longer, a drive is not answering.
_PATIENCE = 2.0
T = TypeVar("T")


class Hanging(Cancelled):
    """Stopped, while a thread still waits in the kernel for a drive that does not answer.

    The program cannot exit normally.
    """


def stoppable(work: Callable[[], T], control: Control) -> T:
    """Runs long work so that Ctrl+C stops it at once, even if a drive does not answer.

    Raises:
        Cancelled: it was stopped; :class:`Hanging` if a part of it still waits for a drive.
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

    # After an interrupted join the thread looks finished, although it is not.
    ended = threading.Event()
    threading.Thread(target=run, name="work", daemon=True).start()
    try:
        while not ended.wait(0.2):
            pass
    except KeyboardInterrupt:
        control.stop()
        if not ended.wait(_PATIENCE):
            raise Hanging(
                tr(
                    "Stopped. A drive is still busy with what was begun. What is verified is "
                    "kept; fascis resume goes on."
                )
            ) from None
    if trouble:
        raise trouble[0]
    if not outcome:
        raise Cancelled(tr("Stopped. What is verified is kept; fascis resume goes on."))
    return outcome[0]


class Saying:
    """Shows progress: on a terminal as a bar that disappears at the end, otherwise as lines.

    Args:
        name: shown before each line, and beside the bar.
        total: how much there is to do, if known.
    """

    def __init__(self, name: str = "", total: int | None = None) -> None:
        self._name, self._total, self._begun = name, total, time.monotonic()
        self._next = self._begun + LINE_SECONDS
        self._progress: Progress | None = None
        self._task: TaskID | None = None

    def __enter__(self) -> Self:
        if sys.stderr.isatty():
            self._progress = _bar()
            self._progress.start()
            self._task = self._progress.add_task(self._name, total=self._total, words="")
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._progress:
            self._progress.stop()

    @property
    def due(self) -> bool:
        """False while what is told would not be shown: a line comes every ten seconds."""
        return self._progress is not None or time.monotonic() >= self._next

    def tell(self, words: str, done: int = 0, total: int | None = None) -> None:
        """Takes the name of the current step, and how much of how much is done."""
        if self._progress and self._task is not None:
            of = self._total if total is None else total
            self._progress.update(self._task, completed=done, total=of, words=words)
        elif self.due:
            self._next = time.monotonic() + LINE_SECONDS
            say(f"{self._name}: {words}" if self._name else words)


def _bar() -> Progress:
    from rich.console import Console
    from rich.progress import BarColumn, Progress, TextColumn

    columns = (TextColumn("{task.description}"), BarColumn(), TextColumn("{task.fields[words]}"))
    return Progress(*columns, console=Console(stderr=True), transient=True)


class Counting(Saying):
    """Shows how much of a library was read, of how much, and when it will be finished."""

    def __call__(self, files: int, done: int, of: int = 0) -> None:
        """Takes how many files and bytes were read, and of how many bytes."""
        if not self.due:
            return
        seconds = time.monotonic() - self._begun
        if of > done and seconds > 2:
            words = trn(
                "{n} file read, {size} of {of}, about {left} left",
                "{n} files read, {size} of {of}, about {left} left",
                files,
                size=size(done),
                of=size(of),
                left=duration((of - done) * seconds / max(done, 1)),
            )
        else:
            words = trn("{n} file read, {size}", "{n} files read, {size}", files, size=size(done))
        self.tell(words, done, of or None)
