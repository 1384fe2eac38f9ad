"""Walking a folder by handles: no link is followed, no mount point is crossed, names are bytes."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator
from dataclasses import dataclass

from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.names import join

FOLDER_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


@dataclass(slots=True)
class Folder:
    """What lies directly in one folder: parallel lists of names and their status, folders listed apart.

    ``place`` is relative to the root; ``mounts`` are names of other file systems mounted here, which are not entered.
    """

    place: bytes
    status: os.stat_result
    names: list[bytes]
    stats: list[os.stat_result]
    folders: list[bytes]
    mounts: list[bytes]


def walk(root_fd: int, on_trouble: Callable[[EnvironmentTrouble], None] | None = None) -> Iterator[Folder]:
    """Gives every folder below the handle, parents before children, in the order of names.

    Args:
        root_fd: an open folder; stays open.
        on_trouble: told of each folder that cannot be listed; without it the first one is raised.
    """
    root = os.fstat(root_fd)
    pending: list[bytes] = [b""]
    while pending:
        place = pending.pop()
        try:
            folder = _list(root_fd, place, root.st_dev)
        except OSError as error:
            trouble = told(error, "list the folder", place or b".")
            if on_trouble is None:
                raise trouble from error
            on_trouble(trouble)
            continue
        yield folder
        pending.extend(join(place, name) for name in reversed(folder.folders))


def open_folder(root_fd: int, place: bytes) -> int:
    """A handle of a folder below the root, each part opened without following a link."""
    fd = os.open(".", FOLDER_FLAGS, dir_fd=root_fd)
    for part in place.split(b"/") if place else ():
        try:
            deeper = os.open(part, FOLDER_FLAGS, dir_fd=fd)
        finally:
            os.close(fd)
        fd = deeper
    return fd


def _list(root_fd: int, place: bytes, device: int) -> Folder:
    fd = open_folder(root_fd, place)
    try:
        found = Folder(place, os.fstat(fd), [], [], [], [])
        with os.scandir(fd) as entries:
            listing = sorted(
                [(e.name.encode("utf-8", "surrogateescape"), e.stat(follow_symlinks=False)) for e in entries]
            )
    finally:
        os.close(fd)
    for name, status in listing:
        if not stat.S_ISDIR(status.st_mode):
            found.names.append(name)
            found.stats.append(status)
        elif status.st_dev == device:
            found.folders.append(name)
        else:
            found.mounts.append(name)
    return found
