"""Reading journals of other crossings, which may be running; nothing is locked or changed."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

from fascis.crossing.journal.header import Header, parse_header
from fascis.crossing.journal.opening import UNREADABLE
from fascis.crossing.journal.schema import joined, large_sum
from fascis.crossing.model.states import UNFINISHED, State
from fascis.files.names import join
from fascis.files.own.database import is_about_the_drive, trouble
from fascis.words.speech import tr


def promised(folder: Path) -> dict[str, int]:
    """Bytes that running and queued crossings will still write, by the drive's UUID.

    From their journals.
    """
    found: dict[str, int] = {}
    for path in sorted(folder.glob("*.sqlite")) if folder.is_dir() else ():
        try:
            with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)) as db:
                for uuid, size in _promised(db):
                    found[uuid] = found.get(uuid, 0) + size
        except UNREADABLE:
            # Damaged, or of another version: reported where it is listed.
            continue
    return found


def _promised(db: sqlite3.Connection) -> Iterator[tuple[str, int]]:
    meta = dict(
        db.execute(
            "SELECT key, value FROM meta WHERE key IN ('plan', 'state', 'turn') OR key LIKE "
            "'session.%'"
        )
    )
    if State(meta.get("state", "refused")) not in UNFINISHED:
        return
    waits = json.loads(meta.get("turn", "null")) is not None
    header = parse_header(meta["plan"])
    for number, destination in enumerate(header.destinations if header else ()):
        if waits or not json.loads(meta.get(f"session.{number}", '{"clean": true}'))["clean"]:
            row = db.execute(
                f"SELECT {large_sum('e.size')} FROM entry e WHERE e.kind=0 AND e.fate=0 AND NOT "
                "EXISTS (SELECT 1 FROM copy c WHERE c.destination=? AND c.entry=e.id)",
                (number,),
            ).fetchone()
            yield destination.drive.uuid, joined(*row)


def spoken_for(folder: Path, place: Path) -> str | None:
    """The id of an unfinished crossing that will put a library at a path; or None."""
    for path in sorted(folder.glob("*.sqlite")) if folder.is_dir() else ():
        try:
            with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)) as db:
                meta = dict(
                    db.execute(
                        "SELECT key, value FROM meta WHERE key IN ('plan', 'state') "
                        "OR key LIKE 'state.%'"
                    )
                )
        except UNREADABLE:
            # Damaged, or of another version: it cannot continue.
            continue
        header = parse_header(meta.get("plan"))
        if header is None or State(meta.get("state", "refused")) not in UNFINISHED:
            continue
        for number, goal in enumerate(header.destinations):
            given_up = meta.get(f"state.{number}") == State.UNDONE
            if not given_up and not goal.stands and Path(goal.path) / goal.name == place:
                return path.stem
    return None


def yet_to_copy(path: Path) -> Iterator[tuple[str, bytes]]:
    """``(library's name, path)`` of files that an unfinished crossing has not verified yet.

    The path is absolute, by the crossing's journal. A crossing whose journal is damaged cannot
    continue, and needs nothing.

    Raises:
        EnvironmentTrouble: the journal cannot be read now.
    """
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)) as db:
            meta = dict(db.execute("SELECT key, value FROM meta WHERE key IN ('plan', 'state')"))
            if State(meta.get("state", "refused")) not in UNFINISHED:
                return
            header = parse_header(meta.get("plan"))
            if header is None:
                return
            root = bytes(header.real_root).rstrip(b"/")
            rows = db.execute(
                "SELECT f.place, e.name, e.outside FROM entry e JOIN folder f ON f.id=e.folder "
                "WHERE e.fate IN (0,4) AND NOT EXISTS (SELECT 1 FROM copy c WHERE c.entry=e.id AND "
                "c.state=2)"
            )
            for folder, name, outside in rows:
                yield header.name, outside or root + b"/" + join(folder, name)
    except UNREADABLE as error:
        if is_about_the_drive(error):
            raise trouble(path, tr("The journal"), error, tr("Nothing was deleted.")) from error


def read_header(path: Path) -> Header | None:
    """The plan's header of a journal, without opening it for writing.

    None if it cannot be read as one.
    """
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=5)) as db:
            row = db.execute("SELECT value FROM meta WHERE key='plan'").fetchone()
            return parse_header(row[0]) if row else None
    except UNREADABLE:
        return None
