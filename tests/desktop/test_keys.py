"""Keys do what the foot line says, whichever button has the focus; arrow keys leave no view."""

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QLineEdit, QPushButton

Key = Qt.Key


def press(key):
    QTest.keyClick(QApplication.focusWidget(), key)


def focus(window, words):
    """Focuses a button, by its text."""
    buttons = window.findChildren(QPushButton)
    found = next(b for b in buttons if b.isVisible() and b.text().startswith(words))
    found.setFocus(Qt.FocusReason.TabFocusReason)
    return found


@pytest.fixture
def opened(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    return window, hands


@pytest.mark.parametrize("arrow", [Key.Key_Left, Key.Key_Right, Key.Key_Up, Key.Key_Down])
def test_arrows_switch_no_page_and_keep_the_focus(opened, arrow):
    window, _ = opened
    for words in ("Shelves", "Receipts", "Plan the crossing"):
        button = focus(window, words)
        press(arrow)
        assert window.place == 0 and button.hasFocus()


def test_p_pauses_and_continues_from_any_button(opened, known, monkeypatch):
    window, hands = opened
    pressed = []
    monkeypatch.setattr(window.conducting, "pause_or_go_on", lambda: pressed.append(1))
    focus(window, "Plan the crossing")
    press(Key.Key_P)
    window.go_to(1)
    window.crossings.list.setFocus()
    press(Key.Key_P)
    assert len(pressed) == 2
    field = QLineEdit(window)
    field.show()
    field.setFocus()
    press(Key.Key_P)
    assert len(pressed) == 2 and field.text() == "p", "a field takes what is typed"


def test_the_slash_goes_to_the_field_that_finds(opened):
    window, hands = opened
    hands.press("See its strands")
    hands.wait(lambda: window.strands.ledger.shown_rows > 0, "the strands")
    focus(window, "Back")
    press(Key.Key_Slash)
    assert window.strands.ledger.search.hasFocus()
    QTest.keyClicks(QApplication.focusWidget(), "her/on")
    assert window.strands.ledger.search.text() == "her/on"


def test_escape_leaves_view_after_view_and_never_the_window(opened):
    window, hands = opened
    hands.press("See its strands")
    hands.wait(lambda: window.drafting.plan is not None and window.place == 3, "the strands")
    press(Key.Key_Escape)
    hands.wait(lambda: window.place == 0 and window.drafting.plan is None, "the shelves")
    for _ in range(3):
        press(Key.Key_Escape)
    assert window.isVisible() and hands.button("Plan the crossing") is not None
    QTest.keyClick(window.shelves, Key.Key_Space)
    assert window.shelves.picked is not None
    press(Key.Key_Escape)
    assert window.shelves.picked is None
