"""Small files, copied and read back quickly in a process of their own.

Run as ``python -m fascis.crossing.copying.quick SOCKET SOURCE DESTINATION``, three handles from the
parent (:mod:`fascis.crossing.copying.helpers`). It knows folder handles and places, but no plan,
journal or drive. It decides nothing and removes nothing: an unusual file (missing, being written,
with attributes, name taken) is returned, and :mod:`fascis.crossing.copying.file` handles and
reports it.

It imports little, because a person waits while it starts.
"""

from __future__ import annotations

import errno
import os
import stat
import sys
from collections import deque
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple, Protocol, TypeVar

from blake3 import blake3

from fascis.crossing.model.small import SMALL_FILE
from fascis.files.disk import kernel
from fascis.files.disk.beneath import open_folder
from fascis.files.names import join
from fascis.files.own.serving import own_handle, serve
from fascis.files.times import ctime_of, mtime_of

_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC
_CREATE = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
# Files opened ahead of the present one.
_AHEAD = 12
_ME = (os.geteuid(), os.getegid())
# An inode number as stored in the journal.
_KEY = 0x7FFF_FFFF_FFFF_FFFF

Seen = tuple[int, int, int, int]
"""Size in bytes, mtime in ns, then of a source ctime and inode, of a copy inode and ctime."""

File = tuple[Any, ...]
"""A row of :meth:`~fascis.crossing.journal.copies.Copies.small_files`."""

CopyRow = tuple[Any, ...]
"""A row for :meth:`~fascis.crossing.journal.copies.Copies.record_small`."""

ReadRow = tuple[int, bytes, bool, int]
"""The entry, its digest, True when no page was in memory, bytes that lie on the drive for it."""

Answer = tuple[str, Any]
"""``("rows", rows)``, or ``("failed", (number of the error, its words, place))``."""


class Keeps(NamedTuple):
    """Which properties a copy keeps, see :class:`~fascis.crossing.model.seen.Fidelity`."""

    modes: bool
    attributes: bool
    owner: bool


class HasHandle(Protocol):
    """Something with an open handle."""

    @property
    def handle(self) -> int:
        """Its handle."""


Opened = TypeVar("Opened", bound=HasHandle)


class Unusual(Exception):
    """Something about a file is unusual: the engine copies it."""


class DestinationFailed(Exception):
    """The destination refused a file: its error, and the place."""

    def __init__(self, error: OSError, place: bytes) -> None:
        super().__init__(str(error))
        self.number, self.words = error.errno or errno.EIO, str(error.strerror)
        self.place = place


class _Folders:
    """Handles of folders, each kept while the next file lies in it too."""

    def __init__(self, root: int) -> None:
        self._root = root
        self._place: bytes | None = None
        self._fd = -1

    def of(self, folder: bytes) -> int:
        """The handle of a folder."""
        if folder != self._place:
            self.close()
            self._fd = open_folder(self._root, folder)
            self._place = folder
        return self._fd

    def close(self) -> None:
        """Closes the handle."""
        if self._fd >= 0:
            os.close(self._fd)
        self._fd, self._place = -1, None


def copy(
    source: int, destination: int, root: bytes, files: list[File], keeps: Keeps, buffer: memoryview
) -> list[CopyRow]:
    """Copies small files; returns those copied without problems.

    For all others something may have been left at their place, without a record: the engine removes
    that, as after an interruption.

    Args:
        source: the handle of the folder that the files' places are in.
        destination: the handle of the folder that ``root`` is in.
        root: the folder of the new places, which do not exist yet.
        buffer: buffer for one file.

    Raises:
        DestinationFailed: nothing more can be written there.
    """
    rows: list[CopyRow] = []
    here, there = _Folders(source), _Folders(destination)

    def begin(file: File) -> _Source:
        return _open_source(here.of(file[1]), file[2])

    try:
        for file, opened in _ahead(files, begin):
            entry, _, _, new_folder, new_name, size, mtime, known, *_ = file
            new_place = (join(root, new_folder), new_name)
            try:
                digest, seen, copied = _copy_one(opened, there, new_place, keeps, buffer)
            except Unusual:
                continue
            if seen[:2] != (size, mtime) or (known is not None and digest != known):
                # The copy is right; but it must be reported that the file changed.
                continue
            rows.append((entry, *copied, digest, *seen))
    finally:
        here.close()
        there.close()
    return rows


class _Source(NamedTuple):
    """An open source: its handle, whether it has a lease, its size and times."""

    handle: int
    leased: bool
    before: os.stat_result


def _open_source(folder: int, name: bytes) -> _Source:
    """Opens a source and makes its drive start reading it."""
    try:
        reading = os.open(name, _READ, dir_fd=folder)
    except OSError as error:
        raise Unusual from error
    try:
        # As for every source: nobody may have it open or mapped for writing, see ``Held``.
        leased = kernel.take_lease(reading)
        before = os.fstat(reading)
        if leased is False or not _is_ordinary(before):
            raise Unusual
        os.posix_fadvise(reading, 0, 0, os.POSIX_FADV_WILLNEED)
    except OSError as error:
        os.close(reading)
        raise Unusual from error
    except Unusual:
        os.close(reading)
        raise
    return _Source(reading, bool(leased), before)


def _ahead(files: list[File], begin: Callable[[File], Opened]) -> Iterator[tuple[File, Opened]]:
    """Opens some files ahead of the present one: a drive that reads many is faster.

    The caller closes each open file; files that could not be opened are left out.
    """
    waiting: deque[tuple[File, Opened]] = deque()
    try:
        for file in files:
            try:
                waiting.append((file, begin(file)))
            except (OSError, Unusual):
                continue
            if len(waiting) > _AHEAD:
                yield waiting.popleft()
        while waiting:
            yield waiting.popleft()
    finally:
        for _, opened in waiting:
            os.close(opened.handle)


def _copy_one(
    source: _Source, there: _Folders, new: tuple[bytes, bytes], keeps: Keeps, buffer: memoryview
) -> tuple[bytes, Seen, Seen]:
    reading, leased, before = source
    try:
        size = before.st_size
        if os.readv(reading, [buffer[:size]]) != size:
            raise Unusual
        if keeps.attributes and _has_attributes(reading):
            raise Unusual
        copied = _write_one(there, new, before, buffer[:size], keeps)
        if leased and not kernel.lease_stands(reading):
            raise Unusual
        after = os.fstat(reading)
    except OSError as error:
        raise Unusual from error
    finally:
        os.close(reading)
    seen = _source_seen(before)
    if _source_seen(after) != seen or copied[0] != size:
        raise Unusual
    return blake3(buffer[:size]).digest(), seen, copied


def _is_ordinary(status: os.stat_result) -> bool:
    return (
        stat.S_ISREG(status.st_mode)
        and status.st_size <= SMALL_FILE
        # A file with holes is copied with its holes.
        and status.st_blocks * 512 >= status.st_size
    )


def _has_attributes(reading: int) -> bool:
    try:
        return any(name.startswith("user.") for name in os.listxattr(reading))
    except OSError:
        return False


def _write_one(
    there: _Folders,
    new: tuple[bytes, bytes],
    like: os.stat_result,
    content: memoryview,
    keeps: Keeps,
) -> Seen:
    try:
        writing = os.open(new[1], _CREATE, 0o600, dir_fd=there.of(new[0]))
        try:
            while content:
                content = content[os.write(writing, content) :]
            if keeps.owner and (like.st_uid, like.st_gid) != _ME:
                os.fchown(writing, like.st_uid, like.st_gid)
            _set_mode(writing, like.st_mode, keeps.modes)
            os.utime(writing, ns=(like.st_atime_ns, like.st_mtime_ns))
            status = os.fstat(writing)
        finally:
            # Some drives report a failed write only here.
            os.close(writing)
    except FileExistsError as error:
        raise Unusual from error
    except OSError as error:
        raise DestinationFailed(error, join(*new)) from error
    return status.st_size, mtime_of(status), status.st_ino & _KEY, ctime_of(status)


def _set_mode(writing: int, mode: int, kept: bool) -> None:
    try:
        os.fchmod(writing, stat.S_IMODE(mode))
    except PermissionError:
        if kept:
            raise
    except OSError as error:
        # A driver without modes.
        if error.errno not in (errno.ENOSYS, errno.EOPNOTSUPP):
            raise


def _source_seen(status: os.stat_result) -> Seen:
    return status.st_size, mtime_of(status), ctime_of(status), status.st_ino & _KEY


def read(destination: int, root: bytes, files: list[File], buffer: memoryview) -> list[ReadRow]:
    """Drops each copy's pages and reads it; returns those that could be read completely."""
    rows: list[ReadRow] = []
    there = _Folders(destination)

    def begin(file: File) -> _Copy:
        return _drop(there.of(join(root, file[3])), file[4])

    try:
        for file, opened in _ahead(files, begin):
            try:
                rows.append((file[0], *_read_one(opened, buffer)))
            except (OSError, Unusual):
                continue
    finally:
        there.close()
    return rows


class _Copy(NamedTuple):
    """An open copy: its handle, and True if no page of it was in memory."""

    handle: int
    gone: bool


def _drop(folder: int, name: bytes) -> _Copy:
    """Opens a copy, drops its pages and proves this, then makes its drive start reading it."""
    reading = os.open(name, _READ, dir_fd=folder)
    try:
        os.posix_fadvise(reading, 0, 0, os.POSIX_FADV_DONTNEED)
        gone = kernel.cached_pages(reading) == 0
        os.posix_fadvise(reading, 0, 0, os.POSIX_FADV_WILLNEED)
    except BaseException:
        os.close(reading)
        raise
    return _Copy(reading, gone)


def _read_one(copy: _Copy, buffer: memoryview) -> tuple[bytes, bool, int]:
    try:
        status = os.fstat(copy.handle)
        size = status.st_size
        if not stat.S_ISREG(status.st_mode) or size > SMALL_FILE:
            raise Unusual
        if os.readv(copy.handle, [buffer[:size]]) != size:
            raise Unusual
    finally:
        os.close(copy.handle)
    return blake3(buffer[:size]).digest(), copy.gone, min(size, status.st_blocks * 512)


def answer(job: tuple[Any, ...], source: int, destination: int, buffer: memoryview) -> Answer:
    """Does one job, ``("copy", root, files, keeps)`` or ``("read", root, files)``."""
    what, root, files, *more = job
    try:
        if what == "copy":
            return "rows", copy(source, destination, root, files, Keeps(*more[0]), buffer)
        return "rows", read(destination, root, files, buffer)
    except DestinationFailed as failed:
        return "failed", (failed.number, failed.words, failed.place)


def main() -> None:
    """Does the parent's jobs until the parent closes the socket or ends."""
    source, destination = map(own_handle, map(int, sys.argv[2:4]))
    buffer = memoryview(bytearray(SMALL_FILE))
    serve(lambda job: answer(job, source, destination, buffer))


if __name__ == "__main__":
    main()
