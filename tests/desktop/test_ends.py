"""In the window there is always a way on or back, and its texts are true."""

import json
import os
import time
from contextlib import suppress

import pytest
from PyQt6.QtWidgets import QLabel, QListView

from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.which import Which
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.crossing.status.queue import all_crossings, line_up
from fascis.crossing.status.report import crossing_object
from fascis.desktop.crossings import steps
from fascis.files.errors import DriveGone
from tests.crossing.test_crash_points import Killed, Killer
from tests.crossing.ways import plan_of, settled, started
from tests.judge import contents
from tests.library.making import timeline, write


def words(window):
    """All texts of the panel and the title."""
    said = [x.text() for x in window.panel.findChildren(QLabel) if x.isVisible()]
    return "\n".join([*said, window.crossings.title.text()]).replace("\u00a0", " ")


def planned(window, hands, destination):
    """A plan for the chosen library."""
    view = window.shelves
    hands.wait(lambda: view.selected is not None and bool(view._blocks), "the library")
    window.planning.begin_plan(view.selected, destination)
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    return window.drafting.plan


def test_a_library_that_is_added_while_a_plan_is_open_leaves_a_panel_that_answers(
    known, open_window
):
    window, hands = open_window(known)
    planned(window, hands, known.heron)
    other = write(known.drives / "inside/Other/cut.otio", timeline("a.mov")).parent
    window.planning.add_library(other)  # the folder dialog's answer
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.selected.root == other,
        "the other",
    )
    hands.wait(lambda: hands.button("Look at it again") is not None, "its panel")
    assert window.drafting.plan is None and "Looking at it" not in words(window)


def test_the_crossing_that_ran_resumes_first_and_the_others_after_it(known, open_window):
    running = started(known)
    known.step = Killer(12)
    with suppress(Killed):
        running.run()
    running.close()
    known.step = lambda _n: None
    known.again()
    waiting = []
    for n in range(2):
        library = write(known.drives / f"inside/Later {n}/a.mov", b"x" * 500).parent
        crossing = started(known, library=library)
        found, _ = all_crossings(known.workspace)
        line_up(found, crossing)
        waiting.append(crossing.id)
        for c in (*found, crossing):
            c.close()
    window, hands = open_window(known)
    order = []
    run = window.conducting.run
    window.conducting.run = lambda id, *a, **k: (order.append(id), run(id, *a, **k))
    hands.wait(lambda: hands.button("Continue all, in this order") is not None, "the offer")
    said = window._offer.findChild(QLabel).text().replace("\u00a0", " ")
    assert said.startswith("3 crossings were interrupted: The Weir to heron (")
    assert said.index("The Weir") < said.index("Later 0") < said.index("Later 1")
    hands.press("Continue all")
    hands.wait(
        lambda: all(c.state is State.SETTLED for c in window.conducting.crossings), "all of them"
    )
    assert order == [running.id, *waiting]


def test_a_drive_that_is_slow_to_answer_is_busy_and_not_out_of_balance(
    known, open_window, monkeypatch
):
    crossing = settled(known)
    crossing.close()
    slow = {"left": 2}
    check = type(known.workspace.drives).open

    def opening(self, path):
        if slow["left"] and str(path).endswith("/The Weir") and "heron" in str(path):
            slow["left"] -= 1
            raise DriveGone("The drive does not answer.")
        return check(self, path)

    monkeypatch.setattr(steps, "_AGAIN_MS", 300)
    window, hands = open_window(known)
    monkeypatch.setattr(type(known.workspace.drives), "open", opening)
    window.go_to(1)
    hands.wait(lambda: "trying again" in window.crossings.title.text(), "busy")
    assert "not in balance" not in words(window).lower() and window.crossings.scales.angle == 0
    hands.wait(lambda: window.crossings.title.text() == "In balance", "it answers")


def test_a_settled_crossing_can_be_ended(known, open_window):
    crossing = settled(known)
    crossing.close()
    window, hands = open_window(known)
    before = contents(known.library)
    window.go_to(1)
    hands.press("End here")
    hands.wait(lambda: window.conducting.crossings[0].state is State.UNDONE, "the end")
    assert contents(known.library) == before and contents(known.heron / "The Weir") == before
    assert known.workspace.register.library_at(known.library) is not None


def test_one_more_copy_does_not_speak_of_home_going_there(known, open_window):
    settled(known, after=After.COPY).close()
    window, hands = open_window(known)
    window.go_to(1)
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert "One more copy" in words(window) and "home goes" not in words(window)
    assert hands.button("Delete") is None and hands.button("Switch") is None


def test_what_is_left_out_though_it_is_used_is_asked_and_home_stays_by_itself(known, open_window):
    write(known.library / "cut.otio", timeline("media/Day 01/weir_01.mov", "stills/heron.jpg"))
    remember(known.workspace, survey_library(known.workspace, known.library))
    window, hands = open_window(known)
    plan = planned(window, hands, known.heron)
    assert plan.choices.after is After.KEEP
    strand = next(s.key for s in window.drafting.woven.strands if s.key[0] == b"media/Day 01")
    window.drafting.take_in_or_out([s for s in window.drafting.woven.strands if s.key == strand])
    hands.wait(lambda: window.drafting.plan.choices.without == {strand}, "left out")
    hands.wait(lambda: window.drafting.plan.choices.after is After.COPY, "home stays")
    said = {p.code: p.severity.value for p in window.drafting.plan.problems}
    assert said["used-left-out"] == "decision" and window.panel.main.text() == "1\xa0decision first"
    assert hands.sentence().accessibleName().endswith("Home stays here; this is one more copy.")
    hands.decide()
    hands.press("Start")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert (
        "Whole, but for 1 file that you left out" in words(window)
        and window.conducting.crossings[0].state is State.SETTLED
    )
    assert (known.library / "media/Day 01/weir_01.mov").exists()


def test_a_library_that_is_away_says_so_and_offers_nothing_that_needs_it(
    bench, library, open_window
):
    settled(bench, after=After.KEEP).switch()
    facts = json.loads((bench.heron / "stand-in.json").read_text())
    (bench.heron / "stand-in.json").write_text(json.dumps({**facts, "connected": False}))
    bench.again()
    window, hands = open_window(bench)
    hands.wait(
        lambda: any(
            s.root == bench.heron / "The Weir" for x in window.planning.shelves for s in x.standings
        ),
        "it",
    )
    standing = next(
        s
        for x in window.planning.shelves
        for s in x.standings
        if s.root == bench.heron / "The Weir"
    )
    window.planning.show_library(standing)
    time.sleep(0.05)
    hands.wait(lambda: "heron is away, last seen" in words(window), "away")
    assert hands.button("Plan the crossing") is None and hands.button("Look at it again") is None


def test_figures_are_the_same_wherever_they_stand(bench, library, open_window):
    """The plan's announcement, the list and the measurement agree."""
    write(bench.library / "cut.otio", timeline("media/Day 01/weir_01.mov"))
    beside = write(
        bench.drives / "inside/Beside/other.m3u8", str(library / "media/Day 02/salmon.wav").encode()
    )
    surveyed = survey_library(bench.workspace, library)
    plan = make_plan(bench.workspace, surveyed, bench.heron, Choices(after=After.RELEASE))
    assert list(plan.shared) == [bytes(library / "media/Day 02/salmon.wav")]
    crossing = Crossing.start(bench.workspace, plan, decided=True, consent=True)
    assert crossing.run() is State.SETTLED
    crossing.looked()
    crossing.switch()
    crossing.close()
    window, hands = open_window(bench)
    window.go_to(1)
    hands.wait(lambda: window.conducting.steps.list is not None, "the list")
    listed = window.conducting.steps.list
    assert listed.frees == plan.frees and [s.why for s in listed.stays] == ["used-elsewhere"]
    room = sum(
        p.stat().st_blocks * 512
        for p in library.rglob("*")
        if p.is_file() and p.name != "salmon.wav"
    )
    assert listed.frees == room and listed.files == plan.totals.files - 1
    hands.press("Delete")
    stays = next(
        v
        for v in window.findChildren(QListView)
        if v.accessibleName().startswith("Files that stay")
    )
    assert stays.isVisible()
    assert stays.model().index(0, 0).data() == (
        f"media/Day 02/salmon.wav\nneeded by {os.path.realpath(beside)}"
    )
    hands.press("Delete")
    hands.wait(lambda: window.conducting.current.state is State.RELEASED, "released")
    chosen = window.conducting.current.id
    record = crossing_object(window.conducting.opened.of(chosen))
    assert record["released_files"] == listed.files and record["released_bytes"] == listed.bytes
    assert (library / "media/Day 02/salmon.wav").exists() and beside.exists()


def test_a_plan_of_one_more_copy_frees_nothing(bench, library):
    assert plan_of(bench, After.COPY).frees == 0 and plan_of(bench, After.KEEP).frees > 0


def test_work_at_the_new_home_does_not_keep_the_originals_for_ever(bench, library, open_window):
    """A sidecar is edited there, a reject deleted, a picture added.

    These two originals stay, and the others go.
    """
    crossing = settled(bench)
    crossing.looked()
    crossing.switch()
    there = crossing.places.target
    crossing.close()
    (there / "stills/heron.xmp").write_bytes(b"<x>edited there</x>")
    (there / "previews/0001.jpg").unlink()
    (there / "stills/new.jpg").write_bytes(b"made there")
    window, hands = open_window(bench)
    window.go_to(1)
    hands.press("Delete 8")
    hands.wait(lambda: hands.button("Keep them") is not None, "the list")
    hands.press("Delete 8")
    hands.wait(lambda: window.conducting.crossings[0].state is State.RELEASED, "the release")
    hands.wait(
        lambda: window.crossings.title.text().startswith("Home, and the originals"),
        "the scales in balance",
    )
    assert set(contents(library)) == {b"stills/heron.xmp", b"previews/0001.jpg"}
    assert (there / "stills/new.jpg").read_bytes() == b"made there" and len(contents(there)) == 10


def test_a_part_is_set_aside_and_then_deleted_by_a_list(bench, library, open_window):
    """Its folder holds the rest of the library too: that stays where it is."""
    write(library / "cut.otio", timeline("media/Day 01/weir_01.mov"))
    surveyed = survey_library(bench.workspace, library)
    choices = Choices(only=frozenset(["media"]), after=After.RELEASE)
    plan = make_plan(bench.workspace, surveyed, bench.heron, choices)
    crossing = Crossing.start(bench.workspace, plan, decided=True, consent=True)
    assert crossing.run() is State.SETTLED
    crossing.looked()
    crossing.close()
    window, hands = open_window(bench)
    window.go_to(1)
    hands.wait(lambda: window.conducting.steps.list is not None, "the list")
    assert "1 document follows" in words(window) and "until home goes to heron" in words(window)
    assert window.conducting.steps.list.stays == [], "it is led there before"
    hands.press("Switch over")
    hands.wait(lambda: "led to heron: cut.otio" in words(window), "led there")
    hands.wait(lambda: window.conducting.steps.list is not None, "the list")
    hands.press("Set the originals aside")
    hands.wait(lambda: window.conducting.current.state is State.PARKED, "set aside")
    assert not (library / "media/Day 01/weir_01.mov").exists() and (library / "cut.otio").exists()
    (aside,) = library.parent.glob("media (set aside *)")
    assert (aside / "media/Day 01/weir_01.mov").exists()
    hands.wait(lambda: window.conducting.steps.list is not None, "the list")
    hands.press("Delete")
    hands.press("Delete")
    hands.wait(lambda: window.conducting.current.state is State.RELEASED, "released")
    assert not (library / "media/Day 01/weir_01.mov").exists()
    assert (library / "notes.txt").exists() and (library / "stills/heron.jpg").exists()


def test_another_library_uses_the_new_place_first(known, open_window):
    """Its originals cannot be set aside before: the main button shows what comes first."""
    river = known.drives / "inside/River/river.otio"
    write(river, timeline(str(known.library / "media/Day 01/weir_01.mov")))
    remember(known.workspace, survey_library(known.workspace, river.parent))
    crossing = started(known, After.RELEASE)
    crossing.run()
    crossing.looked()
    crossing.switch()
    crossing.close()
    before = river.read_bytes()
    window, hands = open_window(known)
    window.go_to(1)
    hands.wait(lambda: window.conducting.steps.list is not None, "what would go", 300)
    main = window.panel.main
    assert main is not None and main.text().startswith("Let ") and "River" in main.text()
    assert hands.button("Set the originals aside") is None
    hands.press("Let ")
    hands.wait(lambda: river.read_bytes() != before, "it is led")
    hands.press("Set the originals aside")
    hands.wait(lambda: window.conducting.current.state is State.PARKED, "set aside")
    assert str(known.heron) in river.read_text() and not known.library.exists()


@pytest.mark.long
def test_after_closing_in_the_middle_what_was_copied_is_read_back_and_not_copied_again(
    known, open_window
):
    known.fill({f"media/take_{n:02}.mov": 120_000 for n in range(24)})
    known.add_drive("slow", write_mb_s=1.0, read_mb_s=0.4)
    known.again()
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    window.planning.begin_plan(window.shelves.selected, known.drives / "slow")
    hands.press("Start the crossing")
    lanes = window.conducting
    hands.wait(lambda: sum(x.copied for x in lanes._lanes.values()) > 1_000_000, "some of it", 0)
    window.close()
    hands.wait(lambda: window.conducting.running is None, "the stop")
    known.add_drive("slow")  # It may be fast from now on.
    known.again()
    (crossing,) = all_crossings(known.workspace)[0]
    copied = crossing.copies.sums(Which.NOT_READ_BACK_YET)[0]
    done = copied + crossing.copies.sums(Which.READ_BACK)[0]
    staged = {p.name: p.stat().st_ino for p in (known.drives / "slow").rglob("*") if p.is_file()}
    crossing.close()
    assert done >= 4
    window, hands = open_window(known)
    hands.wait(lambda: hands.button("Continue") is not None, "the offer")
    hands.press("Continue")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    there = {p.name: p.stat().st_ino for p in (known.drives / "slow").rglob("*") if p.is_file()}
    kept = [n for n, inode in staged.items() if there.get(n) == inode]
    assert len(kept) >= done, "what was copied is the same file still"
