"""Times of files in nanoseconds since 1970, as stored.

In signed 64 bits, whatever the file system can store. Between 1823 and 2116 a time is exact to the
nanosecond. Outside of that, where 64 bits are not enough for ext4, btrfs, NTFS or exFAT, it is
exact to the second. Stored times sort like the times themselves, and are compared with each other;
copies get the full time, which is read from the file.
"""

from __future__ import annotations

import os
from collections.abc import Sequence

# From here on, a stored time is this plus seconds.
EXACT = 1 << 62
_LAST = (1 << 63) - 1
_SECOND = 10**9


def kept(ns: int) -> int:
    """A time as stored."""
    if -EXACT < ns < EXACT:
        return ns
    if ns > 0:
        return min(EXACT + ns // _SECOND, _LAST)
    return -min(EXACT + -ns // _SECOND, _LAST)


def all_kept(times: list[int]) -> list[int]:
    """Many times as stored."""
    # A loop over them would cost more than everything else a survey does with a time.
    return times if _all_exact(times) else [kept(ns) for ns in times]


def all_whole(times: Sequence[int]) -> Sequence[int]:
    """Many stored times in nanoseconds."""
    return times if _all_exact(times) else [whole(time) for time in times]


def _all_exact(times: Sequence[int]) -> bool:
    return not times or (min(times) > -EXACT and max(times) < EXACT)


def whole(time_kept: int) -> int:
    """A stored time in nanoseconds."""
    if -EXACT < time_kept < EXACT:
        return time_kept
    return (time_kept - EXACT if time_kept > 0 else time_kept + EXACT) * _SECOND


def mtime_of(status: os.stat_result) -> int:
    """When the content was last changed, as stored."""
    return kept(status.st_mtime_ns)


def ctime_of(status: os.stat_result) -> int:
    """When anything of the file was last changed, as stored."""
    return kept(status.st_ctime_ns)
