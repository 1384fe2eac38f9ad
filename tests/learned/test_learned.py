"""Where documents of made-up makes keep their paths is found, and changed there and nowhere else.

They are judged by readers that stand beside their writers, and know nothing of the product.
"""

from __future__ import annotations

import gzip
import os
import random
import shutil
import sqlite3
import zipfile
import zlib
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import pytest

from fascis.documents.learned.containers import OpenedDatabase, contents_of, is_database
from fascis.documents.learned.existing import Existing
from fascis.documents.learned.inner import WithInner
from fascis.documents.learned.reading import Followed
from fascis.documents.learned.rewriting import edits_for, prove_paths
from fascis.documents.learned.search import Found, Search
from fascis.documents.learned.tables import Unreadable
from tests.learned.styles import STYLES, Style, media
from tests.learned.worlds import any_world
from tests.thorough import LEARNED as WORLDS

Move = Callable[[str], str]


def opened(document: Path) -> WithInner:
    if is_database(document.read_bytes()[:100]):
        return WithInner(OpenedDatabase(document))
    return WithInner(contents_of(document.read_bytes()))


def existing(files: list[str], folder: Path) -> Existing:
    return Existing([os.fsencode(f) for f in files], bytes(folder))


def world(
    folder: Path, style: Style, numbers: random.Random, count: int = 30
) -> tuple[Path, list[str]]:
    """A library with media, and a document of a style that refers to all of it."""
    library = folder / "River"
    files = media(library / "Media", numbers, count)
    document = library / f"work.{style.ending}"
    style.write(document, list(files), str(library / "Media"), numbers)
    return document, files


def learned(document: Path, files: list[str]) -> list[Found]:
    found = Search(opened(document), existing(files, document.parent)).fields()
    return [one for one in found if one.is_sure]


def rewrite(document: Path, files: list[str], move: Move) -> None:
    """Learns where a document keeps its paths, and makes them lead elsewhere."""
    sure = learned(document, files)
    contents = opened(document)
    folder = str(document.parent)

    def wanted(path: str | None) -> str | None:
        if path is None:
            return None
        whole = path if path.startswith("/") else f"{folder}/{path}"
        new = move(whole)
        return path if new == whole else new

    readings = [one.reading for one in sure]
    followed = [Followed(contents, reading) for reading in readings]
    before = [list(one.paths()) for one in followed]
    after = [list(map(wanted, paths)) for paths in before]
    new = contents.rewritten(edits_for(followed, before, after))
    if isinstance(new, bytes):
        document.write_bytes(new)
    prove_paths(opened(document), readings, after)


def unpacked(document: Path) -> object:
    """What is in a document, without what packing it again may change."""
    content = document.read_bytes()
    if is_database(content[:100]):
        with closing(sqlite3.connect(document)) as db:
            return list(db.iterdump())
    if content.startswith(b"PK"):
        with zipfile.ZipFile(document) as packed:
            return [(i.filename, i.date_time, packed.read(i)) for i in packed.infolist()]
    return gzip.decompress(content) if content.startswith(b"\x1f\x8b") else content


def to_another_drive(path: str) -> str:
    return (
        path if "/Media/" not in path else "/mnt/Heron é %41/River" + path[path.index("/Media/") :]
    )


@pytest.mark.parametrize("style", STYLES, ids=lambda s: s.name)
def test_what_is_sure_is_every_path_and_nothing_else(style: Style, tmp_path: Path) -> None:
    for seed in range(WORLDS):
        numbers = random.Random(seed)
        document, files = world(tmp_path / str(seed), style, numbers)
        sure = learned(document, files)
        folder = str(document.parent)
        if not style.sure:
            assert sure == []
            continue
        paths = [p for one in sure for p in one.followed.paths() if p]
        assert sorted(p if p.startswith("/") else f"{folder}/{p}" for p in paths) == sorted(files)


@pytest.mark.parametrize("style", [s for s in STYLES if s.sure], ids=lambda s: s.name)
def test_all_moved_away_and_back_it_is_what_it_was(style: Style, tmp_path: Path) -> None:
    for seed in range(WORLDS):
        numbers = random.Random(seed)
        document, files = world(tmp_path / str(seed), style, numbers)
        as_it_was, read = unpacked(document), style.read(document)
        rewrite(document, files, to_another_drive)
        there = [to_another_drive(f) for f in files]
        assert style.read(document) == [to_another_drive(f) for f in read]
        assert unpacked(document) != as_it_was
        if style.name == "JSON from here":
            return  # Relative paths are absolute now.
        back = dict(zip(there, files, strict=True))
        rewrite(document, there, back.__getitem__)
        assert unpacked(document) == as_it_was


@pytest.mark.parametrize("style", [s for s in STYLES if s.sure], ids=lambda s: s.name)
def test_a_part_moves_or_the_document_is_as_it_was(style: Style, tmp_path: Path) -> None:
    for seed in range(WORLDS):
        numbers = random.Random(100 + seed)
        document, files = world(tmp_path / str(seed), style, numbers)
        as_it_was, read = unpacked(document), style.read(document)
        gone = set(numbers.sample(files, 10))

        def move(path: str, gone: set[str] = gone) -> str:
            return to_another_drive(path) if path in gone else path

        kept = document.with_name("kept")
        shutil.copy(document, kept)
        try:
            rewrite(document, files, move)
        except Unreadable:
            # Two places where the document has room for one.
            shutil.copy(kept, document)
            assert unpacked(document) == as_it_was
            continue
        assert style.read(document) == [move(f) for f in read]


# -- refused ---------------------------------------------------------------------------------------


def database(path: Path, files: list[str], more: str = "") -> Path:
    with closing(sqlite3.connect(path)) as db:
        db.executescript("CREATE TABLE item(n INTEGER PRIMARY KEY, w TEXT, low TEXT); " + more)
        db.executemany(
            "INSERT INTO item VALUES(?,?,?)", ((n, f, f.lower()) for n, f in enumerate(files))
        )
        db.commit()
    return path


@pytest.mark.parametrize(
    ("more", "why"),
    [
        (
            "CREATE TABLE log(t TEXT); CREATE TRIGGER x AFTER UPDATE OF w ON item BEGIN "
            "INSERT INTO log VALUES(new.w); END",
            "would run something",
        ),
        ("CREATE INDEX odd ON item(w COLLATE BINARY); CREATE UNIQUE INDEX u ON item(upper(w))", ""),
        ("CREATE VIRTUAL TABLE words USING fts5(w, content='item', content_rowid='n')", "index"),
        ("CREATE VIRTUAL TABLE words USING fts5(w)", ""),
    ],
)
def test_what_a_change_would_run_or_leave_behind(more: str, why: str, tmp_path: Path) -> None:
    files = media(tmp_path / "River", random.Random(1), 20)
    document = database(tmp_path / "work.db", files, more)
    before = unpacked(document)
    if not why:
        rewrite(document, files, lambda p: p.replace("/River/", "/Stream/"))
        return
    with pytest.raises(Unreadable, match=why):
        rewrite(document, files, lambda p: p.replace("/River/", "/Stream/"))
    assert unpacked(document) == before


def test_a_copy_in_lower_case_follows(tmp_path: Path) -> None:
    files = media(tmp_path / "River", random.Random(2), 20)
    document = database(tmp_path / "work.db", files)
    rewrite(document, files, lambda p: p.replace("/River/", "/Stream/"))
    with closing(sqlite3.connect(document)) as db:
        rows = db.execute("SELECT w, low FROM item ORDER BY n").fetchall()
    wanted = [f.replace("/River/", "/Stream/") for f in files]
    assert rows == [(f, f.lower()) for f in wanted]


def test_what_follows_in_part_refuses_all(tmp_path: Path) -> None:
    files = media(tmp_path / "River", random.Random(2), 40)
    document = database(tmp_path / "work.db", files)
    with closing(sqlite3.connect(document)) as db:
        db.execute("UPDATE item SET low='' WHERE n%3=0")
        db.commit()
    before = unpacked(document)
    with pytest.raises(Unreadable, match="in part"):
        rewrite(document, files, lambda p: p.replace("/River/", "/Stream/"))
    assert unpacked(document) == before


def bomb(megabytes: int) -> bytes:
    """So many zeros, packed with gzip: one piece is packed, and repeated."""
    packer = zlib.compressobj(1, wbits=31)
    head, one = (
        packer.compress(bytes(1 << 20)) + packer.flush(zlib.Z_FULL_FLUSH) for _ in range(2)
    )
    return head + one * megabytes


@pytest.mark.parametrize(
    ("content", "why"),
    [
        (b"SQLite format 3\0" + b"\0" * 2000, "database"),
        (b"{" * 600 + b"}" * 600, "JSON"),
        (b'{"a": "\xff"}', "encoding"),
        (b'<?xml version="1.0"?><!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>', "entities"),
        (b"<a>" * 600 + b"</a>" * 600, "deeply"),
        (b"<a><b></a>", "well-formed"),
        (lambda: bomb(600), "large"),
        (b"PK\x03\x04" + b"\0" * 100, "packed"),
        (
            lambda: b"<a " + b" ".join(b"a%d='1'" % n for n in range(200_000)) + b"/>",
            "kinds of values",
        ),
        (
            lambda: b"[" + b",".join(b'{"k%d": "v"}' % n for n in range(100_000)) + b"]",
            "kinds of values",
        ),
        (
            lambda: b"{" + b",".join(b'"k%d": 1' % n for n in range(100_000)) + b"}",
            "kinds of values",
        ),
    ],
    ids=[
        "pages",
        "nested",
        "bytes",
        "entities",
        "deep",
        "broken",
        "bomb",
        "zip",
        "attributes",
        "keys",
        "numbers",
    ],
)
def test_hostile_documents_are_refused_with_a_sentence(
    content: bytes | Callable[[], bytes], why: str, tmp_path: Path
) -> None:
    # The large ones are made here: otherwise every worker makes them while it collects tests.
    content = content() if callable(content) else content
    document = tmp_path / "work.x"
    document.write_bytes(content)
    with pytest.raises(Unreadable, match=why):
        opened(document)
    assert document.read_bytes() == content


def test_fewer_than_five_files_are_proposed_and_not_sure(tmp_path: Path) -> None:
    style = next(s for s in STYLES if s.name == "JSON list")
    document, files = world(tmp_path, style, random.Random(1), 4)
    found = Search(opened(document), existing(files, document.parent)).fields()
    assert [one.evidence.files for one in found] == [4]
    assert not any(one.is_sure for one in found)


@pytest.mark.parametrize("name", ["whole paths", "root, folder, name", "XML attributes"])
def test_what_was_moved_away_whole_is_proposed_with_the_move(name: str, tmp_path: Path) -> None:
    style = next(s for s in STYLES if s.name == name)
    document, files = world(tmp_path, style, random.Random(1))
    os.rename(tmp_path / "River/Media", tmp_path / "River/Footage")
    there = [f.replace("/Media/", "/Footage/") for f in files]
    (found,) = Search(opened(document), existing(there, document.parent)).fields()
    assert not found.is_sure and found.gone
    assert found.gone.old.endswith("/Media") and found.gone.new.endswith("/Footage")
    assert sorted(p for p in found.followed.paths() if p) == sorted(files)


@pytest.mark.parametrize("name", ["whole paths", "root, folder, name", "XML elements"])
def test_of_a_copied_library_the_document_leads_to_where_it_was(name: str, tmp_path: Path) -> None:
    """Both exist: the document is right, and no move explains it better."""
    style = next(s for s in STYLES if s.name == name)
    document, files = world(tmp_path, style, random.Random(2))
    shutil.copytree(tmp_path / "River", tmp_path / "Elsewhere/River")
    there = [f.replace(str(tmp_path), f"{tmp_path}/Elsewhere") for f in files]
    copied = tmp_path / "Elsewhere/River" / document.relative_to(tmp_path / "River")
    index = Existing(map(os.fsencode, there), bytes(copied.parent), None, os.path.isfile)
    (found,) = Search(opened(copied), index).fields()
    assert found.gone is None and found.evidence.found == len(files)
    assert sorted(p for p in found.followed.paths() if p) == sorted(files)


def test_in_makes_that_nobody_thought_of_nothing_but_paths_is_changed(tmp_path: Path) -> None:
    done = 0
    for seed in range(20 * WORLDS):
        numbers = random.Random(1000 + seed)
        library = tmp_path / f"{seed}/River"
        files = media(library / "Media", numbers, numbers.choice([8, 20, 40]))
        one = any_world(library, numbers, files, str(library / "Media"))
        before = one.cells()
        gone = set(files) if numbers.random() < 0.5 else set(numbers.sample(files, len(files) // 3))

        def move(path: str, gone: set[str] = gone) -> str:
            return to_another_drive(path) if path in gone else path

        if not learned(one.document, files):
            continue
        try:
            rewrite(one.document, files, move)
        except Unreadable:
            assert one.cells() == before
            continue
        assert one.read() == [move(f) for f in files]
        paths = {value for row in before for _, value in row if "/" in str(value)}
        kept = [[c for c in row if c[1] not in paths] for row in before]
        after = one.cells()
        assert [[c for c in row if c in after[n]] for n, row in enumerate(kept)] == kept
        done += 1
    assert done >= 0.8 * 20 * WORLDS
