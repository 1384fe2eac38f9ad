"""Opening a journal: recognising and upgrading it, and the meaning of its errors."""

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


# Errors caused by a foreign or damaged file.
UNREADABLE = (sqlite3.Error, *NONSENSE)


def connect(path: Path) -> sqlite3.Connection:
    """Opens or creates the file; every transaction is on the drive when it ends."""
    db = sqlite3.connect(path, timeout=30, isolation_level=None, check_same_thread=False)
    try:
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("PRAGMA synchronous=FULL")
        db.execute("PRAGMA cache_size=-8000")
        # Counting never needs room on a drive.
        db.execute("PRAGMA temp_store=MEMORY")
        db.create_function("ending", 1, _ending, deterministic=True)
    except BaseException:
        db.close()
        raise
    return db


def _ending(name: bytes) -> bytes:
    """SQL's ``ending(name)``: the text after the last dot in lower case, if there is a dot."""
    _, dot, last = name.rpartition(b".")
    return last.lower() if dot else b""


def bring_up(path: Path, db: sqlite3.Connection) -> None:
    """Checks that it is a journal, and upgrades an older one."""
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
    """Turns errors from nonsensical values into *damaged*.

    The values may not be those that were written.

    Raises:
        Damaged: they make no sense.
    """
    try:
        yield
    except NONSENSE as error:
        raise Damaged(path, tr("the journal's content is not valid"), UNTOUCHED) from error


def connect_with_room(path: Path) -> sqlite3.Connection:
    """Opens a journal, which needs some room for the file beside it.

    If there is none, the reserved room is released.
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
    """What an error of the database means.

    The journal is damaged, its drive or room fails, or another program holds it.
    """
    if is_about_the_drive(error):
        return trouble(
            path,
            tr("The journal"),
            error,
            tr("What is verified is kept; then resume. The originals are untouched by this."),
        )
    return Damaged(path, tr("the journal is damaged ({error})", error=error), UNTOUCHED)
