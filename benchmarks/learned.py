"""Documents of unknown make: large ones are learnt, rewritten for another drive, and proven.

    python benchmarks/learned.py FOLDER [rows|xml|cells]

Makes in FOLDER, once, a database of 1,000,000 rows over three tables, 198 MB of XML with 460,000
paths, and a database of 200,000 rows with JSON in a cell. No media is made: which files exist is
told. Prints seconds since the beginning, and the most memory that was used.
"""

from __future__ import annotations

import json
import resource
import shutil
import sqlite3
import sys
import time
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from fascis.documents.learned.containers import OpenedDatabase, contents_of, is_database
from fascis.documents.learned.existing import Existing
from fascis.documents.learned.inner import WithInner
from fascis.documents.learned.kind import LearnedDocument
from fascis.documents.learned.search import Search
from fascis.documents.learned.stored import Stored
from fascis.documents.model import Change

ROOT, THERE = "/home/studio/River/media", "/mnt/Heron/River/media"
ROWS, PATHS, CELLS = 1_000_000, 460_000, 200_000


def folder(n: int) -> str:
    return f"day {n % 200:03}/camera {n % 5}"


def clip(n: int) -> str:
    return f"Clip_{n:07}.mov"


def paths(count: int) -> list[str]:
    return [f"{ROOT}/{folder(n)}/{clip(n)}" for n in range(count)]


def rows(document: Path) -> None:
    folders = sorted({folder(n) for n in range(1000)})
    number = {name: n for n, name in enumerate(folders)}
    with closing(sqlite3.connect(document)) as db:
        db.executescript(
            "CREATE TABLE bank(k INTEGER PRIMARY KEY, at TEXT);"
            "CREATE TABLE reach(k INTEGER PRIMARY KEY, bank INTEGER, below TEXT);"
            "CREATE TABLE take(k INTEGER PRIMARY KEY, reach INTEGER, called TEXT, stars INTEGER);"
        )
        db.execute("INSERT INTO bank VALUES(7, ?)", (ROOT,))
        db.executemany("INSERT INTO reach VALUES(?,7,?)", enumerate(folders))
        takes = ((n, number[folder(n)], clip(n), n % 5) for n in range(ROWS))
        db.executemany("INSERT INTO take VALUES(?,?,?,?)", takes)
        db.commit()


def xml(document: Path) -> None:
    with open(document, "w") as out:
        out.write('<?xml version="1.0"?>\n<film>\n')
        for n, path in enumerate(paths(PATHS)):
            out.write(
                f'<shot id="{n}" begins="{n * 25}" ends="{n * 25 + 20}"><name>Shot {n}</name>'
                f'<file><path>{path}</path><rate>25</rate><sound ch="2" hz="48000"/></file>'
                f"<note>river, calm and {'x' * 200}</note></shot>\n"
            )
        out.write("</film>\n")


def cells(document: Path) -> None:
    with closing(sqlite3.connect(document)) as db:
        db.execute("CREATE TABLE take(k INTEGER PRIMARY KEY, name TEXT, said TEXT)")
        some = (
            (n, f"take {n}", json.dumps({"v": 1, "src": {"path": path, "w": 1920}, "in": [1, n]}))
            for n, path in enumerate(paths(CELLS))
        )
        db.executemany("INSERT INTO take VALUES(?,?,?)", some)
        db.commit()


MAKES: dict[str, tuple[Callable[[Path], None], int]] = {
    "rows": (rows, ROWS),
    "xml": (xml, PATHS),
    "cells": (cells, CELLS),
}


def measure(document: Path, count: int) -> None:
    existing = Existing((path.encode() for path in paths(count)), b"/home/studio/River")
    copy = document.with_name(f"copy of {document.name}")
    shutil.copy(document, copy)
    begun = time.monotonic()

    def tell(words: str) -> None:
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"{time.monotonic() - begun:6.1f} s {most:6.0f} MB  {words}", flush=True)

    with open(copy, "rb") as file:
        database = is_database(file.read(100))
    contents = OpenedDatabase(copy) if database else contents_of(copy.read_bytes())
    found = Search(WithInner(contents), existing).fields()
    assert [one.evidence.found for one in found] == [count], found
    tell("learnt")
    shape, readings = contents.shape(), tuple(one.reading for one in found)
    del found, existing
    stored = Stored(contents.container, shape, (), readings, 0.0)
    document_open = LearnedDocument(contents, stored, b"", None)  # type: ignore[arg-type]
    new = document_open.retargeted(lambda _, r: Change(r.as_written.replace(ROOT, THERE)))
    assert new is not None
    tell("rewritten, and proven")
    copy.unlink()


def main() -> None:
    where = Path(sys.argv[1])
    where.mkdir(parents=True, exist_ok=True)
    for name in sys.argv[2:] or MAKES:
        make, count = MAKES[name]
        document = where / f"{name}.doc"
        if not document.exists():
            make(document)
        print(f"{name}: {document.stat().st_size / 1e6:.0f} MB")
        measure(document, count)


if __name__ == "__main__":
    main()
