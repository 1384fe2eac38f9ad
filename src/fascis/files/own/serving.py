"""The helper's side of :mod:`fascis.files.own.helper`. It imports little: a person waits."""

from __future__ import annotations

import marshal
import os
import signal
import sys
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any

from fascis.files.disk import kernel

_NICE = 5


def serve(answer: Callable[[Any], Any]) -> None:
    """Does the parent's jobs until the parent closes the socket or ends.

    Args:
        answer: returns the answer to a job.
    """
    # The parent handles Ctrl+C, and ends this process when it has stopped.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    kernel.die_with_parent()
    # There are as many of these as cores: the window, and the person's other programs, come first.
    os.nice(_NICE)
    connection = Connection(int(sys.argv[1]))
    while True:
        try:
            job = marshal.loads(connection.recv_bytes())
        except EOFError:
            return
        connection.send_bytes(marshal.dumps(answer(job)))


def own_handle(folder: int) -> int:
    """Replaces a handle from the parent by one of its own.

    A lock on the parent's handle must not survive here when the parent is gone.
    """
    own = os.open(".", os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC, dir_fd=folder)
    os.close(folder)
    return own
