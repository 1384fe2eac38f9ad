"""Asking a mounted drive without waiting for ever.

A user-space driver or a share may stop answering.
"""

from __future__ import annotations

import os
import stat
import threading

PATIENCE = 1.5  # seconds
# Those that still wait in the kernel: asked once, not again and again.
_asked: dict[str, threading.Thread] = {}
_lock = threading.Lock()


def space_of(where: str, may_hang: bool) -> os.statvfs_result | None:
    """The space of the file system mounted at a folder.

    None when it is no folder, or may not be asked.

    Args:
        may_hang: it is driven by a program, or lies beyond a network.

    Raises:
        TimeoutError: it does not answer.
    """
    if not may_hang:
        return _ask(where)
    with _lock:
        if (before := _asked.get(where)) is not None and before.is_alive():
            raise TimeoutError(f"{where} does not answer")
        answer: list[os.statvfs_result | None] = []
        thread = threading.Thread(
            target=lambda: answer.append(_ask(where)), name="ask", daemon=True
        )
        _asked[where] = thread
        thread.start()
    thread.join(PATIENCE)
    if not answer:
        raise TimeoutError(f"{where} does not answer")
    return answer[0]


def _ask(where: str) -> os.statvfs_result | None:
    try:
        return os.statvfs(where) if stat.S_ISDIR(os.stat(where).st_mode) else None
    except OSError:
        return None
