"""Small folders of our own on a drive, for testing and measuring it.

Leftovers of programs that were killed are removed. Such a folder has a unique name, and is locked
while it is used (flock(2)); one without a lock is a leftover. Only empty files, links, and files
from measuring are deleted in it; anything else stays, and the folder too.
"""

from __future__ import annotations

import fcntl
import os
import re
import secrets
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from fascis.files.disk.door import Proven
from fascis.files.disk.medium import Medium
from fascis.files.names import join

ASKS, MEASURES = b".fascis-asks-", b".fascis-measures-"
MEASURED = b"measure"
_OURS = re.compile(rb"\.fascis-(asks|measures)-[0-9a-f]{8}\Z")


@contextmanager
def own_folder(medium: Medium, prefix: bytes) -> Iterator[bytes]:
    """A new folder of our own, removed at the end with our files in it.

    Leftovers are removed first.

    Raises:
        OSError: it cannot be made.
    """
    clear_leftovers(medium)
    folder = prefix + secrets.token_hex(4).encode()
    medium.make_folder(folder)
    held = _hold(medium, folder)
    try:
        yield folder
    finally:
        _clear(medium, folder)
        if held is not None:
            os.close(held)


def clear_leftovers(medium: Medium) -> None:
    """Removes leftovers of killed programs in the folder of a medium."""
    try:
        names = [n for n in medium.names(b"") if _OURS.match(n)]
    except OSError:
        # The next user of that folder reports it.
        return
    for name in names:
        if (held := _hold(medium, name)) is not None:
            _clear(medium, name)
            os.close(held)


def _hold(medium: Medium, folder: bytes) -> int | None:
    """A handle that locks a folder, or None if another program has it locked."""
    try:
        fd = os.open(
            folder,
            os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC,
            dir_fd=medium.handle,
        )
    except OSError:
        return None
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        os.close(fd)
        return None
    return fd


def _clear(medium: Medium, folder: bytes) -> None:
    with suppress(OSError):
        for name in medium.names(folder):
            # Files that cannot be removed stay, and the folder too.
            with suppress(OSError):
                status = medium.status(join(folder, name))
                ours = name == MEASURED and folder.startswith(MEASURES)
                if stat.S_ISLNK(status.st_mode) or (
                    stat.S_ISREG(status.st_mode) and (ours or not status.st_size)
                ):
                    medium.unlink(join(folder, name), Proven.by(status, stable=False))
        medium.remove_folder(folder)
