"""The processes that copy small files, as the engine sees them.

Two threads of one program wait for each other with every small file; processes do not. Each helper
is started when there is work for it, is handed the two folders as open handles, does one job at a
time (:mod:`fascis.crossing.copying.quick`), and is ended with the run.

A helper that dies, or hangs in a drive, is a fault like others: the job's files are not copied, the
run ends, and a resume makes them anew. Nothing waits for a helper that hangs.
"""

from __future__ import annotations

import logging
import marshal
import os
import queue
import select
import socket
import subprocess
import sys
from multiprocessing.connection import Connection
from typing import Any

from fascis.files.control import Control
from fascis.files.errors import EnvironmentTrouble, told
from fascis.words.speech import tr

_LOG = logging.getLogger(__name__)

MOST = 4
# How long a stop waits at most to be noticed.
_LOOK_SECONDS = 0.1
# For a helper that was ended; one that hangs in a drive ends with that.
_END_SECONDS = 0.5
_ENDED = tr(
    "A part of Fascis that copied small files ended early. What is verified "
    "is kept, and the originals are untouched. Resume continues from there."
)


class Helpers:
    """Some processes that copy between two folders, of which each does one job at a time.

    Args:
        source: the open handle of the folder that files come from.
        destination: the same of the folder that they go to.
        count: how many there are at most.
    """

    def __init__(self, source: int, destination: int, count: int) -> None:
        self._handles = (source, destination)
        self._free: queue.SimpleQueue[_Helper | None] = queue.SimpleQueue()
        for _ in range(count):
            self._free.put(None)  # the right to start one
        self._all: list[_Helper] = []
        self._failed = False

    def do(self, job: tuple[Any, ...], control: Control) -> list[tuple[Any, ...]]:
        """Has a job done; for as many threads at once as there are helpers.

        Raises:
            EnvironmentTrouble: the destination failed, or a helper ended.
            Cancelled: by the control.
        """
        control.checkpoint()
        helper = self._next(control)
        try:
            kind, given = helper.do(job, control)
        except BaseException:
            # With one helper gone the run ends: nobody else may wait for it.
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
                free = self._free.get(timeout=_LOOK_SECONDS)
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
        """Ends them all, whatever they are at."""
        for helper in self._all:
            helper.end()
        for helper in self._all:
            helper.wait(_END_SECONDS)


class _Helper:
    def __init__(self, source: int, destination: int) -> None:
        ours, theirs = socket.socketpair()
        with theirs:
            handles = (theirs.fileno(), source, destination)
            self._process = subprocess.Popen(
                # -P: no module is taken from the folder that the person happens to be in.
                [sys.executable, "-P", "-m", "fascis.crossing.copying.quick", *map(str, handles)],
                pass_fds=handles,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
            )
        self._connection = Connection(ours.detach())
        self._answers = select.poll()
        self._answers.register(self._connection.fileno(), select.POLLIN)

    def do(self, job: tuple[Any, ...], control: Control) -> tuple[str, Any]:
        try:
            self._connection.send_bytes(marshal.dumps(job))
            while not self._answers.poll(1000 * _LOOK_SECONDS):
                if control.stopped:
                    control.checkpoint()
            answer: tuple[str, Any] = marshal.loads(self._connection.recv_bytes())
        except (OSError, EOFError) as error:
            _LOG.info("a helper ended: %s", self._process.poll())
            raise EnvironmentTrouble(_ENDED) from error
        return answer

    def end(self) -> None:
        self._connection.close()
        self._process.kill()

    def wait(self, seconds: float) -> None:
        try:
            self._process.wait(seconds)
        except subprocess.TimeoutExpired:
            # It hangs in a drive: the kernel ends it when that answers, or is taken away.
            return


def helper_count() -> int:
    """How many helpers are worth having: one for each core, and not more than a drive needs."""
    return min(MOST, len(os.sched_getaffinity(0)))
