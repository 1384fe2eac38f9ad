"""How a file or a copy looked, and whether it is still the same.

Sizes in bytes, times in ns.
"""

from __future__ import annotations

import os
from enum import Enum
from typing import NamedTuple

from msgspec import Struct

from fascis.drives.rules import Rules
from fascis.files.times import ctime_of, mtime_of


def inode_key(inode: int) -> int:
    """An inode number that SQLite can store: 63 bits."""
    return inode & 0x7FFF_FFFF_FFFF_FFFF


class CopySeen(NamedTuple):
    """How a copy looked when it was verified.

    ``ctime_ns`` is None in older journals.
    """

    size: int
    mtime_ns: int
    inode: int
    ctime_ns: int | None = None


class Fidelity(Struct):
    """What the destination can keep, and whether owners are kept (only root can)."""

    modes: bool
    attributes: bool
    holes: bool
    owner: bool
    links: bool = True
    stable_inodes: bool = True
    keeps_ctime: bool = True


def seen_of(s: os.stat_result) -> tuple[int, int, int, int]:
    """What identifies a source file's content: size, mtime, ctime, inode."""
    return s.st_size, mtime_of(s), ctime_of(s), inode_key(s.st_ino)


def copy_seen_of(s: os.stat_result) -> CopySeen:
    """What identifies a copy, as its drive gave it back."""
    return CopySeen(s.st_size, mtime_of(s), inode_key(s.st_ino), ctime_of(s))


class Look(Enum):
    """The result of checking a copy without reading it."""

    # Nothing touched it since it was verified.
    SAME = "same"
    # Size and time are the same; only reading shows whether the content is.
    TOUCHED = "touched"
    # It is another file, or was changed.
    OTHER = "other"


def look_at_copy(recorded: CopySeen | None, s: os.stat_result, keeps: Rules | Fidelity) -> Look:
    """Compares a copy with how it looked when it was verified.

    A program can restore a changed file's size and time, but not its change time. That one also
    changes when a name of the file is added, removed or changed, and some drives do not keep it:
    then the copy must be read.
    """
    if recorded is None or (s.st_size, mtime_of(s)) != (recorded.size, recorded.mtime_ns):
        return Look.OTHER
    if keeps.stable_inodes and inode_key(s.st_ino) != recorded.inode:
        return Look.OTHER
    return Look.SAME if keeps.keeps_ctime and ctime_of(s) == recorded.ctime_ns else Look.TOUCHED
