"""Problems on the way are reported, never swallowed.

And the plan in the staging folder is the plan.
"""

import csv
import json
import os
import stat

import pytest

from fascis.crossing.model.events import Entered
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.plan import still_holds
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing
from fascis.files.errors import DriveGone, EnvironmentTrouble
from fascis.files.names import unlisted
from fascis.library.roles import Role
from tests.crossing.ways import codes, plan_of, settled, started, switched
from tests.judge import contents


def told(crossing):
    return {p: m for p, _, m, _ in crossing.journal.attentions()}


def stop_at_copying(event):
    if event == Entered(State.COPYING, 0):
        raise DriveGone("stopped by the test")


def staged_plan(bench):
    (staging,) = bench.heron.glob(".fascis-crossing-*")
    with open(staging / "plan.csv", newline="", encoding="utf-8") as stream:
        return staging, list(csv.DictReader(stream))


def test_the_staging_folder_holds_the_whole_plan_a_second_time(bench, library):
    os.symlink("notes.txt", library / "link")
    (library / os.fsdecode(b"caf\xe9\n.jpg")).write_bytes(b"x")
    crossing = started(bench, leave_out=[Role.PROXY])
    with pytest.raises(DriveGone):
        crossing.run(report=stop_at_copying)
    _, rows = staged_plan(bench)
    planned = {unlisted(r["path"], r["path_encoding"]): r for r in rows}
    assert set(planned) == set(contents(library)) and len(planned) == len(rows) == 12
    assert (
        planned[b"proxies/weir_01.mov"]["fate"] == "left-out" and planned[b"link"]["kind"] == "link"
    )
    clip, there = (
        planned[b"media/Day 01/weir_01.mov"],
        (library / "media/Day 01/weir_01.mov").stat(),
    )
    assert (clip["fate"], clip["role"], int(clip["size_bytes"])) == ("copy", "original", 300_000)
    assert int(clip["mtime_ns"]) == there.st_mtime_ns and stat.S_ISREG(there.st_mode)
    assert crossing.run() is State.SETTLED and not list(bench.heron.glob(".fascis-crossing-*"))


def test_a_plan_cut_in_half_is_rewritten(bench, library):
    crossing = started(bench)
    with pytest.raises(DriveGone):
        crossing.run(report=stop_at_copying)
    staging, rows = staged_plan(bench)
    (staging / "plan.csv").rename(
        staging / "plan.csv.new"
    )  # as a kill between writing and naming leaves it
    with open(staging / "plan.csv.new", "r+b") as out:
        out.truncate(40)
    with pytest.raises(DriveGone):
        crossing.run(report=stop_at_copying)
    assert staged_plan(bench)[1] == rows and not (staging / "plan.csv.new").exists()
    assert crossing.run() is State.SETTLED and contents(crossing.places.target) == contents(library)


def test_a_receipt_that_cannot_be_renewed_is_reported_once(bench, library):
    crossing = settled(bench)
    receipts = crossing.places.target / ".fascis/receipts"
    kept = (receipts / f"{crossing.id}.json").read_bytes()
    receipts.rename(receipts.with_name("moved away"))
    crossing.switch()
    crossing.park()
    place = f".fascis/receipts/{crossing.id}.json".encode()
    assert "not the newest" in told(crossing)[place] and len(crossing.journal.attentions()) == 1
    assert (receipts.with_name("moved away") / f"{crossing.id}.json").read_bytes() == kept
    assert contents(crossing.places.parked_path) == contents(crossing.places.target)


def test_the_receipt_in_the_copy_follows_every_step(bench, library):
    crossing = settled(bench)
    kept = crossing.places.target / f".fascis/receipts/{crossing.id}.json"
    states = [json.loads(kept.read_text())["state"]]
    for step in (crossing.switch, crossing.park, crossing.put_back, crossing.undo):
        step()
        states.append(json.loads(kept.read_text())["state"])
    assert states == ["settled", "switched", "parked", "switched", "undone"] and not told(crossing)
    assert contents(library) == contents(crossing.places.target)


def test_an_identity_that_cannot_be_renewed_is_reported_and_the_register_decides(bench, library):
    crossing = settled(bench)
    identity = crossing.places.target / ".fascis/identity.json"
    whole = identity.read_bytes()
    crossing.switch()
    identity.write_bytes(b"{")
    assert "Home is" in crossing.undo() and crossing.state is State.UNDONE
    assert "still names the old home" in told(crossing)[b".fascis/identity.json"]
    assert bench.workspace.register.library_at(library) is not None
    assert identity.read_bytes() == b"{" != whole and contents(library) == contents(
        crossing.places.target
    )


def test_a_damaged_identity_beside_the_destination_is_mentioned(bench, library):
    switched(bench).close()
    stray = bench.heron / "Stray"
    (stray / ".fascis").mkdir(parents=True)
    (stray / ".fascis/identity.json").write_text("{ not whole")
    crossed = bench.heron / "The Weir"
    bench.add_drive("second")
    bench.again()
    plan = plan_of(bench, to=bench.heron, library=crossed, name="again")
    found = [p for p in plan.problems if p.code == "identity-damaged"]
    assert len(found) == 1 and found[0].severity == "note" and "Stray" in found[0].sentence
    assert codes(plan)["same-library-there"] == "decision"


@pytest.mark.skipif(os.geteuid() == 0, reason="root may look into every folder")
def test_a_destination_that_cannot_be_opened_asks(bench, library):
    switched(bench).close()
    there = bench.heron / "shut"
    there.mkdir(mode=0o300)
    plan = plan_of(bench, to=there, library=bench.heron / "The Weir")
    assert codes(plan)["destination-not-permitted"] == "decision"
    there.chmod(0o700)


def change(library, how):
    match how:
        case "newer":
            (library / "notes.txt").write_text("breach second, at dawn\n")
        case "appeared":
            (library / "stills/otter.jpg").write_bytes(b"otter")
        case "gone":
            (library / "stills/heron.xmp").unlink()
        case "replaced":
            content = (library / "notes.txt").read_bytes()
            times = (library / "notes.txt").stat()
            (library / "stills/spare").write_bytes(content)
            os.utime(library / "stills/spare", ns=(times.st_atime_ns, times.st_mtime_ns))
            (library / "stills/spare").replace(library / "notes.txt")
        case "folder":
            (library / "empty").mkdir()


@pytest.mark.parametrize("how", ["newer", "appeared", "gone", "replaced", "folder"])
def test_a_plan_that_no_longer_holds_is_recognised(bench, library, how):
    seen = plan_of(bench)
    assert still_holds(seen, plan_of(bench))
    change(library, how)
    assert not still_holds(seen, plan_of(bench))


def test_a_problem_that_came_up_since_is_recognised(bench, library):
    surveyed = survey_library(bench.workspace, library)
    seen = make_plan(bench.workspace, surveyed, bench.heron, Choices())
    (bench.heron / "The Weir").mkdir()
    assert not still_holds(seen, make_plan(bench.workspace, surveyed, bench.heron, Choices()))


def test_the_location_of_originals_that_stay_is_reported(bench, library, monkeypatch):
    """The folder above cannot be opened any more when the last of a release is done."""
    crossing = switched(bench)
    (library / "later.jpg").write_bytes(b"came later")
    real = bench.workspace.drives.open
    deleted = []

    def opening(path):
        if deleted and path == library.parent:
            raise EnvironmentTrouble("the folder above does not answer")
        return real(path)

    bench.step = lambda name: deleted.append(name) if name.startswith("after unlink") else None
    monkeypatch.setattr(bench.workspace.drives, "open", opening)
    record = crossing.release()
    assert record["stays_at"] and [x["path"] for x in record["left_behind"]] == ["later.jpg"]
    assert (crossing.places.parked_path / "later.jpg").read_bytes() == b"came later"
    assert len(contents(crossing.places.target)) == 10


def test_a_header_keeps_what_was_decided(bench, library):
    os.symlink("notes.txt", library / "link")
    bench.add_drive("stick", "exfat")
    bench.again()
    crossing = started(bench, to=bench.drives / "stick")
    assert any("no links" in d for d in json.loads(crossing.journal.get("plan"))["decisions"])
    id = crossing.id
    crossing.close()
    with pytest.raises(Exception, match="no crossing"):
        find_crossing(bench.workspace, "zz" + id)
