"""Walking a folder by handles: no link is followed, no mount point crossed; names are bytes."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator
from operator import itemgetter

from msgspec import Struct, field

from fascis.files.disk import kernel
from fascis.files.disk.beneath import open_folder
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.names import STAGING, join
from fascis.words.speech import tr

_MODE = itemgetter(stat.ST_MODE)


class Folder(Struct):
    """What lies directly in one folder.

    Parallel lists of names and their status, folders listed apart.

    ``place`` is relative to the root; ``mounts`` are names of what is mounted here, bind mounts
    too: that is not entered. ``subvolumes`` are those of the folders that are parts of the same
    file system with a device number of their own (btrfs): they are folders like others.
    """

    place: bytes
    status: os.stat_result
    names: list[bytes]
    stats: list[os.stat_result]
    folders: list[bytes]
    mounts: list[bytes]
    subvolumes: list[bytes] = field(default_factory=list)


def walk(
    root_fd: int, on_trouble: Callable[[EnvironmentTrouble], None] | None = None
) -> Iterator[Folder]:
    """Returns every folder below the handle, parents before children, in the order of names.

    Args:
        root_fd: an open folder; stays open.
        on_trouble: called for each folder that cannot be listed; without it the first one is
            raised.
    """
    device, mount = os.fstat(root_fd).st_dev, kernel.mount_of(root_fd)
    pending: list[bytes] = [b""]
    while pending:
        place = pending.pop()
        try:
            folder = list_folder(root_fd, place, device, mount)
        except OSError as error:
            trouble = told(error, tr("list the folder"), place or b".")
            if on_trouble is None:
                raise trouble from error
            on_trouble(trouble)
            continue
        yield folder
        pending.extend(join(place, name) for name in reversed(folder.folders))


def list_folder(root_fd: int, place: bytes, device: int, mount: int | None) -> Folder:
    """The contents of one folder.

    Args:
        device, mount: of the root; other mounts below are not entered.

    Raises:
        OSError: it cannot be listed.
    """
    fd = open_folder(root_fd, place)
    try:
        with os.scandir(fd) as entries:
            statuses = {
                e.name.encode("utf-8", "surrogateescape"): e.stat(follow_symlinks=False)
                for e in entries
            }
        names = sorted(statuses)
        stats = [statuses[name] for name in names]
        deeper: list[bytes] = []
        # Most folders contain only files, all of one mode.
        if any(map(stat.S_ISDIR, set(map(_MODE, stats)))):
            deeper = [name for name in names if stat.S_ISDIR(statuses[name].st_mode)]
            if not place:
                # Files on their way into a library do not belong to it yet.
                deeper = [name for name in deeper if not name.startswith(STAGING)]
            names = [name for name in names if not stat.S_ISDIR(statuses[name].st_mode)]
            stats = [statuses[name] for name in names]
        found = Folder(place, os.fstat(fd), names, stats, [], [])
        for name in deeper:
            if mount is not None and kernel.mount_of(fd, name) != mount:
                found.mounts.append(name)
            elif statuses[name].st_dev == device:
                found.folders.append(name)
            elif mount is None:
                found.mounts.append(name)
            else:
                found.folders.append(name)
                if statuses[name].st_dev != found.status.st_dev:
                    found.subvolumes.append(name)
    finally:
        os.close(fd)
    return found
