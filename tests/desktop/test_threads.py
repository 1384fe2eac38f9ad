"""The window thread reads no journal and waits for nothing; what it shows was true once."""

import os
import threading
import time

import pytest
from PyQt6 import sip
from PyQt6.QtCore import QObject, QTimer
from PyQt6.QtTest import QTest

from fascis.crossing.journal.copies import Copies
from fascis.crossing.model.states import State
from fascis.desktop.crossings import steps
from fascis.desktop.crossings.seen import read_seen
from fascis.desktop.kit.tasks import Task, post
from fascis.files.errors import Damaged, EnvironmentTrouble
from tests.clock import less
from tests.crossing.ways import settled, started, switched
from tests.desktop.test_window import Key, panel_text, press
from tests.desktop.touches import _DESKTOP, count_touches
from tests.judge import contents

# What is read from the program itself when the window is built, and the kernel's table of mounts.
OF_THE_PROGRAM = ("desktop/kit/theme.py", "desktop/kit/mark.py", "drives/system/mounts.py")


@pytest.fixture
def touches(monkeypatch):
    """What was done in the window's thread that may have to wait for a drive, but for its own."""
    found = count_touches(monkeypatch)
    return lambda: [t for t in found if not t[1][0].startswith(OF_THE_PROGRAM)]


def test_the_count_sees_what_is_done_for_the_window(known, monkeypatch, touches):
    """The guard is guarded: a state, a file and a folder are counted when the window reads them."""
    crossing = settled(known)
    known.library.joinpath("notes.txt").read_bytes()
    assert touches() == [], "what the test itself reads is not"
    frame = compile(
        "crossing.state; os.listdir(folder); os.stat(folder)", f"{_DESKTOP}/slot.py", "exec"
    )
    exec(frame, {"crossing": crossing, "os": os, "folder": known.library})
    assert {what.split()[0] for what, _ in touches()} == {"sqlite3", "os.listdir", "os.stat"}


def test_a_whole_crossing_through_the_window_touches_nothing_in_its_thread(
    known, open_window, library, touches
):
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: view.selected is not None and view.hasFocus(), "focus on the library")
    press(window, Key.Key_Space, Key.Key_Down)
    hands.wait(lambda: bool(view._previews), "previews")
    press(window, Key.Key_Return)
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    hands.press("Start the crossing")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    for text in ("Open it from heron", "I have looked", "Switch over: home is heron"):
        hands.press(text)
        hands.wait(lambda: window.panel.main is not None, text)
    hands.wait(
        lambda: (
            window.conducting.current.state is State.SWITCHED and hands.button("Delete") is not None
        ),
        "home there",
    )
    window.go_to(2)
    hands.wait(lambda: window.receipts.list.count() == 1, "the receipt")
    window.go_to(1)
    hands.wait(lambda: (b := hands.button("Delete")) is not None and b.isEnabled(), "delete")
    before = contents(known.heron / "The Weir")
    hands.press("Delete")
    hands.wait(lambda: hands.button("Keep them") is not None, "the list")
    hands.press("Delete")
    hands.wait(lambda: window.conducting.current.state is State.RELEASED, "the release")
    window.go_to(0)
    hands.wait(lambda: bool(window.planning.shelves), "the shelves")
    assert touches() == []
    assert not library.exists() and contents(known.heron / "The Weir") == before


def test_choosing_and_stepping_reads_in_tasks_only(known, open_window, touches):
    first, second = settled(known, name="one"), switched(known, name="two")
    ids = [first.id, second.id]
    first.close()
    second.close()
    touches_before = touches()
    window, hands = open_window(known)
    window.go_to(1)
    hands.wait(lambda: window.conducting.seen is not None, "a crossing")
    for id in (*ids, ids[0]):
        window.crossings.chosen.emit(id)
        hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
        assert window.conducting.seen.id == id
    hands.press("Open it from heron")
    hands.press("I have looked")
    hands.press("Switch over")
    hands.wait(lambda: window.conducting.seen.state is State.SWITCHED, "home there")
    window.go_to(2)
    hands.wait(lambda: window.receipts.list.count() == 2, "the receipts")
    assert touches() == touches_before and len(contents(known.library)) == 10


def test_a_crossing_runs_without_the_window_reading(known, open_window, touches):
    window, hands = open_window(known)
    crossing = started(known)
    touches_before = touches()
    window._started(crossing)
    hands.wait(
        lambda: window.conducting.seen is not None and window.conducting.running is None, "arrival"
    )
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert touches() == touches_before and window.conducting.steps.balance.even


def test_what_was_weighed_before_a_step_says_nothing_after_it(known, open_window, monkeypatch):
    """A look at the old place that was running when its folder was renamed does not count."""
    switched(known).close()
    before = contents(known.library)
    let_go, calls = threading.Event(), []
    weigh = steps.weigh

    def weighing(crossing):
        calls.append(crossing)
        if len(calls) > 1:
            return weigh(crossing)
        assert let_go.wait(20)
        raise EnvironmentTrouble("Could not list the folder The Weir/media.")

    monkeypatch.setattr(steps, "weigh", weighing)
    window, hands = open_window(known)
    window.go_to(1)
    hands.press("Set the originals aside")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales, weighed again")
    let_go.set()
    hands.wait(lambda: len(window.conducting.steps._weighing) == 0, "the first look ends")
    assert "Could not list" not in panel_text(window) and hands.button("Put the originals back")
    (aside,) = known.library.parent.glob("The Weir (set aside*")
    assert contents(aside) == before == contents(known.heron / "The Weir")


def test_the_window_beats_while_a_large_journal_is_read(bench, known, open_window):
    """Between two beats of the window there is never as much as reading a journal takes."""
    known.fill({f"many/{i % 40:02d}/{i:05d}.jpg": b"%d" % i for i in range(3_000)})
    crossing = settled(known, name="many")
    crossing.close()
    window, hands = open_window(known)
    beats, worst, timer = [], [0.0], QTimer()

    def beat():
        beats.append(time.monotonic())
        if len(beats) > 1:
            worst[0] = max(worst[0], beats[-1] - beats[-2])

    timer.timeout.connect(beat)
    timer.start(5)
    window.go_to(1)
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    timer.stop()
    assert len(beats) > 10
    less(worst[0], 0.6)


def test_a_journal_that_breaks_while_it_is_read_is_reported(known, open_window, monkeypatch):
    crossing = settled(known)
    crossing.close()

    def broken(self):
        raise Damaged(
            self.journal.path, "a page is not readable", "The originals are untouched by this."
        )

    window, hands = open_window(known)
    monkeypatch.setattr(Copies, "strands", broken)
    window.go_to(1)
    hands.wait(lambda: "a page is not readable" in panel_text(window), "the sentence")
    assert hands.button("Delete") is None and len(contents(known.library)) == 10


def test_what_is_seen_is_what_the_journal_says(bench, library):
    crossing = started(bench)
    seen = read_seen(crossing)
    assert (seen.state, seen.verified, seen.planned) == (State.PLANNED, (0, 0), (10, 496_017))
    assert seen.situation(even=False).drives[0].files_unverified == 10
    crossing.run()
    seen = read_seen(crossing)
    assert seen.verified == seen.going == seen.planned and seen.proven and not seen.looked
    assert (
        sum(s.verified_bytes for s in seen.drives[0].strands) == seen.planned[1]
        and seen.situation(True).drives[0].unverified == 0
    )


def begin_plan(window, hands, known):
    window.planning.begin_plan(window.shelves.selected, known.heron)
    hands.wait(lambda: window.drafting.plan is not None, "the plan")


def test_a_plan_left_open_is_made_again_before_anything_is_written(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    begin_plan(window, hands, known)
    (known.library / "stills/otter.jpg").write_bytes(b"o" * 700)
    old = window.drafting.plan
    hands.press("Start the crossing")
    hands.wait(lambda: window.drafting.plan not in (None, old), "the new plan")
    assert (
        "changed since this plan was shown" in panel_text(window)
        and window.drafting.plan.totals.files == 11
    )
    assert [p.name for p in known.heron.iterdir()] == ["stand-in.json"] and not list(
        known.root.rglob("*.sqlite-wal")
    )
    hands.press("Start the crossing")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert contents(known.heron / "The Weir") == contents(known.library)


def test_a_library_that_went_away_under_its_plan_does_not_start(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    begin_plan(window, hands, known)
    known.library.rename(known.library.with_name("elsewhere"))
    hands.press("Start the crossing")
    hands.wait(lambda: "There is no folder" in panel_text(window), "the problem")
    assert (
        window.panel.main.text() == "See what stops it"
        and len(contents(known.library.with_name("elsewhere"))) == 10
    )
    assert [p.name for p in known.heron.iterdir()] == ["stand-in.json"]


def test_tasks_that_end_while_their_window_is_deleted_call_nobody(qtbot):
    """An object used by another thread is never deleted: that crashed the program."""
    called = []
    for n in range(300):
        parent = QObject()
        Task(lambda n=n: n, called.append, parent)
        if n % 3:
            sip.delete(parent)
        else:
            qtbot.waitUntil(lambda n=n: n in called, timeout=5000)
    QTest.qWait(100)
    assert called == list(range(0, 300, 3))


def test_a_letter_from_a_thread_is_read_in_the_window_s(qtbot):
    owner, read = QObject(), []
    Task(lambda: None, lambda _: None, owner)
    writing = threading.Thread(
        target=lambda: post(owner, lambda: read.append(threading.current_thread()))
    )
    writing.start()
    writing.join()
    assert read == []
    qtbot.waitUntil(lambda: read == [threading.main_thread()], timeout=5000)
