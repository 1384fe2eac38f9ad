"""States of the window that are easily forgotten: small, many, long, waiting, repeated."""

import os
import stat

import pytest
from msgspec.structs import replace
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtGui import QFontMetricsF
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QListView

from fascis.crossing.model.events import Advanced, Attention, Entered
from fascis.crossing.model.states import State
from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import elide
from fascis.desktop.kit.tasks import Coalescer
from fascis.desktop.shelves.drawing import drive_words, is_urgent, short_flag, tooltip
from fascis.library.known.shelves import Shelf
from tests.crossing.ways import settled, started
from tests.desktop.test_window import panel_text
from tests.judge import contents


def test_a_long_name_is_elided_in_the_middle_and_whole_on_hover(bench, open_window):
    name = (
        "The Weir Comes Down, second cut with the herons and all of the interviews, final, really"
        + "x" * 60
    )
    bench.library = bench.drives / "inside" / name
    bench.fill({"a.mov": 900_000})
    window, hands = open_window(bench)
    window.planning.add_library(bench.library)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    assert name in tooltip(window.shelves.selected)
    metrics = QFontMetricsF(theme.font(13))
    short = elide(name, metrics, 120)
    assert (
        "…" in short
        and metrics.horizontalAdvance(short) <= 120
        and short[0] == "T"
        and short[-1] == "x"
    )
    hands.wait(lambda: bool(window.shelves._blocks), "painted")
    assert window.panel.width() == 336 and window.width() <= 1400


def test_thousands_of_files_are_listed_before_they_are_deleted(bench, open_window):
    bench.fill({f"day {i % 20:02d}/frame_{i:05d}.jpg": b"%d" % i for i in range(3_000)})
    crossing = settled(bench)
    crossing.looked()
    crossing.switch()
    crossing.close()
    window, hands = open_window(bench)
    window.go_to(1)
    hands.press("Delete")
    hands.wait(lambda: hands.button("Keep them") is not None, "the list")
    view = window.panel.findChild(QListView, options=Qt.FindChildOption.FindChildrenRecursively)
    views = [v for v in window.panel.findChildren(QListView) if v.isVisible()]
    assert view is not None and views[0].model().rowCount() == 3_000
    assert hands.button("Delete 3").text().startswith("Delete 3\u00a0000\u00a0files")
    hands.press("Keep them")
    assert len(list(bench.library.rglob("*.jpg"))) == 3_000


def test_the_smallest_window_holds_everything(known, open_window):
    window, hands = open_window(known)
    window.resize(600, 400)
    assert (window.width(), window.height()) == (900, 520)
    hands.wait(
        lambda: window.panel.main is not None and window.panel.main.isVisible(), "a main button"
    )
    assert window.rect().contains(
        window.panel.main.mapTo(window, window.panel.main.rect().center())
    )


def test_a_waiting_crossing_asks_and_resumes_without(known, open_window):
    notes = known.library / "notes.txt"
    crossing = started(known)
    notes.unlink()
    os.mkfifo(notes)
    assert crossing.run() is State.WAITING
    crossing.close()
    window, hands = open_window(known)
    window.go_to(1)
    hands.wait(lambda: hands.button("Continue without them") is not None, "the decision")
    assert window.crossings.title.text() == "Waiting for a decision"
    hands.press("Continue without them")
    hands.wait(lambda: window.conducting.current.state is State.SETTLED, "settled")
    assert set(contents(window.conducting.current.target)) == set(contents(known.library))
    assert len(contents(known.library)) == 9 and stat.S_ISFIFO(notes.lstat().st_mode)


def test_a_block_that_is_not_moved_far_is_not_picked_up(known, open_window):
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: bool(view._blocks), "blocks")
    at = view.block_of("The Weir").center().toPoint()
    QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=at)
    QTest.mouseMove(view, at + QPointF(3, 2).toPoint())
    QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=at)
    assert view.picked is None and window.drafting.plan is None


def test_dropped_over_its_own_shelf_nothing_happens(known, open_window):
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: bool(view._blocks), "blocks")
    start = view.block_of("The Weir").center()
    hands.drag(view, start, start + QPointF(60, 5), lambda: None)
    QTest.qWait(100)
    assert view.picked is None and window.drafting.draft is None


def test_the_set_aside_originals_stand_hatched_and_can_be_put_back(known, open_window):
    crossing = settled(known)
    crossing.looked()
    crossing.switch()
    crossing.park()
    crossing.close()
    window, hands = open_window(known)
    hands.wait(
        lambda: any(x.parked for s in window.planning.shelves for x in s.standings),
        "a hatched block",
    )
    window.go_to(1)
    hands.press("Put the originals back")
    hands.wait(lambda: window.conducting.current.state is State.SWITCHED, "put back")
    assert len(contents(known.library)) == 10


def test_taking_the_switch_back(known, open_window):
    crossing = settled(known)
    crossing.looked()
    crossing.switch()
    crossing.close()
    window, hands = open_window(known)
    window.go_to(1)
    hands.press("Take back the switch")
    hands.wait(lambda: window.conducting.current.state is State.UNDONE, "undone")
    assert known.workspace.register.libraries()[0].root == known.library
    assert len(contents(known.library)) == len(contents(known.heron / "The Weir")) == 10


@pytest.mark.parametrize("scale", ["1", "2"])
def test_it_paints_at_every_scale(known, open_window, scale, monkeypatch):
    monkeypatch.setenv("QT_SCALE_FACTOR", scale)
    window, hands = open_window(known, theme.DUSK)
    hands.wait(lambda: window.shelves.selected is not None, "the library")
    image = window.grab().toImage()
    assert image.pixelColor(300, 700).name().upper() == theme.DUSK.ground
    theme.apply(window.keep, theme.LINEN)


def test_events_are_summed_and_the_last_is_delivered(qtbot):
    from PyQt6.QtCore import QObject

    owner = QObject()
    coalescer = Coalescer(owner)
    got = []
    coalescer.batch.connect(got.extend)
    for _ in range(1000):
        coalescer.take(Advanced(3, 10, 1, 5, 0))
    coalescer.take(Attention(b"x", "Heron A", "odd"))
    coalescer.take(Entered(State.VERIFYING))
    coalescer.stop()
    assert got == [
        Advanced(3, 10_000, 1000, 5_000, 0),
        Attention(b"x", "Heron A", "odd"),
        Entered(State.VERIFYING),
    ]
    coalescer.flush()
    assert len(got) == 3


def test_a_drive_s_words(bench):
    drive = bench.workspace.drives.at(bench.heron)
    assert drive_words(Shelf(drive, "connected")) == "ext4 · USB · 400.0\u00a0MB"
    shelf = Shelf(drive, "connected", speed=(611.6, 700.0, 1.0))
    assert (
        drive_words(shelf).splitlines()[1] == "612\u00a0MB/s measured"
        and short_flag(shelf) == "0% full"
    )
    assert not is_urgent(shelf)
    for wrong in ({"free": drive.capacity // 100}, {"read_only": True}, {"errors": 1}):
        assert is_urgent(Shelf(replace(drive, **wrong), "connected")), wrong
    bench.add_drive("heron", connected=False)
    bench.again()
    away = bench.workspace.drives.at(bench.heron)
    assert (
        drive_words(Shelf(away, "away")).endswith("away") and short_flag(Shelf(away, "away")) == ""
    )
    assert "last seen" in drive_words(Shelf(away, "away", seen_at=1_700_000_000.0))


def test_what_could_not_be_added_stays_reported_until_it_was_read(known, open_window):
    """Drives are read again all the time: a message is not replaced by that."""
    window, hands = open_window(known)
    window.planning.add_library(known.root / "nowhere")
    hands.wait(lambda: hands.button("Back to the shelves") is not None, "the error")
    seen = window.planning._seen_look
    window.planning.refresh()
    hands.wait(lambda: window.planning._seen_look > seen, "another look")
    assert hands.button("Back to the shelves") is not None
    assert "cannot be added" in panel_text(window)
    hands.press("Back to the shelves")
    hands.wait(lambda: "The Weir" in panel_text(window), "the library")


def test_shelves_that_cannot_be_shown_say_why_and_are_looked_at_again(known, open_window):
    """A file is where the register's folder should be, and is gone again later."""
    window, hands = open_window(known)
    data, before = known.workspace.data, contents(known.library)
    kept = data.rename(data.with_name("kept"))
    data.write_bytes(b"a list of herons")
    known.add_drive("otter")
    hands.wait(lambda: hands.button("Look again") is not None, "why")
    words = panel_text(window)
    assert f"Could not make Fascis's own folder {data}: File exists." in words
    assert "No library, photo or clip is affected." in words and "unexpected" not in words
    assert data.read_bytes() == b"a list of herons" and contents(known.library) == before
    data.unlink()
    kept.rename(data)
    hands.press("Look again")
    hands.wait(lambda: "Look again" not in panel_text(window), "the library, shown again")
    assert window.shelves.selected.root == known.library
