"""Photo catalogs.

Read from a private copy as untrusted, moved by their folder rows, everything else row for row as it
was.
"""

import os
import shutil
import sqlite3
from contextlib import closing

import pytest

from fascis.documents.catalog import JOURNALS, TABLES, Catalog, Photo, copy_of, move_folders
from fascis.documents.model import NotUnderstood, Place
from fascis.files.errors import EnvironmentTrouble

SCHEMA = [
    "CREATE TABLE "
    f"{name}({', '.join(c + (' INTEGER PRIMARY KEY' if c == 'id' else '') for c in columns)})"
    for name, columns in TABLES.items()
]


def make(path, photos=3):
    with closing(sqlite3.connect(path)) as db:
        db.executescript(
            f"PRAGMA application_id={0x46415343}; PRAGMA user_version=1;" + ";".join(SCHEMA)
        )
        db.executemany("INSERT INTO meta VALUES(?,?)", [("catalog_id", "c-1"), ("name", "Bell")])
        db.execute(
            "INSERT INTO place VALUES(1, 'uuid-inside', 'Bell/shoots'), (2, NULL, '/mnt/stills')"
        )
        db.execute(
            "INSERT INTO folder VALUES(1, 1, '2024 high water'), (2, 1, ''), (3, 2, 'herons')"
        )
        db.executemany(
            "INSERT INTO photo(id, folder_id, file_name, size_bytes, blake3, rating) "
            "VALUES(?,?,?,?,?,?)",
            [
                (i, 1 + i % 3, f"bell_{i:03}.jpg", 1000 + i, "ab" * 32 if i else None, i % 6)
                for i in range(photos)
            ],
        )
        db.execute("INSERT INTO keyword VALUES(1, 'heron')")
        db.execute("INSERT INTO photo_keyword VALUES(0, 1)")
        db.execute("INSERT INTO adjustment VALUES(1, '<x/>')")
        db.commit()
    return path


def rows(path):
    with closing(sqlite3.connect(path)) as db:
        return {t: db.execute(f"SELECT * FROM {t} ORDER BY 1, 2").fetchall() for t in TABLES}


@pytest.fixture
def catalog(tmp_path):
    return make(tmp_path / "Bell.fascat")


def test_what_a_catalog_refers_to(catalog, tmp_path):
    with closing(Catalog(copy_of(catalog, tmp_path / "cache"))) as found:
        assert found.places() == {
            1: Place("uuid-inside", "Bell/shoots"),
            2: Place(None, "/mnt/stills"),
        }
        assert list(found.photos()) == [
            Photo(1, 1, 2, "bell_001.jpg", 1001, "ab" * 32),
            Photo(0, 1, 1, "2024 high water/bell_000.jpg", 1000, None),
            Photo(2, 2, 3, "herons/bell_002.jpg", 1002, "ab" * 32),
        ]
        assert found.name() == "Bell"


def test_reading_leaves_nothing_where_it_lies(catalog, tmp_path):
    """Rows that are committed, and still in its journal, are seen; nothing is written beside it."""
    with closing(sqlite3.connect(catalog)) as db:
        db.execute("PRAGMA journal_mode=WAL")
        db.execute("UPDATE meta SET value='Bell, the second winter' WHERE key='name'")
        db.commit()
        before = {
            p.name: (p.stat().st_mtime_ns, p.read_bytes())
            for p in tmp_path.iterdir()
            if p.name.endswith(("cat", "-wal"))
        }
        assert set(before) == {"Bell.fascat", "Bell.fascat-wal"}
        with closing(Catalog(copy_of(catalog, tmp_path / "cache"))) as found:
            assert found.name() == "Bell, the second winter"
        after = {
            p.name: (p.stat().st_mtime_ns, p.read_bytes())
            for p in tmp_path.iterdir()
            if p.name.endswith(("cat", "-wal"))
        }
        assert after == before
    assert (tmp_path / "cache").stat().st_mode & 0o077 == 0


def test_one_that_keeps_changing_is_reported(catalog, tmp_path, monkeypatch):
    real, turn = shutil.copyfile, iter(range(99))

    def written_meanwhile(source, *more, **other):
        real(source, *more, **other)
        os.utime(catalog, ns=(next(turn), next(turn)))

    monkeypatch.setattr(shutil, "copyfile", written_meanwhile)
    with pytest.raises(EnvironmentTrouble, match="keeps changing"):
        copy_of(catalog, tmp_path / "cache")
    with pytest.raises(EnvironmentTrouble, match="read the catalog"):
        copy_of(tmp_path / "none.fascat", tmp_path / "cache")


def test_folders_move_and_everything_else_stays_row_for_row(catalog, tmp_path):
    copy, before = copy_of(catalog, tmp_path / "cache"), rows(catalog)
    there = Place("uuid-heron", "Bell")
    move_folders(copy, {1: (there, "2024 high water"), 2: (there, "")}, "Bell on Heron")
    after = rows(copy)
    assert after["place"] == [(2, None, "/mnt/stills"), (3, "uuid-heron", "Bell")]
    assert after["folder"] == [(1, 3, "2024 high water"), (2, 3, ""), (3, 2, "herons")]
    assert ("name", "Bell on Heron") in after["meta"]
    changed = {"place", "folder", "meta"}
    assert {t: r for t, r in after.items() if t not in changed} == {
        t: r for t, r in before.items() if t not in changed
    }
    assert rows(catalog) == before and not any(
        os.path.exists(f"{copy}{end}") for end in JOURNALS[1:]
    )
    with pytest.raises(KeyError):
        move_folders(copy, {99: (Place(None, "/x"), "")})
    assert rows(copy) == after


@pytest.mark.parametrize(
    ("words", "sentence"),
    [("PRAGMA application_id=1", "not a photo catalog"), ("PRAGMA user_version=2", "newer version"),
    ("DROP TABLE album", "table album does not follow"),
     ("CREATE TRIGGER t AFTER UPDATE ON folder BEGIN DELETE FROM photo; END", "has a trigger"),
     ("DROP TABLE keyword; CREATE VIEW keyword AS SELECT 1 AS id, 'x' AS name", "has a view"),
     ("UPDATE photo SET file_name='../../etc/passwd' WHERE id=0", "photo 0 leads out"),
     ("UPDATE photo SET file_name='..' WHERE id=1", "photo 1 leads"),
     ("UPDATE folder SET path='/etc' WHERE id=2", "folder 2 leads out"),
     ("UPDATE folder SET path='a/../../b' WHERE id=3", "folder 3 leads out"),
     ("UPDATE photo SET file_name=x'00ff' WHERE id=2", "photo 2 leads out"),
     ("UPDATE folder SET path=NULL WHERE id=1", "leads out|Its folder")],
)  # fmt: skip
def test_a_hostile_or_strange_catalog_is_refused(catalog, tmp_path, words, sentence):
    with closing(sqlite3.connect(catalog)) as db:
        db.executescript(words)
        db.commit()
    before = catalog.read_bytes()
    copy = copy_of(catalog, tmp_path / "cache")
    with pytest.raises(NotUnderstood, match=sentence):
        Catalog(copy)
    with pytest.raises(NotUnderstood, match=sentence):
        move_folders(copy, {})
    assert catalog.read_bytes() == before


@pytest.mark.parametrize(
    "content", [b"", b"not a database" * 99, b"SQLite format 3\0" + b"\xff" * 5000]
)
def test_what_is_not_a_database_is_refused(tmp_path, content):
    (tmp_path / "x.fascat").write_bytes(content)
    with pytest.raises(NotUnderstood, match=r"catalog"):
        Catalog(copy_of(tmp_path / "x.fascat", tmp_path / "cache"))


def test_nothing_is_written_through_a_reading(catalog, tmp_path):
    with (
        closing(Catalog(copy_of(catalog, tmp_path / "cache"))) as found,
        pytest.raises(sqlite3.DatabaseError),
    ):
        found._db.execute("SELECT load_extension('x')")
