"""The real window, by pointer and keyboard."""

import json
import os

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QCheckBox, QLabel, QLineEdit

from fascis.crossing.model.states import State
from fascis.crossing.plan.sentence import Choice
from fascis.desktop.kit import theme
from tests.conftest import Bench
from tests.crossing.ways import settled, started
from tests.judge import contents

Key = Qt.Key


def press(window, *keys):
    for key in keys:
        QTest.keyClick(window.focusWidget() or window, key)


def panel_text(window):
    return "\n".join(x.text() for x in window.panel.findChildren(QLabel) if x.isVisible())


def checks(window):
    table = window.crossings.checks
    return {
        table.item(r, 0).text().split("   ")[0]: (
            table.item(r, 1).text(),
            table.item(r, 2).text(),
            table.item(r, 3).text(),
        )
        for r in range(table.rowCount())
    }


def test_a_whole_crossing_by_keyboard_alone(known, open_window, library):
    before = contents(library)
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: view.selected is not None and view.hasFocus(), "focus on the library")
    press(window, Key.Key_Space, Key.Key_Down)
    hands.wait(lambda: bool(view._previews), "previews")
    press(window, Key.Key_Return)
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    QTest.keyClick(window, Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert checks(window)["Files"] == ("10", "10", "equal") and window.crossings.scales.angle == 0
    for expected in (
        "Open it from heron",
        "I have looked; it is all there",
        "Switch over: home is heron",
    ):
        hands.wait(
            lambda text=expected: (
                window.panel.main is not None and window.panel.main.text() == text
            ),
            expected,
        )
        QTest.keyClick(window, Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    hands.wait(
        lambda: (
            window.conducting.current.state is State.SWITCHED and hands.button("Delete") is not None
        ),
        "home there",
    )
    QTest.keyClick(
        window, Key.Key_Return, Qt.KeyboardModifier.ControlModifier
    )  # goes to the receipt, never deletes
    assert contents(library) == before
    QTest.keyClick(window, Key.Key_2, Qt.KeyboardModifier.ControlModifier)
    hands.wait(
        lambda: (b := hands.button("Delete")) is not None and b.isEnabled(),
        "the delete button",
        250,
    )
    hands.button("Delete").setFocus()
    press(window, Key.Key_Return)
    assert hands.button("Keep them") is None  # Enter alone does not reach it
    press(window, Key.Key_Space)
    hands.wait(lambda: hands.button("Keep them") is not None, "the list")
    assert contents(library) == before
    hands.button("Delete").setFocus()
    press(window, Key.Key_Space)
    hands.wait(lambda: window.conducting.current.state is State.RELEASED, "the release")
    hands.wait(lambda: "measured again" in panel_text(window), "the space measured again")
    assert not library.exists() and contents(known.heron / "The Weir") == before


def test_a_drag_shows_what_would_become_of_both_shelves(known, open_window):
    known.add_drive("small", capacity=200_000)
    known.again()
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the library")
    seen = {}

    def hold():
        hands.wait(lambda: len(view._previews) == 3, "previews")
        seen.update(view._previews)

    hands.drag(view, view.block_of("The Weir").center(), view.shelf_of("heron").center(), hold)
    assert (
        seen["uuid-heron"].verdict.startswith("Fits.") and "after." in seen["uuid-inside"].verdict
    )
    assert seen["uuid-small"].verdict == "Cannot take it." and "needed" in seen["uuid-small"].detail
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    assert window.drafting.plan.destination == known.heron and list(known.heron.iterdir()) == [
        known.heron / "stand-in.json"
    ]


def test_escape_takes_a_picked_up_library_back(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    press(window, Key.Key_Space, Key.Key_Down, Key.Key_Escape)
    assert window.shelves.picked is None and window.drafting.plan is None


def test_the_plan_follows_its_choices(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    hands.press("Plan the crossing")
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    hands.open(Choice.ALONG)
    proxies = next(
        b for b in window.panel.findChildren(QCheckBox) if b.text().startswith("Proxies")
    )
    proxies.setFocus()
    press(window, Key.Key_Space)
    hands.wait(lambda: window.drafting.plan.left_out.files == 1, "proxies left out")
    hands.open(Choice.NAME)
    field = next(f for f in window.panel.findChildren(QLineEdit) if f.isVisible())
    assert field.hasFocus() and field.selectedText() == "The Weir"
    QTest.keyClicks(field, "Weir 2024")
    hands.wait(lambda: window.drafting.plan.name == "Weir 2024", "the name")
    hands.open(Choice.ORIGINALS)
    hands.choose("Are set aside")
    hands.wait(lambda: "the originals are set aside" in hands.sentence().accessibleName(), "it")
    assert "when you delete the originals" in panel_text(window)
    assert (
        window.drafting.plan.choices.leave_out
        and window.drafting.plan.target == known.heron / "Weir 2024"
    )


def test_a_problem_that_stops_disables_the_start_and_says_why(known, open_window):
    (known.heron / "The Weir").mkdir()
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    hands.press("Plan the crossing")
    hands.wait(lambda: hands.button("See what stops it") is not None, "the plan")
    assert hands.button("Start the crossing") is None
    assert "1\xa0thing stops it" in panel_text(window)
    assert "already exists, and is not changed" in panel_text(window)
    hands.press("Choose another name")
    assert QApplication.focusWidget().accessibleName() == "Name on the new drive"


def test_pause_continue_and_stop(known, open_window):
    known.fill({f"more/{i:03d}.jpg": 9_000 for i in range(300)})
    known.add_drive("heron", write_mb_s=1.2)
    known.again()
    window, hands = open_window(known)
    crossing = started(known)
    window._started(crossing)
    hands.wait(lambda: any(x.copied for x in window.conducting._lanes.values()), "the first bytes")
    QTest.keyClick(window, Key.Key_P)
    assert window.conducting.control.paused
    QTest.qWait(400)
    held = sum(x.copied for x in window.conducting._lanes.values())
    QTest.qWait(500)
    assert sum(x.copied for x in window.conducting._lanes.values()) - held < 200_000
    QTest.keyClick(window, Key.Key_P)
    hands.press("Stop; continue another day")
    hands.wait(lambda: window.conducting.running is None, "the stop")
    assert window.conducting.current.state is State.COPYING
    hands.press("Give up")
    hands.wait(lambda: hands.button("Keep it") is not None, "the question")
    hands.press("Remove")
    hands.wait(lambda: window.conducting.current.state is State.UNDONE, "cleared")
    assert [p.name for p in known.heron.iterdir()] == ["stand-in.json"] and len(
        contents(known.library)
    ) == 310


def test_a_failing_drive_is_reported_in_the_panel_and_it_can_resume(known, open_window):
    known.add_drive("heron", faults=[{"kind": "unplugged", "after_bytes": 200_000}])
    known.again()
    window, hands = open_window(known)
    # else it may go on by itself, when the drive is seen to be back
    window.planning.refreshed.disconnect()
    window._started(started(known))
    hands.wait(lambda: "does not answer" in panel_text(window), "the error")
    assert len(contents(known.library)) == 10
    known.add_drive("heron")
    known.again()
    window.workspace.drives = known.workspace.drives
    hands.press("Continue")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert checks(window)["Contents, read back from the drive"][2] == "equal"


def test_newer_at_the_old_place_tips_the_scales_first(known, open_window):
    crossing = settled(known)
    (known.library / "late.txt").write_text("x")
    crossing.close()
    window, hands = open_window(known)
    hands.press("See the scales")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert window.crossings.scales.angle > 0 and window.crossings.checks.item(
        0, 0
    ).text().startswith("Newer at the old place   late.txt")
    assert (
        "to be decided" in window.crossings.subtitle.text() and hands.button("Switch over") is None
    )
    hands.press("Bring 1")
    hands.wait(lambda: (b := window.conducting.steps.balance) is not None and b.even, "balance")
    assert (
        contents(known.heron / "The Weir") == contents(known.library)
        and len(contents(known.library)) == 11
    )
    assert checks(window)["Files"] == ("11", "11", "equal")


def test_the_focus_stays_in_the_panel_when_its_button_goes(known, open_window):
    settled(known).close()
    window, hands = open_window(known)
    hands.press("See the scales")
    hands.wait(lambda: hands.button("Open it from heron") is not None, "the button")
    hands.button("Open it from heron").setFocus()
    press(window, Key.Key_Space)
    hands.wait(lambda: hands.button("I have looked") is not None, "the inner page")
    assert window.focusWidget() is window.panel


def test_left_at_the_old_place_by_decision(known, open_window):
    crossing = settled(known)
    crossing.looked()
    (known.library / "notes.txt").write_text("breach at dawn, later")
    crossing.close()
    window, hands = open_window(known)
    hands.press("See the scales")
    hands.press("Leave it at the old place")
    hands.press("Switch over")
    hands.wait(lambda: window.conducting.seen.state is State.SWITCHED, "home there")
    hands.wait(lambda: window.conducting.steps.list is not None, "the list")
    assert (
        b"notes.txt" not in window.conducting.steps.list.places
        and window.conducting.steps.list.files == 9
    )
    assert (known.library / "notes.txt").read_text() == "breach at dawn, later"


def test_a_copy_that_was_only_compared_is_read_again_after_a_reconnection(known, open_window):
    known.add_drive("stick", "exfat", answers_from_memory=True)
    known.again()
    crossing = settled(known, to=known.drives / "stick")
    crossing.looked()
    crossing.switch()
    crossing.close()
    window, hands = open_window(known)
    window.go_to(1)
    hands.wait(lambda: hands.button("Delete") is not None, "the delete button")
    assert not hands.button("Delete").isEnabled() and "connect it again" in panel_text(window)
    assert "perhaps from memory" in "".join(checks(window))
    hands.press("Read the copy again")
    hands.wait(lambda: "perhaps from memory again" in panel_text(window), "the sentence")
    hands.press("Back")
    path = known.drives / "stick/stand-in.json"
    for connected in (False, True):
        path.write_text(json.dumps({**json.loads(path.read_text()), "connected": connected}))
        known.workspace.drives.connected()
    hands.press("Read the copy again")
    hands.wait(
        lambda: (b := hands.button("Delete")) is not None and b.isEnabled(), "the delete button"
    )
    assert (
        "Contents, read back from the drive" in checks(window)
        and len(contents(known.library)) == 10
    )


def test_resuming_is_offered_at_start(known, open_window):
    crossing = started(known)
    crossing.close()
    window, hands = open_window(known)
    assert window._offer.isVisible()
    hands.press("Continue")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert contents(known.heron / "The Weir") == contents(known.library)


def test_receipts_open_their_page(known, open_window):
    crossing = settled(known)
    id = crossing.id
    crossing.close()
    window, hands = open_window(known)
    QTest.keyClick(window, Key.Key_3, Qt.KeyboardModifier.ControlModifier)
    hands.wait(lambda: window.receipts.current == id, "the receipt")
    text = window.receipts.page.toPlainText()
    assert (
        "Whole and verified, at the new place" in text
        and "b3sum --check .fascis/manifest.b3" in text
    )
    seal = window.receipts.page.document().find("Whole and verified")
    assert seal.charFormat().foreground().color().name() == "#17665f", "its style is understood"


@pytest.mark.parametrize("place", [1, 2])
def test_empty_places_say_what_to_do_first(bench, open_window, place):
    window, hands = open_window(bench)
    window.go_to(place)
    hands.wait(lambda: window.panel.main is not None, "a button")
    assert window.panel.main.text() == "To the shelves"


def test_a_library_is_added_by_its_folder_and_a_bad_one_reported(bench, open_window, library):
    window, hands = open_window(bench)
    window.planning.add_library(library)
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.selected.name == "The Weir",
        "the library",
    )
    window.planning.add_library(bench.drives / "nowhere")
    hands.wait(lambda: "There is no folder" in panel_text(window), "the error")
    assert window.shelves.selected.name == "The Weir"


def test_hostile_names_are_shown_as_plain_text(bench, open_window):
    evil = bench.drives / "inside" / "<b>Weir<i>\u202egpj\n"
    evil.mkdir()
    (evil / "x.jpg").write_bytes(b"1")
    window, hands = open_window(bench)
    window.planning.add_library(evil)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    QTest.qWait(200)
    text = panel_text(window)
    assert "<b>Weir<i>\\u202egpj\\n" in text and "\u202e" not in text


def test_dusk_is_remembered(known, open_window):
    window, hands = open_window(known)
    window.set_theme("Dusk")
    assert theme.active() is theme.DUSK
    from fascis.desktop.window import preferred_theme

    window._settings.sync()
    assert preferred_theme(known.workspace) is theme.DUSK
    window.set_theme("Linen")


def test_a_drive_that_is_connected_or_removed_is_noticed(known, open_window):
    window, hands = open_window(known)
    folder = known.heron
    facts = json.loads((folder / "stand-in.json").read_text())
    (folder / "stand-in.json").write_text(json.dumps({**facts, "connected": False}))
    hands.wait(lambda: any(s.group == "away" for s in window.planning.shelves), "away")
    assert isinstance(known, Bench) and os.path.exists(known.library)
