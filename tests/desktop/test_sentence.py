"""The plan's sentence in the real window: choices by pointer and key; the newest plan starts."""

import time

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit, QScrollArea, QVBoxLayout, QWidget

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.sentence import Choice
from fascis.desktop.kit.sentence import Piece, SentenceView
from tests.judge import contents

Key, Ctrl = Qt.Key, Qt.KeyboardModifier.ControlModifier


def said(hands):
    return hands.sentence().accessibleName().replace("\xa0", " ")


def press(window, key, modifier=Qt.KeyboardModifier.NoModifier):
    focus = QApplication.focusWidget() or window
    QTest.keyClick(focus, key, modifier)


@pytest.fixture
def planned(known, open_window):
    known.add_drive("egret")
    known.again()
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    window.planning.begin_plan(window.shelves.selected, known.heron)
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    return window, hands


def test_a_typed_name_is_the_started_crossings_name(planned, known):
    """Start is pressed before the plan with that name was made: the newest plan starts."""
    window, hands = planned
    hands.open(Choice.NAME)
    field = next(f for f in window.panel.findChildren(QLineEdit) if f.isVisible())
    QTest.keyClicks(field, "Spring Weir")
    QTest.keyClick(field, Key.Key_Return, Ctrl)
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert window.conducting.current.name == "Spring Weir"
    assert contents(known.heron / "Spring Weir") == contents(known.library)
    assert not (known.heron / "The Weir").exists()


def test_a_strand_that_was_just_taken_out_does_not_cross(planned, known):
    window, hands = planned
    window.go_to(3)
    hands.wait(lambda: bool(window.strands.bundle.layout_.lefts), "the strands")
    bundle = window.strands.bundle
    QTest.mouseClick(bundle, Qt.MouseButton.LeftButton, pos=bundle.point_of("stills").toPoint())
    QTest.keyClick(bundle, Key.Key_Space)
    window.main_button()
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert not (known.heron / "The Weir/stills/heron.jpg").exists()
    assert (known.library / "stills/heron.jpg").exists(), "and stays where it was"


def test_a_drive_that_was_just_chosen_is_where_it_goes(planned, known):
    window, hands = planned
    hands.open(Choice.WHERE)
    hands.choose("egret")
    window.main_button()
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert contents(known.drives / "egret" / "The Weir") == contents(known.library)
    assert not (known.heron / "The Weir").exists()


def test_figures_give_way_while_a_newer_plan_is_made(planned):
    window, hands = planned
    window.drafting.change(after=After.RELEASE)
    texts = [x.text() for x in window.drafting._page._figures]
    assert texts == ["Working out what that changes…", ""]
    hands.wait(lambda: "are deleted, after I have looked" in said(hands), "the newer plan")
    assert window.drafting._page._figures[0].text().startswith("Whole on heron at ")


def test_every_choice_opens_and_closes_by_keys(planned):
    """Tab walks the sentence, Space opens, the first control has the focus, Esc closes."""
    window, hands = planned
    first = hands.sentence().part_of(Choice.WHAT)
    first.setFocus(Qt.FocusReason.TabFocusReason)
    opened = []
    for _ in range(6):
        key = next(k for k in Choice if _is(hands, k))
        QTest.keyClick(QApplication.focusWidget(), Key.Key_Space)
        hands.wait(lambda k=key: window.drafting.opened is k, f"{key} open")
        hands.wait(lambda k=key: k != "what" or window.drafting.parts is not None, "its parts")
        inside = QApplication.focusWidget()
        assert window.drafting._page._box.isAncestorOf(inside), key
        opened.append(key)
        QTest.keyClick(inside, Key.Key_Escape)
        hands.wait(lambda: window.drafting.opened is None, "closed")
        hands.sentence().part_of(key).setFocus(Qt.FocusReason.TabFocusReason)
        QTest.keyClick(QApplication.focusWidget(), Key.Key_Tab)
    assert opened == [
        Choice.WHAT,
        Choice.WHERE,
        Choice.NAME,
        Choice.ALONG,
        Choice.HOME,
        Choice.ORIGINALS,
    ]


def _is(hands, key):
    sentence = hands.sentence()
    parts = [made for n, made in sentence.parts.items() if sentence._pieces[n].key == key]
    return bool(parts) and parts[0].hasFocus()


def test_escape_leaves_the_plan_and_the_library_answers_again(planned):
    window, hands = planned
    press(window, Key.Key_Escape)
    hands.wait(lambda: window.drafting.plan is None, "no plan")
    hands.press("Plan the crossing")
    hands.wait(lambda: window.drafting.plan is not None, "the plan again")


def test_adding_a_library_while_a_plan_is_open(planned, known):
    other = known.library.parent / "Saltmeadow"
    other.mkdir()
    (other / "reed.mov").write_bytes(b"r" * 5000)
    window, hands = planned
    hands.open(Choice.NAME)
    window.planning.add_library(other)
    hands.wait(lambda: hands.button("Plan the crossing") is not None, "its page")
    assert window.shelves.selected.root == other and window.drafting.plan is None
    hands.press("Plan the crossing")
    hands.wait(lambda: window.drafting.plan is not None, "its plan")
    assert said(hands).startswith("Take Saltmeadow to ")


def test_choosing_another_block_or_drive_while_a_plan_is_open(planned, known):
    window, hands = planned
    view = window.shelves
    point = view.shelf_of("heron").topLeft().toPoint()
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=point)
    hands.wait(lambda: window.drafting.plan is None, "no plan")
    assert hands.button("Remove") is not None
    QTest.mouseClick(
        view, Qt.MouseButton.LeftButton, pos=view.block_of("The Weir").center().toPoint()
    )
    hands.press("Plan the crossing")
    hands.wait(lambda: window.drafting.plan is not None, "the plan again")


def test_a_crossing_starts_once(known, open_window, monkeypatch):
    """Who comes back to the plan while it starts, and presses again, has one crossing."""
    begin = Crossing.start

    def slow(*plan, **how):
        time.sleep(1.0)
        return begin(*plan, **how)

    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    hands.press("Plan the crossing")
    monkeypatch.setattr(Crossing, "start", slow)
    hands.press("Start the crossing")
    for number in (Qt.Key.Key_4, Qt.Key.Key_1):
        QTest.keyClick(window, number, Qt.KeyboardModifier.ControlModifier)
        QTest.qWait(100)
    assert hands.button("Start the crossing") is None
    QTest.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    hands.wait(lambda: window.conducting.current is not None, "the crossing", 1500)
    assert len(list(known.workspace.crossings.glob("*.sqlite"))) == 1


def test_no_word_of_the_sentence_is_cut_off_when_it_gets_narrower(qtbot):
    """A scroll bar beside it takes room; the last word is what happens to the originals."""
    start = Piece("The salmon, the weir and the herons go to the drive; the originals are ")
    view = SentenceView(
        [start, Piece("set aside", "after"), Piece(" once it is read back.")], print
    )
    inner, area = QWidget(), QScrollArea()
    column = QVBoxLayout(inner)
    column.addWidget(view)
    column.addStretch()
    area.setWidgetResizable(True)
    area.setWidget(inner)
    qtbot.addWidget(area)
    area.resize(800, 600)
    area.show()
    for width in range(800, 330, -10):
        area.resize(width, 600)
        QTest.qWait(10)
        assert view.height() >= view.heightForWidth(view.width()), width
