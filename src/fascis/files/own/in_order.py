"""Doing the same with many things, in order: here and, if there are many, in helpers."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable, Iterator
from typing import Any, Generic, TypeVar

from fascis.files.control import Control
from fascis.files.own.helper import Helper, HelperEnded, helper_count

# Things given to a helper together, and jobs in advance, so that it never waits.
BATCH, _AHEAD = 8, 4
# Starting helpers takes a moment too.
_SECONDS = 0.15
# Seconds to wait for a stopped helper; one that hangs in a drive ends with that.
_END_SECONDS = 0.5

Thing = TypeVar("Thing")
Answer = TypeVar("Answer")


class InOrder(Generic[Thing, Answer]):
    """Does something with things, and returns the results in the order of the things.

    If a helper ends, its work is done in this process.

    Args:
        start: starts a helper; None to use none.
        here: does it in this process.
        answered: turns a helper's answer into the result that ``here`` returns.
        told: values sent with every job.
    """

    def __init__(
        self,
        start: Callable[[], Helper] | None,
        here: Callable[[Thing], Answer],
        answered: Callable[[Thing, Any], Answer],
        control: Control,
        told: tuple[Any, ...] = (),
    ) -> None:
        self._start_one, self._here, self._answered = start, here, answered
        self._control, self._told = control, told
        self._every: list[Helper] = []
        self._starting: list[Helper] = []
        self._helpers: list[Helper] = []
        self._jobs: deque[tuple[Helper | None, list[Thing]]] = deque()
        self._begun, self._given = time.monotonic(), 0

    @property
    def busy(self) -> bool:
        """True if results are still to be taken."""
        return bool(self._jobs)

    @property
    def has_room(self) -> bool:
        """True if more can be given now."""
        return len(self._jobs) < max(1, _AHEAD * len(self._helpers))

    def give(self, job: list[Thing]) -> None:
        """Gives some things, at most ``BATCH``."""
        if len(job) == BATCH:
            self._start()
        self._welcome()
        helper = None
        if self._helpers:
            helper = self._helpers[self._given % len(self._helpers)]
            self._given += 1
            try:
                helper.give((*self._told, job))
            except HelperEnded:
                helper = None
        self._jobs.append((helper, job))

    def take(self) -> Iterator[tuple[Thing, Answer]]:
        """The things that were given first, with their results.

        Raises:
            Cancelled: by the control.
        """
        helper, job = self._jobs.popleft()
        answers = None
        if helper is not None:
            try:
                answers = helper.take(self._control)
            except HelperEnded:
                answers = None
        for number, thing in enumerate(job):
            if self._control.stopped:
                self._control.checkpoint()
            if answers is None:
                yield thing, self._here(thing)
            else:
                yield thing, self._answered(thing, answers[number])

    def close(self) -> None:
        """Stops the helpers, even in the middle of a job."""
        for helper in self._every:
            helper.end()
        for helper in self._every:
            helper.wait(_END_SECONDS)

    def _start(self) -> None:
        if self._start_one is None or self._begun + _SECONDS > time.monotonic():
            return
        # Only once, whether it succeeds or not: it also works without helpers, only slower.
        self._begun = float("inf")
        count = helper_count()
        if count < 2:
            return
        try:
            for _ in range(count):
                helper = self._start_one()
                self._every.append(helper)
                helper.give((*self._told, []))
                self._starting.append(helper)
        except (OSError, HelperEnded):
            return

    def _welcome(self) -> None:
        """Starts using helpers that answered an empty job; until then this process works."""
        for helper in [one for one in self._starting if one.has_answered]:
            self._starting.remove(helper)
            try:
                helper.take(self._control)
            except HelperEnded:
                continue
            self._helpers.append(helper)
