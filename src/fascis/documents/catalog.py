"""Photo catalogs, ``.fascat``: SQLite by the schema of docs/formats.md.

Treated as untrusted, and read only from a private copy: opening a database where it lies, even for
reading, leaves files beside it or misses its journal.
"""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
import stat
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

from msgspec import Struct

from fascis.documents.model import (
    ByLocator,
    Change,
    KnownBy,
    Length,
    Locator,
    Means,
    Members,
    NotUnderstood,
    OpenDocument,
    Place,
    Reference,
    Remembered,
    Source,
    Wanted,
    Works,
)
from fascis.documents.targets import Syntax, Target, readings
from fascis.files.disk.door import delete_state
from fascis.files.errors import EnvironmentTrouble, told
from fascis.files.own.private import make_private
from fascis.words.speech import tr

ENDING = "fascat"
APPLICATION_ID = 0x46415343  # "FASC"
VERSION = 1
JOURNALS = ("", "-wal", "-journal")
_HEADER = b"SQLite format 3\0"
# The offset of the application's id in the header (SQLite's file format, 1.3).
_AT = 68
TABLES = {
    "meta": ("key", "value"),
    "place": ("id", "drive_uuid", "path"),
    "folder": ("id", "place_id", "path"),
    "photo": (
        "id",
        "folder_id",
        "file_name",
        "size_bytes",
        "mtime_ns",
        "blake3",
        "captured_at",
        "width",
        "height",
        "rating",
        "label",
        "title",
        "caption",
    ),
    "keyword": ("id", "name"),
    "photo_keyword": ("photo_id", "keyword_id"),
    "album": ("id", "name"),
    "album_photo": ("album_id", "photo_id", "position"),
    "adjustment": ("photo_id", "xmp"),
    "preview": ("photo_id", "jpeg"),
}
# Folder's id → its new top folder, and its path below that.
Moves = dict[int, tuple[Place, str]]
# Photo's id → its new top folder, path of its folder and file name.
Photos = dict[int, tuple[Place, str, str]]
_TRIES = 5
_READING = {
    sqlite3.SQLITE_SELECT,
    sqlite3.SQLITE_READ,
    sqlite3.SQLITE_PRAGMA,
    sqlite3.SQLITE_RECURSIVE,
}
_FUNCTIONS = frozenset(
    ("count", "instr", "length", "substr", "typeof", "like", "char", "json_group_array")
)
_LEADS_OUT = (
    "substr({0}, 1, 1) = '/' OR instr({0}, char(0)) OR '/' || {0} || '/' LIKE '%/../%' OR "
    "typeof({0}) <> 'text'"
)

# Not a file name: a path, or the folder above.
_NO_NAME = (
    "typeof(file_name) <> 'text' OR instr(file_name, '/') OR instr(file_name, char(0)) OR "
    "file_name = '..'"
)
_WRONG_VALUES = {
    "place": "typeof(path) <> 'text' OR instr(path, char(0)) OR typeof(drive_uuid) NOT IN ('text', "
    "'null')",
    "photo": "typeof(size_bytes) NOT IN ('integer', 'null') OR typeof(mtime_ns) NOT IN ('integer', "
    "'null') OR typeof(blake3) NOT IN ('text', 'null') OR typeof(captured_at) NOT IN "
    "('text', 'null')",
}


class Photo(Struct, frozen=True):
    """One photo: its path below its top folder, and its known properties.

    Size in bytes, time in ns, digest (hex), capture time.
    """

    id: int
    place_id: int
    folder_id: int
    path: str
    size: int | None
    blake3: str | None
    mtime_ns: int | None = None
    captured_at: str | None = None


def copy_of(catalog: Path, cache: Path) -> Path:
    """A private copy of a catalog with its journals, taken while nobody writes; returns its path.

    Raises:
        EnvironmentTrouble: it cannot be read, or keeps changing.
    """
    make_private(cache)
    for _ in range(_TRIES):
        try:
            before = _looks(catalog)
            for end in JOURNALS:
                there = cache / f"catalog{end}"
                delete_state(there)
                if os.path.lexists(f"{catalog}{end}"):
                    shutil.copyfile(f"{catalog}{end}", there, follow_symlinks=False)
            if _looks(catalog) == before:
                return cache / "catalog"
        except FileNotFoundError as error:
            if not os.path.lexists(catalog):
                raise told(error, tr("read the catalog"), os.fsencode(catalog)) from error
        except OSError as error:
            raise told(error, tr("read the catalog"), os.fsencode(catalog)) from error
    raise EnvironmentTrouble(
        tr(
            "The catalog {name} keeps changing while it is copied; close the program "
            "that writes to it.",
            name=catalog.name,
        ),
        os.fsencode(catalog),
    )


def _looks(catalog: Path) -> list[tuple[int, int, int] | None]:
    looks: list[tuple[int, int, int] | None] = []
    for end in JOURNALS:
        try:
            s = os.lstat(f"{catalog}{end}")
            if not stat.S_ISREG(s.st_mode):
                raise NotUnderstood(
                    tr(
                        "The file beside it that should be its journal ({name}{end}) "
                        "is not a regular file.",
                        name=catalog.name,
                        end=end,
                    )
                )
            looks.append((s.st_size, s.st_mtime_ns, s.st_ino))
        except FileNotFoundError:
            if not end:
                raise
            looks.append(None)
    return looks


class Catalog:
    """A private copy, open for reading.

    Nothing in it is executed: no trigger, view or function.
    """

    def __init__(self, copy: Path) -> None:
        self._path = copy
        try:
            self._db = sqlite3.connect(copy, isolation_level=None)
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise NotUnderstood(
                tr("It cannot be opened as a catalog ({error}).", error=error)
            ) from error
        try:
            self._check()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            self._db.close()
            raise NotUnderstood(
                tr("It is not a catalog, or it is damaged ({error}).", error=error)
            ) from error
        except BaseException:
            self._db.close()
            raise

    def close(self) -> None:
        """Closes it."""
        self._db.close()

    def _check(self) -> None:
        for pragma in ("trusted_schema=OFF", "cell_size_check=ON", "mmap_size=0", "query_only=ON"):
            self._db.execute(f"PRAGMA {pragma}")
        (kind,), (version,) = (
            self._db.execute(f"PRAGMA {p}").fetchone() for p in ("application_id", "user_version")
        )
        if kind != APPLICATION_ID:
            raise NotUnderstood(tr("It is a database, but not a photo catalog."))
        if version > VERSION:
            raise NotUnderstood(
                tr(
                    "It was written by a newer version ({version}; this one knows {version_2}).",
                    version=version,
                    version_2=VERSION,
                )
            )
        for type, name in self._db.execute(
            "SELECT type, name FROM sqlite_schema WHERE type NOT IN ('table', 'index')"
        ):
            raise NotUnderstood(
                tr(
                    "It has a {type} ({name}), which catalogs do not have; it is not run.",
                    type=type,
                    name=name,
                )
            )
        for table, columns in TABLES.items():
            there = [row[1] for row in self._db.execute(f"PRAGMA table_xinfo({table})")]
            if there != list(columns):
                raise NotUnderstood(
                    tr("Its table {table} does not follow the format.", table=table)
                )
        self._db.set_authorizer(_authorize)
        for table, leads_out in (("folder", _LEADS_OUT.format("path")), ("photo", _NO_NAME)):
            out = self._db.execute(f"SELECT id FROM {table} WHERE {leads_out} LIMIT 1").fetchone()
            if out:
                raise NotUnderstood(
                    tr("Its {table} {out} leads out of its place.", table=table, out=out[0])
                )

        for table, wrong in _WRONG_VALUES.items():
            if row := self._db.execute(f"SELECT id FROM {table} WHERE {wrong} LIMIT 1").fetchone():
                raise NotUnderstood(
                    tr("Its {table} {row} does not follow the format.", table=table, row=row[0])
                )

    def _rows(self, sql: str) -> Iterator[Any]:
        try:
            yield from self._db.execute(sql)
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise NotUnderstood(tr("It is a damaged catalog ({error}).", error=error)) from error

    def places(self) -> dict[int, Place]:
        """Its top folders, by their ids."""
        rows = self._rows("SELECT id, drive_uuid, path FROM place ORDER BY id")
        return {id: Place(uuid, path) for id, uuid, path in rows}

    def folders(self) -> Iterator[tuple[int, int, str]]:
        """``(id, place's id, path below it)`` of every folder."""
        yield from self._rows("SELECT id, place_id, path FROM folder ORDER BY id")

    def photos(self) -> Iterator[Photo]:
        """All photos, folder by folder."""
        rows = self._rows(
            "SELECT p.id, f.place_id, f.id, f.path, p.file_name, p.size_bytes, p.blake3, "
            "p.mtime_ns, p.captured_at FROM photo p JOIN folder f ON f.id = p.folder_id ORDER BY "
            "f.place_id, f.path, p.file_name"
        )
        for id, place, folder, path, name, *known in rows:
            yield Photo(id, place, folder, f"{path}/{name}" if path else name, *known)

    def members(self) -> Iterator[tuple[int, list[int], list[str]]]:
        """``(folder's id, ids of its photos, their names)``, folder by folder."""
        # The database combines half a million rows, not this code one by one.
        rows = self._rows(
            "SELECT folder_id, json_group_array(id), json_group_array(file_name) FROM photo "
            "GROUP BY folder_id"
        )
        for folder, ids, names in rows:
            yield folder, json.loads(ids), json.loads(names)

    def kept_beside(self) -> Path:
        """A second private copy, in one file, as it is now."""
        there = self._path.with_name(self._path.name + ".before")
        delete_state(there)
        with closing(sqlite3.connect(there)) as db:
            self._db.backup(db)
        return there

    def preview(self, photo: int) -> bytes | None:
        """The preview of a photo stored in the catalog, as JPEG; None if there is none."""
        row = self._db.execute(
            "SELECT jpeg FROM preview WHERE photo_id=? AND typeof(jpeg)='blob'", (photo,)
        ).fetchone()
        return bytes(row[0]) if row else None

    def name(self) -> str | None:
        """Its title."""
        row = self._db.execute("SELECT value FROM meta WHERE key = 'name'").fetchone()
        return str(row[0]) if row else None


def _authorize(action: int, first: str | None, second: str | None, *_: str | None) -> int:
    if action == sqlite3.SQLITE_FUNCTION:
        return sqlite3.SQLITE_OK if (second or "").lower() in _FUNCTIONS else sqlite3.SQLITE_DENY
    return sqlite3.SQLITE_OK if action in _READING else sqlite3.SQLITE_DENY


def move_folders(
    copy: Path,
    moves: dict[int, tuple[Place, str]],
    name: str | None = None,
    photos: dict[int, tuple[Place, str, str]] | None = None,
) -> None:
    """In a copy: gives folders another top folder (with a new row if there is none yet).

    Nothing else changes.

    Args:
        moves: folder id → its new top folder, and its path below that.
        name: the catalog's new title; None to keep it.
        photos: photo id → new top folder, path of its folder and file name, for photos without
            their folder.

    Raises:
        NotUnderstood: it is no catalog.
        KeyError: there is no such folder or photo.
    """
    Catalog(copy).close()
    _moved(copy, moves, name, photos or {})


def _moved(copy: Path, moves: Moves, name: str | None, photos: Photos) -> None:
    """The same in a copy that was already read as a catalog."""
    try:
        _move_folders(copy, moves, name, photos)
    except (sqlite3.Error, UnicodeError) as error:
        raise NotUnderstood(
            tr(
                "It is damaged, or cannot store a name that is not valid text ({error}).",
                error=error,
            )
        ) from error


def _move_folders(
    copy: Path,
    moves: dict[int, tuple[Place, str]],
    name: str | None,
    photos: dict[int, tuple[Place, str, str]],
) -> None:
    with closing(sqlite3.connect(copy, isolation_level=None)) as db:
        db.execute("PRAGMA trusted_schema=OFF")
        db.execute("BEGIN IMMEDIATE")
        places: dict[tuple[str | None, str], int] = {
            (uuid, path): id
            for id, uuid, path in db.execute("SELECT id, drive_uuid, path FROM place")
        }

        def id_of(place: Place) -> int:
            key = (place.drive_uuid, place.path)
            if key not in places:
                places[key] = int(
                    db.execute("INSERT INTO place(drive_uuid, path) VALUES(?, ?)", key).lastrowid
                    or 0
                )
            return places[key]

        for folder, (place, path) in moves.items():
            if (
                db.execute(
                    "UPDATE folder SET place_id=?, path=? WHERE id=?", (id_of(place), path, folder)
                ).rowcount
                != 1
            ):
                raise KeyError(folder)
        left = set()
        if photos:
            folders = {
                (place, path): id
                for id, place, path in db.execute("SELECT id, place_id, path FROM folder")
            }
        else:
            folders = {}
        for photo, (place, path, file_name) in photos.items():
            there = (id_of(place), path)
            if there not in folders:
                folders[there] = int(
                    db.execute("INSERT INTO folder(place_id, path) VALUES(?, ?)", there).lastrowid
                    or 0
                )
            left |= {
                row[0] for row in db.execute("SELECT folder_id FROM photo WHERE id=?", (photo,))
            }
            done = db.execute(
                "UPDATE photo SET folder_id=?, file_name=? WHERE id=?",
                (folders[there], file_name, photo),
            )
            if done.rowcount != 1:
                raise KeyError(photo)
        # A folder without photos is removed.
        for folder in left:
            db.execute(
                "DELETE FROM folder WHERE id=? AND id NOT IN (SELECT folder_id FROM photo)",
                (folder,),
            )
        if name is not None:
            db.execute("UPDATE meta SET value=? WHERE key='name'", (name,))
        db.execute("DELETE FROM place WHERE id NOT IN (SELECT place_id FROM folder)")
        db.execute("COMMIT")
        db.execute("PRAGMA wal_checkpoint(TRUNCATE)")


def led_as_wanted(before: Path, after: Path, moves: Moves, photos: Photos) -> bool:
    """Proves by reading both that every photo and folder is where it should be, and no other moved.

    Row by row in the database: half a million photos do not pass through this code.

    Raises:
        NotUnderstood: one of them cannot be read.
    """
    try:
        with closing(sqlite3.connect(after, isolation_level=None)) as db:
            db.execute("PRAGMA trusted_schema=OFF")
            db.execute("ATTACH ? AS old", (str(before),))
            db.execute("PRAGMA query_only=ON")
            return _led_as_wanted(db, moves, photos)
    except (sqlite3.Error, UnicodeError) as error:
        raise NotUnderstood(tr("It could not be read back ({error}).", error=error)) from error


_FOLDERS = (
    "SELECT f.id, l.drive_uuid, l.path, f.path FROM {0}.folder f JOIN {0}.place l "
    "ON l.id=f.place_id"
)
_OTHER_PHOTOS = (
    "SELECT o.id FROM old.photo o LEFT JOIN main.photo n ON n.id=o.id WHERE n.id IS NULL OR "
    "n.file_name IS NOT o.file_name OR n.folder_id IS NOT o.folder_id"
)


def _led_as_wanted(db: sqlite3.Connection, moves: Moves, photos: Photos) -> bool:
    old, new = (
        {id: (Place(uuid, top), path) for id, uuid, top, path in db.execute(_FOLDERS.format(name))}
        for name in ("old", "main")
    )
    wanted = {id: moves.get(id, where) for id, where in old.items()}
    # For photos moved by themselves a folder may be new, and an empty one may be gone.
    if any(new[id] != wanted[id] for id in new.keys() & wanted.keys()):
        return False
    if not photos and new.keys() != wanted.keys():
        return False
    counts = [db.execute(f"SELECT count(*) FROM {n}.photo").fetchone() for n in ("old", "main")]
    others = {id for (id,) in db.execute(_OTHER_PHOTOS)}
    if counts[0] != counts[1] or not others <= photos.keys():
        return False
    for id, (place, path, name) in photos.items():
        row = db.execute("SELECT folder_id, file_name FROM photo WHERE id=?", (id,)).fetchone()
        if row is None or (new.get(row[0]), row[1]) != ((place, path), name):
            return False
    orphans = "SELECT 1 FROM main.photo WHERE folder_id NOT IN (SELECT id FROM main.folder) LIMIT 1"
    lost = "SELECT 1 FROM old.photo WHERE folder_id NOT IN (SELECT id FROM old.folder) LIMIT 1"
    return bool(db.execute(orphans).fetchone() == db.execute(lost).fetchone())


# -- as a kind of document -------------------------------------------------------------------------


class PhotoCatalog(Works):
    """The kind ``.fascat``. Its references' locators are ``(table, id)``."""

    name = ENDING
    extensions = frozenset((ENDING,))
    journals: tuple[bytes, ...] = (b"-wal", b"-journal", b"-shm")
    syntax = Syntax.EXACT
    known_by = KnownBy.LOOK
    library = "photo catalog"  # for programs

    def recognises(self, head: bytes) -> bool:
        """By the application's id in the header of the database."""
        id = int.from_bytes(head[_AT : _AT + 4], "big")
        return head.startswith(_HEADER) and id == APPLICATION_ID

    def open(self, source: Source) -> OpenDocument:
        """Opens a private copy of it."""
        return OpenCatalog(source)

    def readings(self, as_written: str) -> list[Target]:
        """Unchanged."""
        return readings(as_written, Syntax.EXACT)

    def spellings(self, target: str) -> Iterator[str]:
        """Unchanged."""
        yield target


class OpenCatalog:
    """A catalog as an open document: its folders first, then its photos.

    It is copied when its content is first needed.
    """

    def __init__(self, source: Source) -> None:
        self.seen = source.look()
        self._source = source
        self._opened: Catalog | None = None
        self._copy: Path | None = None

    def __enter__(self) -> OpenCatalog:
        return self

    def __exit__(self, *_: object) -> None:
        if self._opened is not None:
            self._opened.close()

    @property
    def _catalog(self) -> Catalog:
        if self._opened is None:
            self._copy = self._copy or self._source.private_copy()
            self._opened = Catalog(self._copy)
        return self._opened

    def references(self) -> Iterator[Reference]:
        """Every folder, then every photo."""
        places = self._catalog.places()
        for id, place_id, path in self._catalog.folders():
            yield Reference(("folder", id), path, Means.FOLDER, place=places.get(place_id))
        for photo in self._catalog.photos():
            yield Reference(
                ("photo", photo.id),
                photo.path,
                Means.BELOW,
                place=places.get(photo.place_id),
                within=("folder", photo.folder_id),
                number=photo.id,
                last=Remembered(
                    photo.size or 0,
                    photo.mtime_ns or 0,
                    _digest(photo.blake3),
                    photo.captured_at or "",
                ),
            )

    def members(self) -> Iterator[Members]:
        """Its photos, folder by folder."""
        places = self._catalog.places()
        folders = {id: (place, path) for id, place, path in self._catalog.folders()}

        def members(id: int, ids: list[int], names: list[str]) -> Members:
            place, path = folders.pop(id)
            folder = Reference(("folder", id), path, Means.FOLDER, place=places.get(place))
            return Members(folder, ids, names, _photo_locator)

        for id, ids, names in self._catalog.members():
            if id in folders:
                yield members(id, ids, names)
        for id in list(folders):
            yield members(id, [], [])

    def lengths(self) -> list[Length | None]:
        """None: a photo has none."""
        return []

    def picture(self, number: int) -> bytes | None:
        """The preview of a photo."""
        return self._catalog.preview(number)

    def retargeted(self, wanted: Wanted, title: str | None = None) -> Path | None:
        """Changes the paths of folders and photos; no other row of the catalog changes."""
        moves: Moves = {}
        photos: Photos = {}
        for locator, change in self._changes(wanted):
            assert change.place is not None
            table, id = row_of(locator)
            if table == "folder":
                moves[id] = change.place, change.target
            else:
                folder, _, name = change.target.rpartition("/")
                photos[id] = change.place, folder, name
        if not moves and not photos and title is None:
            return None
        before = self._catalog.kept_beside()
        self._catalog.close()
        self._opened = None
        assert self._copy is not None
        _moved(self._copy, moves, title, photos)
        try:
            if not led_as_wanted(before, self._copy, moves, photos):
                raise NotUnderstood(
                    tr("It was not read back as it was written; the catalog is as it was.")
                )
        finally:
            delete_state(before)
        return self._copy

    def _changes(self, wanted: Wanted) -> Iterator[tuple[Locator, Change]]:
        """The wanted changes, by the present content."""
        if isinstance(wanted, ByLocator):
            yield from wanted.changes.items()
            return
        for number, reference in enumerate(self.references()):
            if (change := wanted(number, reference)) is not None:
                yield reference.locator, change


def _photo_locator(id: int) -> Locator:
    return "photo", id


def row_of(locator: Locator) -> tuple[str, int]:
    """The table and the id of a catalog's locator."""
    assert isinstance(locator, tuple)
    table, id = locator
    return table, id


def _digest(text: str | None) -> bytes:
    try:
        return bytes.fromhex(text or "")
    except ValueError:
        return b""
