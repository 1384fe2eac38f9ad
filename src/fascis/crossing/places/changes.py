"""Changes at the old place.

Surveys the originals again and compares them with the records.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator, Sequence

from msgspec import Struct, field

from fascis.crossing.journal.copies import Copies, Item, Original
from fascis.crossing.journal.which import Which
from fascis.crossing.model.seen import inode_key
from fascis.crossing.model.states import Origin
from fascis.documents.registry import database_of
from fascis.files.disk.medium import Medium
from fascis.files.disk.walk import Folder
from fascis.files.names import join, parent
from fascis.files.times import ctime_of, mtime_of
from fascis.library.roles import is_worked_in
from fascis.library.survey import kind_of

Place = bytes


class Differences(Struct):
    """All differences from the records: decisions are based on them.

    Also counts all files there.
    """

    changed: list[Place] = field(default_factory=list)
    appeared: list[Place] = field(default_factory=list)
    gone: list[Place] = field(default_factory=list)
    files: int = 0
    bytes: int = 0

    @property
    def none(self) -> bool:
        """True if nothing changed."""
        return not (self.changed or self.appeared or self.gone)

    @property
    def newer(self) -> list[Place]:
        """Files that changed or appeared at the old place."""
        return self.changed + self.appeared


def worked_in(found: Differences) -> list[Place]:
    """Documents and databases that changed at the old place, and journals beside them."""
    return [p for p in found.newer if is_worked_in(p)]


def compare(
    medium: Medium, destinations: Sequence[Copies], heartbeat: Callable[[], None] = lambda: None
) -> Differences:
    """Surveys the folder of the originals again, folder by folder. Writes nothing.

    An original is compared with the records of every destination; if two destinations read
    different content, it has changed.
    """
    copies, journal = destinations[0], destinations[0].journal
    found, stable = Differences(), bool(journal.header.stable_inodes)
    folders = {f for f, _ in journal.folders()}
    single = bool(journal.header.document)
    visited: set[Place] = set()
    journals: list[Place] = []
    for folder in _some_folders(medium, copies, folders) if single else medium.walk():
        heartbeat()
        visited.add(folder.place)
        recorded = copies.originals_in(folder.place) if folder.place in folders else {}
        others = [c.originals_in(folder.place) for c in destinations[1:]] if recorded else []
        for name, status in zip(folder.names, folder.stats, strict=True):
            if stat.S_ISREG(status.st_mode):
                found.files += 1
                found.bytes += status.st_size
            original = recorded.pop(name, None)
            if original is None or original.origin == Origin.GONE:
                place = join(folder.place, name)
                found.appeared.append(place)
                journals.append(place)
            elif _differs(original, status, stable) or any(
                _differs(o[name], status, stable) or not _alike(original, o[name]) for o in others
            ):
                found.changed.append(join(folder.place, name))
        for name, original in recorded.items():
            if original.origin != Origin.GONE:
                found.gone.append(join(folder.place, name))
    _changed_by_their_journals(found, journals, copies)
    _compare_loose(found, copies, heartbeat)
    for missing in folders - visited:
        for item in copies.in_folder(missing):
            if item.origin is not Origin.GONE:
                found.gone.append(item.place)
    found.gone = _without(found.gone, list(journal.aside()))
    return found


def _without(places: list[Place], aside: list[Place]) -> list[Place]:
    """Places without those that this crossing set aside itself, as files or with their folder."""
    if not aside:
        return places
    moved, folders = set(aside), tuple(place + b"/" for place in aside)
    return [p for p in places if p not in moved and not p.startswith(folders)]


def _some_folders(medium: Medium, copies: Copies, folders: set[Place]) -> Iterator[Folder]:
    """The folders of a library that is a single document.

    Other files in them do not belong to it, except journals of databases.
    """
    for place in sorted(folders):
        items = {i.place.rpartition(b"/")[2] for i in copies.in_folder(place)}
        try:
            there = medium.names(place)
            names = [n for n in there if n in items or database_of(n) in items]
            stats = [medium.status(join(place, n)) for n in names]
            yield Folder(place, medium.status(place), names, stats, [], [])
        except FileNotFoundError:
            continue


def _compare_loose(found: Differences, copies: Copies, heartbeat: Callable[[], None]) -> None:
    """Compares gathered files at their loose paths; reported by place in the library."""
    for item in copies.items(Which.LOOSE_THERE):
        heartbeat()
        assert item.outside
        try:
            status = os.lstat(item.outside)
        except OSError:
            # Missing, or on a drive that is away by now: there is a verified copy.
            continue
        if differs(item, status, stable=False):
            found.changed.append(item.place)


def _changed_by_their_journals(found: Differences, appeared: list[Place], copies: Copies) -> None:
    """A new journal beside a database counts as a change of that database."""
    changed = set(found.changed)
    for place in appeared:
        database = database_of(place)
        if database is None or database in changed:
            continue
        folder = parent(database)
        if any(
            i.place == database and i.origin is not Origin.GONE for i in copies.in_folder(folder)
        ):
            found.changed.append(database)
            changed.add(database)


def _alike(one: Original, other: Original) -> bool:
    """False if two destinations got different content."""
    return one.digest is None or other.digest is None or one.digest == other.digest


def differs(item: Item, status: os.stat_result, stable: bool = True) -> bool:
    """True if an original is not as recorded.

    Type, size, mtime, inode, and ctime unless it has several names.

    Args:
        stable: inode numbers of its drive identify a file. Otherwise (on a user-space exFAT all
            change under memory pressure) size and time are used, and a release reads the content.
    """
    return _differs(Original.of(item), status, stable)


def _differs(original: Original, status: os.stat_result, stable: bool) -> bool:
    if kind_of(status.st_mode) != original.kind:
        return True
    if status.st_size != original.size or mtime_of(status) != original.mtime_ns:
        return True
    if not stable:
        return False
    if inode_key(status.st_ino) != original.inode:
        return True
    return original.links == 1 and ctime_of(status) != original.ctime_ns
