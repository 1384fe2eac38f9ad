"""Which drives a crossing needs while it runs, and whether it runs now, here or elsewhere."""

from __future__ import annotations

import fcntl
import os

from fascis.crossing.crossing import Crossing


def drives_of(crossing: Crossing) -> set[str]:
    """UUIDs of the drives that take part: the originals' and every required destination's."""
    return {
        crossing.places.header.source_drive.uuid,
        *(d.places.drive.uuid for d in crossing.demanded),
    }


def taking_part(crossing: Crossing, uuid: str) -> bool:
    """True if a drive takes part in a crossing that some program runs now.

    It locks the originals' folder.
    """
    if crossing.finished or uuid not in drives_of(crossing):
        return False
    crossing.places.follow_source(crossing.workspace)
    try:
        fd = os.open(
            crossing.places.origin(), os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC | os.O_NOFOLLOW
        )
    except OSError:
        # Its originals are not there: it cannot be running.
        return False
    try:
        fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        # A file system without locks: not known.
        return False
    finally:
        os.close(fd)
    return False
