"""Walks through the window in the environment's language, and collects every text.

``python -m tests.desktop.tongue FOLDER`` prints JSON: each text with its place, and texts that did
not fit. It is a program of its own because sentences take their language at start.
"""

import json
import sys
from pathlib import Path

from PyQt6.QtCore import Qt
from PyQt6.QtGui import QPainter
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractItemView,
    QApplication,
    QComboBox,
    QLabel,
    QLineEdit,
    QTableView,
    QTextBrowser,
    QTreeView,
    QWidget,
)

from fascis.crossing.scope import needed
from fascis.demo.scenario import make_world
from fascis.desktop.kit.sentence import SentenceView
from fascis.tour import pictures
from tests.desktop.conftest import QuickHands

seen, clipped = {}, {}


class ReadingHands(QuickHands):
    """Reads everything that is in sight wherever the tour stops to look."""

    def settle(self, most):
        super().settle(most)
        read_all()

    def take(self, name):
        # What was just made is shown by the next turn of the event loop.
        pictures.QTest.qWait(30)
        self.window.grab()
        read_all()


def note(text, where):
    if isinstance(text, str) and text.strip():
        seen.setdefault(text, where)


def read_all():
    for top in QApplication.topLevelWidgets():
        if top.isVisible():
            note(top.windowTitle(), "title")
            for widget in (top, *top.findChildren(QWidget)):
                if widget.isVisible():
                    read(widget)


def read(widget):
    kind = type(widget).__name__
    note(widget.toolTip(), f"{kind}, tool tip")
    note(widget.accessibleName(), f"{kind}, accessible name")
    note(widget.accessibleDescription(), f"{kind}, accessible description")
    for action in widget.actions():
        note(action.text(), f"{kind}, action")
    if isinstance(widget, (QAbstractButton, QLabel, QLineEdit)):
        note(widget.text(), kind)
    if isinstance(widget, QAbstractButton) and widget.sizeHint().width() > widget.width() + 1:
        clipped[widget.text()] = f"{kind}: {widget.width()} of {widget.sizeHint().width()} pixels"
    if isinstance(widget, QLabel) and type(widget) is QLabel:
        wanted = widget.minimumSizeHint() if widget.wordWrap() else widget.sizeHint()
        if wanted.width() > widget.width() + 1:
            clipped[widget.text()] = f"{kind}: {widget.width()} of {wanted.width()} pixels"
    if isinstance(widget, SentenceView) and widget.heightForWidth(widget.width()) > widget.height():
        clipped[widget.accessibleName()] = f"{widget.height()} pixels high"
    if isinstance(widget, QLineEdit):
        note(widget.placeholderText(), kind)
    if isinstance(widget, QComboBox):
        for i in range(widget.count()):
            note(widget.itemText(i), kind)
    if isinstance(widget, QTextBrowser):
        note(widget.toPlainText(), kind)
    if isinstance(widget, QAbstractItemView) and widget.model():
        read_table(widget, kind)


def read_table(widget, kind):
    model = widget.model()
    columns = model.columnCount() if isinstance(widget, (QTableView, QTreeView)) else 1
    for column in range(columns):
        note(model.headerData(column, Qt.Orientation.Horizontal), f"{kind}, head")
        for row in range(min(model.rowCount(), 40)):
            for role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.ToolTipRole):
                note(model.data(model.index(row, column), role), kind)


def painted(self, *arguments, paint=QPainter.drawText):
    for text in arguments:
        note(text, "painted")
    return paint(self, *arguments)


def walk(folder):
    """The tour, in one world."""
    world = make_world(folder, brief=True)
    for view in (pictures.copies, pictures.unknown, pictures.look, pictures.parts):
        view(world, folder)
    pictures.whole_crossing(world, folder)
    pictures.drives(world, folder)


if __name__ == "__main__":
    # Outside the demo's files is the machine's whole disk: not all of it is searched.
    needed.MOST_FOLDERS = 200
    QPainter.drawText = painted
    pictures.Hands = ReadingHands
    walk(Path(sys.argv[1]))
    print(json.dumps({"seen": seen, "clipped": clipped}))
