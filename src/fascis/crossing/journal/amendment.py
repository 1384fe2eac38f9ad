"""The statements of an amendment: changed entries are forgotten, new ones are added.

All of them run within one transaction of :meth:`~fascis.crossing.journal.journal.Journal.amend`.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import inode_key
from fascis.files.names import join, parent
from fascis.files.times import ctime_of, mtime_of
from fascis.library.roles import ROLES, Role
from fascis.library.survey import Kind, strand_folder


class Found(Struct, frozen=True):
    """Files that appeared at the old place after the plan was made."""

    place: bytes
    status: os.stat_result
    kind: Kind = Kind.FILE
    role: Role = Role.OTHER
    fate: Fate = Fate.COPY
    # Its name in the copy, if another.
    there: bytes | None = None


_SEEN = (
    "SELECT size, mtime_ns, inode, ctime_ns, hex(digest) FROM {table} "
    "WHERE destination=? AND entry=?"
)


def copies_superseded(
    db: sqlite3.Connection, changed: Sequence[int], destination: int
) -> dict[int, list[Any] | None]:
    """How the copies of changed entries looked; None for those not made yet.

    For a rewritten document, the rewritten one follows in the same list.
    """
    superseded: dict[int, list[Any] | None] = {}
    for entry in changed:
        copy = db.execute(_SEEN.format(table="copy"), (destination, entry)).fetchone()
        if copy is None or copy[0] is None:
            superseded[entry] = None
            continue
        written = db.execute(_SEEN.format(table="derived"), (destination, entry)).fetchone()
        superseded[entry] = [*copy, *(written or ())]
    return superseded


def forget_copies(db: sqlite3.Connection, changed: Sequence[int]) -> None:
    """Changed entries have no copy from now on; where a changed link led is unknown again."""
    entries = [(entry,) for entry in changed]
    for table in ("copy", "derived"):
        db.executemany(f"DELETE FROM {table} WHERE entry=?", entries)
    links = "DELETE FROM lead WHERE entry IN (SELECT id FROM entry WHERE id=? AND kind=1)"
    db.executemany(links, entries)


def add_folders(db: sqlite3.Connection, folders: Sequence[Found]) -> dict[bytes, int]:
    """Adds new folders; returns the number of every folder, by its place."""
    number = db.execute("SELECT coalesce(max(id), -1) FROM folder").fetchone()[0]
    ids: dict[bytes, int] = dict(db.execute("SELECT place, id FROM folder"))
    renamed = _renamed(db)
    for folder in folders:
        if folder.place in ids:
            continue
        number += 1
        ids[folder.place] = number
        # A folder in a renamed folder has another place in the copy too.
        above = renamed.get(parent(folder.place), parent(folder.place))
        there = join(above, folder.there or folder.place.rpartition(b"/")[2])
        if there != folder.place:
            renamed[folder.place] = there
        db.execute(
            "INSERT INTO folder VALUES(?,?,?,?,?)",
            (number, folder.place, folder.status.st_mode, mtime_of(folder.status), there),
        )
    return ids


def add_entries(
    db: sqlite3.Connection, entries: Sequence[Found], folders: Mapping[bytes, int]
) -> Iterator[int]:
    """Adds new entries; returns the numbers of those that must be copied."""
    last = db.execute("SELECT coalesce(max(id), -1) FROM entry").fetchone()[0]
    renamed = _renamed(db)
    strands = {(bytes(f), r): i for i, f, r in db.execute("SELECT id, folder, role FROM strand")}
    for entry in entries:
        last += 1
        role = ROLES.index(entry.role)
        folder = parent(entry.place)
        strand = (strand_folder(folder), role)
        if strand not in strands:
            strands[strand] = max(strands.values(), default=-1) + 1
            db.execute("INSERT INTO strand VALUES(?,?,?)", (strands[strand], *strand))
        status = entry.status
        db.execute(
            "INSERT INTO entry(id, folder, name, kind, size, allocated, inode, mtime_ns, "
            "ctime_ns, mode, links, role, fate, strand, there, before) "
            "VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
            (
                last,
                folders[folder],
                entry.place.rpartition(b"/")[2],
                int(entry.kind),
                status.st_size,
                status.st_blocks * 512,
                inode_key(status.st_ino),
                mtime_of(status),
                ctime_of(status),
                status.st_mode,
                1,
                role,
                int(entry.fate),
                strands[strand],
                entry.there,
                entry.place if entry.there or folder in renamed else None,
            ),
        )
        if entry.fate is Fate.COPY:
            yield last


def _renamed(db: sqlite3.Connection) -> dict[bytes, bytes]:
    """Folders that have another place in the copy."""
    return dict(db.execute("SELECT place, there FROM folder WHERE there<>place"))
