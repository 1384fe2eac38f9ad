"""Names full of markup in every view: nothing interprets it, nothing that it names is opened."""

import os

import pytest
from PyQt6.QtCore import QModelIndex, QPoint, Qt
from PyQt6.QtGui import QHelpEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QLabel, QTextEdit, QToolTip, QWidget

from fascis.crossing.crossing import Crossing
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from tests.desktop.conftest import register
from tests.library.making import timeline, write

EVIL = "<img src=PIPE> <h1>River & <b>heron"


def is_plain(text):
    """True when Qt would show it letter for letter, or when names in it are escaped by us."""
    return not Qt.mightBeRichText(text) or not any(mark in text for mark in ("<img", "<h1", "<b>"))


def tool_tips(model):
    """The tool tips of a list's or table's items; their other texts are drawn literally."""
    for row in range(min(model.rowCount(QModelIndex()), 200)):
        for column in range(8):
            index = model.index(row, column)
            if index.isValid() and (tip := index.data(Qt.ItemDataRole.ToolTipRole)):
                yield str(tip)


def wrong_in(window):
    """Every text of every widget that would be interpreted."""
    for widget in [window, *window.findChildren(QWidget)]:
        for what, text in (
            ("tool tip", widget.toolTip()),
            ("what's this", widget.whatsThis()),
            ("status tip", widget.statusTip()),
        ):
            if not is_plain(text):
                yield type(widget).__name__, what, text
        if isinstance(widget, QLabel):
            rich = widget.textFormat() is not Qt.TextFormat.PlainText
            if rich and not is_plain(widget.text()):
                yield "QLabel", "text", widget.text()
        if isinstance(widget, QTextEdit) and (text := widget.toPlainText()).count(
            "River"
        ) != text.count(EVIL[:20]):
            yield type(widget).__name__, "page", text[:300]
        if isinstance(widget, QAbstractItemView) and widget.model() is not None:
            for text in tool_tips(widget.model()):
                if not is_plain(text):
                    yield type(widget).__name__, "item's tool tip", text


def hovered(widget):
    """The tool tips that appear all over a widget that paints itself."""
    for y in range(4, widget.height(), 24):
        for x in range(4, widget.width(), 60):
            point = QPoint(x, y)
            QToolTip.hideText()
            QApplication.sendEvent(
                widget, QHelpEvent(QHelpEvent.Type.ToolTip, point, widget.mapToGlobal(point))
            )
            if text := QToolTip.text():
                yield text


@pytest.fixture
def evil(bench):
    bench.library = bench.drives / "inside" / EVIL
    os.mkfifo(bench.root / "PIPE")
    for place, content in (
        (f"{EVIL}/clip {EVIL}.mov", b"x" * 9_000),
        (f"{EVIL}/{EVIL}.jpg", b"y" * 400),
        (f"proxies/{EVIL}.mov", b"p"),
    ):
        write(bench.library / place, content)
    write(
        bench.library / f"{EVIL}.otio", timeline(f"{EVIL}/clip {EVIL}.mov", f"gone/{EVIL} lost.mov")
    )
    write(bench.library / f"{EVIL}.unknown", f'"{EVIL}/clip {EVIL}.mov"'.encode())
    bench.add_drive(f"<b>heron & {EVIL[:8]}")
    bench.again()
    return register(bench)


class Look:
    """Collects interpreted text in one view after the other."""

    def __init__(self, window):
        self.window, self.wrong, self.seen = window, [], 0

    def at(self, where, painted=None):
        QTest.qWait(150)
        self.wrong += [(where, *w) for w in wrong_in(self.window)]
        self.seen += sum(
            "River" in w.text() for w in self.window.findChildren(QLabel) if w.isVisible()
        )
        if painted is not None:
            self.wrong += [(where, "hover", t) for t in hovered(painted) if not is_plain(t)]


def test_no_view_of_a_library_interprets_a_name(evil, open_window):
    window, hands = open_window(evil)
    look = Look(window)
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.hasFocus(), "the library"
    )
    look.at("shelves", window.shelves)
    hands.press("Plan the crossing")
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    look.at("plan")
    hands.press("Back")
    window.shelves.setFocus()
    QTest.keyClick(window.shelves, Qt.Key.Key_Return)
    hands.wait(lambda: window.drafting.woven is not None and window.place == 3, "the strands")
    look.at("strands", window.strands.bundle)
    QTest.keyClick(window, Qt.Key.Key_5, Qt.KeyboardModifier.ControlModifier)
    hands.wait(lambda: window.place == 4, "relink")
    look.at("relink")
    assert not look.wrong, look.wrong[:5]
    assert look.seen > 3  # the name was there to be seen


def test_no_view_of_a_crossing_interprets_a_name(evil, open_window):
    to = evil.drives / f"<b>heron & {EVIL[:8]}"
    surveyed = survey_library(evil.workspace, evil.library)
    crossing = Crossing.start(
        evil.workspace, make_plan(evil.workspace, surveyed, to, Choices()), decided=True
    )
    crossing.journal.note(os.fsencode(f"{EVIL}/x"), EVIL, EVIL, 1.0)
    crossing.run()
    crossing.close()
    window, hands = open_window(evil)
    look = Look(window)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    look.at("shelves", window.shelves)
    window.go_to(1)
    hands.wait(lambda: bool(window.conducting.crossings), "the crossing")
    look.at("crossings")
    window.go_to(2)
    hands.wait(lambda: bool(window._records), "the receipts")
    look.at("receipts")
    window.go_to(0)
    for shelf in window.planning.shelves:
        window.shelves.drive_chosen.emit(shelf)
        look.at(f"drive {shelf.drive.label}")
    assert not look.wrong, look.wrong[:5]
    assert look.seen > 3
