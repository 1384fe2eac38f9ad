"""The kind of file at a path, without following a link."""

from __future__ import annotations

import os
import stat


def is_file(path: bytes) -> bool:
    """True for a regular file; False if it cannot be accessed, or the path is invalid."""
    try:
        return stat.S_ISREG(os.lstat(path).st_mode)
    except (OSError, ValueError):
        return False
