"""Reading documents: in the library, outside of it, and catalogs from a private copy.

Nothing is written beside them.
"""

from __future__ import annotations

import os
import stat
import tempfile
from contextlib import closing
from pathlib import Path

from fascis.documents.catalog import Catalog, copy_of
from fascis.documents.model import LARGEST, NotUnderstood
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.medium import Medium
from fascis.files.names import shown
from fascis.files.private import make_private
from fascis.library.whereabouts import DriveRoots


def read_document(medium: Medium, place: bytes) -> bytes:
    """The whole content of a document.

    Raises:
        EnvironmentTrouble: it cannot be read.
        NotUnderstood: it is larger than any document.
    """
    try:
        with closing(medium.open(place)) as file:
            size = file.opened.st_size
            if size > LARGEST:
                raise NotUnderstood(f"It is {size} bytes long, too large for a document.")
            content = bytearray(size)
            view, filled = memoryview(content), 0
            while filled < size and (count := file.readinto(view[filled:])):
                filled += count
            return bytes(view[:filled])
    except OSError as error:
        raise told(error, "read the document", place) from error


def read_outside(path: bytes, limit: int) -> bytes:
    """A document that lies outside the library.

    Raises:
        EnvironmentTrouble: it cannot be read, or is no regular file.
        NotUnderstood: it is longer than the limit.
    """
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        with open(fd, "rb") as file:
            status = os.fstat(fd)
            if not stat.S_ISREG(status.st_mode):
                raise EnvironmentTrouble(f"{shown(path)} is no regular file.", path)
            if status.st_size > limit:
                raise NotUnderstood(f"It is {status.st_size} bytes long, too large for a document.")
            return file.read(limit)
    except OSError as error:
        raise told(error, "read the document", path) from error


class private_catalog:
    """A catalog open from a private copy, which goes when it is closed."""

    def __init__(self, path: Path, cache: Path) -> None:
        self._path, self._cache = path, cache

    def __enter__(self) -> Catalog:
        try:
            make_private(self._cache)
            self._folder = tempfile.TemporaryDirectory(dir=self._cache)
        except OSError as error:
            raise told(error, "make a private copy in", os.fsencode(self._cache)) from error
        try:
            self._catalog = Catalog(copy_of(self._path, Path(self._folder.name)))
        except BaseException:
            self._folder.cleanup()
            raise
        return self._catalog

    def __exit__(self, *_: object) -> None:
        self._catalog.close()
        self._folder.cleanup()


def catalog_seen(catalog: Path) -> bytes:
    """What tells that a catalog is the same and unchanged; nothing for one that is not there."""
    try:
        s = os.lstat(catalog)
    except OSError:
        return b""
    return b"%d %d %d" % (s.st_size, s.st_mtime_ns, s.st_ino)


def catalog_folder(drives: DriveRoots, uuid: str | None, path: str) -> tuple[bytes | None, bool]:
    """Where a place of a catalog is, and True when its drive is there.

    None for a drive that is not known.
    """
    raw = os.fsencode(path)
    if uuid is None:
        return raw or b"/", not drives.is_away(raw + b"/")
    mount = drives.mount(uuid)
    if mount is None:
        return None, False
    return (mount[0].rstrip(b"/") + b"/" + raw.strip(b"/")).rstrip(b"/") or b"/", mount[1]
