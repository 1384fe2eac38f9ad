"""The folders of a library in columns, listed in this process or by helpers."""

from __future__ import annotations

import os
import stat
from array import array
from collections import deque
from collections.abc import Iterable, Iterator
from contextlib import closing
from typing import Any, NamedTuple

from fascis.files.control import Control
from fascis.files.disk import kernel
from fascis.files.disk.medium import Medium
from fascis.files.disk.walk import Folder, list_folder
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.names import join
from fascis.files.own.helper import Helper
from fascis.files.own.in_order import BATCH, InOrder
from fascis.files.times import all_kept, mtime_of
from fascis.words.speech import tr

_MODULE = "fascis.library.lister"


class Listed(NamedTuple):
    """The contents of one folder in columns, as bytes.

    All columns have the same order. Sizes in bytes, times in ns as stored.

    Attributes:
        place, folder_mode, folder_mtime_ns, device: of the folder itself.
        folders, mounts, subvolumes: as in :class:`fascis.files.disk.walk.Folder`.
        names: end to end; their ``lengths`` as ``I``.
        columns: each as in a survey, in the order of ``COLUMNS``.
        types: for each entry, the number of its example, as ``I``.
        examples: a name for each ending; empty for entries that are not regular files.
    """

    place: bytes
    folder_mode: int
    folder_mtime_ns: int
    device: int
    folders: list[bytes]
    mounts: list[bytes]
    subvolumes: list[bytes]
    names: bytes
    lengths: bytes
    columns: tuple[bytes, ...]
    types: bytes
    examples: list[bytes]


COLUMNS = ("mode", "inode", "link_count", "size", "allocated", "mtime_ns", "ctime_ns")
_CODES = ("L", "Q", "L", "Q", "Q", "q", "q")
_NO_FILE = b""


def in_columns(folder: Folder) -> Listed:
    """A listed folder in columns."""
    s = folder.status
    columns, types, examples = _in_columns(folder.names, folder.stats)
    return Listed(
        folder.place,
        s.st_mode,
        mtime_of(s),
        s.st_dev,
        folder.folders,
        folder.mounts,
        folder.subvolumes,
        b"".join(folder.names),
        _packed("I", map(len, folder.names)),
        columns,
        _packed("I", types),
        examples,
    )


def _in_columns(
    names: list[bytes], stats: list[os.stat_result]
) -> tuple[tuple[bytes, ...], list[int], list[bytes]]:
    if not stats:
        return (b"",) * len(COLUMNS), [], []
    # A status is also a tuple of its first ten fields: transposes all of them at once.
    modes, inodes, _, links, _, _, sizes, *_ = zip(*stats, strict=True)
    values = (
        modes,
        inodes,
        links,
        sizes,
        [s.st_blocks * 512 for s in stats],
        all_kept([s.st_mtime_ns for s in stats]),
        all_kept([s.st_ctime_ns for s in stats]),
    )
    columns = tuple(map(_packed, _CODES, values))
    # For a name without a dot this is its last letter: not an extension, but usable as a key.
    keys = [name[name.rfind(b".") :] for name in names]
    if not all(map(stat.S_ISREG, set(modes))):
        files = map(stat.S_ISREG, modes)
        keys = [key if is_file else _NO_FILE for key, is_file in zip(keys, files, strict=True)]
    examples = dict(zip(reversed(keys), reversed(names), strict=True))
    if _NO_FILE in examples:
        examples[_NO_FILE] = _NO_FILE
    numbers = {key: number for number, key in enumerate(examples)}
    return columns, [numbers[key] for key in keys], list(examples.values())


def _packed(code: str, values: Iterable[int]) -> bytes:
    return array(code, values).tobytes()


# -- all of them -----------------------------------------------------------------------------------


class Lists:
    """Lists folders below a handle, by their places."""

    def __init__(self, root: int) -> None:
        self._root = root
        self._device, self._mount = os.fstat(root).st_dev, kernel.mount_of(root)

    def columns(self, place: bytes) -> Listed:
        """One folder. Raises ``OSError``."""
        return in_columns(list_folder(self._root, place, self._device, self._mount))

    def answer(self, place: bytes) -> tuple[Any, ...]:
        """A helper's answer: the folder, or the error's number and message."""
        try:
            return tuple(self.columns(place))
        except OSError as error:
            return error.errno, str(error.strerror)

    def here(self, place: bytes) -> Listed | EnvironmentTrouble:
        """One folder, or why it cannot be listed."""
        try:
            return self.columns(place)
        except OSError as error:
            return _trouble(error, place)


def _answered(place: bytes, said: tuple[Any, ...]) -> Listed | EnvironmentTrouble:
    if len(said) == 2:
        return _trouble(OSError(*said), place)
    return Listed(*said)


def _trouble(error: OSError, place: bytes) -> EnvironmentTrouble:
    return told(error, tr("list the folder"), place or b".")


def folders_below(medium: Medium, control: Control) -> Iterator[Listed | EnvironmentTrouble]:
    """Every folder of a medium, or why it cannot be listed; its subfolders come later.

    No link is followed, and no mount point crossed.

    Raises:
        Cancelled: by the control.
    """
    root = medium.handle
    start = (lambda: Helper(_MODULE, root)) if medium.shareable else None
    pending = deque([b""])
    with closing(InOrder(start, Lists(root).here, _answered, control)) as lists:
        while pending or lists.busy:
            while pending and lists.has_room:
                some = min(len(pending), BATCH)
                lists.give([pending.popleft() for _ in range(some)])
            for place, listed in lists.take():
                yield listed
                if isinstance(listed, Listed):
                    pending.extend(join(place, name) for name in listed.folders)
