"""Looking for libraries in the window: from the first start to the shelf, by hand and by keys."""

import random
from pathlib import Path

import pytest
from PyQt6.QtCore import QMimeData, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication

from fascis.desktop.window import LOOK
from tests.desktop.test_copies import shows
from tests.judge import contents
from tests.library.making import timeline, write
from tests.looking.homes import clips, film, loose_film, photos, playlist, scans


@pytest.fixture(autouse=True)
def only_the_home(home, monkeypatch):
    """Other tests may have mounted drives at the same time, with libraries on them."""
    there = "fascis.desktop.look.controller.usual_folders"
    monkeypatch.setattr(there, lambda _workspace: [home])


def looked(window, hands):
    hands.wait(lambda: window.looking._looked is not None, "it was looked")
    return window.look


def on_shelf(bench):
    return {one.root for one in bench.workspace.register.libraries()}


def test_from_the_first_start_to_the_shelf(open_window, bench, home):
    made = {film(home, "Weir", random.Random(1)), playlist(home, "Otter", random.Random(2))}
    database = scans(home, "Mill", random.Random(3))
    photos(home, random.Random(4))
    before = contents(home)
    window, hands = open_window(bench)
    for words in ("Look for libraries on this machine", "Add a folder…", "Try it with the demo"):
        hands.wait(lambda words=words: hands.button(words) is not None, words)
    hands.press("Look for libraries on this machine")
    view = looked(window, hands)
    assert window.place == LOOK and {one.root for _, one in view.boxes} == made | {database}
    # A library shown only by a document of unknown make is offered, and not ticked.
    assert {one.root for one in view.wanted()} == made
    hands.press("Put 2")
    hands.wait(lambda: window.place == 0 and window.shelves.selected is not None, "the shelf")
    assert on_shelf(bench) == made and window.shelves.selected.root in made
    assert contents(home) == before
    window.look_for_libraries()
    view = looked(window, hands)
    hands.wait(lambda: hands.button("Back to the shelves") is not None, "nothing to put there")
    known = {one.root for box, one in view.boxes if not box.isEnabled()}
    assert known == made and hands.button("Put") is None


def test_by_keys_alone_in_few_strokes(open_window, bench, home):
    root = film(home, "Weir", random.Random(5))
    window, hands = open_window(bench)
    hands.wait(lambda: hands.button("Look for libraries") is not None, "the first way")
    window.activateWindow()
    QTest.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    view = looked(window, hands)
    hands.wait(lambda: QApplication.focusWidget() is view.boxes[0][0], "the first box has it")
    QTest.keyClick(view.boxes[0][0], Qt.Key.Key_Space)
    hands.wait(lambda: hands.button("Put") is None, "nothing is ticked")
    assert view.wanted() == []
    QTest.keyClick(view.boxes[0][0], Qt.Key.Key_Space)
    hands.wait(lambda: hands.button("Put 1") is not None, "it is ticked")
    QTest.keyClick(window, Qt.Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    hands.wait(lambda: on_shelf(bench) == {root}, "it is on the shelf")


def test_what_is_big_is_seen_closer_and_put_on_the_shelf(open_window, bench, home):
    root = loose_film(home, "Heron", random.Random(6))
    photos(home, random.Random(7))
    window, hands = open_window(bench)
    window.looking.begin("Home", [home])
    window.go_to(LOOK)
    view = looked(window, hands)
    band = view.bands[0]
    names = [block.words for block in band.blocks]
    assert sorted(names) == ["Desktop", "Film", "Pictures"]
    QTest.mouseClick(band, Qt.MouseButton.LeftButton, pos=band.point_of("Pictures").toPoint())
    shows(window, hands, "Pictures", "12 files", "Takes")
    QTest.keyClick(band, Qt.Key.Key_Return)
    hands.wait(lambda: len(view.bands) == 2, "what lies in it")
    assert [block.words for block in view.bands[1].blocks] == ["Phone"]
    QTest.keyClick(view.bands[1], Qt.Key.Key_Backspace)
    hands.wait(lambda: len(view.bands) == 1, "back")
    shows(window, hands, "Pictures")
    hands.press("It is a library")
    hands.wait(lambda: on_shelf(bench) == {home / "Pictures"}, "it is on the shelf")
    assert Path(root).exists()


def test_stopped_it_goes_back_to_the_shelves(open_window, bench, home, monkeypatch):
    film(home, "Weir", random.Random(8))
    window, hands = open_window(bench)
    monkeypatch.setattr(
        "fascis.desktop.look.controller.look",
        lambda _workspace, _where, control, _tell: [control.checkpoint() for _ in iter(int, 1)],
    )
    hands.press("Look for libraries on this machine")
    shows(window, hands, "Looking", "Nothing is written there")
    hands.press("Cancel")
    hands.wait(lambda: window.place == 0, "the shelves")
    assert not window.looking.running and on_shelf(bench) == set()


def test_nothing_found_says_what_to_do(open_window, bench, home):
    photos(home, random.Random(9))
    window, hands = open_window(bench)
    hands.press("Look for libraries on this machine")
    view = looked(window, hands)
    hands.wait(lambda: "No libraries found" in view._found.text(), "it says so")
    shows(window, hands, "Pictures")


def drop(window, path):
    """What a file manager does when a folder is dragged onto the shelves."""
    mime = QMimeData()
    mime.setUrls([QUrl.fromLocalFile(str(path))])
    at = QPointF(window.shelves.width() / 2, 60)
    for kind, event in (
        (QDragEnterEvent, window.shelves.dragEnterEvent),
        (QDragMoveEvent, window.shelves.dragMoveEvent),
        (QDropEvent, window.shelves.dropEvent),
    ):
        where = at if kind is QDropEvent else at.toPoint()
        made = kind(
            where, Qt.DropAction.CopyAction, mime, Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )  # fmt: skip
        event(made)
        assert made.isAccepted()


def test_a_folder_that_is_dropped_goes_on_the_shelf(open_window, bench, home):
    root = film(home, "Weir", random.Random(10))
    window, hands = open_window(bench)
    drop(window, root)
    hands.wait(lambda: on_shelf(bench) == {root}, "it is on the shelf")
    assert window.place == 0


def test_one_that_holds_several_shows_these(open_window, bench, home):
    one, other = home / "Jobs/Weir", home / "Jobs/Otter"
    for n, root in enumerate((one, other)):
        files = clips(root, random.Random(n), 3)
        write(root / "cut.otio", timeline(*(f.name for f in files)))
    window, hands = open_window(bench)
    drop(window, home / "Jobs")
    view = looked(window, hands)
    hands.wait(lambda: window.place == LOOK, "they are shown")
    assert {found.root for found in view.wanted()} == {one, other}
    hands.press("Put 2")
    hands.wait(lambda: on_shelf(bench) == {one, other}, "both are on the shelf")


def test_a_document_that_is_dropped_is_a_library_by_itself(open_window, bench, home):
    root = film(home, "Weir", random.Random(11))
    document = next(root.rglob("*.otio"))
    window, hands = open_window(bench)
    drop(window, document)
    hands.wait(lambda: on_shelf(bench) == {document}, "it is on the shelf")


def test_closed_during_a_search_nothing_continues(open_window, bench, home, monkeypatch):
    window, hands = open_window(bench)
    given = []

    def looks(_workspace, _where, control, _tell):
        given.append(control)
        while True:
            control.checkpoint()

    monkeypatch.setattr("fascis.desktop.look.controller.look", looks)
    hands.press("Look for libraries on this machine")
    hands.wait(lambda: bool(given), "it looks")
    window.close()
    assert given[0].stopped and window.planning.learning._proposing.stopped
