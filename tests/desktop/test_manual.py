"""The manual: opened from the menu, with its pictures, offline; what it names is in the window."""

import re
import sys
from pathlib import Path

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest

from fascis.desktop import manual

ROOT = Path(__file__).parents[2]
TEXT = (ROOT / "docs/manual.md").read_text()


@pytest.fixture
def opened(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the shelves")
    menu = next(b for b in window.findChildren(type(window._places[0])) if b.menu()).menu()
    next(a for a in menu.actions() if a.text() == "Manual").trigger()
    return window, hands


def test_it_opens_from_the_menu_with_its_chapters_and_pictures(opened):
    window, hands = opened
    hands.wait(lambda: window.manual is not None and window.manual.isVisible(), "the manual")
    page, headings = window.manual.page, window.manual.headings
    chapters = [headings.item(n).text() for n in range(headings.count())]
    assert chapters == re.findall(r"^## (.*)$", TEXT, re.M) and len(chapters) > 10
    headings.setFocus()
    QTest.keyClick(headings, Qt.Key.Key_End)
    hands.wait(lambda: page.verticalScrollBar().value() > 0, "the last chapter")
    assert page.textCursor().block().text() == chapters[-1]
    QTest.keyClick(window.manual, Qt.Key.Key_Escape)
    hands.wait(lambda: not window.manual.isVisible(), "closed")


def test_without_a_manual_the_panel_says_so(known, open_window, monkeypatch):
    monkeypatch.setattr("fascis.desktop.window.manual_folder", lambda: None)
    window, hands = open_window(known)
    window.open_manual()
    hands.wait(lambda: hands.button("Back") is not None, "a sentence")
    assert window.manual is None


def test_every_picture_is_there():
    folder = manual.manual_folder()
    assert folder is not None
    pictures = re.findall(r"\]\((.*?)\)", TEXT)
    assert len(pictures) >= 10
    assert [p for p in pictures if not (folder / p).is_file()] == []


def test_what_it_calls_a_button_is_one():
    """Words in italics that begin with a capital are words of the window."""
    sys.path.insert(0, str(ROOT / "scripts"))
    try:
        import sentences
    finally:
        sys.path.pop(0)
    messages = {m.replace("\n", " ") for _, _, m in sentences.sentences()}
    messages |= {part for m in messages for part in m.split(" | ")}
    flat = {re.sub(r"\{\w+\}", "…", m).rstrip("….") for m in messages}
    named = {n for n in re.findall(r"\*([A-Z][^*\n]+)\*", TEXT) if "·" not in n}
    bold = set(re.findall(r"\*\*([A-Z][^*]+)\*\*", TEXT))
    missing = [n for n in named - bold if not any(_alike(n, m) for m in flat)]
    assert missing == []


def _alike(name, message):
    wanted = [w for w in re.split(r"\s*…\s*", name.rstrip(".")) if w]
    return all(w in message for w in wanted) or name.startswith("Relink")
