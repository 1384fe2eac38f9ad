"""The meaning of an SQLite error.

The database is damaged, or its drive, its room or another program is the cause.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Mapping
from pathlib import Path

from fascis.files.errors import DriveFull, EnvironmentTrouble
from fascis.words.speech import tr

_HELD = (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED)
_DRIVE = (
    *_HELD,
    sqlite3.SQLITE_FULL,
    sqlite3.SQLITE_IOERR,
    sqlite3.SQLITE_CANTOPEN,
    sqlite3.SQLITE_READONLY,
    sqlite3.SQLITE_NOMEM,
)
_LITTLE = 256 << 10  # Bytes free; with fewer there is no room.
NONSENSE = (
    ValueError,
    KeyError,
    TypeError,
    AttributeError,
    IndexError,
    RecursionError,
    OverflowError,
    sqlite3.ProgrammingError,
)
"""What reading a database raises when somebody, or damage, put other values into it."""


def bring_up(db: sqlite3.Connection, steps: Mapping[int, str]) -> None:
    """Upgrades a database from its version to the latest, all or nothing.

    Another thread or program may do the same: the version is read when nobody else can write.

    Args:
        steps: by version, the statements that upgrade it to the next.
    """
    db.execute("BEGIN IMMEDIATE")
    try:
        version = db.execute("PRAGMA user_version").fetchone()[0]
        while version in steps:
            for statement in steps[version].split(";"):
                db.execute(statement)
            version += 1
        db.execute(f"PRAGMA user_version={version}")
        db.execute("COMMIT")
    except BaseException:
        if db.in_transaction:
            db.execute("ROLLBACK")
        raise


def is_about_the_drive(error: BaseException) -> bool:
    """True for an error that does not concern the database itself.

    No room, a failing drive, another program.
    """
    return getattr(error, "sqlite_errorcode", 0) & 0xFF in _DRIVE


def trouble(path: Path, what: str, error: BaseException, rest: str = "") -> EnvironmentTrouble:
    """The error as a sentence.

    Args:
        what: the database, as in "The journal".
        rest: what it means for the person's files.
    """
    code = getattr(error, "sqlite_errorcode", 0) & 0xFF
    if code in _HELD:
        said = tr(
            "{what} {path} is held by another program ({error}). Close that program, "
            "then try again.",
            what=what,
            path=path,
            error=error,
        )
        return EnvironmentTrouble(f"{said} {rest}".strip())
    try:
        space = os.statvfs(path.parent)
        full = code == sqlite3.SQLITE_FULL or space.f_bavail * space.f_frsize < _LITTLE
    except OSError:
        full = False
    kind = DriveFull if full else EnvironmentTrouble
    sentences = [tr("{what} cannot be used ({error}).", what=what, error=error)]
    if full:
        sentences.append(
            tr("{parent} needs room; make some there, then try again.", parent=path.parent)
        )
    return kind(" ".join(filter(None, (*sentences, rest))))
