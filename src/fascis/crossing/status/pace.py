"""How fast a crossing is, and when it will be finished, by what was copied and verified so far."""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Callable

from fascis.crossing.model.events import Advanced
from fascis.words.figures import clock
from fascis.words.speech import tr

_WINDOW_SECONDS = 20.0
_LEAST_SECONDS = 1.5


class Pace:
    """Running totals of one destination, and the speed over the last twenty seconds.

    Bytes and seconds.
    """

    def __init__(
        self,
        files: int,
        total: int,
        verified_files: int = 0,
        verified_bytes: int = 0,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self.files, self.total_bytes = files, total
        self.copied_files = self.verified_files = verified_files
        self.copied_bytes = self.verified_bytes = verified_bytes
        self._clock = clock
        self._begun = clock()
        self._recent: deque[tuple[float, int]] = deque([(self._begun, 2 * verified_bytes)])

    def advance(self, event: Advanced) -> None:
        """Takes one event."""
        self.copied_bytes += event.copied_bytes
        self.copied_files += event.copied_files
        self.verified_bytes += event.verified_bytes
        self.verified_files += event.verified_files
        now = self._clock()
        if now - self._recent[-1][0] > 0.2:
            self._recent.append((now, self.copied_bytes + self.verified_bytes))
            while len(self._recent) > 2 and now - self._recent[0][0] > _WINDOW_SECONDS:
                self._recent.popleft()

    def bytes_a_second(self) -> float:
        """Verified bytes a second, while copying and reading back overlap."""
        (t0, b0), (t1, b1) = self._recent[0], self._recent[-1]
        return (b1 - b0) / 2 / (t1 - t0) if t1 > t0 else 0.0

    def seconds_left(self) -> float | None:
        """Seconds until all is verified, or None if not known yet."""
        speed = self.bytes_a_second()
        if speed <= 0 or self._clock() - self._begun < _LEAST_SECONDS:
            return None
        return (2 * self.total_bytes - self.copied_bytes - self.verified_bytes) / 2 / speed

    def ready_at(self) -> float | None:
        """The time of completion, in seconds since 1970, or None."""
        left = self.seconds_left()
        return None if left is None else time.time() + left

    def ready_words(self) -> str:
        """``ready at 22:08``, or empty."""
        at = self.ready_at()
        return "" if at is None else tr("ready at {at}", at=clock(at))
