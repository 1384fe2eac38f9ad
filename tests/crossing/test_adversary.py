"""What an adversary does to copies, originals and what lies beside them.

Each test also says what must still be there.
"""

import csv
import errno
import json
import os
import shutil
import subprocess
import sys
import threading
from contextlib import closing

import pytest
from msgspec.structs import replace

from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.journal import Journal
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.release import originals as releasing_module
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing
from fascis.drives.stand_in import StandInFile
from fascis.files.disk.medium import PosixFile, PosixMedium
from fascis.files.errors import DriveFull, DriveGone, EnvironmentTrouble, Refused
from fascis.library.open_files import Openers
from tests.crossing.ways import codes, plan_of, settled, started, switched
from tests.images import unmount
from tests.judge import contents
from tests.library.making import catalog_at, picture, timeline

CLIP = "media/Day 01/weir_01.mov"


def edited_in_place(path):
    """Other content, the same length and time, as a tool for metadata leaves it."""
    s = path.stat()
    with open(path, "r+b") as out:
        out.write(b"edited by a tool that keeps times")
    os.utime(path, ns=(s.st_atime_ns, s.st_mtime_ns))


def left(record):
    return {x["path"]: x["why"] for x in record["left_behind"]}


def on(bench, filesystem):
    to = bench.add_drive("egret", filesystem)
    bench.again()
    return to


class Killed(BaseException):
    """As SIGKILL: nothing of the program runs on."""


def killed_at(bench, moment, work):
    """Runs until a step whose name begins so, and is killed there."""

    def step(name):
        if name.startswith(moment):
            raise Killed

    bench.step = step
    with pytest.raises(Killed):
        work()
    bench.step = lambda _name: None


# -- copies ----------------------------------------------------------------------------------------


@pytest.mark.parametrize("filesystem", ["ext4", "exfat", "ntfs"])
def test_the_original_of_a_copy_that_was_changed_in_place_with_its_time_kept_stays(
    bench, library, filesystem
):
    crossing = switched(bench, to=on(bench, filesystem))
    edited_in_place(crossing.places.target / CLIP)
    before = contents(library)
    assert left(crossing.release()) == {CLIP: "copy-changed"}
    assert contents(library) == {CLIP.encode(): before[CLIP.encode()]}
    assert len(contents(crossing.places.target)) == 10


def test_a_staged_copy_that_was_touched_is_read_again_before_it_arrives(bench, library):
    crossing = started(bench)
    killed_at(bench, "before journal state verifying", crossing.run)
    staged = next(bench.heron.glob(".fascis-crossing-*")) / "library"
    edited_in_place(staged / CLIP)
    id = crossing.id
    crossing.close()
    again = find_crossing(bench.workspace, id)
    assert again.run() is State.SETTLED and contents(again.places.target) == contents(library)


def test_two_records_of_one_name_do_not_take_each_other_s_place(bench, library):
    (library / "Edits").mkdir()
    (library / "Edits/River.otio").write_bytes(timeline(str(library / CLIP)))
    (library / ".fascis/Edits").mkdir(parents=True)
    (library / ".fascis/Edits/River.otio").write_bytes(b"somebody's own")
    before = contents(library)
    crossing = settled(bench)
    kept = crossing.places.target / ".fascis/as-it-was" / crossing.id
    assert (kept / ".fascis/Edits/River.otio").read_bytes() == b"somebody's own"
    assert (kept / "Edits/River.otio").read_bytes() == (library / "Edits/River.otio").read_bytes()
    crossing.switch()
    assert left(crossing.release()) == {} and not library.exists() and len(before) == 11


def holes_everywhere(self):
    return []


def test_what_a_file_system_calls_a_hole_a_moment_ago_is_read(bench, library, monkeypatch):
    """A file system reported this for new files, and copies became zeros, digest and all."""
    clip = library / CLIP
    with open(clip, "wb") as out:
        out.truncate(8 << 20)
        out.write(os.urandom(3 << 20))
    monkeypatch.setattr(PosixFile, "data_ranges", holes_everywhere)
    crossing = settled(bench)
    assert (crossing.places.target / CLIP).read_bytes() == clip.read_bytes()


def test_a_copy_of_nothing_but_zeros_is_reported(bench, library):
    with open(library / "empty take.mov", "wb") as out:
        out.truncate(4 << 20)
    crossing = settled(bench)
    assert [p for p, _, m, _ in crossing.journal.attentions() if "nothing but zeros" in m] == [
        b"empty take.mov"
    ]
    assert contents(crossing.places.target) == contents(library)


# -- originals -------------------------------------------------------------------------------------


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_an_original_that_somebody_begins_to_write_while_it_is_read_stays(
    bench, library, filesystem, monkeypatch
):
    inside = bench.add_drive("inside", filesystem, transport="nvme")
    bench.again()
    crossing = switched(bench)
    good = releasing_module.Release._read
    writer = []

    def written_behind_it(self, held, lease):
        found = good(self, held, lease)
        if not writer and held.status().st_size == 300_000:
            path = crossing.places.standing() / CLIP
            writer.append(
                subprocess.Popen(
                    [
                        sys.executable,
                        "-c",
                        "import sys; open(sys.argv[1], 'r+b').write(b'edit')",
                        path,
                    ]
                )
            )
            while held.held():  # until it waits for us to let go
                pass
        return found

    monkeypatch.setattr(releasing_module.Release, "_read", written_behind_it)
    monkeypatch.setattr(releasing_module.Release, "_must_read", lambda *_: True)
    assert left(crossing.release())[CLIP] == "changed"
    assert (
        writer[0].wait(20) == 0 and (library / CLIP).read_bytes()[:4] == b"edit" and inside.exists()
    )
    assert len(contents(crossing.places.target)) == 10


def test_an_original_that_another_person_s_program_writes_to_stays(bench, library, monkeypatch):
    """Its processes cannot be examined; the lease shows it."""
    crossing = switched(bench)
    monkeypatch.setattr(releasing_module, "find_open", lambda *_: Openers([], all_seen=False))
    with open(library / CLIP, "r+b") as theirs:
        record = crossing.release()
        theirs.write(b"later")
    assert left(record) == {CLIP: "open"} and (library / CLIP).read_bytes()[:5] == b"later"
    assert len(contents(crossing.places.target)) == 10


def test_where_no_lease_is_granted_and_not_all_programs_can_be_seen_an_original_stays(
    bench, library, monkeypatch
):
    crossing = switched(bench)
    monkeypatch.setattr(releasing_module, "find_open", lambda *_: Openers([], all_seen=False))
    monkeypatch.setattr(PosixFile, "hold", lambda self: None)
    assert (
        set(left(crossing.release()).values()) == {"open-not-known"}
        and len(contents(library)) == 10
    )


def test_a_folder_that_is_moved_out_while_a_release_works_in_it_keeps_its_files(bench, library):
    crossing = switched(bench)
    away = bench.drives / "inside/moved out"
    before = contents(library / "media")

    def step(name):
        if name.startswith("before unlink") and not away.exists():
            (crossing.places.standing() / "media").rename(away)

    bench.step = step
    crossing.release()
    assert contents(away) == before and len(contents(crossing.places.target)) == 10


@pytest.mark.lab
def test_a_clone_mounted_over_a_folder_of_the_library_keeps_its_files(bench, library, mounted):
    crossing = switched(bench)
    clone = library / "media/Day 01"
    with open(bench.root / "clone.img", "wb") as out:
        out.truncate(16 << 20)
    subprocess.run(["mkfs.ext4", "-q", bench.root / "clone.img"], check=True)
    originals, where = contents(clone), library
    subprocess.run(["mount", "-o", "loop", bench.root / "clone.img", clone], check=True)
    try:
        shutil.rmtree(clone / "lost+found")
        for place in originals:
            shutil.copy2(
                crossing.places.target / "media/Day 01" / os.fsdecode(place),
                clone / os.fsdecode(place),
            )
        theirs = contents(clone)
        record = crossing.release()
        where = next(
            p for p in (library, crossing.places.parked_path) if (p / "media/Day 01").exists()
        )
        assert contents(where / "media/Day 01") == theirs
        assert {why for path, why in left(record).items() if path.startswith("media/Day 01")} == {
            "mount"
        }
    finally:
        for folder in (library, crossing.places.parked_path):
            subprocess.run(["umount", folder / "media/Day 01"], capture_output=True)
    assert contents(where / "media/Day 01") == originals


@pytest.mark.lab
@pytest.mark.parametrize("whole", [True, False])
def test_the_copy_itself_mounted_where_the_originals_were_is_not_deleted(
    bench, library, mounted, whole
):
    """If inodes identify nothing, and the drive is not tested.

    Sizes, times and contents are all as expected.
    """
    bench.add_drive("inside", "exfat", transport="nvme")
    bench.again()
    crossing = switched(bench)
    copy = crossing.places.target
    before = contents(copy)
    where = library if whole else library / "media"
    subprocess.run(["mount", "--bind", copy if whole else copy / "media", where], check=True)
    try:
        crossing.release()
    except Refused:
        pass
    finally:
        for folder in (where, crossing.places.parked_path):
            subprocess.run(["umount", folder], capture_output=True)
    assert contents(copy) == before
    assert whole is False or len(contents(library)) == 10


def test_of_two_names_of_a_file_one_that_was_saved_again_crosses_as_a_file_of_its_own(
    bench, library
):
    os.link(library / CLIP, library / "twin.mov")
    crossing = started(bench)
    os.rename(library / "twin.mov", library / "t")
    (library / "twin.mov").write_bytes(b"saved anew")
    (library / "t").unlink()
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    assert contents(crossing.places.target) == contents(library)


def test_when_the_first_of_two_names_is_deleted_the_second_crosses(bench, library):
    os.link(library / CLIP, library / "a second name.mov")
    crossing = started(bench)
    first = min(
        (library / CLIP, library / "a second name.mov"), key=lambda p: str(p.relative_to(library))
    )
    first.unlink()
    assert crossing.run(skip_unreadable=True) in (State.SETTLED, State.WAITING)
    assert crossing.run(skip_unreadable=True) is State.SETTLED
    assert contents(crossing.places.target) == contents(library)


# -- what a person put there -----------------------------------------------------------------------


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
@pytest.mark.parametrize("ending", ["undo", "settle"])
def test_what_a_person_put_into_an_arrived_library_before_it_settled_is_kept(
    bench, library, filesystem, ending
):
    to = on(bench, filesystem)
    crossing = started(bench, to=to)
    killed_at(bench, "before journal settled_at", crossing.run)
    there = to / "The Weir"
    (there / "their notes.txt").write_bytes(b"the only ones")
    (there / "stills/heron.jpg").write_bytes(b"edited there")
    id = crossing.id
    crossing.close()
    again = find_crossing(bench.workspace, id)
    # The drive was connected again: files verified last are doubted.
    again.copies.put(
        "session",
        {**again.copies.value("session"), "clean": False, "mount": "another", "boot": "another"},
    )
    beside = to / f"The Weir (yours, {id[:8]})"
    if ending == "undo":
        assert "are kept, in" in again.undo() and not there.exists()
    else:
        assert again.run() is State.SETTLED and contents(there) == contents(library)
    assert contents(beside) != {} and (beside / "their notes.txt").read_bytes() == b"the only ones"
    assert (beside / "stills/heron.jpg").read_bytes() == b"edited there" and len(
        contents(library)
    ) == 10
    assert not list(to.glob(".fascis*"))


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_a_copy_that_was_whole_once_is_never_cleared(bench, library, filesystem):
    """Killed right before the crossing is called settled, and given up.

    The copy stays, with what was put into it.
    """
    to = on(bench, filesystem)
    crossing = started(bench, to=to)
    killed_at(bench, "before journal state settled", crossing.run)
    (to / "The Weir/their notes.txt").write_bytes(b"the only ones")
    id = crossing.id
    crossing.close()
    assert "The complete copy" in find_crossing(bench.workspace, id).undo()
    assert len(contents(to / "The Weir")) == 11 and len(contents(library)) == 10


def test_a_whole_copy_to_which_something_was_being_copied_is_not_cleared_when_it_is_given_up(
    bench, library
):
    to = on(bench, "ext4")
    crossing = settled(bench, also=to)
    (library / "notes.txt").write_bytes(b"newer notes")
    killed_at(bench, "before journal copies", crossing.bring_along)
    id = crossing.id
    crossing.close()
    again = find_crossing(bench.workspace, id)
    again.go_without(again.destinations[1])
    assert len(contents(to / "The Weir")) == 10 and not list(to.glob(".fascis*"))
    assert again.run() is State.SETTLED and contents(again.places.target) == contents(library)


@pytest.mark.lab
def test_a_drive_that_is_mounted_in_the_staging_folder_keeps_its_files(bench, library, tmp_path):
    crossing = started(bench)
    killed_at(bench, "before journal state verifying", crossing.run)
    theirs = tmp_path / "another drive"
    theirs.mkdir()
    (theirs / "film.mov").write_bytes(b"theirs")
    where = next(bench.heron.glob(".fascis-crossing-*")) / "library/media/Day 01"
    subprocess.run(["mount", "--bind", theirs, where], check=True)
    id = crossing.id
    crossing.close()
    try:
        with pytest.raises(Refused, match="mounted at"):
            find_crossing(bench.workspace, id).undo()
    finally:
        unmount(where)
    assert (theirs / "film.mov").read_bytes() == b"theirs" and len(contents(library)) == 10
    assert (
        "Given up" in find_crossing(bench.workspace, id).undo() and (theirs / "film.mov").exists()
    )


def test_interrupted_while_it_moves_in_undo_clears_the_half_library_too(bench, library):
    to = on(bench, "exfat")
    crossing = started(bench, to=to)
    moves = []

    def step(name):
        moves.append(name)
        if name == "move" and moves.count("move") > 9:
            raise Killed

    bench.step = step
    with pytest.raises(Killed):
        crossing.run()
    bench.step = lambda _name: None
    id = crossing.id
    crossing.close()
    assert (to / "The Weir").exists()
    assert "cleared" in find_crossing(bench.workspace, id).undo()
    assert [p.name for p in to.iterdir()] == ["stand-in.json"] and len(contents(library)) == 10


# -- one act at a time -----------------------------------------------------------------------------


def test_undo_that_was_interrupted_is_finished_and_nothing_is_released(bench, library):
    crossing = settled(bench, After.RELEASE)
    crossing.switch()
    killed_at(bench, "before journal state undone", crossing.undo)
    id = crossing.id
    crossing.close()
    again = find_crossing(bench.workspace, id)
    assert not again.finished
    with pytest.raises(Refused, match="begun and cut off"):
        again.release()
    assert again.advance(consent=True) is State.UNDONE and len(contents(library)) == 10
    assert (
        again.workspace.register.libraries()[0].root == library
        and len(contents(again.places.target)) == 10
    )


def test_undo_waits_for_a_release_and_a_release_asks_whether_it_is_still_wanted(
    bench, library, monkeypatch
):
    monkeypatch.setattr(releasing_module, "BATCH", 3)
    crossing = switched(bench)
    other = find_crossing(bench.again(), crossing.id)
    said = []

    def step(name):
        if name.startswith("before unlink") and not said:
            with pytest.raises(Refused) as refused:
                other.undo()
            said.append(str(refused.value))
            other.journal.intend("undo", "somebody's", 0.0)  # and were it begun all the same

    bench.step = step
    with pytest.raises(Refused, match="Nothing more was deleted"):
        crossing.release()
    gone = 10 - len(contents(crossing.places.standing()))
    assert "is running" in said[0] or "begun" in said[0]
    assert gone <= 3 and len(contents(crossing.places.target)) == 10


# -- kept, and told before -------------------------------------------------------------------------


@pytest.mark.parametrize("umask", [0o022, 0o077, 0o000])
def test_modes_are_kept_whatever_the_umask(bench, library, umask):
    edit = library / "cut.otio"
    edit.write_bytes(timeline(str(library / CLIP)))
    edit.chmod(0o664)
    (library / "notes.txt").chmod(0o777)
    before = os.umask(umask)
    try:
        crossing = settled(bench)
    finally:
        os.umask(before)
    there = crossing.places.target

    def mode(path):
        return path.stat().st_mode & 0o777

    assert (mode(there / "cut.otio"), mode(there / "notes.txt")) == (0o664, 0o777)
    assert (there / "cut.otio").read_bytes() != edit.read_bytes()  # it was rewritten
    assert {
        mode(there / ".fascis" / n) for n in ("manifest.b3", "inventory.csv", "identity.json")
    } == {0o644}
    assert mode(bench.root / "state/crossings") == mode(bench.root / "data") == 0o700


def test_a_catalog_whose_journal_is_a_link_is_not_understood_and_crosses_as_a_file(bench, library):
    catalog_at(
        library / "trip.fascat", [(None, str(library / "stills"))], [(1, 1, "")], [(1, "heron.jpg")]
    )
    (library / "trip.fascat-wal").symlink_to("notes.txt")
    crossing = settled(bench)
    assert contents(crossing.places.target) == contents(library)


def test_an_attribute_that_the_drive_cannot_hold_is_reported_and_delays_nothing(
    bench, library, monkeypatch
):
    os.setxattr(library / CLIP, "user.note", b"short")
    good = StandInFile.set_attributes

    def full(self, attributes):
        if any(len(v) > 4 for v in attributes.values()):
            raise OSError(errno.ENOSPC, "No space left on device")
        good(self, attributes)

    monkeypatch.setattr(StandInFile, "set_attributes", full)
    crossing = settled(bench)
    (said,) = [m for p, _, m, _ in crossing.journal.attentions() if p == CLIP.encode()]
    assert "user.note" in said and contents(crossing.places.target) == contents(library)


def test_more_attributes_than_the_new_drive_holds_are_reported_before_the_start(bench, library):
    bench.add_drive("inside", filesystem="xfs", transport="nvme")
    surveyed = survey_library(bench.workspace, library)
    surveyed._attributed = {CLIP.encode(): 60_000}
    plan = make_plan(bench.workspace, surveyed, bench.heron, Choices())
    assert codes(plan)["attributes-not-kept"] == "note" and not plan.stopped


def test_no_file_is_asked_for_attributes_where_its_own_drive_holds_no_more_of_them(bench, library):
    surveyed = survey_library(bench.workspace, library)
    make_plan(bench.workspace, surveyed, bench.heron, Choices())
    assert surveyed._attributed is None
    bench.add_drive("heron", filesystem="exfat")
    os.setxattr(library / CLIP, "user.note", b"short")
    plan = make_plan(bench.again(), surveyed, bench.heron, Choices())
    assert codes(plan)["attributes-not-kept"] == "note", "a drive that keeps none"


def test_a_library_named_by_a_link_to_its_folder_is_where_the_folder_is(bench, library):
    link = bench.root / "link to it"
    link.symlink_to(library)
    crossing = switched(bench, library=link)
    assert crossing.places.source == library
    assert left(crossing.release()) == {} and not library.exists() and link.is_symlink()


@pytest.mark.parametrize("way", ["along", "left"])
def test_a_link_that_leads_elsewhere_since_the_plan_is_copied_too_or_left(bench, library, way):
    (library / "latest").symlink_to(CLIP)
    crossing = settled(bench, After.PARK)
    (library / "latest").unlink()
    (library / "latest").symlink_to("notes.txt")
    with pytest.raises(Refused, match="changed at the old place"):
        crossing.switch()
    there = crossing.places.target
    if way == "along":
        assert (
            crossing.bring_along() is State.SETTLED and os.readlink(there / "latest") == "notes.txt"
        )
    else:
        crossing.leave_newer(crossing.undecided())
        assert os.readlink(there / "latest") == CLIP
    crossing.switch()
    parked = crossing.park()
    assert os.readlink(parked / "latest") == "notes.txt" and len(contents(parked)) == 11
    assert not list(bench.heron.glob(".fascis*"))


@pytest.mark.parametrize("written_anew", [False, True])
def test_a_link_changed_at_both_places_stays_at_both(bench, library, written_anew):
    (library / "latest").symlink_to(library / CLIP if written_anew else CLIP)
    crossing = settled(bench)
    assert os.readlink(crossing.places.target / "latest") == CLIP
    for folder, target in ((library, "notes.txt"), (crossing.places.target, "stills/heron.jpg")):
        (folder / "latest").unlink()
        (folder / "latest").symlink_to(target)
    with pytest.raises(Refused, match="changed at the old place and at the new one"):
        crossing.bring_along()
    assert os.readlink(library / "latest") == "notes.txt"
    assert os.readlink(crossing.places.target / "latest") == "stills/heron.jpg"


@pytest.mark.parametrize("made", ["file", "link"])
def test_a_file_with_the_name_of_our_folder_is_reported_before_the_start(bench, library, made):
    own = library / ".fascis"
    own.write_bytes(b"theirs") if made == "file" else own.symlink_to("media")
    plan = plan_of(bench)
    assert plan.stopped and codes(plan)["name-not-usable"] == "stops"


def test_a_folder_that_would_become_ours_on_a_folding_drive_gets_another_name(bench, library):
    (library / ".FASCIS").mkdir()
    (library / ".FASCIS/their notes.txt").write_bytes(b"theirs")
    to = on(bench, "exfat")
    crossing = settled(bench, to=to)
    names = {p.name for p in (to / "The Weir").iterdir()}
    assert ".fascis" in names and ".FASCIS" not in names
    (there,) = (to / "The Weir").glob("*/their notes.txt")
    assert there.read_bytes() == b"theirs" and crossing.state is State.SETTLED


@pytest.mark.parametrize(
    ("filesystem", "stops"), [("exfat", True), ("ntfs", True), ("ext4", False)]
)
def test_where_nothing_can_be_set_aside_the_plan_says_so(bench, library, filesystem, stops):
    bench.add_drive("inside", filesystem, transport="nvme")
    bench.again()
    assert (codes(plan_of(bench, After.PARK)).get("cannot-set-aside") == "stops") is stops
    assert not plan_of(bench, After.RELEASE).stopped


@pytest.mark.parametrize("sizes", [(7 << 60,), (7 << 60, 7 << 60)])
def test_giants_of_emptiness_are_reported_before_the_start_and_never_end_in_a_traceback(
    bench, library, sizes, monkeypatch
):
    surveyed = survey_library(bench.workspace, library)
    for row, size in enumerate(sizes):
        surveyed.survey.size[row] = size
    bench.add_drive("egret", "btrfs")
    bench.again()
    plan = make_plan(bench.workspace, surveyed, bench.drives / "egret", Choices())
    assert (
        plan.stopped and codes(plan)["file-too-large"] == "stops" and plan.estimate.seconds > 3_600
    )
    plan = replace(plan, problems=[])
    with closing(Crossing.start(bench.workspace, plan, decided=True)) as crossing:
        assert crossing.journal.planned()[1] >= sum(sizes) and sum(
            s.bytes for s in crossing.copies.strands()
        ) >= sum(sizes)
        assert "as it was" in crossing.undo()


@pytest.mark.parametrize("year", [1600, 1700, 2300, 2440])
def test_dates_beyond_what_64_bits_of_nanoseconds_hold(bench, library, year):
    from datetime import UTC, datetime

    seconds = int(
        (datetime(year, 5, 1, tzinfo=UTC) - datetime(1970, 1, 1, tzinfo=UTC)).total_seconds()
    )
    os.utime(library / CLIP, ns=(seconds * 10**9, seconds * 10**9 + 5))
    if int((library / CLIP).stat().st_mtime) != seconds:
        pytest.skip("this file system cannot hold the date")
    crossing = switched(bench)
    there = crossing.places.target / CLIP
    assert there.stat().st_mtime_ns == (library / CLIP).stat().st_mtime_ns
    with open(crossing.places.target / ".fascis/inventory.csv", newline="") as lines:
        (listed,) = [int(x["mtime_ns"]) for x in csv.DictReader(lines) if x["path"] == CLIP]
    assert abs(listed - there.stat().st_mtime_ns) < 10**9
    assert left(crossing.release()) == {} and not library.exists() and there.exists()


# -- the journal -----------------------------------------------------------------------------------


def full_disk(monkeypatch, path, times):
    """Connecting fails as if there was no room for the file beside the journal."""
    import sqlite3

    from fascis.crossing.journal import opening as module

    good, left_over = module.connect, [times]

    def connect(wanted):
        if wanted == path and left_over[0]:
            left_over[0] -= 1
            error = sqlite3.OperationalError("disk I/O error")
            error.sqlite_errorcode = sqlite3.SQLITE_IOERR | (13 << 8)
            raise error
        return good(wanted)

    monkeypatch.setattr(module, "connect", connect)


def test_a_disk_that_is_full_under_the_journal_is_not_damage(bench, library, monkeypatch):
    crossing = started(bench)
    path, room = crossing.journal.path, crossing.journal.room
    crossing.close()
    full_disk(monkeypatch, path, 2)
    with pytest.raises(EnvironmentTrouble, match="cannot be used"):
        Journal.open(path)  # even without the room that was kept
    assert not room.exists() and len(contents(library)) == 10
    full_disk(monkeypatch, path, 0)
    assert find_crossing(bench.workspace, path.stem).run() is State.SETTLED


def test_the_room_that_was_kept_opens_a_journal_on_a_full_disk(bench, library, monkeypatch):
    crossing = started(bench)
    path, room = crossing.journal.path, crossing.journal.room
    crossing.close()
    assert room.exists()
    full_disk(monkeypatch, path, 1)
    assert find_crossing(bench.workspace, path.stem).run() is State.SETTLED and not room.exists()


def test_a_journal_that_another_program_holds_is_neither_damaged_nor_without_room(
    bench, library, monkeypatch
):
    import sqlite3

    crossing = started(bench)
    crossing.journal._db.execute("PRAGMA busy_timeout=50")
    with closing(sqlite3.connect(crossing.journal.path)) as other:
        other.execute("BEGIN IMMEDIATE")
        with pytest.raises(EnvironmentTrouble, match="held by another program") as said:
            crossing.journal.put("x", 1)
        assert not isinstance(said.value, DriveFull) and "room" not in str(said.value)
    crossing.journal.put("x", 1)


def test_samples_are_decoded_for_a_limited_time_in_all(bench, library, monkeypatch):
    from fascis.crossing.arrival import open_check as opening

    for name in ("one", "two", "three"):
        (library / name).mkdir()
        (library / name / "egg.jpg").write_bytes(picture("JPEG"))
    monkeypatch.setattr(opening, "SAMPLE_SECONDS", 0.0)
    opened = settled(bench).home.opened()
    assert opened.seen == 0 and opened.not_sampled >= 3
    monkeypatch.undo()
    opened = settled(bench, to=on(bench, "ext4")).home.opened()
    assert opened.seen == 3 and opened.not_sampled == 0


def test_a_name_that_a_damaged_drive_neither_opens_nor_gives_up_is_reported(
    bench, library, monkeypatch
):
    crossing = started(bench)
    good = PosixMedium.create

    def taken(self, place, mode=0o600):
        if place.endswith(b"weir_02.mov"):
            raise FileExistsError(errno.EEXIST, "File exists")
        return good(self, place, mode)

    monkeypatch.setattr(PosixMedium, "create", taken)
    with pytest.raises(DriveGone, match="neither be opened nor removed"):
        crossing.run()
    monkeypatch.setattr(PosixMedium, "create", good)
    assert crossing.run() is State.SETTLED and contents(crossing.places.target) == contents(library)


def test_an_empty_top_folder_goes_where_inodes_mean_nothing(bench, library):
    bench.add_drive("inside", "exfat", transport="nvme")
    bench.again()
    crossing = switched(bench)
    assert left(crossing.release()) == {} and not library.exists()
    assert (
        json.loads((crossing.places.target / ".fascis/identity.json").read_text())["name"]
        == "The Weir"
    )


def test_two_threads_that_release_and_undo_lose_nothing(bench, library):
    """The second one is refused; rule 1 holds in any order."""
    crossing = switched(bench)
    one, other = (find_crossing(bench.workspace, crossing.id) for _ in range(2))
    before, errors = contents(library), []

    def run(act):
        try:
            act()
        except Refused as refused:
            errors.append(str(refused))

    threads = [threading.Thread(target=run, args=(act,)) for act in (one.release, other.undo)]
    for t in threads:
        t.start()
    for t in threads:
        t.join()
    there = contents(crossing.places.target)
    assert {p: there.get(p) for p in before} == before
    if crossing.journal.state is State.UNDONE:
        assert contents(library) == before
    assert len(errors) <= 1
