"""Searching a drive, a home, or any folder for libraries and for what is big."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Sequence
from pathlib import Path

from msgspec import Struct, field

from fascis.files.control import UNSTOPPED, Control
from fascis.files.names import parent
from fascis.library.looking.finding import Finding, Found, merged
from fascis.library.looking.remembered import Remembered
from fascis.library.looking.seeing import TYPES, Seen
from fascis.library.looking.walking import Walking
from fascis.workspace import Workspace

_MOST_FOLDERS, _MOST_FILES = 200, 100
# A folder is listed itself, instead of its subfolders, if so much lies directly in it.
_OWN_SHARE = 0.5
_TELL_SECONDS = 0.2


class Weight(Struct):
    """The contents of a folder and below it; ``own``: directly in it.

    ``room``: the space on the drive.
    """

    path: bytes
    files: int = 0
    size: int = 0
    own: int = 0
    room: int = 0
    own_room: int = 0
    last_change_ns: int = 0
    types: list[int] = field(default_factory=lambda: [0] * len(TYPES))
    inner: list[Weight] = field(default_factory=list)

    def take(self, other: Weight) -> None:
        """Adds one folder."""
        self.files += other.files
        self.size += other.size
        self.room += other.room
        self.last_change_ns = max(self.last_change_ns, other.last_change_ns)
        self.types = [mine + theirs for mine, theirs in zip(self.types, other.types, strict=True)]
        self.inner.append(other)


class LibraryFound(Struct):
    """A library that was found.

    Attributes:
        root: its folder, or its document.
        size: the lengths of its files; ``room``: the space on the drive.
        known: it is on the shelf already; ``id`` is its id, or the one in its records.
        unknown: only a document of unknown make shows it.
    """

    root: Path
    name: str
    kind: str
    documents: int
    files: int
    size: int
    room: int
    last_change_ns: int
    known: bool
    id: str
    unknown: bool


class Looked(Struct):
    """The result of a search.

    Attributes:
        tops: the searched folders, each with its contents.
        big: the largest files: bytes, time in ns, path.
        not_permitted: folders that could not be listed.
    """

    libraries: list[LibraryFound] = field(default_factory=list)
    tops: list[Weight] = field(default_factory=list)
    big: list[tuple[int, int, bytes]] = field(default_factory=list)
    files: int = 0
    seconds: float = 0.0
    not_permitted: list[bytes] = field(default_factory=list)

    def folders(self) -> list[Weight]:
        """The largest folders, none inside another, largest first."""
        told: list[Weight] = []
        open_ = [inner for top in self.tops for inner in top.inner]
        while open_ and len(told) + len(open_) < _MOST_FOLDERS:
            open_.sort(key=lambda w: w.size)
            heaviest = open_.pop()
            if not heaviest.inner or heaviest.own >= _OWN_SHARE * heaviest.size:
                told.append(heaviest)
            else:
                open_ += heaviest.inner
        told += open_
        return sorted((w for w in told if w.files), key=lambda w: (-w.size, w.path))


Tell = Callable[[int, list[Found]], None]


def look(
    workspace: Workspace,
    folders: Sequence[Path],
    control: Control = UNSTOPPED,
    tell: Tell = lambda _files, _found: None,
) -> Looked:
    """Searches for libraries, and for what is big. Writes nothing there.

    Args:
        folders: the folders to search, with everything below except other mounts.
        tell: called now and then with the files counted and the libraries found so far.

    Raises:
        Cancelled: ``control`` was stopped.
    """
    begun = time.monotonic()
    remembered = Remembered(workspace.private / "looked.sqlite")
    walking = Walking(remembered.time_of, remembered.find, control)
    every: dict[bytes, Seen] = {}
    roots = _apart([os.path.realpath(bytes(f)) for f in folders])
    finding = Finding(
        every,
        roots,
        _wide(workspace),
        workspace.drives,
        workspace.private,
        workspace.drives.mounts(),
    )
    found: list[Found] = []
    looked = Looked()
    told = begun
    for root in roots:
        remembered.load(root)
        mine: list[Seen] = []
        for seen in walking.below(root):
            every[seen.path] = seen
            mine.append(seen)
            found += finding.in_folder(seen)
            if time.monotonic() - told > _TELL_SECONDS:
                told = time.monotonic()
                tell(walking.files, found)
        remembered.keep(mine)
        looked.tops.append(_weigh(root, mine))
        big = [(s, t, seen.path + b"/" + name) for seen in mine for s, t, name in seen.big]
        looked.big = sorted(looked.big + big, reverse=True)[:_MOST_FILES]
    tell(walking.files, found)
    known = merged(found)
    found += finding.of_unknown_make([one.root for one in known])
    weights = {w.path: w for top in looked.tops for w in _all(top)}
    libraries = [_told(workspace, one, weights) for one in merged(found)]
    looked.libraries = sorted(libraries, key=lambda one: (-one.size, one.root))
    looked.files, looked.not_permitted = walking.files, walking.not_permitted
    looked.seconds = time.monotonic() - begun
    return looked


def usual_folders(workspace: Workspace) -> list[Path]:
    """The default folders: the home, and every drive except the system's own."""
    home = Path.home()
    found = [home]
    for drive in workspace.drives.connected():
        system = home.is_relative_to(drive.mount) or str(drive.mount) in ("/", "/boot", "/boot/efi")
        if drive.connected and not system:
            found.append(drive.mount)
    return found


def _wide(workspace: Workspace) -> set[bytes]:
    """Folders that contain everything and are not libraries."""
    home = bytes(Path.home())
    tops = {bytes(d.mount) for d in workspace.drives.connected(measured=False) if d.connected}
    inside = {home + b"/" + name for name in (b"Documents", b"Desktop", b"Downloads", b"Work")}
    above = {bytes(p) for p in Path.home().parents}
    return {*tops, *above, *inside, home, b"/home", b"/media", b"/mnt", b"/run/media"}


def _apart(roots: Sequence[bytes]) -> list[bytes]:
    """Folders without those inside others."""
    found: list[bytes] = []
    for root in sorted(set(roots), key=len):
        if not any(root == f or root.startswith(f.rstrip(b"/") + b"/") for f in found):
            found.append(root)
    return found


def _weigh(root: bytes, folders: Sequence[Seen]) -> Weight:
    """The size of a folder with everything below it; ``folders`` are these, parents first."""
    known: dict[bytes, Weight] = {}
    for seen in folders:
        known[seen.path] = Weight(
            seen.path,
            seen.files,
            seen.size,
            seen.size,
            seen.room,
            seen.room,
            seen.last_change_ns,
            list(seen.types),
        )
    for seen in reversed(folders):
        if seen.path != root and (above := known.get(parent(seen.path) or b"/")) is not None:
            above.take(known[seen.path])
    return known.get(root, Weight(root))


def _all(top: Weight) -> list[Weight]:
    found, open_ = [], [top]
    while open_:
        one = open_.pop()
        found.append(one)
        open_ += one.inner
    return found


def _told(workspace: Workspace, one: Found, weights: dict[bytes, Weight]) -> LibraryFound:
    weight = weights.get(one.root)
    if weight is None:
        weight = _of_files(one)
    path = Path(os.fsdecode(one.root))
    register = workspace.register
    known = register.library_at(path) if register.path.exists() else None
    here = known is not None
    if not here and one.id and register.path.exists():
        here = bool(register.find(one.id))
    return LibraryFound(
        path,
        one.name or (path.stem if weight.path == b"" else path.name),
        one.kind,
        len(one.documents),
        weight.files,
        weight.size,
        weight.room,
        weight.last_change_ns,
        here,
        known.id if known else one.id,
        one.unknown,
    )


def _of_files(one: Found) -> Weight:
    """The size of a single document and its media."""
    weight = Weight(b"")
    for path in (one.root, *one.media):
        try:
            status = os.lstat(path)
        except OSError:
            continue
        weight.files += 1
        weight.size += status.st_size
        weight.room += 512 * status.st_blocks
        weight.last_change_ns = max(weight.last_change_ns, status.st_mtime_ns)
    return weight
