"""Counts of entries equal those from reading every entry."""

import sqlite3

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fascis.crossing.journal import alike
from fascis.crossing.journal.copies import Copies
from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.which import Which
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.states import CopyState, Origin
from fascis.library.survey import Kind

# It uses sizes, which are not part of the counts.
COUNTED = [which for which in Which if "e.size" not in which]
ENTRY = st.fixed_dictionaries(
    {
        "kind": st.sampled_from(Kind),
        "size": st.sampled_from([0, 7, 1 << 33, (1 << 62) - 1]),
        "fate": st.sampled_from(Fate),
        "origin": st.sampled_from(Origin),
        "outside": st.sampled_from([None, b"/media/weir.mov"]),
        "stands": st.sampled_from([None, b"reel/weir.mov"]),
        "twin": st.sampled_from([None, 0]),
        "why": st.sampled_from([None, "changed"]),
    }
)
COPY = st.none() | st.fixed_dictionaries(
    {
        "state": st.sampled_from(CopyState),
        "proven": st.booleans(),
        "rewritten": st.booleans(),
        "at": st.sampled_from([0.0, 3.5]),
        "seen_size": st.sampled_from([None, 11]),
    }
)


def inserted(db, table, values):
    names = ", ".join(values)
    marks = ", ".join("?" * len(values))
    db.execute(f"INSERT INTO {table}({names}) VALUES({marks})", list(values.values()))


def put(journal, rows, first=0):
    others = dict.fromkeys(
        ["folder", "allocated", "inode", "mtime_ns", "ctime_ns", "mode", "links", "role"], 0
    )

    def work(db):
        for number, (entry, copy) in enumerate(rows, first):
            inserted(db, "entry", {"id": number, "name": b"x", "strand": 0, **others, **entry})
            if copy is not None:
                inserted(db, "copy", {"destination": 1, "entry": number, **copy})

    journal.write("rows", work)


def seen_one_by_one(journal, which):
    rows = journal.read(
        "SELECT e.kind, coalesce(c.seen_size, e.size) FROM entry e LEFT JOIN copy c ON "
        f"c.entry=e.id AND c.destination=1 WHERE {which}"
    )
    sizes = [size for kind, size in rows if kind == Kind.FILE]
    return not rows, (len(sizes), sum(sizes))


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=40)
@given(rows=st.lists(st.tuples(ENTRY, COPY), max_size=25), more=st.tuples(ENTRY, COPY))
def test_counts_equal_those_from_reading_every_entry(tmp_path, rows, more):
    path = tmp_path / "journal.sqlite"
    path.unlink(missing_ok=True)
    journal = Journal.create(path)
    for first, some in ((0, rows), (len(rows), [more])):
        put(journal, some, first)
        for which in COUNTED:
            none, sums = seen_one_by_one(journal, which)
            assert alike.is_none(journal, 1, which) == none, which
            assert alike.sums(journal, 1, which) == sums, which
    journal.close()


@pytest.fixture
def journal(tmp_path):
    made = Journal.create(tmp_path / "journal.sqlite")
    entry = {"kind": Kind.FILE, "size": 5, "fate": Fate.COPY}
    made.write("folder", lambda db: db.execute("INSERT INTO folder VALUES(0, x'', 0, 0, x'')"))
    put(made, [(entry, {"state": CopyState.COPIED})] * 3)
    yield made
    made.close()


def test_it_is_counted_again_only_after_entries_were_written(journal, monkeypatch):
    copies = Copies(journal, 1)
    assert copies.verified() == (0, 0) and journal.knows_alike(1)
    journal.put("told", "something")
    journal.conclude(journal.intend("look", "weir", 0.0), "done", 1.0)
    journal.note(b"weir.mov", "HERON", "was held", 0.0)
    assert journal.knows_alike(1)
    copies.record_verified([(0, True), (2, False)])
    assert not journal.knows_alike(1)
    assert copies.verified() == (2, 10) and not copies.proven()


def test_what_another_program_wrote_is_counted(journal, tmp_path):
    copies = Copies(journal, 1)
    assert copies.verified() == (0, 0)
    other = sqlite3.connect(tmp_path / "journal.sqlite")
    with other:
        other.execute("UPDATE copy SET state=2 WHERE entry=1")
    other.close()
    assert copies.verified() == (1, 5)
    assert [item.id for item in copies.items(Which.GOING_NOT_VERIFIED)] == [0, 2]


def test_what_is_counted_takes_no_room_on_a_drive(journal):
    Copies(journal, 1).verified()
    assert journal.read("PRAGMA temp_store") == [(2,)]
    assert journal.read("SELECT name FROM sqlite_master WHERE name LIKE 'alike%'") == []
