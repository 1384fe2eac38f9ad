"""The plan: every problem with its code, and nothing written while it is made."""

import os
import subprocess
import sys
from pathlib import Path

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.fit import obstacles as surroundings
from fascis.crossing.fit.estimate import estimate
from fascis.crossing.fit.suiting import suits
from fascis.crossing.model.states import TRANSITIONS, State, check_transition
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.files.codes import Code, Stays
from fascis.files.errors import Refused
from fascis.library.open_files import Openers
from fascis.library.roles import Role
from tests.crossing.test_copying import writer
from tests.crossing.ways import codes, plan_of, settled, started
from tests.judge import contents


def everything(root):
    return sorted((str(p.relative_to(root)), p.lstat().st_mtime_ns) for p in root.rglob("*"))


def test_a_plan_writes_nothing_anywhere(bench, library):
    before = everything(bench.root)
    plan = plan_of(bench)
    assert codes(plan).get("same-drive") is None and not plan.stopped
    assert everything(bench.root) == before


def case_missing(bench):
    bench.library = bench.library / "nowhere"


def case_file(bench):
    bench.library = bench.library / "notes.txt"


def case_empty(bench):
    bench.library = bench.drives / "inside" / "Empty"
    (bench.library / "only folders").mkdir(parents=True)


def case_identity(bench):
    (bench.library / ".fascis").mkdir()
    (bench.library / ".fascis/identity.json").write_text('{"format": 1, "library_id": ')


def case_newer_identity(bench):
    (bench.library / ".fascis").mkdir()
    (bench.library / ".fascis/identity.json").write_text('{"format": 2}')


def case_to_missing(bench):
    bench.to = bench.heron / "nowhere"


def case_to_file(bench):
    bench.to = bench.heron / "stand-in.json"


def case_inside(bench):
    bench.to = bench.library / "media"


def case_same_drive(bench):
    bench.to = bench.drives / "inside"


def case_read_only(bench):
    bench.to = bench.add_drive("locked", read_only=True)


def case_away(bench):
    bench.to = bench.add_drive("gone", connected=False)


def case_small(bench):
    bench.to = bench.add_drive("small", capacity=100_000)


def case_exists(bench):
    (bench.heron / "The Weir").mkdir()


def case_name(bench):
    bench.name = "a/b"


def case_fat_name(bench):
    bench.fill({"what?.mov": 5})
    bench.to = bench.add_drive("fat", "vfat")


def case_fat_fold(bench):
    bench.fill({"a.jpg": 5, "A.jpg": 5})
    bench.to = bench.add_drive("ex", "exfat")


def case_fat_large(bench):
    with open(bench.library / "long.mov", "wb") as out:
        out.truncate(4_400_000_000)
    bench.to = bench.add_drive("fat", "vfat", capacity=10**11)


def case_links(bench):
    os.symlink("notes.txt", bench.library / "link")
    bench.to = bench.add_drive("ex", "exfat")


def case_backup(bench):
    bench.to = bench.add_drive("timeline")
    (bench.to / "Backups").mkdir()


def case_large_for_after(bench):
    bench.fill({"long.mov": 28_100_000})
    bench.to = bench.add_drive("tight", capacity=30_000_000)


def case_unheard_of(bench):
    bench.to = bench.add_drive("strange", "unheard-of")


def case_old_date(bench):
    os.utime(bench.library / "notes.txt", (1000, 1000))
    bench.to = bench.add_drive("ex", "exfat")


def case_attributes(bench):
    os.setxattr(bench.library / "notes.txt", "user.mood", b"calm")
    bench.to = bench.add_drive("ex", "exfat")


CASES = [
    (case_missing, "library-missing", "stops"), (case_file, "library-not-a-folder", "stops"),
    (case_empty, "library-empty", "stops"),
    (case_identity, "identity-damaged", "stops"), (case_newer_identity, "identity-damaged",
    "stops"), (case_to_missing, "destination-missing", "stops"),
    (case_to_file, "destination-not-a-folder", "stops"), (case_inside, "destination-inside-library",
    "stops"), (case_same_drive, "same-drive", "stops"),
    (case_read_only, "destination-read-only", "stops"), (case_away, "away", "stops"), (case_small,
    "not-enough-room", "stops"),
    (case_exists, "destination-exists", "stops"), (case_name, "name-not-usable", "stops"),
    (case_fat_name, "name-not-possible", "decision"),
    (case_fat_fold, "names-become-one", "decision"), (case_fat_large, "file-too-large", "stops"),
    (case_links, "links-not-kept", "decision"),
    (case_backup, "backup-drive", "decision"),
]  # fmt: skip


@pytest.mark.parametrize(("make", "code", "severity"), CASES, ids=[c[0].__name__ for c in CASES])
def test_each_problem_is_reported_and_nothing_is_touched(bench, library, make, code, severity):
    bench.to, bench.name = bench.heron, ""
    make(bench)
    bench.again()
    before = everything(bench.drives)
    plan = plan_of(bench, to=bench.to, name=bench.name)
    assert codes(plan)[code] == severity and code in set(Code)
    with pytest.raises(Refused):
        Crossing.start(bench.workspace, plan, decided=False)
    assert everything(bench.drives) == before and not bench.workspace.crossings.exists()


NOTES = [
    (case_large_for_after, "nearly-full-after"), (case_unheard_of, "rules-assumed"), (case_old_date,
    "times-not-kept"),
    (case_attributes, "attributes-not-kept"),
]  # fmt: skip


@pytest.mark.parametrize(("make", "code"), NOTES, ids=[c[0].__name__ for c in NOTES])
def test_information_is_reported_and_does_not_stop(bench, library, make, code):
    make(bench)
    bench.again()
    plan = plan_of(bench, to=bench.to)
    assert codes(plan)[code] == "note" and code in set(Code) and not plan.stopped


def test_a_plan_that_asks_the_drive_assumes_nothing_and_leaves_nothing_there(bench, library):
    to = bench.add_drive("strange", "unheard-of")
    bench.again()
    surveyed = survey_library(bench.workspace, library)
    assumed = make_plan(bench.workspace, surveyed, to, Choices())
    asked = make_plan(bench.workspace, surveyed, to, Choices(), ask=True)
    assert "rules-assumed" in codes(assumed) and "rules-assumed" not in codes(asked)
    assert [p.name for p in to.iterdir()] == ["stand-in.json"]
    crossing = Crossing.start(bench.workspace, asked, decided=True)
    assert crossing.destinations[0].places.answers == asked.destination_drive.answers
    assert crossing.destinations[0].drive().rules.asked  # from the journal, whatever is asked later
    crossing.close()


def test_the_suitable_file_system_is_found_by_the_rules_of_the_plan(bench, library):
    with open(library / "long.mov", "wb") as out:
        out.truncate(4_400_000_000)
    bench.fill({"media/a?.mov": 5})
    found = {s.choice.filesystem: s for s in suits(survey_library(bench.workspace, library))}
    assert found["ext4"].verdict == "holds it as it is" and found["ext4"].clashing == 0
    assert found["exfat"].verdict == "holds it, with decisions" and found["exfat"].clashing == 1
    assert found["vfat"].verdict == "cannot hold it whole" and found["vfat"].clashing == 2
    assert all(s.choice.good and s.choice.cost for s in found.values())


def test_real_figures_of_a_crossing_are_remembered(bench, library):
    bench.fill({f"media/long_{n}.mov": 9_000_000 for n in range(8)})
    to = bench.add_drive("timed", write_mb_s=40, read_mb_s=60)
    bench.again()
    crossing = settled(bench, to=to)
    crossing.close()
    (known,) = [d for d in bench.workspace.register.drives() if d.uuid == "uuid-timed"]
    assert 2 < known.write_mb_s < 45 and 2 < known.read_mb_s < 65 and known.measured_at
    small = settled(bench, to=bench.heron, library=small_library(bench))
    small.close()
    assert (
        next(d for d in bench.workspace.register.drives() if d.uuid == "uuid-heron").write_mb_s
        is None
    )


def small_library(bench):
    folder = bench.drives / "inside" / "Small"
    folder.mkdir()
    for n in range(40):
        (folder / f"{n}.jpg").write_bytes(b"x" * 2000)
    return folder


def test_a_library_open_for_writing_in_a_program_stops(bench, library):
    code = "import sys,time; f=open(sys.argv[1],'r+b'); print('open', flush=True); time.sleep(60)"
    with subprocess.Popen(
        [sys.executable, "-c", code, str(library / "notes.txt")], stdout=subprocess.PIPE
    ) as program:
        program.stdout.readline()
        plan = plan_of(bench)
        program.kill()
    problem = next(p for p in plan.problems if p.code == "library-open")
    assert (
        problem.severity == "stops"
        and problem.files == (b"notes.txt",)
        and len(contents(library)) == 10
    )


@pytest.mark.parametrize("how", ["open", "mapped"])
def test_a_writer_that_cannot_be_seen_is_found_by_its_lease(bench, library, monkeypatch, how):
    monkeypatch.setattr(surroundings, "find_open", lambda inodes, devices: Openers(all_seen=False))
    assert "library-open" not in codes(plan_of(bench)) and "open-not-known" not in codes(
        plan_of(bench)
    )
    with writer(library / "notes.txt", how):
        plan = plan_of(bench)
    (problem,) = [p for p in plan.problems if p.code == "library-open"]
    assert (
        problem.severity == "stops"
        and problem.files == (b"notes.txt",)
        and len(contents(library)) == 10
    )


def test_where_neither_can_be_known_it_is_said(bench, library, monkeypatch):
    monkeypatch.setattr(surroundings, "find_open", lambda inodes, devices: Openers(all_seen=False))
    monkeypatch.setattr(surroundings, "MOST_LEASES", 3)
    assert codes(plan_of(bench))["open-not-known"] == "note"


@pytest.mark.skipif(os.geteuid() == 0, reason="root may read everything")
def test_a_folder_that_cannot_be_opened_stops(bench, library):
    (library / "media").chmod(0)
    plan = plan_of(bench)
    (library / "media").chmod(0o755)
    assert codes(plan)["library-unreadable"] == "stops"


def test_where_a_crossing_under_way_will_put_its_library_nothing_else_is_put(bench, library):
    """A second start of the same crossing copies nothing twice, and neither does a namesake."""
    first = started(bench)
    again = plan_of(bench)
    assert codes(again)["destination-exists"] == "stops"
    with pytest.raises(Refused, match=first.id):
        Crossing.start(bench.workspace, again, decided=True)
    assert "destination-exists" not in codes(plan_of(bench, name="The Weir, again"))
    first.undo()
    first.close()
    assert "destination-exists" not in codes(plan_of(bench))


def test_totals_follow_what_is_left_out(bench, library):
    whole, part = plan_of(bench), plan_of(bench, leave_out=[Role.RENDER, Role.PROXY])
    assert whole.totals.files == part.totals.files + part.left_out.files == 10
    assert part.left_out.bytes == 29_000 and whole.totals.bytes - part.totals.bytes == 29_000


def test_room_is_counted_in_the_destination_s_blocks(bench, library):
    bench.add_drive("coarse", block_bytes=131072)
    bench.again()
    assert plan_of(bench, to=bench.drives / "coarse").goals[0].room >= 9 * 131072


def test_measured_speeds_are_preferred(bench):
    fast = bench.workspace.drives.at(bench.heron)
    assert estimate(10**9, 1, None, fast, {}).measured is False
    bench.add_drive("timed", write_mb_s=10, read_mb_s=10)
    bench.again()
    timed = estimate(10**9, 1, None, bench.workspace.drives.at(bench.drives / "timed"), {})
    assert timed.measured and 100 < timed.seconds < 250


@pytest.mark.parametrize("now", list(State))
def test_every_transition_is_in_the_table_or_refused(now):
    for new in State:
        if new in TRANSITIONS[now]:
            check_transition(now, new)
        else:
            with pytest.raises(Refused, match="cannot become"):
                check_transition(now, new)


def test_every_code_is_in_the_closed_list_of_the_documentation():
    text = (Path(__file__).parents[2] / "docs/formats.md").read_text()
    listed = text[text.index("`problems.code`: `") :].split("`")[3].split()
    assert sorted(listed) == sorted(Code)
    staying = text[text.index("`left_behind.why`: `") :].split("`")[3].split()
    assert sorted(staying) == sorted(Stays)


def test_nothing_follows_a_release():
    assert (
        TRANSITIONS[State.RELEASED] == frozenset()
        and State.RELEASED not in TRANSITIONS[State.SETTLED]
    )
