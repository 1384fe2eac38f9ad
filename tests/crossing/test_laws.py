"""The rules, by properties and by observation from outside."""

import os
import re
import shutil
import sqlite3
import stat
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.copies import own_place
from fascis.crossing.journal.journal import Journal
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.notices import Notice
from fascis.crossing.model.states import CopyState, State
from fascis.crossing.status.queue import all_crossings, unfinished
from fascis.files.codes import Code
from fascis.files.errors import DriveGone, Refused
from fascis.library.roles import Role
from tests.conftest import Bench, usual
from tests.crossing.ways import plan_of, settled, started, switched
from tests.judge import contents, one_whole_copy


def state_of(root):
    """Everything of a tree that a person could notice, ctime included."""
    found = {}
    for path in [root, *root.rglob("*")]:
        s = path.lstat()
        found[str(path.relative_to(root))] = (
            s.st_mode,
            s.st_ino,
            s.st_size,
            s.st_mtime_ns,
            s.st_ctime_ns,
            s.st_nlink,
        )
    return found


def test_nothing_is_written_into_the_source_before_parking(bench, library):
    os.symlink("notes.txt", library / "link")
    os.link(library / "notes.txt", library / "second.txt")
    before = state_of(library)
    crossing = settled(bench)
    assert state_of(library) == before
    crossing.switch()
    crossing.look_again()
    assert state_of(library) == before


NAME = st.binary(min_size=1, max_size=12).filter(
    lambda b: b"\0" not in b and b"/" not in b and b not in (b".", b"..", b".fascis")
)


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.dictionaries(
        NAME,
        st.one_of(
            st.binary(max_size=50), st.dictionaries(NAME, st.binary(max_size=50), max_size=3)
        ),
        min_size=1,
        max_size=6,
    )
)
def test_any_tree_crosses_and_is_released_whole(tmp_path_factory, tree):
    bench = Bench(tmp_path_factory.mktemp("any"))
    bench.library.mkdir()
    root = os.fsencode(bench.library)
    for name, content in tree.items():
        path = os.path.join(root, name)
        if isinstance(content, bytes):
            Path(os.fsdecode(path)).write_bytes(content)
        else:
            os.mkdir(path)
            for inner, text in content.items():
                Path(os.fsdecode(os.path.join(path, inner))).write_bytes(text)
    before = contents(bench.library)
    plan = plan_of(bench, After.RELEASE)
    if not before:
        assert plan.stopped and bench.library.exists()
        return
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    assert crossing.run() is State.SETTLED and contents(crossing.places.target) == before
    assert sorted(d for d, _, _ in os.walk(root)) == sorted(
        os.path.join(root, os.path.relpath(d, os.fsencode(crossing.places.target)))
        if os.path.relpath(d, os.fsencode(crossing.places.target)) != b"."
        else root
        for d, _, _ in os.walk(os.fsencode(crossing.places.target))
        if b".fascis" not in d.split(b"/")[-2:]
    )
    crossing.switch()
    crossing.looked()  # an empty file that is called like a document is not understood
    assert crossing.release()["left_behind"] == [] and not bench.library.exists()
    assert contents(crossing.places.target) == before
    crossing.close()


@pytest.mark.parametrize("step", ["run", "switch", "park", "release"])
def test_a_step_repeated_changes_nothing_more(bench, library, step):
    before = contents(library)
    crossing = started(bench)
    for name in ("run", "switch", "park", "release"):
        getattr(crossing, name)()
        if name == step:
            state = crossing.state
            try:
                getattr(crossing, name)()
            except Refused as error:
                assert error.code == "wrong-state"
            assert crossing.state is state
            break
    assert contents(crossing.places.target) == before
    assert one_whole_copy(before, library.parent, crossing.places.target) == []


@pytest.mark.parametrize("where", ["media/Day 01", "media", "stills"])
def test_a_file_added_anywhere_is_found_by_the_second_look(bench, library, where):
    crossing = switched(bench)
    (library / where / "late.mov").write_bytes(b"late")
    assert crossing.look_again().appeared == [f"{where}/late.mov".encode()]
    crossing.release()
    assert contents(library) == {
        f"{where}/late.mov".encode(): contents(library)[f"{where}/late.mov".encode()]
    }
    assert (library / where / "late.mov").read_bytes() == b"late"


def touched(path):
    path.write_bytes(path.read_bytes() + b"!")


def same_size_later(path):
    path.write_bytes(b"?" * path.stat().st_size)


def replaced(path):
    content = path.read_bytes()
    other = path.with_name("other")
    other.write_bytes(content)
    os.utime(other, ns=(path.stat().st_atime_ns, path.stat().st_mtime_ns))
    other.rename(path)


def same_times(path):
    s = path.stat()
    path.write_bytes(b"?" * s.st_size)
    os.utime(path, ns=(s.st_atime_ns, s.st_mtime_ns))


@pytest.mark.parametrize("change", [touched, same_size_later, replaced, same_times])
def test_a_changed_original_is_seen_however_it_was_changed_and_stays(bench, library, change):
    crossing = switched(bench)
    victim = library / "stills/heron.jpg"
    change(victim)
    content = victim.read_bytes()
    assert crossing.look_again().changed == [b"stills/heron.jpg"]
    record = crossing.release()
    assert (
        record["left_behind"] == [{"path": "stills/heron.jpg", "why": "changed"}]
        and victim.read_bytes() == content
    )
    assert set(contents(library)) == {b"stills/heron.jpg"}


def test_an_original_changed_behind_the_second_look_is_still_seen(bench, library):
    """Each original is checked right before its unlink, not only in the survey before."""
    crossing = switched(bench)

    def late(name):
        if name.startswith("before unlink") and "done" not in seen:
            seen.append("done")
            (crossing.places.standing() / "stills/heron.jpg").write_text("changed now")

    seen = []
    bench.step = late
    record = crossing.release()
    assert [x["path"] for x in record["left_behind"]] == ["stills/heron.jpg"]
    assert (library / "stills/heron.jpg").read_text() == "changed now" and seen


def test_a_copy_removed_behind_the_check_keeps_its_original(bench, library):
    crossing = switched(bench)
    copy = crossing.places.target / "stills/heron.xmp"
    bench.step = lambda name: (
        copy.unlink(missing_ok=True) if name == "before journal origin" else None
    )
    record = crossing.release()
    bench.step = lambda _n: None
    assert {"path": "stills/heron.xmp", "why": "copy-missing"} in record["left_behind"] and (
        library / "stills/heron.xmp"
    ).read_bytes() == b"<x/>"


@pytest.mark.skipif(os.geteuid() == 0, reason="root may do everything")
def test_an_original_that_cannot_be_deleted_stays(bench, library):
    crossing = switched(bench)
    (library / "stills").chmod(0o555)
    record = crossing.release()
    assert {x["why"] for x in record["left_behind"]} == {"not-permitted"}
    assert set(contents(library)) == {b"stills/heron.jpg", b"stills/heron.xmp"}
    (library / "stills").chmod(0o755)


def test_special_files_and_their_folder_stay(bench, library):
    os.mkfifo(library / "media" / "pipe")
    crossing = switched(bench)
    assert not (crossing.places.target / "media/pipe").exists()
    record = crossing.release()
    assert record["left_behind"] == [{"path": "media/pipe", "why": "special"}]
    assert stat.S_ISFIFO((library / "media/pipe").lstat().st_mode) and [
        p.name for p in library.iterdir()
    ] == ["media"]


def test_a_link_is_released_as_a_link(bench, library):
    outside = bench.drives / "inside" / "outside.mov"
    outside.write_bytes(b"stays")
    os.symlink(outside, library / "to outside")
    crossing = switched(bench)
    assert os.readlink(crossing.places.target / "to outside") == "media/inside/outside.mov"
    crossing.release()
    assert outside.read_bytes() == b"stays" and not library.exists()


def test_a_drive_that_is_away_keeps_every_original(bench, library):
    crossing = switched(bench)
    bench.add_drive("heron", connected=False)
    bench.again()
    with pytest.raises(DriveGone, match="heron is away"):
        Crossing(bench.workspace, crossing.journal).release()
    assert len(contents(library)) == 10


def test_something_that_took_the_final_name_is_not_touched(bench, library):
    crossing = started(bench)
    target = crossing.places.target
    bench.step = lambda name: (
        target.mkdir(exist_ok=True) if name == "before journal intent arrive" else None
    )
    with pytest.raises(Refused, match="appeared meanwhile and was not changed"):
        crossing.run()
    bench.step = lambda _n: None
    assert list(target.iterdir()) == [] and len(contents(library)) == 10
    target.rmdir()
    assert crossing.run() is State.SETTLED and contents(target) == contents(library)


def test_the_journal_says_where_every_file_is(bench, library):
    crossing = switched(bench, leave_out=[Role.PREVIEW])
    crossing.release()
    with sqlite3.connect(f"file:{crossing.journal.path}?mode=ro", uri=True) as db:
        rows = db.execute(
            "SELECT e.name, e.fate, e.origin, c.state FROM entry e LEFT JOIN copy c ON c.entry=e.id"
        ).fetchall()
    db.close()
    assert {r[1:] for r in rows} == {(0, 2, CopyState.VERIFIED), (1, 0, None)} and len(rows) == 10


def test_the_plan_of_a_journal_never_changes(bench, library):
    crossing = started(bench)
    header = crossing.journal.get("plan")
    sizes = crossing.journal.planned()
    (library / "notes.txt").write_text("far longer than it was when the plan was made")
    crossing.run()
    assert crossing.journal.get("plan") == header and crossing.journal.planned() == sizes
    assert crossing.copies.going()[1] > sizes[1]


def test_old_records_cross_to_as_it_was():
    assert own_place(b".fascis/identity.json", "abc") == b".fascis/as-it-was/abc/identity.json"
    assert own_place(b".fascis/receipts/1.json", "abc") == b".fascis/receipts/1.json"
    assert own_place(b".fascis/as-it-was/1/x.otio", "abc") == b".fascis/as-it-was/1/x.otio"


def test_a_journal_without_its_plan_is_not_a_crossing(bench):
    Journal.create(bench.workspace.crossings / "0123.sqlite").close()
    found, damaged = all_crossings(bench.workspace)
    assert found == [] and damaged == [] and unfinished(bench.workspace) == []


def test_one_damaged_journal_does_not_hide_the_others(bench, library):
    crossing = settled(bench)
    (bench.workspace.crossings / "ffff.sqlite").write_bytes(b"rubbish" * 1000)
    found, damaged = all_crossings(bench.workspace)
    assert (
        [c.id for c in found] == [crossing.id]
        and len(damaged) == 1
        and "originals are untouched" in str(damaged[0])
    )


def test_every_code_is_used_and_none_stands_bare():
    source = Path(__file__).parents[2] / "src/fascis"
    text = "".join(p.read_text() for p in source.rglob("*.py") if p.name != "codes.py")
    notices = {notice.value for notice in Notice}
    unused = {c for c in Code if f"Code.{c.name}" not in text and c.value not in notices}
    # In the list since the beginning; what they would say is said by codes that tell more.
    assert unused == {Code.NOT_PERMITTED}
    assert not re.findall(r'(?:Refused|Problem)\(\s*"', text)


def test_everything_at_the_destination_beside_the_library_is_left_alone(bench):
    usual(bench)
    other = bench.heron / "Older shoots"
    shutil.copytree(bench.library, other)
    before = state_of(other)
    crossing = switched(bench)
    crossing.release()
    assert state_of(other) == before
