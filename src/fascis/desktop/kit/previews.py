"""A picture of one file.

The desktop's own thumbnail if there is one, otherwise decoded in a child process. Never in the
interface thread. Thumbnails follow the freedesktop.org Thumbnail Managing Standard: named by the
MD5 of the file's URI, with the file's time in ``Thumb::MTime``.
"""

from __future__ import annotations

import hashlib
import os
import stat
import tempfile
from pathlib import Path

from PyQt6.QtGui import QImage

from fascis.library.decoding import decode

_SIZES = ("large", "normal", "x-large")


def picture_of(path: Path, cache: Path, at: float = 0.0) -> QImage | None:
    """A small picture of a file, or None if none can be shown here.

    Args:
        cache: the XDG cache folder of the person.
        at: the time of the frame in a clip, in seconds; the desktop's thumbnail is not used then.
    """
    return (None if at else _thumbnail(path, cache)) or _decoded(path, at)


def picture_from(content: bytes) -> QImage | None:
    """A preview from a catalog, decoded in a child process; None if it cannot be decoded."""
    with tempfile.TemporaryFile() as file:
        file.write(content)
        file.flush()
        (found,) = decode([file.fileno()])
    image = QImage.fromData(found, "PNG") if found else QImage()
    return None if image.isNull() else image


def _thumbnail(path: Path, cache: Path) -> QImage | None:
    name = hashlib.md5(path.as_uri().encode(), usedforsecurity=False).hexdigest() + ".png"
    try:
        changed = int(os.lstat(path).st_mtime)
    except OSError:
        return None
    for size in _SIZES:
        image = QImage(str(cache / "thumbnails" / size / name))
        if not image.isNull() and image.text("Thumb::MTime") == str(changed):
            return image
    return None


def _decoded(path: Path, at: float) -> QImage | None:
    try:
        fd = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
    except OSError:
        return None
    try:
        if not stat.S_ISREG(os.fstat(fd).st_mode):
            return None
        (content,) = decode([fd], at=at)
    finally:
        os.close(fd)
    image = QImage.fromData(content, "PNG") if content else QImage()
    return None if image.isNull() else image
