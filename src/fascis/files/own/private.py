"""Fascis's own folders on this machine: journals, register, private copies.

Only the person can read them.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

from fascis.files.errors import told
from fascis.words.speech import tr


def make_private(folder: Path) -> None:
    """Makes a folder, and those above it, that only the person can read, whatever the umask.

    An existing one is changed accordingly.

    Raises:
        EnvironmentTrouble: it cannot be made.
    """
    try:
        _make(folder)
    except OSError as error:
        trouble = told(error, tr("make Fascis's own folder"), os.fsencode(folder))
        words = f"{trouble} {tr('No library, photo or clip is affected.')}"
        raise type(trouble)(words, trouble.place, trouble.errno) from error


def _make(folder: Path) -> None:
    if not folder.is_dir():
        missing = [folder]
        while not missing[-1].parent.exists():
            missing.append(missing[-1].parent)
        for each in reversed(missing):
            each.mkdir(mode=0o700, exist_ok=True)
    status = os.stat(folder)
    if stat.S_IMODE(status.st_mode) & 0o077 and status.st_uid == os.geteuid():
        folder.chmod(0o700)
