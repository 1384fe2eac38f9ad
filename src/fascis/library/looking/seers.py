"""Who sees the folders: this process, and where there are many of them, helpers too."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterator, Sequence

from fascis.files.control import Control
from fascis.files.own.helper import Helper, HelperEnded, helper_count
from fascis.library.looking.seeing import Answer, Eyes, Seen

# Folders that are given to a helper together; it has two such jobs, so that it never waits.
BATCH, _AHEAD = 32, 2
# Starting helpers takes a moment too.
_SECONDS = 0.3
# For a helper that was ended; one that hangs in a drive ends with that.
_END_SECONDS = 0.5
_MODULE = "fascis.library.looking.seer"

Job = list[tuple[bytes, int]]


class Seers:
    """Sees folders in the order in which they are given.

    A helper that is gone is done without: what it was to see is seen here.

    Args:
        device, mount: of what is looked at, see :class:`fascis.library.looking.seeing.Eyes`.
    """

    def __init__(self, device: int, mount: int | None, control: Control) -> None:
        self.eyes = Eyes(device, mount)
        self._below, self._control = (device, mount), control
        self._helpers: list[Helper] = []
        self._jobs: deque[tuple[Helper | None, Job]] = deque()
        self._begun, self._given = time.monotonic(), 0

    @property
    def busy(self) -> bool:
        """True when answers are still to be taken."""
        return bool(self._jobs)

    @property
    def has_room(self) -> bool:
        """True when more may be given now."""
        return len(self._jobs) < max(1, _AHEAD * len(self._helpers))

    def give(self, job: Job) -> None:
        """Gives folders to be seen, each with the time for which it is known."""
        if not self._helpers and len(job) == BATCH:
            self._start()
        helper = None
        if self._helpers:
            helper = self._helpers[self._given % len(self._helpers)]
            self._given += 1
            try:
                helper.give((*self._below, job))
            except HelperEnded:
                helper = None
        self._jobs.append((helper, job))

    def take(self) -> Iterator[tuple[bytes, Answer]]:
        """The folders that were given first, and what they are.

        Raises:
            Cancelled: by the control.
        """
        helper, job = self._jobs.popleft()
        rows = None
        if helper is not None:
            try:
                rows = helper.take(self._control)
            except HelperEnded:
                rows = None
        for n, (path, known) in enumerate(job):
            self._control.checkpoint()
            if rows is None:
                yield path, self.eyes.see(path, known)
            else:
                kind, mtime_ns, packed = rows[n]
                yield path, (kind, mtime_ns, Seen(path, mtime_ns, *packed) if packed else None)

    def close(self) -> None:
        """Ends the helpers, whatever they are at."""
        for helper in self._helpers:
            helper.end()
        for helper in self._helpers:
            helper.wait(_END_SECONDS)

    def _start(self) -> None:
        count = helper_count()
        if count < 2 or time.monotonic() - self._begun < _SECONDS:
            return
        try:
            for _ in range(count):
                self._helpers.append(Helper(_MODULE))
        except OSError:
            # No more processes can be started: it is slower without them, and right.
            self._begun = float("inf")


def answers(eyes: Eyes, job: Sequence[tuple[bytes, int]]) -> list[tuple[int, int, object]]:
    """What a helper answers to a job."""
    found = [eyes.see(path, known) for path, known in job]
    return [(kind, mtime, seen.packed() if seen else None) for kind, mtime, seen in found]
