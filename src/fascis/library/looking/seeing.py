"""Summarising a folder: its contents in a few figures, without reading a file."""

from __future__ import annotations

import os
import stat
from collections.abc import Mapping, Sequence
from typing import Any

from msgspec import Struct, field

from fascis.documents.registry import is_companion, kind_named
from fascis.files.disk import kernel
from fascis.files.disk.looks import is_file
from fascis.files.names import STAGING
from fascis.library.own import OWN
from fascis.library.roles import FILMS, MEDIA, SOUND, STILLS

FILM, PICTURES, SOUNDS, OTHER = range(4)
TYPES = ("film", "pictures", "sound", "other")
# For each folder: files that may be documents of unknown make, and its largest files.
_MOST_CANDIDATES, _MOST_BIG = 40, 10
_DOCUMENT, _CANDIDATE, _PROGRAM = 4, 5, 6
# Endings of program files.
_PROGRAMS = frozenset(
    b"a c cc class cpp css dll dylib exe go h hpp html htm jar java js jsx ko lua map mjs o pdb "
    b"php pl pm ps1 py pyc pyd rb rlib rs scss sh so svelte swift ts tsx vue wasm whl".split()
)


class Seen(Struct):
    """One folder.

    Attributes:
        path: absolute.
        folders: names of those in it.
        files, size, types: its direct contents; bytes by type as in ``TYPES``.
        room: the space on the drive: less if there are holes.
        media: the number of pictures, films and sounds; ``programs``: of program files.
        last_change_ns: the last change of a file.
        documents: names of files that are documents by their names.
        candidates: names of files that may be documents of unknown make.
        big: its largest files: bytes, time in ns, name.
        identity: it has the records of a library.
    """

    path: bytes
    mtime_ns: int = 0
    folders: list[bytes] = field(default_factory=list)
    files: int = 0
    size: int = 0
    room: int = 0
    types: list[int] = field(default_factory=lambda: [0] * len(TYPES))
    media: int = 0
    programs: int = 0
    last_change_ns: int = 0
    documents: list[bytes] = field(default_factory=list)
    candidates: list[bytes] = field(default_factory=list)
    big: list[tuple[int, int, bytes]] = field(default_factory=list)
    identity: bool = False

    def packed(self) -> tuple[Any, ...]:
        """Everything except its path and its time, in order."""
        return (
            self.folders,
            self.files,
            self.size,
            self.room,
            self.types,
            self.media,
            self.programs,
            self.last_change_ns,
            self.documents,
            self.candidates,
            self.big,
            self.identity,
        )

    def as_json(self) -> dict[str, Any]:
        """For storing; names as text."""
        return {
            "folders": list(map(os.fsdecode, self.folders)),
            "files": self.files,
            "size": self.size,
            "room": self.room,
            "types": self.types,
            "media": self.media,
            "programs": self.programs,
            "last_change_ns": self.last_change_ns,
            "documents": list(map(os.fsdecode, self.documents)),
            "candidates": list(map(os.fsdecode, self.candidates)),
            "big": [(size, mtime, os.fsdecode(name)) for size, mtime, name in self.big],
            "identity": self.identity,
        }

    @classmethod
    def from_json(cls, path: bytes, mtime_ns: int, said: Mapping[str, Any]) -> Seen:
        """From storage."""
        found = cls(path, mtime_ns, **said)
        for name in ("folders", "documents", "candidates"):
            setattr(found, name, [os.fsencode(x) for x in said[name]])
        found.big = [(size, mtime, os.fsencode(name)) for size, mtime, name in said["big"]]
        return found


# A folder is unchanged, new, not permitted, or outside.
SAME, NEW, REFUSED, NOT_BELOW = range(4)
Answer = tuple[int, int, Seen | None]


class Eyes:
    """Summarises one folder after the other.

    Args:
        device, mount: of the search; others are not entered.
    """

    def __init__(self, device: int, mount: int | None) -> None:
        self.below = device, mount
        self._device, self._mount = device, mount
        self._kinds = _Kinds()

    def see(self, path: bytes, known: int) -> Answer:
        """The state of a folder, its time in ns, and its contents, unless these are known.

        Args:
            known: the time for which its contents are known; -1 for none.
        """
        try:
            status = os.lstat(path)
            if not stat.S_ISDIR(status.st_mode) or not self._is_below(path, status):
                return NOT_BELOW, 0, None
            if status.st_mtime_ns == known:
                return SAME, known, None
            return NEW, status.st_mtime_ns, self._see(path, status.st_mtime_ns)
        except OSError:
            return REFUSED, 0, None

    def _is_below(self, path: bytes, status: os.stat_result) -> bool:
        if status.st_dev == self._device:
            return True
        # A subvolume has its own device number, and is not a mount.
        return self._mount is not None and mount_of(path) == self._mount

    def _see(self, path: bytes, mtime_ns: int) -> Seen:
        seen = Seen(path, mtime_ns)
        with os.scandir(path) as entries:
            every = list(entries)
        if not every:
            return seen
        # All at once, list by list: there may be a million files.
        stats = [e.stat(follow_symlinks=False) for e in every]
        names = [e.name for e in every]
        rooms = [s.st_blocks for s in stats]
        # A status is also a tuple of its first ten fields.
        modes, _, _, _, _, _, sizes, _, times, _ = zip(*stats, strict=True)
        if not all(map(stat.S_ISREG, set(modes))):
            for name, mode in zip(names, modes, strict=True):
                if stat.S_ISDIR(mode):
                    self._see_folder(seen, name)
            rows = [n for n, mode in enumerate(modes) if stat.S_ISREG(mode)]
            names, rooms = [names[n] for n in rows], [rooms[n] for n in rows]
            sizes, times = tuple(sizes[n] for n in rows), tuple(times[n] for n in rows)
        if names:
            seen.room = 512 * sum(rooms)
            self._see_files(seen, names, sizes, times)
        return seen

    @staticmethod
    def _see_folder(seen: Seen, name: bytes) -> None:
        if name == OWN:
            seen.identity = is_file(seen.path + b"/" + OWN + b"/identity.json")
        elif not name.startswith(STAGING):
            seen.folders.append(name)

    def _see_files(
        self, seen: Seen, names: list[bytes], sizes: Sequence[int], times: Sequence[int]
    ) -> None:
        """Files of one folder: their names, lengths, and times in seconds."""
        kinds = list(map(self._kinds.__getitem__, [n[n.rfind(b".") :] for n in names]))
        seen.files, seen.size = len(names), sum(sizes)
        seen.last_change_ns = max(times) * 10**9
        totals = [0] * (_PROGRAM + 1)
        for kind, size in zip(kinds, sizes, strict=True):
            totals[kind] += size
        seen.types = [*totals[:OTHER], sum(totals[OTHER:])]
        there = set(kinds)
        seen.media = sum(map(kinds.count, there.intersection(range(OTHER))))
        seen.programs = kinds.count(_PROGRAM)
        if _DOCUMENT in there:
            seen.documents = [n for n, kind in zip(names, kinds, strict=True) if kind == _DOCUMENT]
        if _CANDIDATE in there:
            some = zip(sizes, names, kinds, strict=True)
            found = [(size, n) for size, n, kind in some if kind == _CANDIDATE and size]
            seen.candidates = [n for _, n in sorted(found, reverse=True)[:_MOST_CANDIDATES]]
        largest = sorted(range(len(names)), key=sizes.__getitem__)[: -_MOST_BIG - 1 : -1]
        seen.big = [(sizes[n], times[n] * 10**9, names[n]) for n in largest]


def mount_of(folder: bytes) -> int | None:
    """The id of a folder's mount; None if the kernel does not report it."""
    fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        return kernel.mount_of(fd)
    finally:
        os.close(fd)


class _Kinds(dict[bytes, int]):
    """The type of a file by its ending, from the last dot on."""

    def __missing__(self, ending: bytes) -> int:
        # For a name without a dot this is its last letter.
        known = ending.startswith(b".")
        kind = self[ending] = _type_of(ending[1:].lower() if known else b"")
        return kind


def _type_of(ending: bytes) -> int:
    for kind, endings in ((FILM, FILMS), (PICTURES, STILLS), (SOUNDS, SOUND)):
        if ending in endings:
            return kind
    name = b"x." + ending
    if kind_named(name) is not None:
        return _DOCUMENT
    if ending in _PROGRAMS:
        return _PROGRAM
    return OTHER if ending in MEDIA or is_companion(name) else _CANDIDATE
