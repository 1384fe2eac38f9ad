"""The one door through which anything goes for good.

No other place in Fascis removes a name from a drive (a test holds that).

Whoever deletes says what was proven of the file: its kind, size, times, device, and inode where
that identifies a file. The folder is opened again from the root, never through a link or into
another mount; the file is looked at there, after its last reading; the folder is looked for once
more, in case somebody moved it out; then the name goes. What does not agree stays.

Linux cannot unlink by a handle, so between the last look and the unlink lie a few microseconds.
"""

from __future__ import annotations

import errno
import os
import stat
from dataclasses import dataclass
from pathlib import Path

from fascis.files.disk import kernel
from fascis.files.disk.beneath import open_folder
from fascis.words.speech import tr


class Changed(OSError):
    """What stands at a place is not what was proven. It was not touched."""

    def __init__(self, place: bytes) -> None:
        super().__init__(errno.ESTALE, tr("it changed a moment ago"), os.fsdecode(place))


@dataclass(frozen=True, slots=True)
class Proven:
    """What a file or link was when it was last looked at, or read.

    ``inode`` is None where that identifies nothing.
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
        """True when it still looks so."""
        return Proven.by(status, self.inode is not None) == self


def delete(root: int, place: bytes, proven: Proven) -> None:
    """Removes one name of a file or link below an open folder.

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
    """Removes an empty folder below an open one.

    Raises ``OSError``: ENOTEMPTY when anything is in it.
    """
    above, _, name = place.rpartition(b"/")
    folder = open_folder(root, above)
    try:
        _must_be_below(root, above, folder)
        os.rmdir(name, dir_fd=folder)  # noqa: TID251 - this is the door
    finally:
        os.close(folder)


def _must_be_below(root: int, above: bytes, folder: int) -> None:
    """An open folder follows its files wherever somebody moves it.

    It must still be the one of that name.
    """
    again = open_folder(root, above)
    try:
        if not os.path.samestat(os.fstat(again), os.fstat(folder)):
            raise Changed(above)
    finally:
        os.close(again)


def delete_own(folder: int, name: bytes) -> None:
    """Removes a file that this process made itself a moment ago, under a name with a secret in it.

    Nothing when it is gone.
    """
    try:
        os.unlink(name, dir_fd=folder)  # noqa: TID251 - this is the door
    except FileNotFoundError:
        return


def delete_state(path: Path) -> None:
    """Removes a file of Fascis's own state or cache folder, by its exact path.

    Nothing when it is not there.
    """
    path.unlink(missing_ok=True)
