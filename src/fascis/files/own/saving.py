"""Saving something under a name that a person chose: a receipt's page, a report."""

from __future__ import annotations

import os
from pathlib import Path

from fascis.files.errors import told
from fascis.words.speech import tr


def write_over(path: Path, content: bytes) -> None:
    """Writes a file that a person named and agreed to replace.

    Raises:
        EnvironmentTrouble: it cannot be written there.
    """
    _write(path, content, os.O_TRUNC)


def write_new(path: Path, content: bytes) -> None:
    """Writes a file that a person named; an existing one is kept.

    Raises:
        EnvironmentTrouble: it cannot be written there, or something has that name.
    """
    _write(path, content, os.O_EXCL)


def _write(path: Path, content: bytes, how: int) -> None:
    try:
        fd = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_CLOEXEC | how, 0o644)
        with os.fdopen(fd, "wb") as out:
            out.write(content)
    except OSError as error:
        raise told(error, tr("write"), os.fsencode(path)) from error
