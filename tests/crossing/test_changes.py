"""Changes at the old place: differences from the records, and whether a plan still holds."""

import os
from contextlib import closing

import pytest

from fascis.crossing.model.states import Origin
from fascis.crossing.places.changes import compare, worked_in
from fascis.crossing.places.places import open_source
from fascis.crossing.plan.plan import still_holds
from tests.crossing.ways import plan_of, settled

CLIP = "media/Day 01/weir_01.mov"


@pytest.fixture
def still(bench, library):
    """A crossing that has settled, and a look at its originals."""
    with closing(settled(bench)) as crossing:

        def look():
            with closing(open_source(bench.workspace, crossing.places)) as source:
                return compare(source, [crossing.copies])

        yield crossing, look


def test_nothing_has_changed(still, library):
    _, look = still
    found = look()
    there = [p for p in library.rglob("*") if p.is_file()]
    assert found.none and found.files == len(there)
    assert found.bytes == sum(p.stat().st_size for p in there)


def touched(path):
    os.utime(path, ns=(1, 1))


def replaced(path):
    status, content = path.stat(), path.read_bytes()
    path.unlink()
    path.write_bytes(content)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def made_a_link(path):
    path.unlink()
    path.symlink_to("weir_02.mov")


@pytest.mark.parametrize(
    "act", [touched, replaced, made_a_link, lambda p: p.write_bytes(b"other"), lambda p: p.chmod(0)]
)
def test_what_was_touched_is_changed_and_nothing_else(still, library, act):
    _, look = still
    act(library / CLIP)
    found = look()
    assert (found.changed, found.appeared, found.gone) == ([CLIP.encode()], [], [])


def test_what_appeared_and_what_is_gone(still, library):
    _, look = still
    (library / "new/deep").mkdir(parents=True)
    (library / "new/deep/otter.mov").write_bytes(b"o")
    (library / CLIP).unlink()
    found = look()
    assert (found.changed, found.appeared) == ([], [b"new/deep/otter.mov"])
    assert found.gone == [CLIP.encode()] and found.newer == found.appeared


def test_a_whole_folder_is_gone_file_by_file(still, library):
    crossing, look = still
    gone = crossing.copies.at(b"media/Day 02/salmon.wav")
    (library / "media/Day 02/salmon.wav").unlink()
    (library / "media/Day 02").rmdir()
    assert look().gone == [b"media/Day 02/salmon.wav"]
    crossing.journal.record_origin([(gone.id, Origin.GONE, None)])
    assert look().none  # it was deleted by us


def test_documents_that_appeared_were_worked_in(still, library):
    _, look = still
    (library / "cut.otio").write_text("{}")
    (library / "weir.mov").write_bytes(b"w")
    assert worked_in(look()) == [b"cut.otio"]


def test_a_plan_holds_until_what_it_is_about_is_otherwise(bench, library):
    plan = plan_of(bench)
    assert still_holds(plan, plan_of(bench))
    (library / "notes.txt").write_bytes(b"breach last!\n")
    assert not still_holds(plan, plan_of(bench))


def test_a_plan_that_stops_by_now_holds_no_more(bench, library):
    plan = plan_of(bench)
    (bench.heron / library.name).mkdir()
    assert plan_of(bench).stopped and not still_holds(plan, plan_of(bench))
