"""Opening a folder below another: no part of its path is a link or in another mount."""

from __future__ import annotations

import errno
import os

from fascis.files.disk import kernel

# PATH_MAX: a longer path is opened part by part.
_LONGEST = 4096


FOLDER_FLAGS = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC


def open_folder(root_fd: int, place: bytes) -> int:
    """A handle of a folder below the root: no part of its path is a link or in another mount."""
    if not place:
        return os.open(".", FOLDER_FLAGS, dir_fd=root_fd)
    if len(place) >= _LONGEST:
        return _open_step_by_step(root_fd, place)
    try:
        fd = kernel.open_beneath(root_fd, place, FOLDER_FLAGS)
    except OSError as error:
        # A link instead of a folder.
        if error.errno == errno.ELOOP:
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR)) from error
        raise
    return _open_step_by_step(root_fd, place) if fd is None else fd


def _open_step_by_step(root_fd: int, place: bytes) -> int:
    """The same if the kernel has no ``openat2``, or the path is too long for one call."""
    mount = kernel.mount_of(root_fd)
    fd = os.open(".", FOLDER_FLAGS, dir_fd=root_fd)
    for part in place.split(b"/"):
        try:
            deeper = os.open(part, FOLDER_FLAGS, dir_fd=fd)
        finally:
            os.close(fd)
        fd = deeper
        if kernel.mount_of(fd) != mount:
            os.close(fd)
            raise OSError(errno.EXDEV, os.strerror(errno.EXDEV))
    return fd
