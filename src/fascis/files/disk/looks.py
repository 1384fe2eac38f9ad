"""What lies at a path, without following a link."""

from __future__ import annotations

import os
import stat


def is_file(path: bytes) -> bool:
    """True for a regular file; not for what cannot be looked at, or is no path at all."""
    try:
        return stat.S_ISREG(os.lstat(path).st_mode)
    except (OSError, ValueError):
        return False
