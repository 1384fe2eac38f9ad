"""Two steps for each batch, the second in a thread of its own, one batch behind."""

from __future__ import annotations

import queue
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, wait
from contextlib import suppress
from typing import TypeVar

T = TypeVar("T")
# Seconds until a failure of the other side is noticed.
_LOOK_SECONDS = 0.1


def in_pipeline(made: Iterator[T], finish: Callable[[T], None]) -> None:
    """Makes batches here, and finishes each while the next is made.

    Raises:
        BaseException: what making, or else finishing, raised; what was made by then is finished.
    """
    handed: queue.Queue[T | None] = queue.Queue(maxsize=1)
    failure: list[BaseException] = []

    def finish_all() -> None:
        try:
            while (batch := handed.get()) is not None:
                finish(batch)
        except BaseException as error:
            failure.append(error)

    finisher = threading.Thread(target=finish_all, name="verify")
    finisher.start()
    try:
        for batch in made:
            if not _hand(handed, batch, finisher):
                break
    finally:
        _hand(handed, None, finisher)
        finisher.join()
    if failure:
        raise failure[0]


def _hand(handed: queue.Queue[T | None], batch: T | None, finisher: threading.Thread) -> bool:
    """Waits until a batch is taken; False if nobody takes any more."""
    while finisher.is_alive():
        try:
            handed.put(batch, timeout=_LOOK_SECONDS)
        except queue.Full:
            continue
        return True
    return False


def gathered(results: Sequence[Future[list[T]]]) -> list[T]:
    """The results of all of them when all have ended, or the first error."""
    wait(results)
    return [one for result in results for one in result.result()]


def ended_in_time(work: Callable[[], None], seconds: float = 1.5) -> bool:
    """Does something that may hang in a drive; True if it succeeded soon.

    After a stop nothing waits longer for a drive than a person would.
    """
    ended: list[bool] = []

    def run() -> None:
        # The next run finds whatever failed.
        with suppress(Exception):
            work()
            ended.append(True)

    thread = threading.Thread(target=run, name="flush", daemon=True)
    thread.start()
    thread.join(seconds)
    return bool(ended)
