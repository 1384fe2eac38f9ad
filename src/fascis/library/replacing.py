"""Giving a document in a person's own folder new content.

It is written beside the document and read back, then the two are swapped. The earlier version stays
beside it, under a name that shows when it was set aside and has no known ending, so that nobody
mistakes it for a document. Nothing that exists is overwritten.
"""

from __future__ import annotations

import errno
import os
import re
import stat
from collections.abc import Iterator
from contextlib import closing, suppress
from pathlib import Path

from blake3 import blake3

from fascis.files.codes import Code
from fascis.files.disk import kernel
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import Medium, move, remove_own
from fascis.files.errors import EnvironmentTrouble, Refused
from fascis.files.names import cut, shown
from fascis.library.open_files import find_open
from fascis.words.speech import tr

_CHUNK = 1 << 22
_LONGEST = 255  # Bytes of a name.
_SPARE = b".old"
_KEPT = re.compile(rb"\.before-[0-9a-f]{8}(\.old)?\Z")


def kept_name(name: bytes, act: str) -> bytes:
    """The name under which an earlier version is kept.

    Args:
        act: the id of the act that replaced it; the name contains its first eight characters.
    """
    tail = f".before-{act[:8]}".encode()
    # The part that is cut off may be the only difference between two names.
    if len(name) + len(tail) + len(_SPARE) > _LONGEST:
        tail = b"~" + blake3(name).hexdigest(4).encode() + tail
    return cut(name, _LONGEST - len(tail) - len(_SPARE)) + tail


def is_kept(name: bytes) -> bool:
    """True for the name of an earlier version, see :func:`kept_name`."""
    return bool(_KEPT.search(name))


def looks(status: os.stat_result) -> tuple[int, int, int]:
    """Shows whether a file is the same and unchanged: size in bytes, time in ns, inode."""
    return status.st_size, status.st_mtime_ns, status.st_ino


def not_in_use(document: Path) -> None:
    """Checks whether a program works in a document.

    Raises:
        Refused: one has it open, or a database's journal lies beside it.
    """
    for end in ("-wal", "-journal"):
        if os.path.lexists(f"{document}{end}"):
            raise Refused(
                Code.LIBRARY_OPEN,
                tr(
                    "{name} lies beside the catalog: a program has it open, or was cut off. "
                    "Close it there first; nothing was changed.",
                    name=shown(document.name + end),
                ),
            )
    status = os.stat(document)
    openers = find_open({(status.st_dev, status.st_ino)}, {status.st_dev}).files
    if openers:
        raise Refused(
            Code.LIBRARY_OPEN,
            tr(
                "{program} has {name} open. Close it; nothing was changed.",
                program=shown(openers[0].program),
                name=shown(document.name),
            ),
        )


def write_beside(
    medium: Medium, name: bytes, content: bytes | Path, like: os.stat_result | None = None
) -> bytes:
    """Writes a new file, flushes it, reads it back, and returns its digest.

    Raises ``OSError``; nothing is left then.

    Args:
        like: the file whose mode, and if permitted owner, it gets; without it, the mode of a new
            file.

    Raises:
        EnvironmentTrouble: it read back wrong.
    """
    hasher = blake3()
    made = False
    try:
        with closing(
            medium.create(name, 0o644 if like is None else stat.S_IMODE(like.st_mode))
        ) as out:
            made = True
            if like is not None:
                # A drive without owners, or another person's document.
                with suppress(OSError):
                    os.fchown(out.handle, like.st_uid, like.st_gid)
            for part in _parts(content):
                hasher.update(part)
                out.write(memoryview(part))
            out.flush()
        with closing(medium.open(name)) as written:
            written.drop_cached()
            same = digest_of(written) == hasher.digest()
        if not same:
            raise EnvironmentTrouble(
                tr(
                    "{name} read back wrong; this drive is unreliable. Nothing was changed.",
                    name=shown(name),
                )
            )
    except BaseException:
        if made:
            with suppress(OSError):
                remove_own(medium, name)
        raise
    return hasher.digest()


def _parts(content: bytes | Path) -> Iterator[bytes]:
    if isinstance(content, bytes):
        yield content
        return
    with open(content, "rb") as file:
        while part := file.read(_CHUNK):
            yield part


def swap(medium: Medium, name: bytes, other: bytes) -> None:
    """Exchanges the names of two files: at once if the drive can, otherwise with a third name.

    Raises ``OSError``. If the second way is interrupted, :func:`mend` restores the first file.
    """
    folder, _, own = name.rpartition(b"/")
    with _folder(medium, folder) as handle:
        try:
            kernel.rename_exchange(handle, own, other.rpartition(b"/")[2])
            return
        except OSError as error:
            if error.errno not in (errno.EINVAL, errno.ENOSYS):
                raise
    move(medium, name, other + _SPARE)
    move(medium, other, name)
    move(medium, other + _SPARE, other)


def mend(medium: Medium, name: bytes, other: bytes) -> None:
    """After an interrupted swap: restores the earlier state, or finishes the swap.

    Raises ``OSError``.
    """
    spare = other + _SPARE
    if not medium.exists(spare):
        return
    if not medium.exists(name):
        move(medium, spare, name)
    elif not medium.exists(other):
        move(medium, spare, other)


class _folder:
    """A handle of a folder of a medium, closed afterwards."""

    def __init__(self, medium: Medium, place: bytes) -> None:
        flags = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
        self._fd = os.open(place or b".", flags, dir_fd=medium.handle)

    def __enter__(self) -> int:
        return self._fd

    def __exit__(self, *_: object) -> None:
        os.close(self._fd)


def move_or_clear(medium: Medium, other: bytes, name: bytes) -> None:
    """Gives a new file its name; if that was taken meanwhile, removes the file.

    Raises ``OSError``.
    """
    try:
        move(medium, other, name)
    except OSError:
        remove_own(medium, other)
        raise


def is_protected(path: Path) -> bool:
    """True if a file cannot be written: because of its own mode, its folder or its drive."""
    return (
        not stat.S_IMODE(os.stat(path).st_mode) & 0o222
        or not os.access(path, os.W_OK)
        or not os.access(path.parent, os.W_OK)
    )
