"""The view Strands, by pointer and keyboard on the real window."""

import hashlib

import numpy as np
import pytest
from PyQt6.QtCore import QPoint, Qt
from PyQt6.QtGui import QImage
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QCheckBox, QFileDialog

from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.sentence import Choice
from fascis.crossing.scope.surveyed import survey_library
from fascis.desktop.kit.previews import picture_of
from fascis.desktop.strands.ledger import chosen_rows
from fascis.desktop.strands.ribbons import LEAST_OUT, lay_out
from fascis.desktop.strands.woven import weave
from fascis.library.standing import STANDINGS, Standing
from tests.desktop.conftest import register
from tests.library.making import picture, timeline, write

Key = Qt.Key
Click = Qt.MouseButton.LeftButton


@pytest.fixture
def weir(bench):
    """Two projects with shared media, loose music, a missing clip, proxies, an unused clip."""
    lib = bench.library
    for place, size in (("media/Day 01/crest.mov", 40_000), ("media/Day 01/spare.mov", 9_000),
    ("media/Day 02/breach.mov", 30_000),
                        ("proxies/crest.mov", 700)):  # fmt: skip
        write(lib / place, b"x" * size)
    write(lib / "media/Stills/heron.jpg", picture("JPEG"))
    write(bench.drives / "inside/Music/theme.wav", b"m" * 20_000)
    write(
        lib / "timelines/Feature.otio",
        timeline(
            "../media/Day 01/crest.mov",
            "../media/Day 02/breach.mov",
            f"{bench.drives}/inside/Music/theme.wav",
            # fmt: skip
            "../media/Day 04/gone.mov",
            "../media/Stills/heron.jpg",
        ),
    )
    write(lib / "timelines/Teaser.otio", timeline("../media/Day 02/breach.mov"))
    return register(bench)


@pytest.fixture
def opened(weir, open_window):
    """The window with the library's strands open, opened by Enter on its shelf."""
    window, hands = open_window(weir)
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.hasFocus(),
        "focus on the library",
    )
    QTest.keyClick(window.shelves, Key.Key_Return)
    hands.wait(lambda: window.drafting.woven is not None and window.place == 3, "the strands")
    hands.wait(lambda: window.strands.ledger.shown_rows == len(window.drafting.woven), "the ledger")
    return window, hands


def files(window):
    ledger = window.strands.ledger
    return [ledger.model_.index(r, 1).data() for r in range(ledger.shown_rows)]


def cells(window, row):
    model = window.strands.ledger.model_
    return [model.index(row, c).data() for c in range(model.columnCount())]


def click(window, words, **more):
    bundle = window.strands.bundle
    QTest.mouseClick(bundle, Click, pos=bundle.point_of(words).toPoint(), **more)


def box(window, starts):
    return next(
        b
        for b in window.panel.findChildren(QCheckBox)
        if b.isVisible() and b.text().startswith(starts)
    )


def test_every_standing_is_drawn_and_listed(opened):
    window, _ = opened
    layout = window.strands.bundle.layout_
    assert [b.words for b in layout.bars] == ["in its folder", "outside, on inside", "not found"]
    assert {e.words: e.quiet for e in layout.rights}["Footage, sound, stills"].endswith("1 missing")
    assert {e.words: e.quiet for e in layout.lefts}["Day 04"] == "1 missing"
    assert cells(window, 0) == [
        "missing",
        "gone.mov",
        "not known",
        "was in media/Day 04",
        "Feature",
        "nothing to copy",
    ]
    assert cells(window, 1) == [
        "loose",
        "theme.wav",
        "20.0\u00a0kB",
        "inside · Music",
        "Feature",
        "media/Music",
    ]
    said = [b.text() for b in window.strands.ledger._chips.values()]
    assert said == ["Everything 9", "held 5", "loose 1", "away 0", "missing 1", "unused 2"]


def test_choosing_a_strand_shows_just_its_files(opened):
    window, hands = opened
    click(window, "media/Day 01")
    hands.wait(lambda: files(window) == ["crest.mov"], "the files of one strand")
    click(window, "media/Day 02", modifier=Qt.KeyboardModifier.ShiftModifier)
    hands.wait(lambda: set(files(window)) == {"crest.mov", "breach.mov"}, "those of two")
    QTest.keyClick(window.strands.bundle, Key.Key_Escape)
    hands.wait(lambda: window.strands.ledger.shown_rows == 9, "everything again")
    QTest.keyClick(window.strands.bundle, Key.Key_Down)
    hands.wait(lambda: 0 < window.strands.ledger.shown_rows < 9, "the first by the arrow key")


def test_a_rubber_band_chooses_what_it_touches(opened):
    window, hands = opened
    bundle = window.strands.bundle
    start = QPoint(bundle.width() // 2 - 60, 26)
    QTest.mousePress(bundle, Click, pos=start)
    QTest.mouseMove(bundle, start + QPoint(20, 60))
    QTest.mouseMove(bundle, start + QPoint(40, bundle.height() - 60))
    QTest.mouseRelease(bundle, Click, pos=start + QPoint(40, bundle.height() - 60))
    hands.wait(lambda: len(bundle.selected) >= 4, "several strands")


def test_filter_search_and_sort(opened):
    window, hands = opened
    ledger = window.strands.ledger
    QTest.mouseClick(ledger._chips[Standing.UNUSED], Click)
    hands.wait(lambda: set(files(window)) == {"spare.mov", "crest.mov"}, "the unused")
    QTest.mouseClick(ledger._chips[None], Click)
    window.strands.bundle.setFocus()
    QTest.keyClick(window.strands.bundle, "/")
    assert ledger.search.hasFocus()
    QTest.keyClicks(ledger.search, "HERON")
    hands.wait(lambda: files(window) == ["heron.jpg"], "the heron")
    QTest.keyClicks(ledger.search, "s and salmon")
    hands.wait(
        lambda: ledger._none.isVisible() and "herons and salmon" in ledger._none.text().lower(),
        "that there is none",
    )
    ledger.search.clear()
    hands.wait(lambda: ledger.shown_rows == 9 and ledger.table.isVisible(), "everything")
    header = ledger.table.horizontalHeader()
    for first in ("gone.mov", "crest.mov"):
        QTest.mouseClick(header.viewport(), Click, pos=QPoint(header.sectionPosition(2) + 20, 8))
        hands.wait(lambda name=first: files(window)[0] == name, f"sorted by size: {first} first")


def test_space_takes_a_strand_out_and_in_and_the_plan_follows(opened):
    window, hands = opened
    whole = window.drafting.plan.totals.bytes
    click(window, "Music")
    QTest.keyClick(window.strands.bundle, Key.Key_Space)
    hands.wait(
        lambda: window.drafting.plan.totals.bytes == whole - 20_000, "the plan without the music"
    )
    hands.wait(lambda: cells(window, 0)[5] == "stays", "and the ledger says so")
    assert "everything but 1\xa0strand" in hands.sentence().accessibleName()
    QTest.keyClick(window.strands.bundle, Key.Key_Space)
    hands.wait(lambda: window.drafting.plan.totals.bytes == whole, "in again")


def test_boxes_of_the_plan_recompute_at_once(opened):
    window, hands = opened
    whole = window.drafting.plan.totals.files
    hands.open(Choice.ALONG)
    for words, files_ in (("Loose media", 1), ("Unused", 1), ("Proxies", 1)):
        hands.tick(words)
        whole -= files_
        hands.wait(lambda n=whole: window.drafting.plan.totals.files == n, f"without {words}")
    assert window.drafting.plan.gathering.items == [] and not box(window, "Unused").isChecked()


def test_missing_media_must_be_decided_before_the_start(opened):
    window, hands = opened
    assert window.panel.main.text() == "1\xa0decision first" and hands.button("Start") is None
    hands.press("1\xa0decision first")
    assert QApplication.focusWidget().text() == "Find them"
    hands.decide()
    hands.press("Start the crossing")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert window.conducting.current.state is State.SETTLED and window.conducting.steps.balance.even
    table = window.crossings.checks
    said = [table.item(r, 0).text() for r in range(table.rowCount())]
    assert any(s.startswith("References, followed at the new place") for s in said)
    assert not window._library.isVisible(), "there is no plan any more"


def test_the_right_side_can_tell_projects(opened):
    window, _ = opened
    bundle = window.strands.bundle
    QTest.mouseClick(bundle, Click, pos=bundle.switch_point.toPoint())
    assert {e.words for e in bundle.layout_.rights} >= {
        "Feature",
        "Feature, Teaser",
        "Used by nothing",
    }
    QTest.mouseClick(bundle, Click, pos=bundle.switch_point.toPoint())
    assert "Footage, sound, stills" in {e.words for e in bundle.layout_.rights}


def test_the_chosen_file_has_a_picture_or_says_why_not(opened):
    window, hands = opened
    ledger = window.strands.ledger

    def point_at(name):
        row = files(window).index(name)
        QTest.mouseClick(
            ledger.table.viewport(),
            Click,
            pos=ledger.table.visualRect(ledger.model_.index(row, 1)).center(),
        )

    point_at("heron.jpg")
    hands.wait(lambda: window.strands.has_picture, "the heron")
    for name, words in (("gone.mov", "not here"), ("crest.mov", "No picture")):
        point_at(name)
        hands.wait(lambda w=words: w in window.strands._picture.text(), name)


def test_hovering_shows_figures(opened):
    window, _ = opened
    bundle = window.strands.bundle
    said = bundle.words_of(bundle._strands_at(bundle.point_of("Music")))
    assert (
        "Music" in said
        and "loose: outside its folder" in said
        and "20\u00a0000\u00a0bytes" in said
        and "goes along" in said
    )


def test_a_library_that_cannot_be_planned_anywhere_does_not_open(weir, open_window):
    weir.add_drive("heron", connected=False)
    weir.again()
    window, hands = open_window(weir)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    QTest.keyClick(window.shelves, Key.Key_Return)
    QTest.keyClick(window, Key.Key_4, Qt.KeyboardModifier.ControlModifier)
    QTest.qWait(300)
    assert window.place == 0 and hands.button("See its strands") is None


def test_three_hundred_strands_fit_and_nothing_is_lost(bench):
    for i in range(300):
        write(bench.library / f"media/Day {i:03}/a.mov", b"x" * (1 + i * 7))
    write(bench.library / "list.m3u8", b"media/Day 000/a.mov")
    surveyed = survey_library(bench.workspace, bench.library)
    woven = weave(
        surveyed,
        make_plan(bench.workspace, surveyed, bench.heron, Choices()),
        bench.workspace.drives,
    )
    layout = lay_out(woven, 500, False)
    assert layout.lefts[-1].end < 500 and layout.rights[-1].end < 500
    drawn = [i for r in layout.ribbons for i in r.strands]
    assert sorted(drawn) == list(range(len(woven.strands))) and all(
        r.thick >= LEAST_OUT for r in layout.ribbons
    )
    assert sum(r.bytes for r in layout.ribbons) == int(woven.size.sum())


def test_filters_leave_exactly_what_they_say(weir):
    surveyed = survey_library(weir.workspace, weir.library)
    woven = weave(surveyed, None, weir.workspace.drives)
    for standing in STANDINGS:
        rows = chosen_rows(woven, [], standing, "", None)
        assert len(rows) == woven.counts()[standing][0]
        assert np.all(woven.standing[rows] == STANDINGS.index(standing))
    for column in range(6):
        up, down = (chosen_rows(woven, [], None, "", (column, d)).tolist() for d in (False, True))
        assert up == down[::-1] and sorted(up) == list(range(len(woven)))


def test_what_is_missing_and_what_is_away_are_distinguished_by_more_than_words(weir):
    away = f"{weir.drives}/heron/Sound/rain.wav"
    write(weir.library / "timelines/Rain.otio", timeline(away))
    weir.add_drive("heron", connected=False)
    weir.again()
    surveyed = survey_library(weir.workspace, weir.library)
    woven = weave(surveyed, None, weir.workspace.drives)
    lefts = lay_out(woven, 500, False).lefts
    lost = {
        end.missing: {STANDINGS[int(s)] for s in woven.standing[np.isin(woven.strand, end.strands)]}
        for end in lefts
        if end.quiet
    }
    assert lost == {True: {Standing.MISSING}, False: {Standing.AWAY}}


def test_a_single_document_is_a_library_in_the_window_too(bench, open_window):
    document = write(bench.drives / "inside/Desktop/list.m3u8", b"a.jpg\n")
    write(document.parent / "a.jpg", picture("JPEG"))
    write(document.parent / "none of its business.jpg")
    window, hands = open_window(bench)
    window.planning.add_library(document)  # the file dialog's answer
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.selected.root == document,
        "the document",
    )
    window.shelves.setFocus()
    QTest.keyClick(window.shelves, Key.Key_Return)
    hands.wait(lambda: window.drafting.woven is not None, "its strands")
    hands.wait(lambda: sorted(files(window)) == ["a.jpg", "list.m3u8"], "its files alone")
    QTest.keyClick(window, Key.Key_Return, Qt.KeyboardModifier.ControlModifier)
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert (bench.heron / "list/a.jpg").exists() and len(list(document.parent.iterdir())) == 3


def test_the_desktop_s_own_thumbnail_is_used_while_it_is_of_this_file(tmp_path):
    photo = write(tmp_path / "heron & co.jpg", picture("JPEG"))
    place = (
        tmp_path
        / "cache/thumbnails/large"
        / (hashlib.md5(photo.as_uri().encode()).hexdigest() + ".png")
    )
    place.parent.mkdir(parents=True)
    mine = QImage(77, 50, QImage.Format.Format_RGB32)
    for when, width in ((int(photo.stat().st_mtime), 77), (1, 40)):
        mine.setText("Thumb::MTime", str(when))
        mine.save(str(place))
        assert picture_of(photo, tmp_path / "cache").width() == width, "an older one is not taken"


def test_a_catalog_is_made_and_extended_from_the_menu(bench, open_window, monkeypatch):
    folder = bench.drives / "inside/Pictures"
    write(folder / "a.jpg", picture("JPEG"))
    write(bench.drives / "inside/phone/b.jpg", picture("JPEG"))
    window, hands = open_window(bench)
    dialogs = iter([str(folder), str(bench.drives / "inside/phone")])
    monkeypatch.setattr(QFileDialog, "getExistingDirectory", lambda *_: next(dialogs))
    monkeypatch.setattr(
        QFileDialog, "getSaveFileName", lambda *_: (str(folder / "Bell.fascat"), "")
    )
    menu = {a.text(): a for a in window._menu().actions()}
    menu["New catalog over a folder of photos…"].trigger()
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.selected.root == folder,
        "the catalog",
    )
    menu["Add photos to the chosen catalog…"].trigger()
    hands.wait(
        lambda: len(list(folder.glob("Bell.fascat*"))) == 2, "the new one and the one before"
    )
    hands.wait(
        lambda: window.shelves.selected is not None and window.shelves.selected.summary is not None,
        "looked at",
    )
    assert window.shelves.selected.kind == "photo catalog"
