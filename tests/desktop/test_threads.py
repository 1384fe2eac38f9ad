"""The window thread reads no journal and waits for nothing; what it shows was true once."""

import threading
import time

import pytest
from PyQt6.QtCore import QTimer

from fascis.crossing.journal.copies import Copies
from fascis.crossing.journal.journal import Journal
from fascis.crossing.model.states import State
from fascis.desktop.crossings.seen import read_seen
from fascis.files.errors import Damaged
from tests.crossing.ways import settled, started, switched
from tests.desktop.test_window import panel_text
from tests.judge import contents

LONG = (
    "strands",
    "verified",
    "going",
    "proven",
    "items",
    "sums",
    "plan_rows",
    "verified_files",
    "folders",
)


@pytest.fixture
def window_reads(monkeypatch):
    """Names of long readings that were done in the window's thread."""
    found, here = [], threading.current_thread()
    for name in LONG:
        owner = Copies if hasattr(Copies, name) else Journal
        real = getattr(owner, name)

        def reading(self, *arguments, _name=name, _real=real, **more):
            if threading.current_thread() is here:
                found.append(_name)
            return _real(self, *arguments, **more)

        monkeypatch.setattr(owner, name, reading)
    return found


def test_choosing_and_stepping_reads_in_tasks_only(known, open_window, window_reads):
    first, second = settled(known, name="one"), switched(known, name="two")
    ids = [first.id, second.id]
    first.close()
    second.close()
    window_reads.clear()
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
    assert window_reads == [] and len(contents(known.library)) == 10


def test_a_crossing_runs_without_the_window_reading(known, open_window, window_reads):
    window, hands = open_window(known)
    crossing = started(known)
    window_reads.clear()
    window._started(crossing)
    hands.wait(
        lambda: window.conducting.seen is not None and window.conducting.running is None, "arrival"
    )
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert window_reads == [] and window.conducting.steps.balance.even


def test_the_window_beats_while_a_large_journal_is_read(bench, known, open_window):
    """Between two beats of the window there is never as much as reading a journal takes."""
    known.fill({f"many/{i % 40:02d}/{i:05d}.jpg": b"%d" % i for i in range(6_000)})
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
    assert len(beats) > 10 and worst[0] < 0.6, worst


def test_a_journal_that_breaks_while_it_is_read_is_told(known, open_window, monkeypatch):
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
    hands.wait(lambda: window.planning.plan is not None, "the plan")


def test_a_plan_left_open_is_made_anew_before_anything_is_written(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    begin_plan(window, hands, known)
    (known.library / "stills/otter.jpg").write_bytes(b"o" * 700)
    old = window.planning.plan
    hands.press("Start the crossing")
    hands.wait(lambda: window.planning.plan not in (None, old), "the new plan")
    assert "changed since this plan was shown" in panel_text(
        window
    ) and "11\u00a0files" in panel_text(window)
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
        not window.panel.main.isEnabled()
        and len(contents(known.library.with_name("elsewhere"))) == 10
    )
    assert [p.name for p in known.heron.iterdir()] == ["stand-in.json"]
