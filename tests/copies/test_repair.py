"""Repair: damaged and missing files are restored from a copy; everything before is kept."""

import os

import pytest

from fascis.copies.repairing import BEFORE, Repairs
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.files.control import Control
from fascis.files.errors import Refused
from tests.commands.test_commands import fascis
from tests.crossing.test_crash_points import Killed, Killer
from tests.judge import contents
from tests.library.making import timeline, write
from tests.thorough import spread

DAMAGED, MISSING = "media/b.mov", "media/night/c.mov"


def fill(bench):
    lib = bench.library
    for name in ("a", "b", "night/c"):
        write(lib / f"media/{name}.mov", name.encode() * 700)
    write(lib / "cut.otio", timeline("media/a.mov", "../Loose/l.wav"))
    write(bench.drives / "inside/Loose/l.wav", b"loose" * 90)
    return lib


def damage(there, *places):
    """Another content with the time of before, as bits that fall over make it."""
    for place in places:
        path = there / place
        status = path.stat()
        path.write_bytes(b"?" + path.read_bytes()[1:])
        os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


@pytest.fixture
def copies(bench):
    """A library with two copies, of which one is damaged; home stays where it is."""
    lib = fill(bench)
    bench.add_drive("egret")
    for drive in (bench.heron, bench.drives / "egret"):
        words = ("--to", drive, "--after", "copy", "--yes", "--json")
        assert fascis(bench, "relocate", lib, *words)[0] == 0
    there, good = bench.heron / lib.name, bench.drives / "egret" / lib.name
    damage(there, DAMAGED)
    (there / MISSING).unlink()
    return there, good


def test_damaged_and_missing_come_back_and_the_damaged_bytes_are_kept(bench, copies):
    there, good = copies
    before, whole = contents(bench.drives), contents(good)
    spoiled = (there / DAMAGED).read_bytes()
    status, said, _ = fascis(bench, "repair", there, "--from", good, "--dry-run", "--json")
    assert status == 1 and set(said["would_repair"]) == {DAMAGED, MISSING} and not said["act"]
    status, said, _ = fascis(bench, "repair", there, "--from", good, "--json")
    assert status == 3 and said["problems"][0]["code"] == "not-confirmed"
    assert contents(bench.drives) == before, "nothing was done without a yes"
    status, said, err = fascis(bench, "repair", there, "--from", good, "--yes", "--json")
    assert (status, set(said["repaired"]), said["not_repaired"]) == (0, {DAMAGED, MISSING}, []), err
    assert contents(there) == whole
    (kept,) = (there / os.fsdecode(BEFORE)).rglob("b.mov")
    assert kept.read_bytes() == spoiled
    status, verified, _ = fascis(bench, "verify", there, "--json")
    assert (status, verified["edited"]) == (0, []), "times as its inventory has them"
    status, undone, err = fascis(bench, "undo", said["act"], "--json")
    assert (status, undone["state"]) == (0, "undone"), err
    assert contents(bench.drives) == before
    assert not (there / os.fsdecode(BEFORE)).exists(), "nothing is left of it"
    assert fascis(bench, "undo", said["act"], "--json")[0] == 3


def test_a_home_is_repaired_from_its_copy_documents_too(bench, copies):
    """The copy has other documents: the one from before is kept in it."""
    _, good = copies
    lib = bench.library
    assert fascis(bench, "manifest", lib, "--json")[0] == 0
    whole = contents(lib)
    damage(lib, "cut.otio", "media/a.mov")
    status, said, err = fascis(bench, "repair", lib, "--from", good, "--yes", "--json")
    assert (status, sorted(said["repaired"])) == (0, ["cut.otio", "media/a.mov"]), err
    assert contents(lib) == whole


def test_edited_files_are_left_alone_and_missing_ones_in_the_copy_reported(bench, copies):
    there, good = copies
    write(there / "media/a.mov", b"edited since")
    damage(good, DAMAGED)
    (good / MISSING).unlink()
    before = contents(bench.drives)
    status, said, _ = fascis(bench, "repair", there, "--from", good, "--yes", "--json")
    assert status == 1 and said["repaired"] == [] and said["act"] is None
    assert {x["path"]: x["why"] for x in said["not_repaired"]} == {
        DAMAGED: "copy-damaged",
        MISSING: "copy-missing",
    }
    assert contents(bench.drives) == before


def test_a_file_that_a_program_writes_stays(bench, copies):
    there, good = copies
    with open(there / DAMAGED, "r+b"):
        words = ("repair", there, "--from", good, "--yes", "--json")
        # In a process of its own: files that this process has open are not examined.
        status, said, _ = fascis(bench, *words, LANG="C")
    assert status == 1 and said["not_repaired"] == [{"path": DAMAGED, "why": "open"}]
    assert (there / MISSING).exists()


def test_what_is_not_a_copy_of_it_is_refused(bench, copies):
    there, good = copies
    other = bench.drives / "egret/Other"
    write(other / "media/b.mov", b"b" * 700)
    fascis(bench, "manifest", other, "--json")
    for words in ((there, other), (there, there), (bench.library, good)):
        status, said, _ = fascis(bench, "repair", words[0], "--from", words[1], "--yes", "--json")
        assert status == 3 and said["error"]
    assert fascis(bench, "repair", there, "--from", bench.root / "none", "--yes", "--json")[0] == 2


def test_worked_in_since_it_is_not_undone(bench, copies):
    there, good = copies
    _, said, _ = fascis(bench, "repair", there, "--from", good, "--yes", "--json")
    write(there / MISSING, b"worked in")
    before = contents(bench.drives)
    status, refused, _ = fascis(bench, "undo", said["act"], "--json")
    assert status == 3 and "changed after it was repaired" in refused["error"]
    assert contents(bench.drives) == before


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_interrupted_at_every_step_nothing_is_lost_and_it_finishes(tmp_path, filesystem):
    """A drive that can rename without replacing, and one that cannot.

    One copy is damaged once: each interrupted repair is undone, and so it is as it was.
    """
    from tests.conftest import Bench

    bench = Bench(tmp_path / "bench")
    bench.add_drive("heron", filesystem=filesystem)
    bench.add_drive("egret")
    lib = fill(bench)
    for drive in (bench.heron, bench.drives / "egret"):
        surveyed = survey_library(bench.workspace, lib)
        plan = make_plan(bench.workspace, surveyed, drive, Choices(after=After.COPY))
        crossing = Crossing.start(bench.workspace, plan, decided=True)
        crossing.run()
        crossing.close()
    there, good = bench.heron / lib.name, bench.drives / "egret" / lib.name
    damage(there, DAMAGED)
    (there / MISSING).unlink()
    spoiled, whole, bytes_before = contents(there), contents(good), _all(there)

    def whole_way():
        repairs = Repairs(bench.workspace)
        act = repairs.apply(there, good, repairs.look(there, good, Control()), Control())
        repairs.undo(act.id)

    bench.step = counter = Killer(10**9)
    whole_way()
    assert counter.passed > 12 and contents(there) == spoiled
    for point in spread(counter.passed, 10):
        bench.step = Killer(point)
        with pytest.raises(Killed):
            whole_way()
        bench.step = lambda _name: None
        bench.again()
        repairs = Repairs(bench.workspace)
        assert bytes_before <= _all(there), point
        assert repairs.recover() == []
        now = contents(there)
        assert now in (spoiled, whole) or _between(now, spoiled, whole), point
        for act in repairs.all():
            if act.state == "done":
                try:
                    repairs.undo(act.id)
                except Refused as error:  # it had done nothing yet
                    raise AssertionError(point) from error
        assert contents(there) == spoiled, point
        assert contents(good) == whole and not (there / os.fsdecode(BEFORE)).exists(), point


def _all(there):
    """Every file there, under any name, without Fascis's own lists."""
    files = (path for path in there.rglob("*") if path.is_file())
    return {p.read_bytes() for p in files if p.parent.name not in (".fascis", "receipts")}


def _between(now, spoiled, whole):
    """Each file is what it was, or good."""
    return all(content in (spoiled.get(p), whole.get(p)) for p, content in now.items()) and (
        spoiled.keys() <= now.keys() <= whole.keys()
    )


def test_an_original_that_a_crossing_finds_damaged_is_taken_from_a_sound_copy(bench):
    lib = fill(bench)
    fascis(bench, "manifest", lib, "--json")
    words = ("--after", "copy", "--yes", "--json")
    assert fascis(bench, "relocate", lib, "--to", bench.heron, *words)[0] == 0
    good, otter = contents(lib), bench.add_drive("otter")
    damage(lib, "media/b.mov")
    status, said, err = fascis(bench, "relocate", lib, "--to", otter, "--after", "keep", "--json")
    assert status == 4 and "damaged-at-source" in {p["code"] for p in said["problems"]}
    assert f"fascis repair {lib} --from {bench.heron / lib.name}" in err
    damaged = (lib / "media/b.mov").read_bytes()
    copy = bench.heron / lib.name
    assert fascis(bench, "repair", lib, "--from", copy, "--yes", "--json")[0] == 0
    assert contents(lib) == good and damaged in {
        p.read_bytes() for p in (lib / ".fascis/before-repair").rglob("*.mov")
    }
    status, resumed, err = fascis(bench, "resume", said["crossing"], "--json")
    assert (status, resumed["state"]) == (0, "switched"), (err, resumed["problems"])
    assert (otter / lib.name / "media/b.mov").read_bytes() == b"b" * 700


def test_where_every_copy_is_damaged_too_none_is_offered(bench):
    lib = fill(bench)
    fascis(bench, "manifest", lib, "--json")
    words = ("--after", "copy", "--yes", "--json")
    assert fascis(bench, "relocate", lib, "--to", bench.heron, *words)[0] == 0
    for folder in (lib, bench.heron / lib.name):
        damage(folder, "media/b.mov")
    before = contents(bench.drives)
    status, _, err = fascis(bench, "relocate", lib, "--to", bench.add_drive("otter"), "--json")
    assert status == 4 and "fascis repair" not in err
    kept = contents(bench.drives)
    assert {p: kept.get(p) for p in before} == before
