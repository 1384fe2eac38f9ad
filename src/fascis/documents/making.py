"""Making photo catalogs, and adding folders of photos to them."""

from __future__ import annotations

import sqlite3
import uuid
from contextlib import closing
from datetime import UTC, datetime
from pathlib import Path

from fascis.documents.catalog import APPLICATION_ID, TABLES, VERSION

_KEYS = {
    "meta": "key TEXT PRIMARY KEY, value TEXT",
    "photo_keyword": "photo_id INTEGER, keyword_id INTEGER, PRIMARY KEY(photo_id, keyword_id)",
    "album_photo": "album_id INTEGER, photo_id INTEGER, position INTEGER",
    "adjustment": "photo_id INTEGER PRIMARY KEY, xmp TEXT",
    "preview": "photo_id INTEGER PRIMARY KEY, jpeg BLOB",
}
_TYPES = {"path": "TEXT NOT NULL", "file_name": "TEXT NOT NULL", "name": "TEXT NOT NULL", "id": "INTEGER PRIMARY KEY"}
_NUMBERS = frozenset(("place_id", "folder_id", "size_bytes", "mtime_ns", "width", "height", "rating"))


def schema() -> str:
    """The statements that make an empty catalog."""
    parts = [f"PRAGMA application_id={APPLICATION_ID}", f"PRAGMA user_version={VERSION}"]
    for table, columns in TABLES.items():
        said = _KEYS.get(table) or ", ".join(
            f"{c} {_TYPES.get(c, 'INTEGER' if c in _NUMBERS else 'TEXT')}" for c in columns
        )
        parts.append(f"CREATE TABLE {table}({said})")
    return "; ".join([*parts, "CREATE INDEX photo_folder ON photo(folder_id)"])


def new_catalog(path: Path, name: str) -> None:
    """Makes an empty catalog where nothing is.

    Raises:
        FileExistsError: something is there; it is not touched.
    """
    with open(path, "xb"):
        pass
    with closing(sqlite3.connect(path)) as db:
        db.executescript(schema())
        values = {
            "catalog_id": str(uuid.uuid4()),
            "name": name,
            "created": datetime.now(UTC).isoformat(timespec="seconds"),
        }
        db.executemany("INSERT INTO meta VALUES(?,?)", values.items())
        db.commit()
