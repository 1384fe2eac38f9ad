"""An index of the media below some folders: names, sizes and times in columns.

No file is opened. One index serves every library. Links are not followed; other file systems
mounted below are included, the kernel's own are not. Originals set aside by Fascis are left out:
they will be deleted.
"""

from __future__ import annotations

import os
import re
import threading
import time
from array import array
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import Struct, field
from numpy.typing import NDArray

from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import Cancelled, EnvironmentTrouble, FascisError, told
from fascis.files.names import name_key, shown
from fascis.files.times import mtime_of
from fascis.library.references.whereabouts import is_media
from fascis.words.speech import tr

Ints = NDArray[np.int64]
_PSEUDO = frozenset((b"/proc", b"/sys", b"/dev"))
_OURS = re.compile(rb"\.fascis.*|.* \(set aside [0-9a-f]{8}\)")
# Seconds between two checks for a stop.
_TICK = 0.1
_BATCH = 20_000  # Files between two reports.
_MOST_ENDINGS = 50_000


def key_of(name: bytes) -> int:
    """A number that is equal for names that differ only in case or in the form of their accents.

    Rarely for other names too: names are compared before the result is used. Valid in this process
    only.
    """
    return hash(
        name.lower() if name.isascii() else name_key(name).encode("utf-8", "surrogateescape")
    )


class Index(Struct):
    """Found files in columns. A *row* is a file's number.

    Attributes:
        roots: the searched folders.
        folders: absolute paths of folders that hold media.
        names: the files' names, one after the other; ``ends`` has the end of each.
        folder: for each file its folder's number; ``size`` in bytes, ``mtime_ns``, ``key`` see
            :func:`key_of`.
        files: how many files were seen, including other files than media.
        seconds: how long it took.
        troubles: folders that could not be opened.
    """

    roots: tuple[Path, ...] = ()
    folders: list[bytes] = field(default_factory=list)
    names: bytes = b""
    ends: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    folder: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    size: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    mtime_ns: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    key: Ints = field(default_factory=lambda: np.zeros(0, np.int64))
    files: int = 0
    seconds: float = 0.0
    troubles: list[EnvironmentTrouble] = field(default_factory=list)
    _by_key: tuple[Ints, Ints] | None = None

    def __len__(self) -> int:
        return len(self.size)

    def name(self, row: int) -> bytes:
        """A file's name."""
        return self.names[int(self.ends[row - 1]) if row else 0 : int(self.ends[row])]

    def path(self, row: int) -> bytes:
        """A file's absolute path."""
        return self.folders[int(self.folder[row])].rstrip(b"/") + b"/" + self.name(row)

    def by_key(self) -> tuple[Ints, Ints]:
        """``(keys in order, their rows)``."""
        if self._by_key is None:
            order = np.argsort(self.key, kind="stable")
            self._by_key = self.key[order], order.astype(np.int64)
        return self._by_key


def look(
    root: Path, report: Callable[[int], None] = lambda _files: None, control: Control = UNSTOPPED
) -> Index:
    """Searches everything below a folder.

    In a thread of its own, so that a drive that does not answer can be left at once.

    Args:
        report: called with the number of files seen so far.
        control: checked ten times a second.

    Raises:
        EnvironmentTrouble: the folder is not there, or cannot be opened.
        Cancelled: when ``control`` was stopped.
    """
    walk = _Walk(root)
    thread = threading.Thread(target=walk.run, name="look", daemon=True)
    thread.start()
    told_of = 0
    while thread.is_alive():
        thread.join(_TICK)
        if control.stopped:
            walk.stop = True
            raise Cancelled(
                tr("Looking in {name} was stopped; nothing was changed.", name=shown(root.name))
            )
        if walk.files - told_of >= _BATCH:
            told_of = walk.files
            report(told_of)
    if walk.failed is not None:
        raise walk.failed
    report(walk.files)
    return walk.index()


class _Walk:
    """One walk below a folder; another thread reads ``files`` and sets ``stop``."""

    def __init__(self, root: Path) -> None:
        self._root = root
        self.files, self.stop = 0, False
        self.failed: BaseException | None = None
        self._folders: list[bytes] = []
        self._names: list[bytes] = []
        self._blocks: list[bytes] = []
        self._lengths, self._folder, self._size, self._mtime, self._key = (
            array("q") for _ in range(5)
        )
        self._media: dict[bytes, bool] = {}
        self._troubles: list[EnvironmentTrouble] = []
        self._begun = time.monotonic()

    def run(self) -> None:
        """Everything below the root."""
        try:
            self._run()
        except BaseException as error:
            self.failed = error

    def _run(self) -> None:
        try:
            root = os.path.realpath(bytes(self._root), strict=True)
            seen = {_identity(os.stat(root))}
            pending = [root]
            os.close(os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC))
        except OSError as error:
            raise told(error, tr("look in the folder"), bytes(self._root)) from error
        device = next(iter(seen))[0]
        while pending and not self.stop:
            folder = pending.pop()
            try:
                inner = self._list(folder)
            except OSError as error:
                self._troubles.append(told(error, tr("look in the folder"), folder))
                continue
            for path in inner:
                if path in _PSEUDO:
                    continue
                # A folder mounted a second time inside itself has no end.
                if os.path.ismount(path):
                    try:
                        mounted = _identity(os.stat(path))
                    except OSError as error:
                        self._troubles.append(told(error, tr("look in the folder"), path))
                        continue
                    if mounted in seen or mounted == (device, 0):
                        continue
                    seen.add(mounted)
                pending.append(path)

    def _list(self, folder: bytes) -> list[bytes]:
        """Adds the files of one folder, and returns its subfolders."""
        inner: list[bytes] = []
        number, first = len(self._folders), len(self._size)
        size, mtime, key, names = self._size, self._mtime, self._key, self._names
        count = 0
        media = self._media
        with os.scandir(folder) as entries:
            for entry in entries:
                name = entry.name
                if not entry.is_file(follow_symlinks=False):
                    if entry.is_dir(follow_symlinks=False) and not _OURS.fullmatch(name):
                        inner.append(entry.path)
                    continue
                count += 1
                # An ending, and a little more: decided once.
                if (known := media.get(name[-6:])) is None:
                    known = media[name[-6:]] = is_media(name)
                    if len(media) > _MOST_ENDINGS:
                        media.clear()
                if not known:
                    continue
                try:
                    status = entry.stat(follow_symlinks=False)
                except OSError:
                    continue  # Gone meanwhile.
                names.append(name)
                size.append(status.st_size)
                mtime.append(mtime_of(status))
                key.append(hash(name.lower()) if name.isascii() else key_of(name))
        if len(size) > first:
            self._folders.append(folder)
            self._folder.extend([number] * (len(size) - first))
        if len(names) > _BATCH:
            self._pack()
        self.files += count
        return inner

    def _pack(self) -> None:
        """Combines many small names in one large block."""
        self._lengths.extend([len(n) for n in self._names])
        self._blocks.append(b"".join(self._names))
        self._names.clear()

    def index(self) -> Index:
        """What was found."""
        self._pack()
        lengths, folder, size, mtime, key = (
            np.frombuffer(c, np.int64) if c else np.zeros(0, np.int64)
            for c in (self._lengths, self._folder, self._size, self._mtime, self._key)
        )
        seconds = time.monotonic() - self._begun
        ends = np.cumsum(lengths, dtype=np.int64)
        names = b"".join(self._blocks)
        return Index(
            (self._root,),
            self._folders,
            names,
            ends,
            folder,
            size,
            mtime,
            key,
            self.files,
            seconds,
            self._troubles,
        )


def _identity(status: os.stat_result) -> tuple[int, int]:
    return status.st_dev, status.st_ino


def merge(parts: Sequence[Index]) -> Index:
    """Several indexes as one.

    An index of a folder below another's is left out.
    """
    roots = [os.path.realpath(bytes(p.roots[0])).rstrip(b"/") + b"/" for p in parts]
    kept = [
        p
        for i, p in enumerate(parts)
        if not any(
            roots[i].startswith(r) and (r != roots[i] or j < i)
            for j, r in enumerate(roots)
            if j != i
        )
    ]
    if len(kept) == 1:
        return kept[0]
    starts = np.cumsum([0, *(len(p.names) for p in kept)])
    bases = np.cumsum([0, *(len(p.folders) for p in kept)])

    def joined(columns: Iterable[Any]) -> Ints:
        return np.concatenate([np.zeros(0, np.int64), *columns])

    return Index(
        tuple(r for p in kept for r in p.roots),
        [f for p in kept for f in p.folders],
        b"".join(p.names for p in kept),
        joined(p.ends + s for p, s in zip(kept, starts, strict=False)),
        joined(p.folder + b for p, b in zip(kept, bases, strict=False)),
        joined(p.size for p in kept),
        joined(p.mtime_ns for p in kept),
        joined(p.key for p in kept),
        sum(p.files for p in kept),
        sum(p.seconds for p in kept),
        [t for p in kept for t in p.troubles],
    )


def look_in(
    folders: Iterable[Path],
    report: Callable[[int], None] = lambda _files: None,
    control: Control = UNSTOPPED,
) -> Index:
    """One index of several folders, see :func:`look`."""
    done, parts = 0, []
    for folder in folders:
        before = done
        parts.append(look(folder, lambda n, before=before: report(before + n), control))  # type: ignore[misc]
        done += parts[-1].files
    if not parts:
        raise FascisError(tr("No folder to look in was named."))
    return merge(parts)
