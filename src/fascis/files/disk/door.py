"""The only door through which something is deleted.

No other code in Fascis removes a name from a drive (a test checks this). The caller states what was
proven about the file: its kind, size, times, device, and inode if that identifies a file. The
folder is opened again from the root, never through a link or into another mount. The file is
checked there, after its last reading, and the folder once more, in case somebody moved it. Then the
name is removed. If anything differs, the file stays.

Linux cannot unlink by a handle, so a few microseconds lie between the last check and the unlink.
"""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

from msgspec import Struct

from fascis.files.disk import kernel
from fascis.files.disk.beneath import open_folder
from fascis.words.speech import tr


class Changed(OSError):
    """The file at a path is not what was proven. It was not touched."""

    def __init__(self, place: bytes) -> None:
        super().__init__(errno.ESTALE, tr("it changed a moment ago"), os.fsdecode(place))


class Proven(Struct, frozen=True):
    """The state of a file or link when it was last checked or read.

    ``inode`` is None if it does not identify a file.
    """

    kind: int
    size: int
    mtime_ns: int
    ctime_ns: int
    device: int
    inode: int | None

    @classmethod
    def by(cls, status: os.stat_result, stable: bool = True) -> Proven:
        """From a status.

        Args:
            stable: inode numbers of the drive identify a file.
        """
        return cls(
            stat.S_IFMT(status.st_mode),
            status.st_size,
            status.st_mtime_ns,
            status.st_ctime_ns,
            status.st_dev,
            status.st_ino if stable else None,
        )

    def holds(self, status: os.stat_result) -> bool:
        """True if it is still the same."""
        return Proven.by(status, self.inode is not None) == self


def delete(root: int, place: bytes, proven: Proven) -> None:
    """Removes one name of a file or link in an open folder.

    Raises:
        Changed: something else stands there now, or its folder is no longer below the root. It was
            not touched.
        OSError: as the kernel gives it; EXDEV where another drive is mounted on the way.
    """
    above, _, name = place.rpartition(b"/")
    folder = open_folder(root, above)
    try:
        status = os.stat(name, dir_fd=folder, follow_symlinks=False)
        if stat.S_ISDIR(status.st_mode):
            raise IsADirectoryError(errno.EISDIR, os.strerror(errno.EISDIR))
        if not proven.holds(status):
            raise Changed(place)
        if kernel.mount_of(folder, name) != kernel.mount_of(root):
            raise OSError(errno.EXDEV, os.strerror(errno.EXDEV))
        _must_be_below(root, above, folder)
        os.unlink(name, dir_fd=folder)  # noqa: TID251 - this is the door
    finally:
        os.close(folder)


def delete_folder(root: int, place: bytes) -> None:
    """Removes an empty folder in an open one.

    Raises ``OSError``: ENOTEMPTY if it is not empty.
    """
    above, _, name = place.rpartition(b"/")
    folder = open_folder(root, above)
    try:
        _must_be_below(root, above, folder)
        os.rmdir(name, dir_fd=folder)  # noqa: TID251 - this is the door
    finally:
        os.close(folder)


def _must_be_below(root: int, above: bytes, folder: int) -> None:
    """Checks the path of an open folder: a handle follows its folder when that is moved."""
    again = open_folder(root, above)
    try:
        if not os.path.samestat(os.fstat(again), os.fstat(folder)):
            raise Changed(above)
    finally:
        os.close(again)


def delete_own(folder: int, name: bytes) -> None:
    """Removes a file that this process just made, under a name with a secret in it.

    Does nothing if it is gone.
    """
    try:
        os.unlink(name, dir_fd=folder)  # noqa: TID251 - this is the door
    except FileNotFoundError:
        return


def delete_state(path: Path) -> None:
    """Removes a file in Fascis's own state or cache folder, by its exact path.

    Does nothing if it does not exist.
    """
    path.unlink(missing_ok=True)
