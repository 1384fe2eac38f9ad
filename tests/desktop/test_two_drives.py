"""Two drives, a queue, a drive that comes back, one that stops answering.

In the real window, by pointer and keys.
"""

import json
import os
import signal
import subprocess
import time
from types import SimpleNamespace

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLineEdit

from fascis.crossing.model.states import State
from fascis.crossing.plan.sentence import Choice
from fascis.desktop.crossings.answers import DriveNow, Situation, safe_to, why_not_delete
from fascis.desktop.crossings.pulse import Returns, whole_words
from fascis.drives.connected import Drives
from fascis.workspace import Workspace
from tests.clock import within
from tests.desktop.conftest import register
from tests.desktop.test_window import panel_text
from tests.drives.test_answering import driver_of
from tests.judge import contents


def facts(bench, name, **more):
    path = bench.drives / name / "stand-in.json"
    path.write_text(json.dumps({**json.loads(path.read_text()), **more}))


def plan(window, hands, library, drive):
    window.go_to(0)
    view = window.shelves
    hands.wait(lambda: bool(view._blocks), "the shelves")
    hands.drag(view, view.block_of(library).center(), view.shelf_of(drive).center(), lambda: None)
    hands.wait(
        lambda: window.drafting.plan is not None and hands.button("Back") is not None, "the plan"
    )


def crossing_slowly(bench, open_window):
    """A window in which a crossing to a slow drive has begun."""
    facts(bench, "heron", write_mb_s=0.02)
    bench.again()
    window, hands = open_window(bench)
    plan(window, hands, "The Weir", "heron")
    hands.press("Start the crossing")
    hands.wait(lambda: window.place == 1 and window.conducting.running is not None, "the start")
    return window, hands


def listed(window):
    lines = window.crossings.list
    texts = [lines.item(i).text() for i in range(lines.count())]
    return [t for t in texts if " → " in t]


@pytest.mark.long
def test_one_is_ready_before_the_other_and_is_removed_safely(known, open_window):
    known.add_drive("egret", "exfat", write_mb_s=0.15)
    known.again()
    window, hands = open_window(known)
    plan(window, hands, "The Weir", "heron")
    hands.open(Choice.WHERE)
    hands.pick("Second copy", "Second copy on egret")
    hands.wait(
        lambda: (
            len(window.drafting.plan.goals) == 2 and hands.button("Make egret home") is not None
        ),
        "two goals",
    )
    assert "to heron and egret, as The Weir" in hands.sentence().accessibleName()
    hands.press("Start the crossing")
    hands.press("Remove heron safely")
    hands.wait(
        lambda: json.loads((known.heron / "stand-in.json").read_text()).get("connected") is False,
        "the removal",
    )
    assert (
        window.conducting.running is not None
        and "heron: whole, verified" in window.crossings.title.text()
    )
    hands.wait(lambda: window.conducting.running is None, "the other")
    facts(known, "heron", connected=True)
    hands.wait(
        lambda: any(
            s.drive.label == "heron" and s.drive.connected for s in window.planning.shelves
        ),
        "heron",
    )
    window.conducting.steps.look_again()
    hands.wait(
        lambda: (
            window.conducting.steps.balance is not None and window.conducting.steps.balance.even
        ),
        "balance",
    )
    assert (
        contents(known.heron / "The Weir")
        == contents(known.drives / "egret" / "The Weir")
        == contents(known.library)
    )


def test_the_second_copy_can_be_home(known, open_window):
    known.add_drive("egret")
    known.again()
    window, hands = open_window(known)
    plan(window, hands, "The Weir", "heron")
    hands.open(Choice.WHERE)
    hands.pick("Second copy", "Second copy on egret")
    hands.press("Make egret home")
    hands.wait(lambda: window.drafting.plan.destination_drive.label == "egret", "home")
    assert [g.drive.label for g in window.drafting.plan.goals] == ["egret", "heron"]
    hands.open(Choice.WHERE)
    hands.pick("Second copy", "No second copy")
    hands.wait(lambda: len(window.drafting.plan.goals) == 1, "one goal")
    assert not list(known.heron.glob("The*"))


@pytest.mark.long
def test_several_libraries_in_one_night(known, open_window):
    """The second stops (its name is taken meanwhile); the third crosses all the same."""
    window, hands = crossing_slowly(known, open_window)
    for name in ("second", "third"):
        plan(window, hands, "The Weir", "heron")
        hands.open(Choice.NAME)
        field = next(
            f
            for f in window.findChildren(QLineEdit)
            if f.accessibleName() == "Name on the new drive"
        )
        field.setFocus()
        field.selectAll()
        QTest.keyClicks(field, name)
        QTest.keyClick(field, Qt.Key.Key_Return)
        hands.wait(
            lambda n=name: window.drafting.plan is not None and window.drafting.plan.name == n,
            "the name",
        )
        assert "waits its turn behind it" in panel_text(window)
        hands.press("Add it to the queue")
        hands.wait(
            lambda n=name: any(n in t and "waits its turn" in t for t in listed(window)), "the line"
        )
    hands.wait(lambda: "2\u00a0more wait" in window._pulse.text(), "the strip below")
    assert [t[0] for t in listed(window)] == ["T", "1", "2"]
    (known.heron / "second").mkdir()
    facts(known, "heron", write_mb_s=0)
    known.workspace.drives.stand_ins()
    hands.wait(
        lambda: (known.heron / "third").exists() and window.conducting.running is None, "the third"
    )
    assert len(contents(known.heron / "third")) == len(contents(known.heron / "The Weir")) == 10
    assert contents(known.heron / "second") == {} and len(contents(known.library)) == 10
    stopped = next(c for c in window.conducting.crossings if c.name == "second")
    window.conducting.choose(stopped.id)
    hands.wait(lambda: "appeared meanwhile" in panel_text(window), "why it stopped")


@pytest.mark.long
def test_a_later_one_may_go_first(known, open_window):
    window, hands = crossing_slowly(known, open_window)
    for after in (1, 2):
        plan(window, hands, "The Weir", "heron")
        window.drafting.change(name=f"n{after}")
        hands.wait(
            lambda a=after: (
                window.drafting.plan is not None and window.drafting.plan.name == f"n{a}"
            ),
            "the name",
        )
        hands.press("Add it to the queue")
        hands.wait(
            lambda a=after: len(listed(window)) == a + 1 and "waits" in listed(window)[a],
            "the line",
        )
    window.conducting.choose(window.conducting.rows()[2].id)
    hands.press("Move to front of queue")
    hands.wait(lambda: "n2" in listed(window)[1], "the new order")
    window.conducting.choose(window.conducting.rows()[0].id)
    facts(known, "heron", write_mb_s=0)


def test_discarding_has_its_own_checkbox(known, open_window):
    window, hands = open_window(known)
    plan(window, hands, "The Weir", "heron")
    hands.open(Choice.ALONG)
    hands.tick("Proxies")
    hands.wait(lambda: window.drafting.plan.left_out.files == 1, "left out")
    assert window.drafting.plan.discarded.files == 0  # leaving out alone deletes nothing
    hands.open(Choice.ORIGINALS)
    hands.tick("Also delete Proxies")
    hands.wait(lambda: window.drafting.plan.discarded.files == 1, "discarded")
    assert "largest: weir_01.mov" in panel_text(window)
    hands.press("Start the crossing")
    hands.press("Open it from heron")
    hands.press("I have looked")
    hands.press("Switch over")
    hands.press("Delete")
    hands.wait(lambda: hands.button("Keep them") is not None, "the list")
    assert (
        "have no copy: that is your choice" in panel_text(window)
        and len(contents(known.library)) == 10
    )
    hands.press("Delete 10")
    hands.wait(lambda: window.conducting.current.state is State.RELEASED, "the release")
    assert len(contents(known.heron / "The Weir")) == 9 and not known.library.exists()


def test_it_resumes_by_itself_when_the_drive_is_back(known, open_window):
    facts(known, "heron", write_mb_s=0.4)
    known.again()
    window, hands = open_window(known)
    plan(window, hands, "The Weir", "heron")
    hands.press("Start the crossing")
    hands.wait(lambda: any(x.copied for x in window.conducting._lanes.values()), "the first bytes")
    facts(known, "heron", connected=False)
    hands.wait(
        lambda: "continues by itself when the drive is back" in panel_text(window), "that it waits"
    )
    assert len(contents(known.library)) == 10
    facts(known, "heron", connected=True, write_mb_s=0)
    hands.wait(lambda: window.conducting.current.state is State.SETTLED, "the arrival")
    assert contents(known.heron / "The Weir") == contents(known.library)


def test_a_drive_that_fails_while_it_stays_is_not_tried_again_and_again():
    returns = Returns()
    returns.expect(SimpleNamespace(id="a", drives=frozenset({"inside", "heron"})))
    assert returns.look({"inside", "heron"}) == set() and returns.awaited("a")
    assert returns.look({"inside"}) == set()
    assert returns.look({"inside", "heron", "egret"}) == {"a"}
    returns.forget("a")
    assert returns.look({"inside", "heron"}) == set()


def test_answers_for_two_drives():
    whole, late = (
        DriveNow("Heron A", whole_at=1.0),
        DriveNow("Heron B", 5_000_000, 3, ready_at=2.0, number=1),
    )
    s = Situation(State.COPYING, True, (whole, late), awake="sleep:idle")
    answers = {a.question: (a.answer, a.why) for a in safe_to(s)}
    assert answers["unplug Heron A?"][0] == "Yes" and answers["unplug Heron B?"][0].startswith(
        "At "
    )
    assert "lid is open" in answers["close the lid or lose power?"][1]
    assert why_not_delete(s).endswith(
        "not verified on Heron B"
    ) and "Heron A: whole, verified" in whole_words(s)
    assert whole_words(Situation(State.COPYING, True, (late,))) == ""


@pytest.mark.long
@pytest.mark.lab
def test_a_user_space_drive_that_stops_answering(bench, mounted, open_window):
    """Its driver is halted.

    The window stays live, a stop is done within two seconds, and it goes on when it answers.
    """
    where = mounted("exfat", 120)
    bench.fill({f"{n:02}.mov": 3_000_000 for n in range(12)})
    bench.workspace = Workspace(
        bench.root / "data", bench.root / "state", bench.root / "config", Drives(bench.drives)
    )
    register(bench)
    window, hands = open_window(bench)
    driver = driver_of(where)
    window.planning.begin_plan(next(s for x in window.planning.shelves for s in x.standings), where)
    hands.wait(lambda: hands.button("Start the crossing") is not None, "the plan")
    try:
        hands.press("Start the crossing")
        hands.wait(
            lambda: any(x.copied for x in window.conducting._lanes.values()), "the first bytes", 0
        )
        os.kill(driver, signal.SIGSTOP)
        hands.press("Stop; continue")
        begun = time.monotonic()
        hands.wait(lambda: window.conducting.running is None, "the stop", 0)
        within(begun, 2.0)
        assert window.conducting.stuck
        QTest.qWait(100)  # the window answers meanwhile
        assert "does not answer" in panel_text(window)
    finally:
        os.kill(driver, signal.SIGCONT)
    hands.wait(lambda: not window.conducting.stuck, "the end of what hung")
    hands.press("Continue")
    hands.wait(lambda: window.conducting.current.state is State.SETTLED, "the arrival")
    assert contents(where / "The Weir") == contents(bench.library)
    window.close()
    subprocess.run(["sync"], check=True)
