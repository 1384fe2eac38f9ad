"""Documents of unknown make in the window: read, confirmed, and then understood."""

import random
import sqlite3
from contextlib import closing

import pytest
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QPushButton

from fascis.crossing.scope.surveyed import remember, survey_library
from tests.desktop.test_copies import choose, said, shows
from tests.judge import contents
from tests.learned.styles import STYLES, media
from tests.library.making import timeline, write


def of(name):
    return next(s for s in STYLES if s.name == name)


def library(bench, *styles):
    """A library with a timeline, and documents of some styles that share no media."""
    write(bench.library / "cut.otio", timeline("media/weir.mov"))
    write(bench.library / "media/weir.mov", b"w" * 700)
    documents = []
    for n, style in enumerate(styles):
        numbers = random.Random(n)
        root = bench.library / f"Media {n}"
        files = media(root, numbers, 8)
        document = bench.library / f"{style.name.split(',')[0]}.{style.ending}"
        style.write(document, files, str(root), numbers)
        documents.append(document)
    remember(bench.workspace, survey_library(bench.workspace, bench.library))
    return documents


def test_it_is_read_with_examples_and_a_yes_makes_it_understood(open_window, bench):
    document, other = library(bench, of("root, folder, name"), of("XML attributes"))
    before = contents(bench.drives)
    window, hands = open_window(bench)
    choose(window, hands, bench.library)
    shows(window, hands, "2 documents not understood")
    hands.press("Read what is not understood…")
    shows(window, hands, document.name, other.name, "8 of 8 paths that it keeps were found")
    hands.press(f"Read {document.name}…")
    shows(window, hands, "in 3 parts", "8 of 8 lead to media", "Are these the places")
    assert contents(bench.drives) == before
    hands.press("Yes, these are the places")
    shows(window, hands, "1 document is not understood", other.name)
    assert document.name not in said(window)
    hands.press(f"Read {other.name}…")
    shows(window, hands, "where", "Are these the places")
    hands.press("Yes, these are the places")
    hands.wait(lambda: "not understood" not in said(window), "both understood")
    assert contents(bench.drives) == before
    uses = survey_library(bench.workspace, bench.library).uses
    assert uses.not_understood == [] and sum(d.references for d in uses.documents) == 17


@pytest.mark.parametrize("leave", [True, False])
def test_two_places_that_say_the_same_are_asked_for(open_window, bench, leave):
    (document,) = library(bench, of("two whole paths"))
    window, hands = open_window(bench)
    choose(window, hands, bench.library)
    hands.press("Read what is not understood…")
    hands.press(f"Read {document.name}…")
    shows(window, hands, "Two places say the same")
    if leave:
        hands.press("I don't know: leave it as it is")
        shows(window, hands, document.name, "what it refers to is not known")
    else:
        hands.press("It follows b")
        hands.wait(lambda: "not understood" not in said(window), "it is understood")
    uses = survey_library(bench.workspace, bench.library).uses
    assert bool(uses.not_understood) == leave


def test_what_is_refused_says_why_and_offers_no_yes(open_window, bench):
    (document,) = library(bench, of("whole paths"))
    with closing(sqlite3.connect(document)) as db:
        db.executescript(
            "CREATE TABLE seen(t TEXT); CREATE TRIGGER t AFTER UPDATE OF w ON item BEGIN "
            "INSERT INTO seen VALUES(new.w); END"
        )
    window, hands = open_window(bench)
    choose(window, hands, bench.library)
    hands.press("Read what is not understood…")
    hands.press(f"Read {document.name}…")
    shows(window, hands, "It stays as it is", "would run something")
    assert "Are these the places" not in said(window)
    hands.press("Back")
    shows(window, hands, document.name, "would run something")


def test_by_keyboard_alone(open_window, bench):
    (document,) = library(bench, of("JSON bins"))
    window, hands = open_window(bench)
    choose(window, hands, bench.library)
    shows(window, hands, "1 document not understood")

    def press(words):
        """Moves with Tab to the button with this text, and presses it."""
        for _ in range(60):
            here = QApplication.focusWidget()
            if isinstance(here, QPushButton) and here.text().startswith(words):
                QTest.keyClick(here, Qt.Key.Key_Space)
                return
            QTest.keyClick(here or window, Qt.Key.Key_Tab)
        raise AssertionError(f"Tab never came to {words}")

    window.activateWindow()
    window.shelves.setFocus()
    press("Read what is not understood")
    shows(window, hands, document.name, "what it refers to is not known")
    press(f"Read {document.name}")
    shows(window, hands, "Are these the places")
    press("Yes, these are the places")
    hands.wait(lambda: "not understood" not in said(window), "it is understood")


def test_strands_marks_it_and_reads_it_there(open_window, bench):
    document, other = library(bench, of("root, folder, name"), of("JSON bins"))
    window, hands = open_window(bench)
    choose(window, hands, bench.library)
    hands.press("See its strands")
    strands = window.strands
    hands.wait(lambda: strands.isVisible() and strands.ledger.shown_rows > 0, "the strands")
    assert sum(s.unread for s in strands.woven.strands) == 2
    folder = next(e for e in strands.bundle.layout_.lefts if strands.bundle._unread(e.strands))
    assert "2\xa0documents not understood" in strands.bundle.words_of(folder.strands)
    hands.press("not read 2")
    hands.wait(lambda: strands.ledger.shown_rows == 2, "these alone")
    table = strands.ledger.table
    names = [strands.ledger.model_.index(n, 1).data() for n in range(2)]
    assert sorted(names) == sorted([document.name, other.name])
    line = names.index(document.name)
    at = table.visualRect(strands.ledger.model_.index(line, 1)).center()
    QTest.mouseClick(table.viewport(), Qt.MouseButton.LeftButton, pos=at)
    hands.press("Read it…")
    shows(window, hands, document.name, "8 of 8 lead to media", "Are these the places")
    hands.press("Yes, these are the places")
    hands.wait(lambda: sum(s.unread for s in strands.woven.strands) == 1, "one is understood")
    assert strands.isVisible() and window.drafting.draft is not None


def test_a_document_that_is_left_goes_back_to_the_plan(open_window, bench):
    (document,) = library(bench, of("JSON bins"))
    window, hands = open_window(bench)
    choose(window, hands, bench.library)
    hands.press("See its strands")
    hands.press("not read 1")
    strands = window.strands
    hands.wait(lambda: strands.ledger.shown_rows == 1, "it alone")
    at = strands.ledger.table.visualRect(strands.ledger.model_.index(0, 1)).center()
    QTest.mouseClick(strands.ledger.table.viewport(), Qt.MouseButton.LeftButton, pos=at)
    hands.press("Read it…")
    shows(window, hands, "Are these the places")
    hands.press("Leave it as it is")
    shows(window, hands, "not understood")
    assert strands.isVisible()
    assert [p for p, _ in survey_library(bench.workspace, bench.library).uses.not_understood] == [
        document.name.encode()
    ]


def test_what_could_be_read_is_found_without_being_asked_for(open_window, bench):
    library(bench, of("JSON bins"), of("root, folder, name"))
    window, hands = open_window(bench)
    choose(window, hands, bench.library)
    hands.press("Look at it again")
    shows(window, hands, "Fascis found where 2 of them keep their paths")
    assert len(survey_library(bench.workspace, bench.library).uses.not_understood) == 2
