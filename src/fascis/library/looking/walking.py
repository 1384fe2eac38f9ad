"""Seeing every folder below some: what lies in it, in a few figures, without reading a file."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Mapping
from dataclasses import asdict, dataclass, field
from typing import Any

from fascis.documents.registry import is_companion, kind_named
from fascis.files.control import UNSTOPPED, Control
from fascis.files.names import STAGING
from fascis.library.identity import OWN
from fascis.library.roles import FILMS, MEDIA, SOUND, STILLS

FILM, PICTURES, SOUNDS, OTHER = range(4)
TYPES = ("film", "pictures", "sound", "other")
# Of each folder: files that may be documents of unknown make, and its largest files.
_MOST_CANDIDATES, _MOST_BIG = 40, 20
_DOCUMENT, _CANDIDATE, _PROGRAM = 4, 5, 6
# How files end that programs are made of.
_PROGRAMS = frozenset(
    b"a c cc class cpp css dll dylib exe go h hpp html htm jar java js jsx ko lua map mjs o pdb "
    b"php pl pm ps1 py pyc pyd rb rlib rs scss sh so svelte swift ts tsx vue wasm whl".split()
)
# Folders of the system: they hold nobody's work.
_SYSTEM = frozenset(
    b"/" + name
    for name in (
        b"bin", b"boot", b"dev", b"etc", b"lib", b"lib32", b"lib64", b"libx32", b"lost+found",
        b"proc", b"root/.cache", b"run", b"sbin", b"snap", b"sys", b"tmp", b"usr", b"var",
    )
)  # fmt: skip


@dataclass(slots=True)
class Seen:
    """One folder.

    Attributes:
        path: absolute.
        folders: names of those in it.
        files, size, types: what lies directly in it, its bytes by type as in ``TYPES``.
        room: what it takes on the drive: less where there are holes.
        media: how many of its files are pictures, films or sound; ``programs``: are of programs.
        last_change_ns: of its files the one that changed last.
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

    def as_json(self) -> dict[str, Any]:
        """As it is remembered; names as text."""
        said = asdict(self)
        del said["path"], said["mtime_ns"]
        for name in ("folders", "documents", "candidates"):
            said[name] = [os.fsdecode(x) for x in said[name]]
        said["big"] = [(size, mtime, os.fsdecode(name)) for size, mtime, name in self.big]
        return said

    @classmethod
    def from_json(cls, path: bytes, mtime_ns: int, said: Mapping[str, Any]) -> Seen:
        """As it was remembered."""
        found = cls(path, mtime_ns, **said)
        for name in ("folders", "documents", "candidates"):
            setattr(found, name, [os.fsencode(x) for x in said[name]])
        found.big = [(size, mtime, os.fsencode(name)) for size, mtime, name in said["big"]]
        return found


class Walking:
    """Sees every folder below one, parents before what lies in them.

    No link is followed, and nothing that is mounted below is entered.

    Args:
        remembered: gives what was seen of a folder before, if it did not change since.

    Attributes:
        files: how many were counted so far.
        not_permitted: folders that could not be listed.
    """

    def __init__(
        self,
        remembered: Callable[[bytes, int], Seen | None] = lambda _path, _mtime: None,
        control: Control = UNSTOPPED,
    ) -> None:
        self._remembered, self._control = remembered, control
        self._types: dict[bytes, int] = {}
        self.files = 0
        self.not_permitted: list[bytes] = []

    def below(self, root: bytes) -> Iterator[Seen]:
        """Every folder.

        Raises:
            Cancelled: ``control`` was stopped.
        """
        root = os.path.realpath(root)
        device = os.stat(root).st_dev
        pending = [root]
        while pending:
            self._control.checkpoint()
            path = pending.pop()
            try:
                status = os.lstat(path)
                if status.st_dev != device or not stat.S_ISDIR(status.st_mode):
                    continue
                seen = self._remembered(path, status.st_mtime_ns)
                if seen is None:
                    seen = self._see(path, status.st_mtime_ns)
            except OSError:
                self.not_permitted.append(path)
                continue
            self.files += seen.files
            yield seen
            above = b"" if path == b"/" else path
            inner = [above + b"/" + name for name in sorted(seen.folders, reverse=True)]
            pending += [one for one in inner if one not in _SYSTEM]

    def _see(self, path: bytes, mtime_ns: int) -> Seen:
        seen = Seen(path, mtime_ns)
        types = seen.types
        candidates: list[tuple[int, bytes]] = []
        big: list[tuple[int, int, bytes]] = []
        with os.scandir(path) as entries:
            for entry in entries:
                name = entry.name
                if entry.is_dir(follow_symlinks=False):
                    if name == OWN:
                        seen.identity = _is_file(path + b"/" + OWN + b"/identity.json")
                    elif not name.startswith(STAGING):
                        seen.folders.append(name)
                    continue
                if not entry.is_file(follow_symlinks=False):
                    continue
                status = entry.stat(follow_symlinks=False)
                size, mtime = status.st_size, status.st_mtime_ns
                kind = self._type(name)
                seen.files += 1
                seen.size += size
                seen.room += 512 * status.st_blocks
                if mtime > seen.last_change_ns:
                    seen.last_change_ns = mtime
                if kind < OTHER:
                    seen.media += 1
                    types[kind] += size
                else:
                    types[OTHER] += size
                    if kind == _DOCUMENT:
                        seen.documents.append(name)
                    elif kind == _PROGRAM:
                        seen.programs += 1
                    elif kind == _CANDIDATE and size:
                        candidates.append((size, name))
                big.append((size, mtime, name))
        seen.candidates = [name for _, name in sorted(candidates, reverse=True)[:_MOST_CANDIDATES]]
        seen.big = sorted(big, reverse=True)[:_MOST_BIG]
        return seen

    def _type(self, name: bytes) -> int:
        dot = name.rfind(b".")
        ending = name[dot + 1 :].lower() if dot >= 0 else b""
        known = self._types.get(ending)
        if known is None:
            known = self._types[ending] = _type_of(ending)
        return known


def _is_file(path: bytes) -> bool:
    try:
        return stat.S_ISREG(os.lstat(path).st_mode)
    except OSError:
        return False


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
