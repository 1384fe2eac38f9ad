"""What an adversary does to a release, a discard or an undo.

Each test also says what must still be there.
"""

import os
from contextlib import closing

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.places.changes import compare
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.release.originals import Release
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing
from fascis.files.errors import EnvironmentTrouble, Refused
from fascis.library.roles import Role
from tests.crossing.test_along import settled
from tests.judge import contents
from tests.library.making import timeline


def switched(bench):
    crossing = settled(bench)
    crossing.switch()
    return crossing


def test_an_edit_during_the_last_reading_is_not_deleted(bench, library, monkeypatch):
    crossing = switched(bench)
    clip = library / "media/Day 01/weir_01.mov"
    good = Release._why_stays

    def edited_behind_it(self, item, status, fresh, opened):
        why = good(self, item, status, fresh, opened)
        if item.place == b"media/Day 01/weir_01.mov":
            (crossing.places.standing() / "media/Day 01/weir_01.mov").write_bytes(
                b"edited just now"
            )
        return why

    monkeypatch.setattr(Release, "_why_stays", edited_behind_it)
    record = crossing.release()
    assert clip.read_bytes() == b"edited just now"
    assert [x["path"] for x in record["left_behind"]] == ["media/Day 01/weir_01.mov"]


def test_an_edit_of_a_file_with_two_names_that_keeps_its_time_is_not_deleted(bench, library):
    clip, twin = library / "media/Day 01/weir_01.mov", library / "media/weir again.mov"
    os.link(clip, twin)
    before = clip.stat()
    crossing = switched(bench)
    clip.write_bytes(b"E" * before.st_size)
    os.utime(clip, ns=(before.st_atime_ns, before.st_mtime_ns))
    crossing.release()
    assert clip.read_bytes() == twin.read_bytes() == b"E" * before.st_size


@pytest.mark.parametrize("id", ["", "0", "abc"])
def test_too_short_a_beginning_means_no_crossing(bench, library, id):
    crossing = switched(bench)
    crossing.close()
    with pytest.raises(Refused, match="too short"):
        find_crossing(bench.workspace, id)
    assert len(contents(library)) == 10


def test_work_in_a_folder_called_renders_is_never_discarded(bench, library):
    work = ("renders/cut.otio", "renders/notes.txt", "renders/trip.sqlite", "renders/cut.mov.xmp")
    for place in work:
        (library / place).write_bytes(timeline() if place.endswith("otio") else b"the only one")
    surveyed = survey_library(bench.workspace, library)
    plan = make_plan(
        bench.workspace, surveyed, bench.heron, Choices(discard=frozenset([Role.RENDER]))
    )
    with closing(Crossing.start(bench.workspace, plan, decided=True, consent=True)) as crossing:
        crossing.run()
        crossing.switch()
        crossing.looked()
        record = crossing.release()
        assert record["discarded_files"] == 1 and not (library / "renders/cut.mov").exists()
        there = crossing.places.target
        assert (
            all((there / place).exists() for place in work)
            and not (there / "renders/cut.mov").exists()
        )


def test_a_name_of_our_own_is_not_a_library_s_name(bench, library):
    surveyed = survey_library(bench.workspace, library)
    for name in (".fascis-measures-deadbeef", ".FASCIS"):
        plan = make_plan(bench.workspace, surveyed, bench.heron, Choices(name=name))
        assert plan.stopped and "name-not-usable" in {p.code for p in plan.problems}
    assert len(contents(library)) == 10


def test_ten_thousand_touched_files_do_not_hide_a_timeline(bench, library):
    (library / "zz.otio").write_bytes(timeline("media/Day 01/weir_01.mov"))
    crossing = switched(bench)
    for n in range(10_050):
        (library / f"a{n:05}.tmp").touch()
    (library / "zz.otio").write_bytes(timeline("notes.txt"))
    with closing(bench.workspace.drives.open(library)) as medium:
        found = compare(medium, [crossing.copies])
    assert found.changed == [b"zz.otio"] and len(found.appeared) == 10_050
    with pytest.raises(Refused, match=r"worked in zz\.otio"):
        crossing.release()
    assert len(contents(library)) == 10_061


def test_home_is_not_returned_to_what_is_half_deleted(bench, library):
    crossing = switched(bench)
    bench.step = lambda name: (
        (_ for _ in ()).throw(EnvironmentTrouble("cut off"))
        if name.startswith("after unlink")
        else None
    )
    with pytest.raises(EnvironmentTrouble):
        crossing.release()
    crossing.close()
    bench.step = lambda name: None
    crossing = find_crossing(bench.workspace, crossing.id)
    with pytest.raises(Refused, match="Deleting the originals was begun"):
        crossing.undo()
    assert len(contents(crossing.places.target)) == 10 and crossing.state in (
        State.SWITCHED,
        State.PARKED,
    )
    assert crossing.release() and crossing.state is State.RELEASED


def test_home_is_not_returned_to_where_nothing_is(bench, library):
    crossing = switched(bench)
    library.rename(library.with_name("taken away"))
    with pytest.raises(Refused, match="no longer at "):
        crossing.undo()
    library.with_name("taken away").rename(library)
    (library / "notes.txt").unlink()
    assert "but for 1\u00a0file" in crossing.undo() and len(contents(crossing.places.target)) == 10
