"""A survey: the contents of a library's folder at one time, in columns."""

from __future__ import annotations

import stat
import time
from array import array
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from enum import IntEnum
from itertools import accumulate, pairwise

import numpy as np
from msgspec import Struct, field

from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import Medium
from fascis.files.disk.walk import Folder
from fascis.files.errors import Cancelled, EnvironmentTrouble, told
from fascis.files.names import join, parent
from fascis.library.listing import COLUMNS, Listed, folders_below, in_columns
from fascis.library.own import OWN
from fascis.library.roles import ROLES, Role, RoleRule
from fascis.words.speech import tr


class Kind(IntEnum):
    """The kind of an entry. Special: devices, pipes, sockets, which are never copied."""

    FILE = 0
    LINK = 1
    SPECIAL = 2


_TYPE_BITS = 12
_LENGTH_BYTES = array("I").itemsize
_OTHER = ROLES.index(Role.OTHER)
_KINDS = {stat.S_IFREG >> _TYPE_BITS: Kind.FILE, stat.S_IFLNK >> _TYPE_BITS: Kind.LINK}
_NO_TYPE = 16
_KIND_OF_TYPE = np.array([_KINDS.get(t, Kind.SPECIAL) for t in range(_NO_TYPE + 1)], np.uint8)
# As many rows at once as make no difference to the memory.
_AT_ONCE = 4096


def kind_of(mode: int) -> Kind:
    """The kind of an entry that is not a folder, by its mode."""
    return _KINDS.get(mode >> _TYPE_BITS, Kind.SPECIAL)


class FolderRow(Struct):
    """One folder.

    Its place, the properties kept in a copy, its rows in the columns, and the device number of its
    inodes: a subvolume has its own.
    """

    place: bytes
    mode: int
    mtime_ns: int
    first: int
    end: int
    strand: int = -1
    device: int = 0


class StrandTotal(Struct, frozen=True):
    """Files that share a source folder and a role: the unit that a person sees."""

    folder: bytes
    role: Role
    files: int
    bytes: int
    allocated: int


class Survey(Struct):
    """A library's folder in columns: row ``i`` is the same entry in each.

    Sizes in bytes, times in ns. ``names`` holds all names end to end, row ``i`` from ``ends[i-1]``
    to ``ends[i]``. Totals leave out Fascis's own folder. ``unlistable`` are folders that could not
    be opened, ``mounts`` those that were not entered; ``subvolumes`` have their own inodes.
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
            types = np.frombuffer(self.mode, self.mode.typecode) >> _TYPE_BITS
            self._kinds = _KIND_OF_TYPE[np.minimum(types, _NO_TYPE)].tobytes()
        return self._kinds

    def names_below(self) -> Iterator[tuple[FolderRow, range, list[bytes]]]:
        """Folder by folder, some rows at a time: ``(folder, its rows, their names)``."""
        for folder in self.folders:
            for first in range(folder.first, folder.end, _AT_ONCE):
                rows = range(first, min(first + _AT_ONCE, folder.end))
                yield folder, rows, self._names_of(rows)

    def names_in(self, folder: FolderRow) -> list[bytes]:
        """The names in one folder, in the order of its rows."""
        return self._names_of(range(folder.first, folder.end))

    def _names_of(self, rows: range) -> list[bytes]:
        """The names of some rows, cut from one piece."""
        begin = self.ends[rows.start - 1] if rows.start else 0
        ends = [end - begin for end in self.ends[rows.start : rows.stop]]
        names = bytes(self.names[begin : begin + ends[-1]]) if ends else b""
        return [names[a:b] for a, b in pairwise((0, *ends))]

    def rows(self) -> Iterator[tuple[int, FolderRow, bytes]]:
        """``(row, its folder, place)`` of every entry, folder by folder."""
        for folder, rows, names in self.names_below():
            above = folder.place + b"/" if folder.place else b""
            for row, name in zip(rows, names, strict=True):
                yield row, folder, above + name

    def files(self) -> Iterator[tuple[int, bytes]]:
        """``(row, place)`` of every regular file, without Fascis's own."""
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
        """True for Fascis's own folder."""
        return folder.place == OWN or folder.place.startswith(OWN + b"/")

    def strands(self) -> list[StrandTotal]:
        """Totals by top folder and role, largest first; without Fascis's own files."""
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
    """The source folder after which a strand is named: the first two parts of a folder's place."""
    return b"/".join(place.split(b"/")[:2])


def survey(
    medium: Medium,
    rule: RoleRule | None = None,
    beat: Callable[[int], None] | None = None,
    control: Control = UNSTOPPED,
) -> Survey:
    """Surveys the folder of a medium. Writes nothing.

    Args:
        medium: the library's folder.
        rule: how roles are decided.
        beat: called with the number of entries so far, folder by folder.
        control: checked at every folder.

    Raises:
        Cancelled: when ``control`` was stopped.
        EnvironmentTrouble: the top folder cannot be listed.
    """
    rule = rule or RoleRule()
    root = medium.status(b"")
    found = Survey(time.time(), root.st_dev, root.st_ino)
    by_extension: dict[bytes, int] = {}
    files = 0
    every: list[Listed] = []
    try:
        for listed in folders_below(medium, control):
            if isinstance(listed, EnvironmentTrouble):
                found.unlistable.append(listed)
                continue
            every.append(listed)
            files += len(listed.lengths) // _LENGTH_BYTES
            if beat:
                beat(files)
    except Cancelled as error:
        raise Cancelled(tr("The survey was stopped; nothing was changed.")) from error
    if found.unlistable and not every:
        raise found.unlistable[0]
    found.unlistable.sort(key=lambda trouble: trouble.place.split(b"/"))
    # Taken from the end, in the order of their places, to free memory early.
    every.sort(key=_in_order, reverse=True)
    while every:
        _add(found, every.pop(), rule, by_extension)
    return found


def _in_order(listed: Listed) -> list[bytes]:
    return listed.place.split(b"/") if listed.place else []


def survey_some(medium: Medium, places: Iterable[bytes], rule: RoleRule | None = None) -> Survey:
    """Surveys some files in the folder of a medium, and nothing else of it.

    Args:
        places: of regular files; missing ones are left out.

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
        listed = in_columns(Folder(place, status, names, stats, [], []))
        _add(found, listed, rule, by_extension)
    return found


def _add(found: Survey, listed: Listed, rule: RoleRule, by_extension: dict[bytes, int]) -> None:
    """Adds the rows of one folder.

    Args:
        by_extension: known roles, by ending.
    """
    first = len(found.ends)
    lengths = array("I")
    lengths.frombytes(listed.lengths)
    ends = accumulate(lengths, initial=len(found.names))
    # The start is the end of the row before.
    next(ends)
    found.ends.extend(ends)
    found.names += listed.names
    for name, column in zip(COLUMNS, listed.columns, strict=True):
        getattr(found, name).frombytes(column)
    roles = _roles(listed, rule, by_extension)
    types = array("I")
    types.frombytes(listed.types)
    found.role.extend(map(roles.__getitem__, types))
    end = len(found.ends)
    place = listed.place
    found.folders.append(
        FolderRow(
            place, listed.folder_mode, listed.folder_mtime_ns, first, end, device=listed.device
        )
    )
    found.mounts += [join(place, m) for m in listed.mounts]
    found.subvolumes += [join(place, v) for v in listed.subvolumes]


def _roles(listed: Listed, rule: RoleRule, by_extension: dict[bytes, int]) -> list[int]:
    """The role for each type of name in a folder, as its index in ``ROLES``."""
    place = listed.place
    own = place == OWN or place.startswith(OWN + b"/")
    fixed = Role.OTHER if own else rule.of_folder(place)
    roles = []
    for example in listed.examples:
        if not example:
            role = _OTHER
        elif fixed:
            role = ROLES.index(fixed)
        else:
            extension = example[example.rfind(b".") :]
            if extension not in by_extension:
                by_extension[extension] = ROLES.index(rule.of_name(example))
            role = by_extension[extension]
        roles.append(role)
    return roles
