"""Where documents lie: in a library, outside, or in a copy made by a crossing.

Nothing is written beside them; a document that must be opened by its path is copied to a private
folder first.
"""

from __future__ import annotations

import io
import os
import shutil
import stat
import tempfile
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, closing, contextmanager, suppress
from pathlib import Path
from typing import BinaryIO, Protocol, Self

from fascis.documents.catalog import copy_of
from fascis.documents.model import HEAD, NotUnderstood
from fascis.documents.text import SMALL
from fascis.files.disk.medium import Medium, as_stream
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.names import shown
from fascis.files.own.private import make_private
from fascis.library.references.whereabouts import DriveRoots
from fascis.words.speech import tr

_CHUNK = 1 << 20
_SHARED = b"-shm"


class Reads(Protocol):
    """An open file."""

    def readinto(self, buffer: bytearray | memoryview, /) -> int | None:
        """Reads from the present position; 0 at the end."""

    def close(self) -> None:
        """Closes it."""


class DocumentSource(ABC):
    """The location of one document. A small one is read only once.

    Args:
        name: its name in messages.
        cache: a private folder for copies.
    """

    def __init__(self, name: bytes, cache: Path) -> None:
        self._name, self._cache = name, cache
        self._held = ExitStack()
        self._content: bytes | None = None
        self._size = -1

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self._content = None
        self._held.close()

    @property
    def name(self) -> bytes:
        """Its name in messages."""
        return self._name

    @property
    def size(self) -> int:
        """In bytes."""
        if self._size < 0:
            try:
                self._size = self._status().st_size
            except OSError as error:
                raise told(error, tr("read the document"), self._name) from error
        return self._size

    def head(self) -> bytes:
        """Its first bytes, at most ``HEAD``."""
        with self.stream() as stream:
            return stream.read(HEAD)

    @contextmanager
    def stream(self) -> Iterator[BinaryIO]:
        """Its bytes from the first on."""
        if self._content is None and self.size <= SMALL:
            with self._opened() as stream:
                content = stream.read(SMALL + 1)
            if len(content) <= SMALL:  # Otherwise it grew meanwhile.
                self._content = content
        if self._content is not None:
            yield io.BytesIO(self._content)
            return
        with self._opened() as stream:
            yield stream

    @contextmanager
    def _opened(self) -> Iterator[BinaryIO]:
        try:
            file = self._open()
        except OSError as error:
            raise told(error, tr("read the document"), self._name) from error
        with closing(file):
            yield io.BufferedReader(_Told(file, self._name), _CHUNK)

    def private_folder(self) -> Path:
        """An empty folder for this program alone; it is removed with the source."""
        try:
            make_private(self._cache)
            folder = tempfile.TemporaryDirectory(dir=self._cache)
        except OSError as error:
            raise told(error, tr("make a private copy in"), os.fsencode(self._cache)) from error
        return Path(self._held.enter_context(folder))

    def look(self) -> bytes:
        """Size, time and inode; empty if it does not exist."""
        try:
            s = self._status()
        except OSError:
            return b""
        return b"%d %d %d" % (s.st_size, s.st_mtime_ns, s.st_ino)

    @abstractmethod
    def private_copy(self) -> Path:
        """A copy with its journals for this program alone; it is removed with the source."""

    @abstractmethod
    def link_target(self) -> bytes:
        """The target of a link."""

    @abstractmethod
    def _status(self) -> os.stat_result: ...

    @abstractmethod
    def _open(self) -> Reads: ...


class PathSource(DocumentSource):
    """A document by its path: outside any library, or where nothing else is opened."""

    def __init__(self, path: bytes, cache: Path) -> None:
        super().__init__(path, cache)
        self._path = path

    def private_copy(self) -> Path:
        """Taken while nobody writes to it."""
        return copy_of(Path(os.fsdecode(self._path)), self.private_folder())

    def link_target(self) -> bytes:
        """The target of a link."""
        try:
            return os.readlink(self._path)
        except OSError as error:
            raise told(error, tr("read the link"), self._path) from error

    def _status(self) -> os.stat_result:
        return os.lstat(self._path)

    def _open(self) -> Reads:
        return open_regular(self._path)


class MediumSource(DocumentSource):
    """A document of a medium.

    Attributes:
        beside: the place of each of its journals, by ending; empty until set.
    """

    def __init__(self, medium: Medium, place: bytes, cache: Path) -> None:
        super().__init__(place, cache)
        self._medium, self._place = medium, place
        self.beside: Mapping[bytes, bytes] = {}

    def private_copy(self) -> Path:
        """As it is now: nobody else writes to it."""
        copy = self.private_folder() / "catalog"
        for end, place in {b"": self._place, **self.beside}.items():
            if end == _SHARED:
                # Memory shared by programs that have it open; not part of the content.
                continue
            there = f"{copy}{os.fsdecode(end)}"
            try:
                with closing(self._medium.open(place)) as file, open(there, "xb") as out:
                    shutil.copyfileobj(as_stream(file), out, _CHUNK)
            except OSError as error:
                raise told(error, tr("read the document"), place) from error
        return copy

    def link_target(self) -> bytes:
        """The target of a link."""
        try:
            return self._medium.read_link(self._place)
        except OSError as error:
            raise told(error, tr("read the link"), self._place) from error

    def _status(self) -> os.stat_result:
        return self._medium.status(self._place)

    def _open(self) -> Reads:
        return self._medium.open(self._place)


class LibrarySource(MediumSource):
    """A document of a library in use: it may change, with its journals.

    Args:
        root: the medium's path on this machine.
    """

    def __init__(self, medium: Medium, root: bytes, place: bytes, cache: Path) -> None:
        super().__init__(medium, place, cache)
        self._path = root.rstrip(b"/") + b"/" + place

    def private_copy(self) -> Path:
        """Taken while nobody writes to it."""
        return copy_of(Path(os.fsdecode(self._path)), self.private_folder())


class _Told(io.RawIOBase):
    """A file as a stream whose errors name the file."""

    def __init__(self, file: Reads, name: bytes) -> None:
        self._file, self._name = file, name

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: bytearray | memoryview, /) -> int | None:  # type: ignore[override]
        """Reads on."""
        try:
            return self._file.readinto(memoryview(buffer).cast("B"))
        except OSError as error:
            raise told(error, tr("read the document"), self._name) from error


def open_regular(path: bytes) -> io.FileIO:
    """A regular file, never through a link and never waiting for another program.

    Raises:
        EnvironmentTrouble: it is no regular file. An ``OSError`` is the caller's to translate.
    """
    fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    try:
        if not stat.S_ISREG(os.fstat(fd).st_mode):
            raise EnvironmentTrouble(tr("{path} is no regular file.", path=shown(path)), path)
        return io.FileIO(fd, "rb")
    except BaseException:
        with suppress(OSError):
            os.close(fd)
        raise


def read_outside(path: bytes, limit: int) -> bytes:
    """A file outside the library.

    Raises:
        EnvironmentTrouble: it cannot be read, or is no regular file.
        NotUnderstood: it is longer than the limit.
    """
    try:
        with open_regular(path) as file:
            size = os.fstat(file.fileno()).st_size
            if size > limit:
                raise NotUnderstood(
                    tr("It is {size} bytes long, too large for a document.", size=size)
                )
            return file.read(limit) or b""
    except OSError as error:
        raise told(error, tr("read the document"), path) from error


def place_folder(drives: DriveRoots, uuid: str | None, path: str) -> tuple[bytes | None, bool]:
    """The path of a document's top folder, and True if its drive is connected.

    None for an unknown drive.
    """
    raw = os.fsencode(path)
    if uuid is None:
        return raw or b"/", not drives.is_away(raw + b"/")
    mount = drives.mount(uuid)
    if mount is None:
        return None, False
    return (mount[0].rstrip(b"/") + b"/" + raw.strip(b"/")).rstrip(b"/") or b"/", mount[1]
