"""Rule 9: the library as a whole held still.

Files that changed are copied too, or left by decision.
"""

import json
import os

import pytest

from fascis.crossing.arrival import destination as destination_module
from fascis.crossing.model.events import Advanced
from fascis.crossing.model.states import State
from fascis.crossing.status.queue import find_crossing
from fascis.crossing.status.scales import weigh
from fascis.files.errors import DriveGone, Refused
from fascis.library.roles import Role
from tests.crossing.ways import settled, started, switched
from tests.judge import contents


def work_on(library):
    """Somebody works on while and after it crosses: edits, adds, makes a folder, a link."""
    (library / "notes.txt").write_text("breach at dawn, on the second day\n")
    (library / "media/Day 03/otters").mkdir(parents=True)
    (library / "media/Day 03/otters/otter.mov").write_bytes(os.urandom(70_000))
    (library / "stills/otter.jpg").write_bytes(b"o" * 900)
    os.symlink("otter.jpg", library / "stills/best.jpg")
    return {b"notes.txt", b"media/Day 03/otters/otter.mov", b"stills/otter.jpg", b"stills/best.jpg"}


def listed(target):
    lines = (target / ".fascis/manifest.b3").read_text().splitlines()
    return {line.split("  ", 1)[1] for line in lines}


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_what_changed_since_is_copied_too(bench, library, filesystem):
    bench.add_drive("there", filesystem)
    bench.again()
    crossing = settled(bench, to=bench.drives / "there")
    newer = work_on(library)
    assert set(crossing.undecided()) == newer and not weigh(crossing).even
    with pytest.raises(
        Refused, match="Copy (it|them) too, or leave (it|them) there; home has not changed"
    ) as refused:
        crossing.switch()
    assert refused.value.code == "changed-since-survey" and crossing.state is State.SETTLED
    assert crossing.bring_along() is State.SETTLED
    links = {p: c for p, c in contents(library).items() if c[0] == "link"}
    expected = (
        contents(library)
        if filesystem == "ext4"
        else {p: c for p, c in contents(library).items() if p not in links}
    )
    assert contents(crossing.places.target) == expected and crossing.undecided() == []
    assert weigh(crossing).even and crossing.copies.verified()[0] == 12
    assert (
        "media/Day 03/otters/otter.mov" in listed(crossing.places.target)
        and len(listed(crossing.places.target)) == 12
    )
    assert [p.name for p in (bench.drives / "there").iterdir() if p.name != "stand-in.json"] == [
        "The Weir"
    ]
    crossing.switch()
    record = crossing.release()
    stays = (
        {"stills/best.jpg", "stills/otter.jpg"} if filesystem == "exfat" else set()
    )  # a link, and what it leads to
    assert record["files"] == (11 if stays else 12) and contents(crossing.places.target) == expected
    assert {x["path"] for x in record["left_behind"]} == stays
    assert all((library / p).resolve().read_bytes() == b"o" * 900 for p in stays)


def test_the_plan_itself_is_never_edited(bench, library):
    crossing = settled(bench)
    planned = list(crossing.journal.plan_rows())
    work_on(library)
    crossing.bring_along()
    assert list(crossing.journal.plan_rows())[: len(planned)] == planned
    assert json.loads(crossing.journal.get("plan"))["estimate"] is not None
    assert [a[0] for a in crossing.journal.acts()].count("bring-along") == 1


def test_left_by_decision_it_stays_and_is_never_deleted(bench, library):
    crossing = settled(bench)
    newer = work_on(library)
    crossing.leave_newer(crossing.undecided())
    (library / "later still.jpg").write_bytes(b"l")
    with pytest.raises(Refused, match="later still"):
        crossing.switch()  # The decision was for the files there at that time.
    crossing.leave_newer(crossing.undecided() + sorted(newer))
    crossing.switch()
    record = crossing.release()
    left = {x["path"].encode() for x in record["left_behind"]}
    assert left == newer | {b"later still.jpg"} and set(contents(library)) == left
    assert len(contents(crossing.places.target)) == 10


def test_left_out_roles_are_not_copied_later(bench, library):
    crossing = settled(bench, leave_out=[Role.PROXY])
    (library / "proxies/new.mov").write_bytes(b"proxy")
    (library / "stills/otter.jpg").write_bytes(b"otter")
    assert crossing.bring_along() is State.SETTLED
    assert (crossing.places.target / "stills/otter.jpg").exists() and not (
        crossing.places.target / "proxies"
    ).is_file()
    assert not (crossing.places.target / "proxies/new.mov").exists() and crossing.undecided() == []
    crossing.switch()
    left = {(x["path"], x["why"]) for x in crossing.release()["left_behind"]}
    assert left == {("proxies/weir_01.mov", "left-out"), ("proxies/new.mov", "left-out")}
    assert set(contents(library)) == {b"proxies/weir_01.mov", b"proxies/new.mov"}


def test_a_file_changed_at_both_places_is_not_touched_at_either(bench, library):
    crossing = settled(bench)
    there = crossing.places.target / "notes.txt"
    there.write_text("edited in the copy")
    (library / "notes.txt").write_text("edited at the old place, longer")
    with pytest.raises(Refused, match=r"notes\.txt changed at the old place and at the new one"):
        crossing.bring_along()
    assert there.read_text() == "edited in the copy" and (
        library / "notes.txt"
    ).read_text().startswith("edited at the old")
    there.rename(there.with_name("notes of the copy.txt"))
    assert (
        crossing.run() is State.SETTLED
        and there.read_bytes() == (library / "notes.txt").read_bytes()
    )
    assert (there.with_name("notes of the copy.txt")).read_text() == "edited in the copy"


class Stop(BaseException):
    """The program ends here."""


def test_interrupted_at_every_point_of_copying_changes(bench, library):
    """Every journal transaction and every act on the drive; rule 1 each time, and it resumes."""
    (library / "latest").symlink_to("notes.txt")
    crossing = settled(bench)
    kept = {p: c for p, c in contents(library).items() if p not in (b"notes.txt", b"latest")}
    newer = work_on(library)
    (library / "latest").unlink()
    (library / "latest").symlink_to("stills/otter.jpg")
    now, id, points = contents(library), crossing.id, 0
    while True:
        count = [0]

        def step(_name, count=count, stop=points):
            count[0] += 1
            if count[0] > stop:
                raise Stop

        bench.step = step
        try:
            crossing.bring_along()
            done = True
        except Stop:
            done = False
        bench.step = lambda _name: None
        assert contents(library) == now  # the source is read, never written
        crossing.close()
        bench.again()
        crossing = find_crossing(bench.workspace, id)
        copies = contents(crossing.places.target)
        staged = {c for s in bench.heron.glob(".fascis-crossing-*") for c in contents(s).values()}
        assert all(copies.get(p) == c or c in staged for p, c in kept.items())
        if done:
            break
        points += 1
    assert (
        points > 10 and crossing.state is State.SETTLED and newer <= set(copies) and copies == now
    )


def test_a_drive_that_is_removed_meanwhile_continues_where_it_was(bench, library):
    crossing = settled(bench)
    work_on(library)

    def pulled(event):
        if isinstance(event, Advanced) and event.copied_files:
            raise DriveGone("the cable was pulled")

    with pytest.raises(DriveGone):
        crossing.bring_along(report=pulled)
    assert crossing.state is State.COPYING and len(contents(crossing.places.target)) == 10
    assert crossing.run() is State.SETTLED and contents(crossing.places.target) == contents(library)


def test_a_journal_beside_a_database_counts_as_its_change(bench):
    bench.fill({"catalog.sqlite": 4_000, "a.mov": 9_000})
    crossing = settled(bench)
    (bench.library / "catalog.sqlite-wal").write_bytes(b"rows")
    assert set(crossing.undecided()) == {b"catalog.sqlite", b"catalog.sqlite-wal"}
    assert (
        crossing.bring_along() is State.SETTLED
        and (crossing.places.target / "catalog.sqlite-wal").exists()
    )
    assert contents(crossing.places.target) == contents(bench.library)


@pytest.mark.parametrize("how", ["journal", "document", "new document"])
def test_where_somebody_works_on_after_the_switch_nothing_is_taken_from_under_them(bench, how):
    bench.fill({"catalog.sqlite": 4_000, "cut.m3u8": b"a.mov", "a.mov": 9_000})
    crossing = switched(bench)
    change = {
        "journal": "catalog.sqlite-journal",
        "document": "cut.m3u8",
        "new document": "second cut.m3u8",
    }[how]
    (bench.library / change).write_bytes(b'{"later": true}')
    before = contents(bench.library)
    for step in (crossing.park, crossing.release):
        with pytest.raises(Refused, match="at the old place after home moved") as refused:
            step()
        assert refused.value.code == "worked-in-since" and contents(bench.library) == before
    crossing.undo()
    assert crossing.state is State.UNDONE and contents(bench.library) == before


def test_giving_up_while_copying_changes_keeps_the_copy(bench, library):
    crossing = started(bench)
    crossing.run()
    work_on(library)

    def pulled(event):
        raise DriveGone("the cable was pulled")

    with pytest.raises(DriveGone):
        crossing.bring_along(report=pulled)
    before = contents(crossing.places.target)
    assert (
        "stays; what was being brought along is cleared" in crossing.undo()
        and crossing.state is State.UNDONE
    )
    assert (
        contents(crossing.places.target) == before
        and len(before) == 10
        and len(contents(library)) == 13
    )
    assert not list(bench.heron.glob(".fascis-crossing-*"))


def test_an_unclean_end_of_copying_changes_never_touches_what_a_person_changed_in_the_copy(
    bench, library, monkeypatch
):
    crossing = settled(bench)
    work_on(library)
    edited = crossing.places.target / "media/Day 01/weir_02.mov"
    edited.write_bytes(b"edited in the copy, by hand")

    def pulled(event):
        if isinstance(event, Advanced) and event.copied_files:
            raise DriveGone("the power went")

    with pytest.raises(DriveGone):
        crossing.bring_along(report=pulled)
    monkeypatch.setattr(destination_module, "boot_id", lambda: "another start of the machine")
    assert crossing.run() is State.SETTLED and edited.read_bytes() == b"edited in the copy, by hand"
    crossing.switch()
    original = contents(library)[b"media/Day 01/weir_02.mov"]
    left = {
        x["path"]: x["why"] for x in crossing.release()["left_behind"]
    }  # it is doubtful, read again, and another
    assert (
        left["media/Day 01/weir_02.mov"] == "copy-changed"
        and edited.read_bytes() == b"edited in the copy, by hand"
    )
    assert contents(library)[b"media/Day 01/weir_02.mov"] == original
