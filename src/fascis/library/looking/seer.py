"""A helper that sees folders: ``python -m fascis.library.looking.seer SOCKET``."""

from __future__ import annotations

import marshal
import os
import signal
import sys
from multiprocessing.connection import Connection

from fascis.files.disk import kernel
from fascis.library.looking.seeing import Eyes
from fascis.library.looking.seers import answers

_NICE = 5


def main() -> None:
    """Does the parent's jobs until it closes the socket, or ends."""
    # Ctrl+C is the parent's to handle; it ends this process when it has stopped.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    kernel.die_with_parent()
    # The window, and whatever else a person works with, comes first.
    os.nice(_NICE)
    connection = Connection(int(sys.argv[1]))
    eyes: dict[tuple[int, int | None], Eyes] = {}
    while True:
        try:
            device, mount, job = marshal.loads(connection.recv_bytes())
        except EOFError:
            return
        mine = eyes.setdefault((device, mount), Eyes(device, mount))
        connection.send_bytes(marshal.dumps(answers(mine, job)))


if __name__ == "__main__":
    main()
