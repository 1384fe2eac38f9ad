"""Fascis's own folders on this machine: journals, register, private copies.

Only the person can read them.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path


def make_private(folder: Path) -> None:
    """Makes a folder, and those above it, that only the person can read, whatever the umask.

    An existing one is changed accordingly.

    Raises:
        OSError: it cannot be made.
    """
    missing = [folder]
    while not missing[-1].parent.exists():
        missing.append(missing[-1].parent)
    for each in reversed(missing):
        each.mkdir(mode=0o700, exist_ok=True)
    status = os.stat(folder)
    if stat.S_IMODE(status.st_mode) & 0o077 and status.st_uid == os.geteuid():
        folder.chmod(0o700)
