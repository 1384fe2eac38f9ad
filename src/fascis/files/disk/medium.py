"""The only interface to files on drives.

All file work of the engine uses a medium, opened on a folder handle. Places are bytes relative to
that folder. Every part of a place is opened without following a link, so nothing outside the folder
is reached. Nothing is overwritten: files and folders are created exclusively, and renames refuse an
existing name.
"""

from __future__ import annotations

import errno
import fcntl
import io
import os
import stat
import threading
from collections.abc import Iterator
from typing import Protocol

from fascis.files.disk import door, kernel
from fascis.files.disk.beneath import open_folder
from fascis.files.disk.door import Proven
from fascis.files.disk.walk import Folder, walk
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.names import parent
from fascis.words.speech import tr

_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NOCTTY | os.O_NONBLOCK
_PRIVATE = 0o600
_CREATE = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


class MediumFile(Protocol):
    """An open file of a medium.

    Errors are the kernel's ``OSError``; the engine translates them.
    """

    @property
    def opened(self) -> os.stat_result:
        """``fstat`` from when it was opened."""

    @property
    def handle(self) -> int:
        """The open file's handle."""

    def readinto(self, buffer: bytearray | memoryview, /) -> int:
        """Reads from the present position; 0 at the end."""

    def write(self, content: memoryview) -> None:
        """Writes all of it at the present position."""

    def skip_to(self, offset: int) -> None:
        """Moves to an offset in bytes, leaving a hole when writing."""

    def data_ranges(self) -> list[tuple[int, int]]:
        """``(offset, end)`` of the parts that are not holes."""

    def set_size(self, size: int) -> None:
        """Sets the length in bytes."""

    def status(self) -> os.stat_result:
        """``fstat``."""

    def set_status(self, like: os.stat_result, owner: bool) -> None:
        """Sets mode and times (and, if wanted, the owner) of another file."""

    def attributes(self) -> dict[str, bytes]:
        """The ``user.*`` extended attributes; empty if the file system has none."""

    def set_attributes(self, attributes: dict[str, bytes]) -> None:
        """Sets extended attributes."""

    def begin_writeout(self, offset: int, length: int) -> None:
        """A hint to begin writing a range to the drive."""

    def begin_reading(self, offset: int, length: int) -> None:
        """A hint that a range will be read next."""

    def go_around_cache(self, around: bool) -> bool:
        """Switches reading and writing around the page cache on or off.

        True if it is on now. Then offsets, lengths and buffers are whole pages; reading at the end
        may return less.
        """

    def hold(self) -> bool | None:
        """Notices writers from now on.

        True if there are none, False if there is one, None if not granted.
        """

    def held(self) -> bool:
        """True while nobody has opened the file for writing since :meth:`hold`."""

    def let_go(self) -> None:
        """Ends the hold, so that writers need not wait."""

    def shared_bytes(self) -> int:
        """Bytes that other files or snapshots share."""

    def flush(self) -> None:
        """``fsync``."""

    def drop_cached(self) -> bool:
        """Drops the file's pages from memory.

        True only if it is proven that none is left.
        """

    def close(self) -> None:
        """Closes the handle; an error of the drive can appear here."""


class Medium(Protocol):
    """A folder on a drive, and what the engine can do in it."""

    @property
    def shareable(self) -> bool:
        """True if another process can do the same here by the handle alone."""

    def status(self, place: bytes) -> os.stat_result:
        """``lstat``."""

    def exists(self, place: bytes) -> bool:
        """True if anything has that name, a dangling link too."""

    def open(self, place: bytes) -> MediumFile:
        """Opens a regular file for reading."""

    def create(self, place: bytes, mode: int = 0o600) -> MediumFile:
        """Creates a file exclusively."""

    def make_folder(self, place: bytes) -> None:
        """Creates a folder exclusively."""

    def make_link(self, target: bytes, place: bytes) -> None:
        """Creates a symbolic link."""

    def read_link(self, place: bytes) -> bytes:
        """The target of a symbolic link, as written."""

    def set_link_time(self, place: bytes, like: os.stat_result) -> None:
        """Sets the times of another symbolic link."""

    def hard_link(self, existing: bytes, place: bytes) -> None:
        """Gives an existing file a second name."""

    def rename_new(self, place: bytes, new: bytes) -> None:
        """Renames; EEXIST if the name exists, EINVAL if the drive cannot guarantee to refuse."""

    def move_into_claimed(self, place: bytes, new: bytes) -> None:
        """Moves one entry into a folder that this crossing made exclusively.

        EEXIST if the name is taken.
        """

    def unlink(self, place: bytes, proven: Proven) -> None:
        """Removes one name of a file if it is what was proven; never a folder.

        See :mod:`fascis.files.disk.door`.
        """

    def remove_folder(self, place: bytes) -> None:
        """Removes an empty folder."""

    def set_folder_status(self, place: bytes, like: os.stat_result, owner: bool) -> None:
        """Sets another folder's mode and times."""

    def names(self, place: bytes) -> list[bytes]:
        """The names in a folder."""

    def walk(self) -> Iterator[Folder]:
        """Everything below, see :func:`fascis.files.disk.walk.walk`."""

    def sync(self) -> None:
        """Flushes the whole drive to its medium."""

    def sync_folder(self, place: bytes) -> None:
        """Flushes one folder's names."""

    def space(self) -> tuple[int, int]:
        """``(capacity, free)`` in bytes, measured now."""

    @property
    def handle(self) -> int:
        """The folder's handle."""

    def close(self) -> None:
        """Closes the handle."""


class Flushes(Protocol):
    """Flushing below a file system whose own flush is not enough.

    A user-space driver's block device.
    """

    def flush(self) -> None:
        """Writes it out to the medium. Raises ``OSError``."""

    def close(self) -> None:
        """Closes the handle."""


class PosixFile:
    """A file on a mounted file system.

    ``durable`` ones are flushed by themselves before they are closed.
    """

    __slots__ = ("_durable", "_fd", "opened")

    def __init__(
        self, fd: int, opened: os.stat_result | None = None, durable: bool = False
    ) -> None:
        self._fd = fd
        self._durable = durable
        self.opened = opened or os.fstat(fd)

    @property
    def handle(self) -> int:
        """The open file's handle."""
        return self._fd

    def readinto(self, buffer: bytearray | memoryview, /) -> int:
        """Reads from the present position; 0 at the end."""
        return os.readv(self._fd, [buffer])

    def write(self, content: memoryview) -> None:
        """Writes all of it at the present position."""
        while content:
            content = content[os.write(self._fd, content) :]

    def skip_to(self, offset: int) -> None:
        """Moves on, leaving a hole when writing."""
        os.lseek(self._fd, offset, os.SEEK_SET)

    def data_ranges(self) -> list[tuple[int, int]]:
        """``(offset, end)`` of the parts that are not holes."""
        ranges, at, size = [], 0, os.fstat(self._fd).st_size
        try:
            while at < size:
                begin = os.lseek(self._fd, at, os.SEEK_DATA)
                at = os.lseek(self._fd, begin, os.SEEK_HOLE)
                ranges.append((begin, at))
        except OSError as error:
            # ENXIO: no data behind this offset.
            if error.errno != 6:
                raise
        os.lseek(self._fd, 0, os.SEEK_SET)
        return ranges

    def set_size(self, size: int) -> None:
        """Sets the length in bytes."""
        os.ftruncate(self._fd, size)

    def status(self) -> os.stat_result:
        """``fstat``."""
        return os.fstat(self._fd)

    def set_status(self, like: os.stat_result, owner: bool) -> None:
        """Sets owner (if wanted), mode and times of another file."""
        if owner and (like.st_uid, like.st_gid) != (os.geteuid(), os.getegid()):
            os.fchown(self._fd, like.st_uid, like.st_gid)
        denied: PermissionError | None = None
        try:
            os.fchmod(self._fd, stat.S_IMODE(like.st_mode))
        except PermissionError as error:
            # Reported after the times, which can be set nevertheless.
            denied = error
        except OSError as error:
            # A driver without modes.
            if error.errno not in (errno.ENOSYS, errno.EOPNOTSUPP):
                raise
        os.utime(self._fd, ns=(like.st_atime_ns, like.st_mtime_ns))
        if denied is not None:
            raise denied

    def attributes(self) -> dict[str, bytes]:
        """The ``user.*`` extended attributes."""
        try:
            names = os.listxattr(self._fd)
        except OSError:
            return {}
        return (
            {n: os.getxattr(self._fd, n) for n in names if n.startswith("user.")} if names else {}
        )

    def set_attributes(self, attributes: dict[str, bytes]) -> None:
        """Sets extended attributes."""
        for name, value in attributes.items():
            os.setxattr(self._fd, name, value)

    def begin_reading(self, offset: int, length: int) -> None:
        """A hint that a range will be read next."""
        os.posix_fadvise(self._fd, offset, length, os.POSIX_FADV_WILLNEED)

    def begin_writeout(self, offset: int, length: int) -> None:
        """A hint to begin writing a range to the drive."""
        kernel.begin_writeout(self._fd, offset, length)

    def go_around_cache(self, around: bool) -> bool:
        """Switches reading and writing around the page cache on or off.

        True if it is on now.
        """
        flags = fcntl.fcntl(self._fd, fcntl.F_GETFL)
        wanted = flags | os.O_DIRECT if around else flags & ~os.O_DIRECT
        try:
            fcntl.fcntl(self._fd, fcntl.F_SETFL, wanted)
        except OSError:  # This file system cannot do it: everything goes through the cache.
            return False
        return around

    def hold(self) -> bool | None:
        """Takes a read lease."""
        return kernel.take_lease(self._fd)

    def held(self) -> bool:
        """True while the lease stands."""
        return kernel.lease_stands(self._fd)

    def let_go(self) -> None:
        """Ends the lease."""
        kernel.end_lease(self._fd)

    def shared_bytes(self) -> int:
        """Bytes that other files or snapshots share."""
        return kernel.shared_bytes(self._fd)

    def flush(self) -> None:
        """``fsync``."""
        os.fsync(self._fd)

    def drop_cached(self) -> bool:
        """Drops the pages; True if the kernel reports that none is left."""
        os.posix_fadvise(self._fd, 0, 0, os.POSIX_FADV_DONTNEED)
        return kernel.cached_pages(self._fd) == 0

    def close(self) -> None:
        """Closes the handle."""
        fd, self._fd = self._fd, -1
        if fd >= 0:
            try:
                if self._durable:
                    os.fsync(fd)
            finally:
                os.close(fd)


class PosixMedium:
    """A folder of a mounted file system.

    Its handle is opened before the first byte: a write error is reported to a flush only if the
    handle existed before, and once. ``below`` is flushed after the file system. With
    ``one_by_one``, flushing the file system is not enough and nothing below can be reached (a
    network share, a user-space driver): then every new file is flushed before it is closed, and
    :meth:`sync` flushes every changed folder.
    """

    def __init__(
        self, root_fd: int, below: Flushes | None = None, one_by_one: bool = False
    ) -> None:
        self._root = root_fd
        self._below, self._one_by_one = below, one_by_one
        self._changed: set[bytes] = set()
        self._local = threading.local()
        self._generation = 0

    def flushing(self, below: Flushes | None, one_by_one: bool) -> None:
        """Sets how flushing works here, before anything is written."""
        self._below, self._one_by_one = below, one_by_one

    def _touched(self, *folders: bytes) -> None:
        if self._one_by_one:
            self._changed.update(folders)

    @classmethod
    def at(cls, path: str | bytes | os.PathLike[str]) -> PosixMedium:
        """Opens a folder.

        Raises:
            EnvironmentTrouble: it is not there, not a folder, or may not be opened.
        """
        try:
            return cls(os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC))
        except OSError as error:
            raise told(error, tr("open the folder"), os.fsencode(path)) from error

    @property
    def handle(self) -> int:
        """The folder's handle."""
        return self._root

    @property
    def shareable(self) -> bool:
        """True if another process can create files here by the handle alone.

        Otherwise everything must use this medium.
        """
        return not self._one_by_one

    def _parent(self, place: bytes) -> tuple[int, bytes]:
        folder, _, name = place.rpartition(b"/")
        if not folder:
            return self._root, name
        local = self._local
        if getattr(local, "key", None) == (folder, self._generation):
            return local.held.fd, name
        held = _Held(open_folder(self._root, folder))
        local.key, local.held = (folder, self._generation), held
        return held.fd, name

    def _forget_parents(self) -> None:
        self._generation += 1

    def status(self, place: bytes) -> os.stat_result:
        """``lstat``; the folder itself for ``b""``."""
        if not place:
            return os.fstat(self._root)
        fd, name = self._parent(place)
        return os.stat(name, dir_fd=fd, follow_symlinks=False)

    def exists(self, place: bytes) -> bool:
        """True if anything has that name."""
        try:
            self.status(place)
        except (FileNotFoundError, NotADirectoryError):
            return False
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
        # If another drive is mounted over it, it cannot be examined: something is there.
        return True

    def open(self, place: bytes) -> PosixFile:
        """Opens a regular file for reading; anything else is refused without waiting."""
        fd, name = self._parent(place)
        handle = os.open(name, _READ, dir_fd=fd)
        status = os.fstat(handle)
        if not stat.S_ISREG(status.st_mode):
            os.close(handle)
            raise OSError(22, tr("not a regular file"))
        return PosixFile(handle, status)

    def create(self, place: bytes, mode: int = _PRIVATE) -> PosixFile:
        """Creates a file exclusively."""
        fd, name = self._parent(place)
        handle = os.open(name, _CREATE, mode, dir_fd=fd)
        if mode != _PRIVATE:
            # The umask concerns files that programs make for the person, not these.
            kernel.set_mode(handle, mode)
        self._touched(parent(place))
        return PosixFile(handle, durable=self._one_by_one)

    def make_folder(self, place: bytes) -> None:
        """Creates a folder exclusively."""
        fd, name = self._parent(place)
        os.mkdir(name, 0o700, dir_fd=fd)
        self._touched(parent(place))

    def make_link(self, target: bytes, place: bytes) -> None:
        """Creates a symbolic link."""
        fd, name = self._parent(place)
        os.symlink(target, name, dir_fd=fd)
        self._touched(parent(place))

    def read_link(self, place: bytes) -> bytes:
        """The target of a symbolic link, as written."""
        fd, name = self._parent(place)
        return os.readlink(name, dir_fd=fd)

    def set_link_time(self, place: bytes, like: os.stat_result) -> None:
        """Sets the times of another symbolic link."""
        fd, name = self._parent(place)
        os.utime(name, ns=(like.st_atime_ns, like.st_mtime_ns), dir_fd=fd, follow_symlinks=False)

    def hard_link(self, existing: bytes, place: bytes) -> None:
        """Gives an existing file a second name."""
        folder, _, name = existing.rpartition(b"/")
        source = open_folder(self._root, folder)
        try:
            fd, new = self._parent(place)
            os.link(name, new, src_dir_fd=source, dst_dir_fd=fd, follow_symlinks=False)
            self._touched(parent(place))
        finally:
            os.close(source)

    def rename_new(self, place: bytes, new: bytes) -> None:
        """Renames without replacing."""
        old_folder, new_folder = (
            open_folder(self._root, parent(place)),
            open_folder(self._root, parent(new)),
        )
        try:
            kernel.rename_noreplace(
                old_folder, place.rpartition(b"/")[2], new_folder, new.rpartition(b"/")[2]
            )
            self._touched(parent(place), parent(new))
        finally:
            os.close(old_folder)
            os.close(new_folder)
            self._forget_parents()

    def move_into_claimed(self, place: bytes, new: bytes) -> None:
        """Moves one entry into a folder of this crossing, if RENAME_NOREPLACE is refused."""
        if self.exists(new):
            raise FileExistsError(17, tr("the name is taken"))
        old_folder = open_folder(self._root, parent(place))
        new_folder = open_folder(self._root, parent(new))
        try:
            old_name, new_name = place.rpartition(b"/")[2], new.rpartition(b"/")[2]
            # Nothing can be replaced: the folder is this crossing's own, and the name is free.
            os.rename(old_name, new_name, src_dir_fd=old_folder, dst_dir_fd=new_folder)  # noqa: TID251
            self._touched(parent(place), parent(new))
        finally:
            os.close(old_folder)
            os.close(new_folder)
            self._forget_parents()

    def unlink(self, place: bytes, proven: Proven) -> None:
        """Removes one name of a file, never a folder, if it is what was proven."""
        door.delete(self._root, place, proven)
        self._touched(parent(place))

    def remove_folder(self, place: bytes) -> None:
        """Removes an empty folder."""
        door.delete_folder(self._root, place)
        self._touched(parent(place))
        self._forget_parents()

    def set_folder_status(self, place: bytes, like: os.stat_result, owner: bool) -> None:
        """Sets another folder's mode and times."""
        fd = open_folder(self._root, place)
        try:
            PosixFile(fd).set_status(like, owner)
        finally:
            os.close(fd)

    def names(self, place: bytes) -> list[bytes]:
        """The names in a folder."""
        fd = open_folder(self._root, place)
        try:
            return [os.fsencode(n) for n in os.listdir(fd)]
        finally:
            os.close(fd)

    def walk(self) -> Iterator[Folder]:
        """Everything below."""
        return walk(self._root)

    def sync(self) -> None:
        """Flushes the whole drive to its medium."""
        kernel.syncfs(self._root)
        if self._below:
            self._below.flush()
        while self._changed:
            place = self._changed.pop()
            try:
                self._sync_folder(place)
            except FileNotFoundError:
                # It was moved or removed since, and the folder above changed too.
                continue
            except BaseException:
                self._changed.add(place)
                raise

    def sync_folder(self, place: bytes) -> None:
        """Flushes one folder's names."""
        self._sync_folder(place)
        if self._below:
            self._below.flush()

    def _sync_folder(self, place: bytes) -> None:
        fd = open_folder(self._root, place)
        try:
            os.fsync(fd)
        finally:
            os.close(fd)

    def space(self) -> tuple[int, int]:
        """``(capacity, free)`` in bytes: what an ordinary user can use."""
        s = os.fstatvfs(self._root)
        return s.f_blocks * s.f_frsize, s.f_bavail * s.f_frsize

    def close(self) -> None:
        """Closes the handle."""
        self._local = threading.local()
        if self._below:
            self._below.close()
        if self._root >= 0:
            os.close(self._root)
            self._root = -1


class _Held:
    """A folder handle kept by one thread between two files of the same folder.

    Closed when released.
    """

    __slots__ = ("fd",)

    def __init__(self, fd: int) -> None:
        self.fd = fd

    def __del__(self) -> None:
        os.close(self.fd)


def read_small(medium: Medium, place: bytes, limit: int = 16 << 20) -> bytes:
    """The whole content of a small file of Fascis's own, at most ``limit`` bytes.

    Raises:
        EnvironmentTrouble: it cannot be read or is larger.
    """
    try:
        file = medium.open(place)
        try:
            length = file.status().st_size
            if length > limit:
                raise EnvironmentTrouble(
                    tr("{decode} is larger than possible.", decode=place.decode(errors="replace")),
                    place,
                )
            content = bytearray(length)
            view, filled = memoryview(content), 0
            while filled < length and (count := file.readinto(view[filled:])):
                filled += count
            return bytes(view[:filled])
        finally:
            file.close()
    except OSError as error:
        raise told(error, tr("read"), place) from error


def move(medium: Medium, place: bytes, new: bytes) -> None:
    """Moves something of Fascis's own to a free name.

    If the drive cannot guarantee this, checks first. Raises ``OSError``.
    """
    try:
        medium.rename_new(place, new)
    except OSError as error:
        if error.errno != errno.EINVAL:
            raise
        medium.move_into_claimed(place, new)


def remove_own(medium: Medium, place: bytes) -> None:
    """Removes a file or link that the caller knows to be Fascis's own, as it is now.

    Raises ``OSError``.
    """
    medium.unlink(place, Proven.by(medium.status(place), stable=False))


class _Reading(io.RawIOBase):
    """A medium's file as a binary stream."""

    def __init__(self, file: MediumFile) -> None:
        self._file = file

    def readable(self) -> bool:
        return True

    def readinto(self, buffer) -> int:  # type: ignore[no-untyped-def]
        return self._file.readinto(memoryview(buffer).cast("B"))


def as_stream(file: MediumFile) -> io.BufferedReader:
    """A medium's file as a buffered binary stream; closing it does not close the file."""
    return io.BufferedReader(_Reading(file))
