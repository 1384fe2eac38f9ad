"""The view Relink, by pointer and keyboard on the real window."""

import os
import shutil

import pytest
from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt, QUrl
from PyQt6.QtGui import QDragEnterEvent, QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QFileDialog, QLabel

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State as CrossingState
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.crossing.status.taken import taken_away
from fascis.desktop.kit import theme
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.relink.lost import Lost
from fascis.relink.outcome import State
from tests.judge import contents
from tests.library.making import picture, timeline, write

Key = Qt.Key
Click = Qt.MouseButton.LeftButton
Ctrl = Qt.KeyboardModifier.ControlModifier


@pytest.fixture
def weir(bench):
    """Five clips in a folder that was renamed, and a still of which two are found."""
    lib, inside = bench.library, bench.drives / "inside"
    for n in range(5):
        write(inside / f"Footage/Day 04/clip {n}.mov", b"f" * (n + 10))
    still = picture("BMP")
    write(inside / "Scans/heron.bmp", still)
    write(lib / "media/held.mov", b"h" * 5)
    paths = [
        *(str(inside / f"Footage/Day 04/clip {n}.mov") for n in range(5)),
        str(inside / "Scans/heron.bmp"),
        "media/held.mov",
    ]
    write(lib / "Feature.otio", timeline(*paths))
    write(lib / "Teaser.otio", timeline(paths[0]))
    write(bench.drives / "inside/Otters/Otters.otio", timeline(paths[2]))
    for root in (lib, bench.drives / "inside/Otters"):
        remember(bench.workspace, survey_library(bench.workspace, root))
    (inside / "Footage/Day 04").rename(inside / "Footage/Day 04, weir")
    (inside / "Scans/heron.bmp").unlink()
    write(inside / "Scans 2024/heron.bmp", still)
    write(inside / "Old/heron.bmp", bytes(255 - b if i > 60 else b for i, b in enumerate(still)))
    remember(bench.workspace, survey_library(bench.workspace, lib))
    return bench


@pytest.fixture
def opened(weir, open_window):
    window, hands = open_window(weir)
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.hasFocus(),
        "focus on the library",
    )
    QTest.keyClick(window, Key.Key_5, Ctrl)
    found(window, hands, 5)
    return window, hands


def found(window, hands, files):
    relinks = window.relinks
    hands.wait(
        lambda: (
            relinks.outcome is not None
            and relinks.looking is None
            and not relinks.busy
            and relinks.found == files
        ),
        f"{files} found",
    )


def words(window):
    return [x.text() for x in window.findChildren(QLabel) if x.isVisible()]


def missing(bench):
    return len(survey_library(bench.workspace, bench.library).uses.of(Standing.MISSING))


def test_a_whole_relinking_by_keyboard_and_its_undo(weir, opened):
    window, hands = opened
    before = contents(weir.library)
    assert {"6 lost", "5 found", " · 1 to decide"} <= set(words(window))
    assert [r.words for r in window.relink.ties.layout_.ribbons] == ["5 tied", "1 to decide"]
    assert any("explains 5, nothing against it" in w for w in words(window))
    assert "1 2 choose · 0 none of them · N next" in window._foot.text()
    hands.wait(lambda: all(t.has_picture for t in window.relink.tiles[1:3]), "pictures")
    right = next(n for n, t in enumerate(window.relink.tiles) if "Scans 2024" in t.lines)
    assert "bytes =" in window.relink.tiles[right].lines
    QTest.keyClick(window.relink, str(right))
    found(window, hands, 6)
    assert window.relink._question.isHidden()
    QTest.keyClick(window, Key.Key_Return, Ctrl)
    hands.wait(lambda: window.relinks.act is not None and not window.relinks.busy, "the act")
    hands.wait(lambda: "Nothing is lost" in words(window), "nothing lost any more")
    assert missing(weir) == 0 and any(
        "6\u00a0files in 2\u00a0documents" in w for w in words(window)
    )
    hands.press("Undo")
    found(window, hands, 6)
    assert contents(weir.library) == before, "and what was decided is still decided"


def test_cards_are_accepted_and_refused_and_undone(weir, opened):
    window, hands = opened
    hands.press("Refuse")
    found(window, hands, 0)
    assert " · 6 to decide" in words(window)
    QTest.keyClick(window.relink, Key.Key_Z)
    found(window, hands, 5)
    hands.press("Accept")
    hands.wait(lambda: "Accepted" in words(window), "the card says so")
    assert window.relinks.moves()[0].accepted
    hands.press("Otters lost 1")
    hands.wait(
        lambda: window.relinks.root.name == "Otters" and window.relinks.outcome is not None,
        "the other library",
    )
    found(window, hands, 1)
    assert window.relinks.moves()[0].accepted, "the same word counts there"


def test_questions_are_passed_over_and_answered_with_none(weir, opened):
    window, hands = opened
    window.relink.tiles[-1].setFocus()
    QTest.keyClick(window.relink.tiles[-1], Key.Key_Space)
    hands.wait(lambda: window.relinks.outcome.match.files(State.LEFT) == 1, "none of them")
    assert " · 1 found nowhere" in words(window)
    QTest.keyClick(window, Key.Key_Z, Ctrl)
    hands.wait(lambda: len(window.relinks.outcome.open) == 1, "asked again")
    QTest.keyClick(window.relink, Key.Key_N)
    QTest.keyClick(window.relink, "7")
    assert window.relinks.current is not None, "there is no seventh"
    QTest.mouseClick(window.relink.tiles[1], Click)
    found(window, hands, 6)


def test_the_plan_offers_it_first_and_the_copy_alone_can_be_relinked(weir, opened):
    window, hands = opened
    before = contents(weir.library)
    QTest.keyClick(window, Key.Key_1, Ctrl)
    window.shelves.setFocus()
    QTest.keyClick(window.shelves, Key.Key_Return)
    hands.wait(lambda: window.drafting.plan is not None and window.place == 3, "the strands")
    hands.press("Find them")
    found(window, hands, 5)
    hands.choose("only the copy")
    hands.press("Plan a crossing with 5")
    hands.wait(
        lambda: window.drafting.plan is not None and len(window.drafting.plan.gathering.items) == 5,
        "the plan",
    )
    hands.decide()
    hands.press("Start the crossing")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    crossing = window.conducting.current
    assert crossing.state is CrossingState.SETTLED and contents(weir.library) == before
    there = survey_library(weir.workspace, crossing.target).uses
    assert {os.path.basename(o.path) for o in there.of(Standing.MISSING)} == {
        b"heron.bmp"
    } and not there.of(Standing.LOOSE)


def test_a_dropped_folder_is_searched_and_a_dropped_file_is_the_one(weir, opened):
    window, hands = opened

    def drop(path):
        mime = QMimeData()
        mime.setUrls([QUrl.fromLocalFile(str(path))])
        more = (Qt.DropAction.CopyAction, mime, Click, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(window.relink, QDragEnterEvent(QPoint(50, 50), *more))
        QApplication.sendEvent(window.relink, QDropEvent(QPointF(50, 50), *more))

    drop(weir.heron)
    hands.wait(lambda: weir.heron in window.relinks.indexes, "the folder")
    found(window, hands, 5)
    drop(weir.drives / "inside/Scans 2024/heron.bmp")
    found(window, hands, 6)
    assert window.relinks.outcome.match.ties()[
        os.fsencode(weir.drives / "inside/Scans/heron.bmp")
    ].endswith(b"Scans 2024/heron.bmp")


def test_a_folder_that_is_gone_is_reported_and_the_rest_stays(weir, opened, monkeypatch):
    window, hands = opened
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: str(weir.heron / "gone"))
    hands.press("Look in another folder")
    hands.wait(
        lambda: any("Could not look in the folder" in w for w in words(window)), "the sentence"
    )
    found(window, hands, 5)
    monkeypatch.setattr(
        QFileDialog, "getOpenFileName", lambda *_: (str(weir.drives / "inside/Old/heron.bmp"), "")
    )
    hands.press("Show where one file is")
    found(window, hands, 6)


def test_a_read_only_document_is_reported_before_anything_is_written(weir, opened):
    window, hands = opened
    (weir.library / "Teaser.otio").chmod(0o444)
    before = contents(weir.library)
    hands.press("Relink 5")
    hands.wait(
        lambda: any("Teaser.otio may not be written" in w for w in words(window)), "the sentence"
    )
    assert contents(weir.library) == before and window.panel.main.isEnabled()


def test_it_is_shown_in_dusk_and_at_the_smallest_size(weir, opened):
    window, hands = opened
    window.set_theme("Dusk")
    window.resize(1100, 700)
    hands.wait(
        lambda: window.relink.width() < 800 and theme.active() is theme.DUSK,
        "the small dark window",
    )
    assert window.relink.ties.layout_.lefts[0].words == "Footage/Day 04"
    window.set_theme("Linen")
    assert "Footage/Day 04: 5 tied" in window.relink.ties.accessibleDescription()


def test_nothing_lost_says_so(bench, open_window):
    write(bench.library / "media/a.mov", b"1")
    write(bench.library / "Feature.otio", timeline("media/a.mov"))
    remember(bench.workspace, survey_library(bench.workspace, bench.library))
    window, hands = open_window(bench)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    QTest.keyClick(window, Key.Key_5, Ctrl)
    hands.wait(lambda: "Nothing is lost" in words(window), "nothing is lost")
    assert window.panel.main is None


def test_what_fascis_took_away_is_found_in_its_copy_first(weir, open_window):
    """Another library used clips of one that crossed; the copy is searched first."""
    footage = weir.drives / "inside/Footage/Day 04, weir"
    plan = make_plan(weir.workspace, survey_library(weir.workspace, footage), weir.heron, Choices())
    crossing = Crossing.start(weir.workspace, plan, decided=True)
    crossing.run()
    crossing.looked()
    crossing.switch()
    crossing.close()
    shutil.rmtree(footage)  # by hand: Fascis would have kept what others use
    window, hands = open_window(weir)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    window._relink(weir.library)
    found(window, hands, 5)
    assert any("Fascis took 5 of them to heron" in w.replace("\xa0", " ") for w in words(window))
    assert window.relinks.folders[0] == weir.heron / "Day 04, weir"
    where = bytes(footage)
    never = Lost(where + b"/never.mov", b"never.mov", where, Standing.MISSING, Role.ORIGINAL)
    assert taken_away(weir.workspace, [never]) == [], "what did not cross was not taken"
