"""Libraries on a shelf: never beyond its end, each can be chosen, and with its true size."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PyQt6.QtCore import Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel

from fascis.crossing.model.afterwards import After
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.desktop.shelves.laying import GAP, LEAST_BLOCK, lay_out
from fascis.library.known.shelves import OnShelf
from fascis.tour.pictures import PartDrag
from tests.crossing.ways import settled, started
from tests.library.making import write

LEFT = Qt.MouseButton.LeftButton


def standing(n, size):
    return OnShelf(str(n), f"L{n}", "library", None, "d", True, None, None, 0, bytes=size)


@given(
    st.lists(st.integers(0, 10**12), max_size=40),
    st.integers(0, 10**12),
    st.floats(200, 1400),
    st.integers(1, 10**6),
)
def test_blocks_end_where_the_drive_is_full(sizes, other, length, spare):
    """Whatever is there, and however full: nothing runs past the end, nothing overlaps."""
    capacity = sum(sizes) + other + spare
    layout = lay_out([standing(n, s) for n, s in enumerate(sizes)], other, capacity, 100.0, length)
    assert len(layout.laid) == len(sizes)
    edges = [(x.x, x.x + x.width) for x in sorted(layout.laid, key=lambda x: x.x)]
    assert all(b[0] >= a[1] - 1e-6 for a, b in zip(edges, edges[1:], strict=False))
    assert all(width > 0 for width in (b - a for a, b in edges))
    wide = sum(not x.narrow for x in layout.laid)
    if (wide + 2) * (LEAST_BLOCK + GAP) < length / 2:
        assert layout.end <= 100 + length + 1, "past the shelf's end"
    full = (sum(sizes) + other) / capacity
    if full * length > 2 * (wide + 2) * (LEAST_BLOCK + GAP) + 7 * len(sizes):
        assert layout.end <= 100 + full * length + LEAST_BLOCK, "past how full it is"


def texts(window):
    said = [x.text() for x in window.panel.findChildren(QLabel) if x.isVisible()]
    return "\n".join(said).replace("\xa0", " ")


@pytest.fixture
def shelves(known, open_window):
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the shelves")
    return window, hands


def test_many_small_libraries_are_each_chosen_by_name_and_key(known, open_window):
    for n in range(9):
        root = write(known.drives / f"inside/Small {n}/a.mov", b"x" * (900 + n)).parent
        remember(known.workspace, survey_library(known.workspace, root))
    window, hands = open_window(known)
    view = window.shelves
    hands.wait(lambda: len(view._blocks) >= 10, "the blocks")
    view.repaint()
    named = [b for b in view._blocks if not b.name.isEmpty()]
    assert len(named) >= 6
    for block in named[:4]:
        QTest.mouseClick(view, LEFT, pos=block.name.center().toPoint())
        assert view.selected.id == block.standing.id
    lowest = max(named, key=lambda b: b.name.bottom())
    part = PartDrag(view, "projects/Spring", lowest.name.center())
    assert part.over(lowest.name.center()), "a name below stands for its library"
    assert view._part_over == lowest.standing
    view.setFocus()
    seen = set()
    for _ in range(12):
        seen.add(view.selected.name)
        QTest.keyClick(view, Qt.Key.Key_Right)
    for _ in range(14):
        QTest.keyClick(view, Qt.Key.Key_Left)
        if view.selected is not None:
            seen.add(view.selected.name)
    assert {f"Small {n}" for n in range(9)} <= seen


def test_a_copy_is_as_large_as_what_crossed(known, open_window):
    """Gathered media makes a copy larger than its library's own folder."""
    write(known.drives / "inside/Loose/long.wav", b"l" * 700_000)
    write(known.library / "cut.m3u8", f"#EXTM3U\n{known.drives}/inside/Loose/long.wav\n".encode())
    remember(known.workspace, survey_library(known.workspace, known.library))
    crossing = settled(known, After.COPY)
    crossed = crossing.journal.planned()[1]
    crossing.close()
    window, hands = open_window(known)
    hands.wait(lambda: len(window.planning.shelves) > 1, "the shelves")
    copies = [s for shelf in window.planning.shelves for s in shelf.standings if not s.home]
    assert [s.size for s in copies] == [crossed] and crossed > 700_000


def test_what_arrives_is_drawn_while_it_crosses(known, open_window):
    known.add_drive("slow", write_mb_s=0.1)
    known.again()
    window, hands = open_window(known)
    hands.wait(lambda: window.shelves.selected is not None, "the shelves")
    window.planning.begin_plan(window.shelves.selected, known.drives / "slow")
    hands.press("Start the crossing")
    hands.wait(lambda: window.conducting.running is not None, "the crossing")
    window.go_to(0)
    hands.wait(lambda: bool(window.shelves._coming), "what arrives")
    (coming,) = window.shelves._coming
    assert coming.name == "The Weir" and coming.drive == "uuid-slow" and coming.done < 1
    window.conducting.stop()
    hands.wait(lambda: window.conducting.running is None, "the stop")
    hands.wait(lambda: not window.shelves._coming, "nothing arrives any more")


def test_a_library_with_anothers_name_says_where_it_lies(known, open_window):
    other = write(known.drives / f"inside/Attic/{known.library.name}/a.mov", b"x" * 900).parent
    remember(known.workspace, survey_library(known.workspace, other))
    window, hands = open_window(known)
    hands.wait(lambda: len(window.shelves._blocks) >= 2, "both")
    called = {window.shelves._called(b.standing) for b in window.shelves._blocks}
    assert f"{known.library.name} in Attic" in called
    window.planning.was_added(other)
    hands.wait(lambda: window.shelves.selected.root == other, "the one in the attic")
    assert "Attic" in texts(window)


def test_taking_a_library_off_its_shelf_says_what_it_means(shelves, known):
    window, hands = shelves
    before = sorted(p for p in known.library.rglob("*"))
    hands.press("Take it off the shelf…")
    assert "no longer knows which media" in texts(window)
    hands.press("Keep it on the shelf")
    hands.press("Take it off the shelf…")
    window.planning.refresh()  # as when a drive is connected meanwhile
    hands.settle(2000)
    assert "no longer knows which media" in texts(window), "the question stays until it is answered"
    hands.press("Take it off the shelf")
    hands.wait(lambda: not window.shelves._blocks or not window.planning.shelves, "it is gone", 300)
    assert not known.workspace.register.libraries()
    assert sorted(p for p in known.library.rglob("*")) == before


def test_what_is_finished_folds_away_and_what_waits_comes_first(known, open_window):
    finished = settled(known, After.COPY)
    finished.close()
    waits = write(known.drives / "inside/Later/a.mov", b"x" * 500).parent
    crossing = started(known, library=waits)
    crossing.run()
    crossing.close()
    window, hands = open_window(known)
    window.go_to(1)
    lines = window.crossings.list
    hands.wait(lambda: lines.count() >= 3, "the list")
    window.conducting.choose(crossing.id)
    first = [lines.item(n).text().replace("\xa0", " ") for n in range(lines.count())]
    assert first[0] == "1 waits for you" and "Later" in first[1]
    assert first[-1].startswith("Finished, 1") or "The Weir" in first[-1]
    fold = next(lines.item(n) for n in range(lines.count()) if "Finished" in lines.item(n).text())
    point = lines.visualItemRect(fold).center()
    folded = fold.text().endswith("▸")
    QTest.mouseClick(lines.viewport(), LEFT, pos=point)
    hands.wait(lambda: any("▾" in lines.item(n).text() for n in range(lines.count())) is folded, "")
    window.conducting.choose(finished.id)
    hands.wait(lambda: window.crossings.stations._one_more, "one more copy has four stations")
