"""The processes that copy small files, as the engine uses them.

Two threads of one program wait for each other with every small file; processes do not. Each helper
is started when there is work, gets the two folders as open handles, does one job at a time
(:mod:`fascis.crossing.copying.quick`), and ends with the run.

A helper that dies, or hangs in a drive, is handled like other faults: the job's files are not
copied, the run ends, and a resume copies them. Nothing waits for a helper that hangs.
"""

from __future__ import annotations

import queue
from typing import Any

from fascis.files.control import Control
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.own.helper import LOOK_SECONDS, Helper, HelperEnded
from fascis.words.speech import tr

# Seconds to wait for a stopped helper; one that hangs in a drive ends with that.
_END_SECONDS = 0.5
_ENDED = tr(
    "A part of Fascis that copied small files ended early. What is verified "
    "is kept, and the originals are untouched. Resume continues from there."
)


class Helpers:
    """Processes that copy between two folders; each does one job at a time.

    Args:
        source: the open handle of the source folder.
        destination: the open handle of the destination folder.
        count: how many there are at most.
    """

    def __init__(self, source: int, destination: int, count: int) -> None:
        self._handles = (source, destination)
        self._free: queue.SimpleQueue[_Helper | None] = queue.SimpleQueue()
        for _ in range(count):
            self._free.put(None)  # The right to start one.
        self._all: list[_Helper] = []
        self._failed = False

    def do(self, job: tuple[Any, ...], control: Control) -> list[tuple[Any, ...]]:
        """Has a job done, for as many threads at once as there are helpers.

        Raises:
            EnvironmentTrouble: the destination failed, or a helper ended.
            Cancelled: by the control.
        """
        control.checkpoint()
        helper = self._next(control)
        try:
            kind, given = helper.do(job, control)
        except BaseException:
            # With one helper gone the run ends: no other thread may wait for it.
            self._failed = True
            raise
        self._free.put(helper)
        if kind == "failed":
            number, words, place = given
            raise told(OSError(number, words), tr("write"), place)
        rows: list[tuple[Any, ...]] = given
        return rows

    def _next(self, control: Control) -> _Helper:
        while not self._failed:
            try:
                free = self._free.get(timeout=LOOK_SECONDS)
            except queue.Empty:
                if control.stopped:
                    control.checkpoint()
                continue
            if free is None:
                free = _Helper(*self._handles)
                self._all.append(free)
            return free
        raise EnvironmentTrouble(_ENDED)

    def close(self) -> None:
        """Stops all of them, even in the middle of a job."""
        for helper in self._all:
            helper.end()
        for helper in self._all:
            helper.wait(_END_SECONDS)


class _Helper(Helper):
    def __init__(self, source: int, destination: int) -> None:
        super().__init__("fascis.crossing.copying.quick", source, destination)

    def do(self, job: tuple[Any, ...], control: Control) -> tuple[str, Any]:
        try:
            self.give(job)
            answer: tuple[str, Any] = self.take(control)
        except HelperEnded as error:
            raise EnvironmentTrouble(_ENDED) from error
        return answer
