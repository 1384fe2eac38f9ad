"""Times of files in nanoseconds since 1970, as they are kept.

In signed 64 bits, whatever the file system can hold.

Between 1823 and 2116 a time is kept to the nanosecond. Outside of it, where 64 bits end sooner than
what ext4, btrfs, NTFS or exFAT can say, it is kept to the second. What is kept sorts like the times
themselves, and two kept times are compared with each other; copies are given the whole time, which
is read from the file.
"""

from __future__ import annotations

import os

# From here on, a kept time is this and seconds.
EXACT = 1 << 62
_LAST = (1 << 63) - 1
_SECOND = 10**9


def kept(ns: int) -> int:
    """A time as it is kept."""
    if -EXACT < ns < EXACT:
        return ns
    if ns > 0:
        return min(EXACT + ns // _SECOND, _LAST)
    return -min(EXACT + -ns // _SECOND, _LAST)


def all_kept(times: list[int]) -> list[int]:
    """Many times as they are kept."""
    # A loop over them costs more than all else that a survey does with a time.
    if not times or (min(times) > -EXACT and max(times) < EXACT):
        return times
    return [kept(ns) for ns in times]


def whole(time_kept: int) -> int:
    """The time in nanoseconds that was kept."""
    if -EXACT < time_kept < EXACT:
        return time_kept
    return (time_kept - EXACT if time_kept > 0 else time_kept + EXACT) * _SECOND


def mtime_of(status: os.stat_result) -> int:
    """When the content was last changed, as it is kept."""
    return kept(status.st_mtime_ns)


def ctime_of(status: os.stat_result) -> int:
    """When anything of the file was last changed, as it is kept."""
    return kept(status.st_ctime_ns)
