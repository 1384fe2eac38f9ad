"""Making photo catalogs, and adding folders of photos to them. Photos are only read."""

from __future__ import annotations

import os
import sqlite3
import stat
import uuid
from collections.abc import Iterator
from contextlib import ExitStack, closing
from datetime import UTC, datetime
from pathlib import Path

from msgspec import Struct

from fascis.documents.catalog import APPLICATION_ID, TABLES, VERSION, Catalog
from fascis.documents.photo_facts import Facts, facts_of
from fascis.documents.sidecars import owners
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import PosixMedium
from fascis.files.disk.walk import Folder
from fascis.files.errors import Cancelled, told
from fascis.files.names import join
from fascis.words.speech import tr

PICTURES = frozenset(
    e.encode()
    for e in [
        "jpg",
        "jpeg",
        "tif",
        "tiff",
        "png",
        "heic",
        "heif",
        "avif",
        "webp",
        "dng",
        "cr2",
        "cr3",
        "nef",
        "arw",
        "raf",
        "orf",
        "rw2",
        "pef",
        "srw",
        "jxl",
        "exr",
        "psd",
        "bmp",
        "gif",
    ]
)
_KEYS = {
    "meta": "key TEXT PRIMARY KEY, value TEXT",
    "photo_keyword": "photo_id INTEGER, keyword_id INTEGER, PRIMARY KEY(photo_id, keyword_id)",
    "album_photo": "album_id INTEGER, photo_id INTEGER, position INTEGER",
    "adjustment": "photo_id INTEGER PRIMARY KEY, xmp TEXT",
    "preview": "photo_id INTEGER PRIMARY KEY, jpeg BLOB",
}
_TYPES = {
    "path": "TEXT NOT NULL",
    "file_name": "TEXT NOT NULL",
    "name": "TEXT NOT NULL",
    "id": "INTEGER PRIMARY KEY",
}
_NUMBERS = frozenset(
    ("place_id", "folder_id", "size_bytes", "mtime_ns", "width", "height", "rating")
)


class Added(Struct):
    """The result of adding a folder.

    Photos added, those already in the catalog, and names that cannot be stored there.
    """

    photos: int = 0
    known: int = 0
    unwritable: int = 0


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
    """Creates an empty catalog at a free path.

    Raises:
        EnvironmentTrouble: something is there already, which is not touched, or the folder may not
            be written.
    """
    try:
        os.close(os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o644))
    except OSError as error:
        raise told(error, tr("make the catalog"), os.fsencode(path)) from error
    with closing(sqlite3.connect(path)) as db:
        db.executescript(schema())
        values = {
            "catalog_id": str(uuid.uuid4()),
            "name": name,
            "created": datetime.now(UTC).isoformat(timespec="seconds"),
        }
        db.executemany("INSERT INTO meta VALUES(?,?)", values.items())
        db.commit()


def add_folder(
    catalog: Path, folder: Path, drive_uuid: str | None, mount: Path, control: Control = UNSTOPPED
) -> Added:
    """Adds the photos of a folder to a catalog that nobody else has open.

    Includes folders below, in one transaction.

    Args:
        catalog: a new one, or a private copy; never one that a program may have open.
        drive_uuid: of the folder's drive, mounted at ``mount``; None for a drive without one.

    Raises:
        NotUnderstood: it is no catalog.
        EnvironmentTrouble: the folder cannot be listed.
        Cancelled: when ``control`` was stopped; the catalog is as it was.
    """
    Catalog(catalog).close()
    real = Path(os.path.realpath(folder))
    if drive_uuid is not None and real.is_relative_to(mount):
        place = str(real.relative_to(mount))
    else:
        place = str(real)
    key = (drive_uuid if not place.startswith("/") else None, "" if place == "." else place)
    found = Added()
    with (
        closing(PosixMedium.at(real)) as medium,
        closing(sqlite3.connect(catalog, isolation_level=None)) as db,
    ):
        db.execute("PRAGMA trusted_schema=OFF")
        db.execute("BEGIN IMMEDIATE")
        place_id = _row(db, "place", ("drive_uuid", "path"), key)
        for inner in medium.walk():
            if control.stopped:
                raise Cancelled(tr("Stopped; the catalog is as it was."))
            if inner.place.split(b"/")[0] == b".fascis":
                continue
            names = [
                n
                for n, s in zip(inner.names, inner.stats, strict=True)
                if stat.S_ISREG(s.st_mode) and _is_picture(n)
            ]
            writable = [n for n in names if _is_text(n) and _is_text(inner.place)]
            found.unwritable += len(names) - len(writable)
            if writable:
                folder_id = _row(
                    db, "folder", ("place_id", "path"), (place_id, inner.place.decode())
                )
                _add_photos(db, medium, folder_id, inner, writable, found)
        db.execute("COMMIT")
    return found


def _add_photos(
    db: sqlite3.Connection,
    medium: PosixMedium,
    folder_id: int,
    folder: Folder,
    names: list[bytes],
    found: Added,
) -> None:
    """Adds files of a folder that are photos and can be stored in a catalog."""
    known = {
        n for (n,) in db.execute("SELECT file_name FROM photo WHERE folder_id=?", (folder_id,))
    }
    new = [n for n in names if n.decode() not in known]
    found.known += len(names) - len(new)
    stats = dict(zip(folder.names, folder.stats, strict=True))
    sidecar_of = {
        photo: sidecar for sidecar, photos in owners(folder.names).items() for photo in photos
    }
    with ExitStack() as held:
        facts_of_new = facts_of(_opened(medium, folder.place, new, sidecar_of, held))
        for name, facts in zip(new, facts_of_new, strict=True):
            _add_photo(db, folder_id, name.decode(), stats[name], facts)
            found.photos += 1


def _opened(
    medium: PosixMedium,
    place: bytes,
    names: list[bytes],
    sidecar_of: dict[bytes, bytes],
    held: ExitStack,
) -> Iterator[tuple[int, int | None]]:
    """Each photo and its sidecar, open until the next is requested."""
    for name in names:
        held.close()
        try:
            photo = held.enter_context(closing(medium.open(join(place, name)))).handle
            sidecar = sidecar_of.get(name)
            if sidecar:
                beside = held.enter_context(closing(medium.open(join(place, sidecar)))).handle
            else:
                beside = None
        except OSError as error:
            raise told(error, tr("read the photo"), join(place, name)) from error
        yield photo, beside


def _add_photo(
    db: sqlite3.Connection, folder_id: int, name: str, status: os.stat_result, facts: Facts
) -> None:
    row = db.execute(
        "INSERT INTO photo(folder_id, file_name, size_bytes, mtime_ns, captured_at, width, "
        "height, rating) VALUES(?,?,?,?,?,?,?,?)",
        (
            folder_id,
            name,
            status.st_size,
            status.st_mtime_ns,
            facts.captured_at,
            facts.width,
            facts.height,
            facts.rating,
        ),
    )
    for keyword in facts.keywords:
        id = _row(db, "keyword", ("name",), (keyword,))
        db.execute("INSERT OR IGNORE INTO photo_keyword VALUES(?,?)", (row.lastrowid, id))


def _row(
    db: sqlite3.Connection, table: str, columns: tuple[str, ...], values: tuple[object, ...]
) -> int:
    """The id of the row with these values, created if needed."""
    same = " AND ".join(f"{c} IS ?" for c in columns)
    known = db.execute(f"SELECT id FROM {table} WHERE {same}", values).fetchone()
    if known:
        return int(known[0])
    marks = ",".join("?" * len(columns))
    made = db.execute(f"INSERT INTO {table}({', '.join(columns)}) VALUES({marks})", values)
    return int(made.lastrowid or 0)


def _is_picture(name: bytes) -> bool:
    return name.rpartition(b".")[2].lower() in PICTURES and b"." in name


def _is_text(name: bytes) -> bool:
    """False for a name that a catalog, which is text, cannot store."""
    try:
        return bool(name.decode()) or name == b""
    except UnicodeDecodeError:
        return False
