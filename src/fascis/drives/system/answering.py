"""Testing a mounted drive without waiting for ever.

A user-space driver or a share may stop answering.
"""

from __future__ import annotations

import os
import stat
import threading
import time

from fascis.words.speech import tr

PATIENCE = 1.5  # seconds


class _Asking:
    """One request to a drive, in a thread of its own, for everyone who waits."""

    def __init__(self, where: str) -> None:
        self.answers: list[os.statvfs_result | None] = []
        self._until = time.monotonic() + PATIENCE
        self._thread = threading.Thread(
            target=lambda: self.answers.append(_ask(where)), name="ask", daemon=True
        )
        self._thread.start()

    @property
    def goes_on(self) -> bool:
        """True while it waits for its answer."""
        return self._thread.is_alive()

    def wait(self) -> None:
        """Waits for the answer as long as allowed, for any number of callers."""
        self._thread.join(max(0.0, self._until - time.monotonic()))


# Those that still wait in the kernel: one request each, not several.
_asked: dict[str, _Asking] = {}
_lock = threading.Lock()


def space_of(where: str, may_hang: bool) -> os.statvfs_result | None:
    """The space of the file system mounted at a folder.

    None if it is not a folder, or cannot be read.

    Args:
        may_hang: it has a user-space driver, or is on a network.

    Raises:
        TimeoutError: it does not answer.
    """
    if not may_hang:
        return _ask(where)
    with _lock:
        asking = _asked.get(where)
        if asking is None or not asking.goes_on:
            asking = _asked[where] = _Asking(where)
    asking.wait()
    if not asking.answers:
        raise TimeoutError(tr("{where} does not answer", where=where))
    return asking.answers[0]


def _ask(where: str) -> os.statvfs_result | None:
    try:
        return os.statvfs(where) if stat.S_ISDIR(os.stat(where).st_mode) else None
    except OSError:
        return None
