"""Update: a copy gets the changes of its home, and keeps what it had before."""

import os
from contextlib import suppress

import pytest

from fascis.copies.comparing import Comparison
from fascis.copies.updating import plan_update
from fascis.crossing.arrival.landing.updated_copy import EARLIER_FOLDER
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import all_crossings
from fascis.files.errors import FascisError
from fascis.library.known.places import State as Stands
from tests.commands.test_commands import fascis
from tests.conftest import Bench
from tests.crossing.test_crash_points import Killed, Killer
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import timeline, write
from tests.thorough import STRIDE
from tests.worlds import oracle


def fill(bench):
    lib = bench.library
    for name in ("a", "b", "c", "night/d", "night/e"):
        write(lib / f"media/{name}.mov", name.encode() * 700)
    write(lib / "proxies/a.mov", b"proxy" * 9)
    write(lib / "cut.otio", timeline("media/a.mov", "media/night/d.mov", "../Loose/l.wav"))
    write(lib / "stays.otio", timeline("media/b.mov"))
    write(bench.drives / "inside/Loose/l.wav", b"loose" * 90)
    return lib


def work(lib):
    """A day's work at home: something of everything."""
    write(lib / "media/new.mov", b"new" * 900)
    write(lib / "media/a.mov", b"A" * 800)
    (lib / "media/night").rename(lib / "media/evening")
    (lib / "media/c.mov").unlink()
    # Two that exchange their names.
    (lib / "media/evening/d.mov").rename(lib / "media/x")
    (lib / "media/evening/e.mov").rename(lib / "media/evening/d.mov")
    (lib / "media/x").rename(lib / "media/evening/e.mov")
    write(lib / "cut.otio", timeline("media/new.mov", "media/evening/e.mov", "../Loose/l.wav"))


def copied(bench, where=None, *more):
    lib = fill(bench)
    words = ("--to", where or bench.heron, "--leave-out", "proxy", "--after", "copy", "--yes")
    status, _, err = fascis(bench, "relocate", lib, *words, "--json", *more)
    assert status == 0, err
    return lib, (where or bench.heron) / lib.name


def equal(bench, lib, there):
    """By Fascis, by the content of every file, and by what documents play."""
    found = Comparison(bench.workspace, survey_library(bench.workspace, lib), there).found
    assert found.state is Stands.EQUAL, found
    documents = ("cut.otio", "stays.otio")
    for name in documents:
        assert oracle.plays(lib / name, {}) == oracle.plays(there / name, {})
    # Proxies were left out by choice, documents have other paths, and loose media is gathered.
    apart = (b"otio", b"proxies", b"Loose")
    mine, theirs = (
        {p: c for p, c in contents(folder).items() if not any(word in p for word in apart)}
        for folder in (lib, there)
    )
    assert mine == theirs


def test_what_is_new_changed_moved_and_gone_comes_and_what_was_stays_in_it(bench):
    lib, there = copied(bench)
    before = contents(there)
    work(lib)
    home = contents(lib)
    status, said, err = fascis(bench, "update", there, "--dry-run", "--json")
    counts = {k: said[k] for k in ("added", "changed", "moved", "removed", "unchanged")}
    assert (status, counts) == (
        0, {"added": 1, "changed": 2, "moved": 2, "removed": 1, "unchanged": 3}
    ), err  # fmt: skip
    assert contents(there) == before, "a dry run changes nothing"
    status, said, err = fascis(bench, "update", there, "--json")
    assert (status, said["state"]) == (0, "settled"), err
    assert {k: said[k] for k in counts} == counts and contents(lib) == home
    (receipt,) = (there / ".fascis/receipts").glob(f"{said['crossing']}.html")
    assert "New ones read back, others as listed" in receipt.read_text()
    equal(bench, lib, there)
    kept = there / os.fsdecode(EARLIER_FOLDER) / said["crossing"]
    names = {p.relative_to(kept).as_posix() for p in kept.rglob("*") if p.is_file()}
    assert names == {"media/a.mov", "media/c.mov", "cut.otio"}
    assert not (there / "media/night").exists(), "an empty folder is not left"
    status, verified, _ = fascis(bench, "verify", there, "--json")
    assert status == 0 and verified["unlisted"] == verified["edited"] == []
    again = fascis(bench, "update", there, "--json")[1]
    assert again["added"] + again["changed"] + again["moved"] + again["removed"] == 0
    status, refused, _ = fascis(bench, "update", there, "--drop-earlier", "--json")
    assert status == 3 and kept.exists()
    status, dropped, _ = fascis(bench, "update", there, "--drop-earlier", "--yes", "--json")
    assert (status, dropped["files"]) == (0, 3) and not kept.exists()
    equal(bench, lib, there)


def test_what_somebody_put_into_the_copy_already_is_not_copied_again(bench):
    lib, there = copied(bench)
    for folder in (lib, there):
        write(folder / "media/new.mov", b"new" * 900)
    inode = (there / "media/new.mov").stat().st_ino
    status, said, err = fascis(bench, "update", there, "--json")
    assert (status, said["added"], said["changed"]) == (0, 0, 0), err
    assert (there / "media/new.mov").stat().st_ino == inode
    status, verified, _ = fascis(bench, "verify", there, "--json")
    assert (status, verified["unlisted"]) == (0, [])


def test_what_was_worked_on_in_the_copy_is_a_decision_and_never_lost(bench):
    lib, there = copied(bench)
    write(there / "media/b.mov", b"worked on in the copy")
    write(there / "media/mine.mov", b"made in the copy")
    write(there / "media/a.mov", b"a version of the copy")
    write(lib / "media/a.mov", b"a version of home")
    before = contents(bench.drives)
    status, said, _ = fascis(bench, "update", there, "--json")
    assert status == 3 and contents(bench.drives) == before
    (problem,) = [p for p in said["problems"] if p["code"] == "copy-is-ahead"]
    assert problem["severity"] == "decision"
    assert set(problem["files"]) == {"media/a.mov", "media/b.mov", "media/mine.mov"}
    status, said, err = fascis(bench, "update", there, "--yes", "--json")
    assert (status, said["changed"]) == (0, 1), err
    assert (there / "media/b.mov").read_bytes() == b"worked on in the copy"
    assert (there / "media/mine.mov").read_bytes() == b"made in the copy"
    assert (there / "media/a.mov").read_bytes() == b"a version of home"
    kept = there / os.fsdecode(EARLIER_FOLDER) / said["crossing"] / "media/a.mov"
    assert kept.read_bytes() == b"a version of the copy"


@pytest.mark.parametrize("how", ["home itself", "other library", "no copy", "no records", "none"])
def test_what_is_not_a_copy_of_it_is_refused(bench, how):
    lib, there = copied(bench)
    other = bench.heron / "Other"
    write(other / "x.mov", b"x")
    if how == "other library":
        fascis(bench, "manifest", other, "--json")
    if how == "no records":
        (there / ".fascis/inventory.csv").write_bytes(b"damaged")
    before = contents(bench.drives)
    words = {
        "home itself": (lib, "--from", lib),
        "other library": (other, "--from", lib),
        "no copy": (other, "--from", lib),
        "no records": (there,),
        "none": (bench.root / "none",),
    }[how]
    status, said, _ = fascis(bench, "update", *words, "--yes", "--json")
    assert status in (2, 3) and said["error"] and contents(bench.drives) == before


def test_without_room_nothing_is_begun(bench):
    lib, there = copied(bench)
    write(lib / "media/large.mov", b"x" * 300_000)
    bench.add_drive("heron", capacity=200_000)
    status, said, _ = fascis(bench, "update", there, "--yes", "--json")
    assert status == 3 and "not-enough-room" in {p["code"] for p in said["problems"]}


@pytest.mark.parametrize("filesystem", ["ext4", "btrfs", "exfat", "ntfs"])
def test_on_real_drives(bench, mounted, filesystem):
    where = mounted(filesystem, 120)
    real(bench)
    lib = fill(bench)
    there = where / lib.name
    begin(bench, lib, where).close()
    work(lib)
    plan, _ = plan_update(bench.workspace, lib, there)
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    crossing.close()
    equal(bench, lib, there)


def begin(bench, lib, where):
    choices = Choices(after=After.COPY)
    plan = make_plan(bench.workspace, survey_library(bench.workspace, lib), where, choices)
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    assert crossing.run() is State.SETTLED
    return crossing


def world(folder, filesystem):
    bench = Bench(folder)
    bench.add_drive("heron", filesystem=filesystem)
    lib = fill(bench)
    begin(bench, lib, bench.heron).close()
    work(lib)
    return bench, lib, bench.heron / lib.name


def updated(bench, lib, there):
    plan, _ = plan_update(bench.workspace, lib, there)
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    try:
        return crossing.run()
    finally:
        crossing.close()


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
@pytest.mark.parametrize("then", ["goes on", "is given up"])
def test_interrupted_at_any_step_nothing_is_lost(tmp_path, filesystem, then):
    """On a drive that can rename without replacing, and on one that cannot.

    What was given up is as it was, and is interrupted once more at the next point.
    """
    bench, lib, there = world(tmp_path / "rehearsal", filesystem)
    bench.step = counter = Killer(10**9)
    assert updated(bench, lib, there) is State.SETTLED
    assert counter.passed > 60
    first = {"goes on": 0, "is given up": 5}[then] + (7 if filesystem == "exfat" else 0)
    is_as_it_was = False
    for point in range(first, counter.passed, max(1, STRIDE * 3 // 4)):
        if not is_as_it_was:
            bench, lib, there = world(tmp_path / f"at {point}", filesystem)
        before, home, everything = contents(there), contents(lib), _all(there)
        records = contents(there / ".fascis")
        bench.step = Killer(point)
        with suppress(Killed):
            updated(bench, lib, there)
        bench.step = lambda _name: None
        bench.again()
        assert everything <= _all(bench.heron), point
        found, _ = all_crossings(bench.workspace)
        (crossing,) = [
            c for c in found if c.places.header.update and c.state is not State.UNDONE
        ] or [None]
        if crossing is None:
            continue
        is_as_it_was = then == "is given up" and not crossing.copies.value("arrived_at")
        if not is_as_it_was:
            assert crossing.run() is State.SETTLED, point
            equal(bench, lib, there)
        else:
            crossing.undo()
            assert contents(there) == before, point
            assert contents(there / ".fascis") == records, point
        crossing.close()
        assert contents(lib) == home and everything <= _all(bench.heron), point
        assert not list(there.glob(".fascis-crossing-*")), point


def _all(folder):
    """Every file there, under any name, without Fascis's own lists."""
    own = ("identity.json", "inventory.csv", "manifest.b3", "crossing.json", "plan.csv")
    files = (p for p in folder.rglob("*") if p.is_file() and p.name not in own)
    return {p.read_bytes() for p in files if p.parent.name != "receipts"}


def test_a_copy_that_changed_after_the_plan_is_not_touched(bench):
    lib, there = copied(bench)
    bench_plan = plan_of(bench, lib, there)
    (there / "media/b.mov").unlink()
    before = contents(there)
    crossing = Crossing.start(bench.workspace, bench_plan, decided=True)
    with pytest.raises(FascisError, match="no longer is"):
        crossing.run()
    crossing.undo()
    crossing.close()
    assert contents(there) == before


def plan_of(bench, lib, there):
    work(lib)
    return plan_update(bench.workspace, lib, there)[0]


def test_what_appears_where_something_is_moved_to_is_not_taken_for_it(bench):
    lib, there = copied(bench)
    (lib / "media/a.mov").rename(lib / "media/moved.mov")
    write(lib / "cut.otio", timeline("media/moved.mov", "media/night/d.mov"))
    plan, _ = plan_update(bench.workspace, lib, there)
    assert plan.update.moves == {b"media/moved.mov": b"media/a.mov"}
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    write(there / "media/moved.mov", b"somebody's own")
    with pytest.raises(FascisError, match="appeared in the copy"):
        crossing.run()
    assert (there / "media/moved.mov").read_bytes() == b"somebody's own"
    (there / "media/moved.mov").rename(there / "media/theirs.mov")
    assert crossing.run() is State.SETTLED
    crossing.close()
    assert (there / "media/moved.mov").read_bytes() == b"a" * 700
    assert (there / "media/theirs.mov").read_bytes() == b"somebody's own"
