"""Opening a journal: known as one, brought up, and what its errors mean for a person's files."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from fascis.crossing.journal.schema import APPLICATION_ID, OLDER, VERSION
from fascis.files.disk.door import delete_state
from fascis.files.errors import Damaged, FascisError
from fascis.files.own import database
from fascis.files.own.database import NONSENSE, is_about_the_drive, trouble
from fascis.words.speech import tr

UNTOUCHED = tr(
    "The originals are untouched by this; what was copied stays where it is. Nothing was changed."
)


# What a foreign or damaged file causes.
UNREADABLE = (sqlite3.Error, *NONSENSE)


def connect(path: Path) -> sqlite3.Connection:
    """Opens or makes the file; every transaction is on the drive when it ends."""
    db = sqlite3.connect(path, timeout=30, isolation_level=None, check_same_thread=False)
    try:
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("PRAGMA synchronous=FULL")
        db.execute("PRAGMA cache_size=-8000")
        db.create_function("ending", 1, _ending, deterministic=True)
    except BaseException:
        db.close()
        raise
    return db


def _ending(name: bytes) -> bytes:
    """SQL's ``ending(name)``: what stands after the last dot in lower case, if there is a dot."""
    _, dot, last = name.rpartition(b".")
    return last.lower() if dot else b""


def bring_up(path: Path, db: sqlite3.Connection) -> None:
    """Looks whether it is a journal, and brings an older one up."""
    version = db.execute("PRAGMA user_version").fetchone()[0]
    if version > VERSION:
        raise Damaged(
            path,
            tr(
                "this journal was written by a newer version ({version}, this one knows "
                "{version_2})",
                version=version,
                version_2=VERSION,
            ),
            UNTOUCHED,
        )
    if version in OLDER:
        database.bring_up(db, OLDER)
        version = db.execute("PRAGMA user_version").fetchone()[0]
    if version != VERSION or db.execute("PRAGMA application_id").fetchone()[0] != APPLICATION_ID:
        raise Damaged(path, tr("this file is not a journal of a crossing"), UNTOUCHED)
    if (said := db.execute("PRAGMA quick_check(1)").fetchone()[0]) != "ok":
        raise Damaged(path, tr("the journal is damaged ({said})", said=said), UNTOUCHED)


@contextmanager
def making_sense(path: Path) -> Iterator[None]:
    """What is told of a journal is told whole, or as damaged.

    Its values may not be those that were written.

    Raises:
        Damaged: they make no sense.
    """
    try:
        yield
    except NONSENSE as error:
        raise Damaged(path, tr("the journal's content is not valid"), UNTOUCHED) from error


def connect_with_room(path: Path) -> sqlite3.Connection:
    """Opening a journal takes room too, for the file beside it.

    What was kept for that is given up where there is none.
    """
    try:
        return connect(path)
    except sqlite3.OperationalError as error:
        room = path.with_suffix(".room")
        if not is_about_the_drive(error) or not room.exists():
            raise
        delete_state(room)
        return connect(path)


def meaning_of(path: Path, error: BaseException) -> FascisError:
    """What an error of the database is.

    The journal's, or that of its drive, its room, another program.
    """
    if is_about_the_drive(error):
        return trouble(
            path,
            tr("The journal"),
            error,
            tr("What is verified is kept; then resume. The originals are untouched by this."),
        )
    return Damaged(path, tr("the journal is damaged ({error})", error=error), UNTOUCHED)
