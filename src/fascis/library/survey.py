"""A survey: what a library's folder holds, as of when, in columns."""

from __future__ import annotations

import stat
import time
from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from enum import IntEnum
from itertools import accumulate

from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import Medium
from fascis.files.disk.walk import Folder, walk
from fascis.files.errors import Cancelled, EnvironmentTrouble, told
from fascis.files.names import join, parent
from fascis.files.times import all_kept, mtime_of
from fascis.library.identity import OWN
from fascis.library.roles import ROLES, Role, RoleRule
from fascis.words.speech import tr


class Kind(IntEnum):
    """What an entry is. Special: devices, pipes, sockets, which are never copied."""

    FILE = 0
    LINK = 1
    SPECIAL = 2


_TYPE_BITS = 12
_KINDS = {stat.S_IFREG >> _TYPE_BITS: Kind.FILE, stat.S_IFLNK >> _TYPE_BITS: Kind.LINK}


def kind_of(mode: int) -> Kind:
    """What an entry that is no folder is, by its mode."""
    return _KINDS.get(mode >> _TYPE_BITS, Kind.SPECIAL)


@dataclass(slots=True)
class FolderRow:
    """One folder.

    Its place, status fields kept in a copy, which rows of the columns lie in it, and the device
    number by which inodes in it count: a subvolume has one of its own.
    """

    place: bytes
    mode: int
    mtime_ns: int
    first: int
    end: int
    strand: int = -1
    device: int = 0


@dataclass(frozen=True, slots=True)
class StrandTotal:
    """Files that share a source folder and a role: the unit a person looks at."""

    folder: bytes
    role: Role
    files: int
    bytes: int
    allocated: int


@dataclass(slots=True)
class Survey:
    """A library's folder in columns: row ``i`` is the same entry in each.

    Sizes in bytes, times in ns.

    ``names`` holds all names end to end, row ``i`` from ``ends[i-1]`` to ``ends[i]``. ``own``
    counts rows of Fascis's own folder, which are left out of totals. ``unlistable`` are folders
    that could not be looked into, ``mounts`` those that were not entered; ``subvolumes`` have
    inodes of their own.
    """

    taken_at: float = 0.0
    root_device: int = 0
    root_inode: int = 0
    folders: list[FolderRow] = field(default_factory=list)
    names: bytearray = field(default_factory=bytearray)
    ends: array[int] = field(default_factory=lambda: array("Q"))
    size: array[int] = field(default_factory=lambda: array("Q"))
    allocated: array[int] = field(default_factory=lambda: array("Q"))
    inode: array[int] = field(default_factory=lambda: array("Q"))
    mtime_ns: array[int] = field(default_factory=lambda: array("q"))
    ctime_ns: array[int] = field(default_factory=lambda: array("q"))
    mode: array[int] = field(default_factory=lambda: array("L"))
    link_count: array[int] = field(default_factory=lambda: array("L"))
    role: array[int] = field(default_factory=lambda: array("B"))
    mounts: list[bytes] = field(default_factory=list)
    subvolumes: list[bytes] = field(default_factory=list)
    unlistable: list[EnvironmentTrouble] = field(default_factory=list)
    _kinds: bytes = b""

    def __len__(self) -> int:
        return len(self.ends)

    def name(self, row: int) -> bytes:
        """The name of a row."""
        return bytes(self.names[self.ends[row - 1] if row else 0 : self.ends[row]])

    def kind(self, row: int) -> Kind:
        """File, link or special."""
        return _KINDS.get(self.mode[row] >> _TYPE_BITS, Kind.SPECIAL)

    def kinds(self) -> bytes:
        """The kind of every row, as its number."""
        if len(self._kinds) != len(self):
            special = Kind.SPECIAL
            self._kinds = bytes(_KINDS.get(m >> _TYPE_BITS, special) for m in self.mode)
        return self._kinds

    def rows(self) -> Iterator[tuple[int, FolderRow, bytes]]:
        """``(row, its folder, place)`` of every entry, folder by folder."""
        # Gone through several times with a million rows: what does not change stays outside.
        names, ends = bytes(self.names), self.ends
        for folder in self.folders:
            above = folder.place + b"/" if folder.place else b""
            begin = ends[folder.first - 1] if folder.first else 0
            for row in range(folder.first, folder.end):
                end = ends[row]
                yield row, folder, above + names[begin:end]
                begin = end

    def files(self) -> Iterator[tuple[int, bytes]]:
        """``(row, place)`` of every regular file, Fascis's own left out."""
        kinds = self.kinds()
        own: FolderRow | None = None
        seen: FolderRow | None = None
        for row, folder, place in self.rows():
            if folder is not seen:
                seen = folder
                own = folder if self.is_own(folder) else None
            if own is None and kinds[row] == Kind.FILE:
                yield row, place

    def is_own(self, folder: FolderRow) -> bool:
        """True for Fascis's own folder in the library."""
        return folder.place == OWN or folder.place.startswith(OWN + b"/")

    def strands(self) -> list[StrandTotal]:
        """Totals by top folder and role, largest first. Regular files only, own files left out."""
        totals: dict[tuple[bytes, int], list[int]] = {}
        for folder in self.folders:
            if self.is_own(folder):
                continue
            top = strand_folder(folder.place)
            for row in range(folder.first, folder.end):
                if stat.S_ISREG(self.mode[row]):
                    t = totals.setdefault((top, self.role[row]), [0, 0, 0])
                    t[0] += 1
                    t[1] += self.size[row]
                    t[2] += self.allocated[row]
        found = [StrandTotal(folder, ROLES[role], *t) for (folder, role), t in totals.items()]
        return sorted(found, key=lambda s: (-s.bytes, s.folder, s.role))

    def totals(self) -> dict[Role, tuple[int, int, int]]:
        """``(files, bytes, allocated bytes)`` of each role."""
        out = dict.fromkeys(ROLES, (0, 0, 0))
        for s in self.strands():
            f, b, a = out[s.role]
            out[s.role] = (f + s.files, b + s.bytes, a + s.allocated)
        return out


def strand_folder(place: bytes) -> bytes:
    """The source folder that a strand is named for: the first two parts of a folder's place."""
    return b"/".join(place.split(b"/")[:2])


def survey(
    medium: Medium,
    rule: RoleRule | None = None,
    beat: Callable[[int], None] | None = None,
    control: Control = UNSTOPPED,
) -> Survey:
    """Surveys the folder a medium is opened on. Writes nothing.

    Args:
        medium: the library's folder.
        rule: how roles are decided.
        beat: told the count of entries so far, folder by folder.
        control: asked at every folder.

    Raises:
        Cancelled: when ``control`` was stopped.
        EnvironmentTrouble: the top folder cannot be listed.
    """
    rule = rule or RoleRule()
    root = medium.status(b"")
    found = Survey(time.time(), root.st_dev, root.st_ino)
    by_extension: dict[bytes, int] = {}
    for folder in walk(medium.handle, found.unlistable.append):
        if control.stopped:
            raise Cancelled(tr("The survey was stopped; nothing was changed."))
        own = folder.place == OWN or folder.place.startswith(OWN + b"/")
        _add(found, folder, Role.OTHER if own else rule.of_folder(folder.place), rule, by_extension)
        if beat:
            beat(len(found.ends))
    if found.unlistable and not found.folders:
        raise found.unlistable[0]
    return found


def survey_some(medium: Medium, places: Iterable[bytes], rule: RoleRule | None = None) -> Survey:
    """Surveys some files of the folder a medium is opened on, and nothing else of it.

    Args:
        places: of regular files; what is no longer there is left out.

    Raises:
        EnvironmentTrouble: one of them cannot be looked at.
    """
    rule = rule or RoleRule()
    root = medium.status(b"")
    found = Survey(time.time(), root.st_dev, root.st_ino)
    by_folder: dict[bytes, list[bytes]] = {b"": []}
    for place in places:
        above, _, name = place.rpartition(b"/")
        by_folder.setdefault(above, []).append(name)
        while above:
            above = parent(above)
            by_folder.setdefault(above, [])
    by_extension: dict[bytes, int] = {}
    for place in sorted(by_folder, key=lambda f: f.split(b"/") if f else []):
        names, stats = [], []
        try:
            status = medium.status(place)
            for name in sorted(by_folder[place]):
                with suppress(FileNotFoundError):
                    stats.append(medium.status(join(place, name)))
                    names.append(name)
        except OSError as error:
            raise told(error, tr("look at"), place) from error
        _add(
            found,
            Folder(place, status, names, stats, [], []),
            rule.of_folder(place),
            rule,
            by_extension,
        )
    return found


def _add(
    found: Survey,
    folder: Folder,
    fixed: Role | None,
    rule: RoleRule,
    by_extension: dict[bytes, int],
) -> None:
    """Adds the rows of one folder."""
    first, stats = len(found.ends), folder.stats
    found.ends.extend(accumulate(map(len, folder.names), initial=len(found.names)))
    # The start is the end of the row before.
    found.ends.pop(first)
    found.names += b"".join(folder.names)
    if stats:
        # A status is a tuple of its first ten fields too: all of them are turned round at once.
        modes, inodes, _, links, _, _, sizes, *_ = zip(*stats, strict=True)
        found.mode.extend(modes)
        found.inode.extend(inodes)
        found.link_count.extend(links)
        found.size.extend(sizes)
        found.allocated.extend([s.st_blocks * 512 for s in stats])
        found.mtime_ns.extend(all_kept([s.st_mtime_ns for s in stats]))
        found.ctime_ns.extend(all_kept([s.st_ctime_ns for s in stats]))
        found.role.extend(_roles(folder.names, modes, fixed or rule, by_extension))
    s = folder.status
    end = len(found.ends)
    found.folders.append(
        FolderRow(folder.place, s.st_mode, mtime_of(s), first, end, device=s.st_dev)
    )
    found.mounts += [join(folder.place, m) for m in folder.mounts]
    found.subvolumes += [join(folder.place, v) for v in folder.subvolumes]


def _roles(
    names: list[bytes], modes: Sequence[int], rule: Role | RoleRule, by_extension: dict[bytes, int]
) -> list[int]:
    """The role of each entry of one folder, as its index in ``ROLES``.

    Args:
        rule: the role of all that lies in this folder, or how one is decided by the name.
    """
    if isinstance(rule, Role):
        roles = [ROLES.index(rule)] * len(names)
    else:
        roles = _roles_by_name(names, rule, by_extension)
    if all(map(stat.S_ISREG, set(modes))):
        return roles
    other = ROLES.index(Role.OTHER)
    return [role if stat.S_ISREG(mode) else other for role, mode in zip(roles, modes, strict=True)]


def _roles_by_name(names: list[bytes], rule: RoleRule, by_extension: dict[bytes, int]) -> list[int]:
    # Of a name without a dot this is its last letter: no extension, and as good as any for a key.
    extensions = [name[name.rfind(b".") :] for name in names]
    for extension in set(extensions).difference(by_extension):
        example = names[extensions.index(extension)]
        by_extension[extension] = ROLES.index(rule.of_name(example))
    return [by_extension[extension] for extension in extensions]
