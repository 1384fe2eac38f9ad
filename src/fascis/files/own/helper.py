"""A helper process that does jobs, because two threads of one program wait for each other."""

from __future__ import annotations

import logging
import marshal
import os
import select
import socket
import subprocess
import sys
from multiprocessing.connection import Connection
from typing import Any

from fascis.files.control import Control

_LOG = logging.getLogger(__name__)

MOST = 4
# Seconds until a stop is noticed.
LOOK_SECONDS = 0.1


class HelperEnded(Exception):
    """It died, or was stopped, before it answered."""


class Helper:
    """A module that runs as a program, answers jobs over a socket, and ends with it.

    Args:
        module: it gets the number of its socket, then those of ``handles``, as arguments.
        handles: open handles, which keep their numbers there.
    """

    def __init__(self, module: str, *handles: int) -> None:
        ours, theirs = socket.socketpair()
        with theirs:
            passed = (theirs.fileno(), *handles)
            self._process = subprocess.Popen(
                # -P: no module is imported from the current folder.
                [sys.executable, "-P", "-m", module, *map(str, passed)],
                pass_fds=passed,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
            )
        self._connection = Connection(ours.detach())
        self._answers = select.poll()
        self._answers.register(self._connection.fileno(), select.POLLIN)

    def give(self, job: Any) -> None:
        """Gives it a job; several wait in order.

        Raises:
            HelperEnded: it is gone.
        """
        try:
            self._connection.send_bytes(marshal.dumps(job))
        except OSError as error:
            raise HelperEnded from error

    def take(self, control: Control) -> Any:
        """The answer to the first job without one.

        Raises:
            HelperEnded: it is gone.
            Cancelled: by the control.
        """
        try:
            while not self._answers.poll(1000 * LOOK_SECONDS):
                if control.stopped:
                    control.checkpoint()
            return marshal.loads(self._connection.recv_bytes())
        except (OSError, EOFError) as error:
            _LOG.info("a helper ended: %s", self._process.poll())
            raise HelperEnded from error

    @property
    def has_answered(self) -> bool:
        """True if an answer can be taken without waiting, or if it ended."""
        return bool(self._answers.poll(0))

    def end(self) -> None:
        """Stops it, even in the middle of a job."""
        self._connection.close()
        self._process.kill()

    def wait(self, seconds: float) -> None:
        """Waits for its end; one that hangs in a drive ends with that."""
        try:
            self._process.wait(seconds)
        except subprocess.TimeoutExpired:
            return


def helper_count() -> int:
    """How many helpers are useful: one for each core, and not more than a drive needs."""
    return min(MOST, len(os.sched_getaffinity(0)))
