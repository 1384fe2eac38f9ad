"""Saving a report for the makers, from the menu."""

import json

from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QCheckBox, QPushButton

from tests.desktop.test_window import panel_text


def choose_from_menu(window, words):
    """Opens the menu at the mark, and picks an item by the keyboard."""
    mark = next(b for b in window.findChildren(QPushButton) if b.property("mark"))
    menu = mark.menu()
    (action,) = [a for a in menu.actions() if a.text() == words]
    menu.popup(mark.mapToGlobal(mark.rect().bottomLeft()))
    menu.setActiveAction(action)
    QTest.keyClick(menu, Qt.Key.Key_Return)


def test_a_report_is_saved_with_names_or_without(known, open_window, tmp_path):
    window, hands = open_window(known)
    answers = [str(tmp_path / "one.json"), "", str(tmp_path / "nowhere/two.json")]
    window._report.ask = lambda: answers.pop(0)
    choose_from_menu(window, "Save a report for the makers…")
    hands.wait(lambda: "nothing is sent" in panel_text(window), "the page")
    box = next(b for b in window.panel.findChildren(QCheckBox) if "Leave names" in b.text())
    box.setFocus()
    QTest.keyClick(box, Qt.Key.Key_Space)
    hands.press("Save the report…")
    hands.wait(lambda: "The report is saved" in panel_text(window), "it is saved")
    assert json.loads((tmp_path / "one.json").read_text())["names"] is False
    assert "heron" not in (tmp_path / "one.json").read_text()
    hands.press("Back")
    hands.wait(lambda: "The report is saved" not in panel_text(window), "the shelves again")
    choose_from_menu(window, "Save a report for the makers…")
    hands.press("Save the report…")
    assert "A report for the makers" in panel_text(window), "the dialog was closed"
    hands.press("Save the report…")
    hands.wait(lambda: "It was not saved" in panel_text(window), "why not")
    assert "nowhere" in panel_text(window) and list(tmp_path.glob("nowhere*")) == []
