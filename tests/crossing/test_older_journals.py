"""A journal of each earlier version, kept as a file, is upgraded, resumed, and released.

Each was interrupted when everything had been read back and nothing had arrived.
"""

import json
import os
import shutil
import sqlite3
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

import pytest

from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.schema import VERSION
from fascis.crossing.model.states import State
from fascis.crossing.status.queue import find_crossing
from tests.judge import contents

KEPT = sorted(
    (Path(__file__).parents[1] / "older_journals").glob("version-*.sqlite"),
    key=lambda path: int(path.stem.partition("-")[2]),
)
FILES = {
    "media/Day 01/crest.mov": b"crest" * 40,
    "media/Day 02/salmon.wav": b"salmon" * 30,
    "stills/heron.jpg": b"heron" * 20,
    "notes.txt": b"breach first\n",
}
_TIME = 1_700_000_000_000_000_000


def brought_here(bench, kept):
    """The library as it was when the journal was written, and the journal, on this machine."""
    bench.fill(FILES)
    for place in FILES:
        os.utime(bench.library / place, ns=(_TIME, _TIME))
    bench.workspace.crossings.mkdir(parents=True)
    with closing(sqlite3.connect(kept)) as db:
        plan = db.execute("SELECT value FROM meta WHERE key='plan'").fetchone()[0]
        crossing = json.loads(plan)["crossing"]
    path = bench.workspace.crossings / f"{crossing}.sqlite"
    shutil.copy(kept, path)
    top = bench.library.stat().st_ino
    with closing(sqlite3.connect(path)) as db, db:
        header = json.loads(plan.replace("/bench", str(bench.root))) | {"root_inode": top}
        db.execute("UPDATE meta SET value=? WHERE key='plan'", (json.dumps(header),))
        rows = db.execute(
            "SELECT e.id, f.place, e.name FROM entry e JOIN folder f ON f.id=e.folder"
        )
        for id, folder, name in rows.fetchall():
            status = os.stat(os.path.join(os.fsencode(bench.library), folder, name))
            seen = (status.st_ino, status.st_ctime_ns, id)
            db.execute("UPDATE entry SET inode=?, ctime_ns=? WHERE id=?", seen)
    return path


def test_there_is_one_of_each_version():
    versions = []
    for path in KEPT:
        with closing(sqlite3.connect(path)) as db:
            versions.append(db.execute("PRAGMA user_version").fetchone()[0])
    assert versions == list(range(1, VERSION + 1))


@pytest.mark.parametrize("kept", KEPT, ids=lambda p: p.stem)
def test_it_continues_to_the_release(bench, kept):
    path = brought_here(bench, kept)
    before = contents(bench.library)
    crossing = find_crossing(bench.workspace, path.stem)
    assert crossing.state is State.COPYING and crossing.copies.verified()[0] == len(FILES)
    assert crossing.run() is State.SETTLED
    assert contents(bench.library) == before == contents(bench.heron / "The Weir")
    assert crossing.advance(consent=True) is State.RELEASED
    assert not bench.library.exists() and contents(bench.heron / "The Weir") == before
    assert not list(bench.heron.glob(".fascis-crossing-*"))
    with closing(sqlite3.connect(path)) as db:
        assert db.execute("PRAGMA user_version").fetchone()[0] == VERSION


@pytest.mark.parametrize("kept", KEPT[:-1], ids=lambda p: p.stem)
def test_several_open_it_at_the_same_moment_and_all_of_them_can(bench, kept):
    """The window's tasks, or a command beside it, after an update of the program."""
    path, gate = brought_here(bench, kept), threading.Barrier(4)
    with closing(sqlite3.connect(path)) as db:
        db.execute("PRAGMA journal_mode=WAL")  # as every journal that a crossing has written

    def state(_):
        gate.wait(10)
        with closing(Journal.open(path)) as journal:
            return journal.state

    with ThreadPoolExecutor(4) as pool:
        assert set(pool.map(state, range(4))) == {State.COPYING}


@pytest.mark.parametrize("kept", KEPT[:-1], ids=lambda p: p.stem)
def test_every_column_of_today_is_there(bench, kept, tmp_path):
    """An upgraded journal has the tables of a new one."""
    path = brought_here(bench, kept)
    Journal.open(path).close()
    new = tmp_path / "new.sqlite"
    Journal.create(new).close()

    def columns(of):
        with closing(sqlite3.connect(of)) as db:
            tables = [r[0] for r in db.execute("SELECT name FROM sqlite_master WHERE type='table'")]
            return {
                t: {r[1] for r in db.execute(f"PRAGMA table_info({t})")}
                for t in tables
                if not t.startswith("sqlite_")
            }

    made, brought = columns(new), columns(path)
    assert brought.keys() == made.keys()
    assert {t for t in made if made[t] - brought[t]} == set()
