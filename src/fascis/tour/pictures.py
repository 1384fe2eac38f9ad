"""Pictures of the real window on the demo.

A whole crossing, driven by pointer and keys, without a person.
"""

from __future__ import annotations

import json
import sys
import tempfile
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QMimeData, QPoint, QPointF, Qt
from PyQt6.QtGui import QDragEnterEvent, QDragMoveEvent, QDropEvent
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QApplication, QCheckBox, QComboBox, QPushButton, QRadioButton, QWidget

from fascis.crossing.plan.sentence import Choice
from fascis.demo.bench import plug_in_elsewhere
from fascis.demo.copies import NESTS
from fascis.demo.parts import TRIP
from fascis.demo.place import demo_world
from fascis.demo.scenario import World
from fascis.demo.unknown import PAPERS, SCANS, TITLES
from fascis.desktop.app import make_application
from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import PART_MIME
from fascis.desktop.kit.sentence import SentenceView
from fascis.desktop.window import LOOK, Window
from fascis.drives.stand_in import DESCRIPTION
from fascis.tour.english import in_english

PATIENCE = 30.0
# Answers with which a person continues as planned.
_ACCEPT = (
    "Continue without them",
    "Continue anyway",
    "Leave them there",
    "Copy it as it is",
    "Give other names",
)
# All windows that were opened: a task of one may end after it was closed.
_WINDOWS: list[Window] = []


def _reads(shown: str, starts: str) -> bool:
    """True if the shown text begins like this, in English."""
    return any(
        e.casefold().startswith(starts.casefold()) for e in in_english(shown.replace("\n", " "))
    )


class Hands:
    """Clicks, drags and waits on a window like a person."""

    def __init__(self, window: Window, folder: Path) -> None:
        self.window, self.folder, self.taken = window, folder, list[Path]()

    def wait(self, until: Callable[[], bool], what: str, settle: int = 250) -> None:
        """Waits for a condition, then for the window to paint, in ms.

        Raises:
            TimeoutError: it did not come true.
        """
        end = time.monotonic() + PATIENCE
        while not until():
            if time.monotonic() > end:
                self.take("waited in vain")
                raise TimeoutError(f"waited in vain for: {what}")
            QTest.qWait(20)
        if settle:
            self.settle(settle)

    def settle(self, most: int) -> None:
        """Lets the window paint its new state."""
        QTest.qWait(most)

    def take(self, name: str) -> None:
        """Takes a picture."""
        # New things are shown in the next turn of the event loop.
        QTest.qWait(30)
        path = self.folder / f"{name}.png"
        self.window.grab().save(str(path))
        self.taken.append(path)

    def button(self, starts: str) -> QPushButton | None:
        """The visible button whose text begins like this."""
        return next(
            (
                b
                for b in self.window.findChildren(QPushButton)
                if b.isVisible() and _reads(b.text(), starts)
            ),
            None,
        )

    def press(self, starts: str) -> None:
        """Clicks a button by its text, after it was visible for a moment."""

        def ready() -> bool:
            first = self.button(starts)
            QTest.qWait(120)
            return first is not None and first is self.button(starts) and first.isEnabled()

        self.wait(ready, f"the button {starts}", 0)
        found = self.button(starts)
        assert found is not None
        QTest.mouseClick(found, Qt.MouseButton.LeftButton)

    def radio(self, starts: str) -> QRadioButton | None:
        """The visible radio button whose text begins like this."""
        return next(
            (
                r
                for r in self.window.findChildren(QRadioButton)
                if r.isVisible() and _reads(r.text(), starts)
            ),
            None,
        )

    def choose(self, starts: str) -> None:
        """Chooses a radio button by its text."""
        found = self.radio(starts)
        assert found is not None, starts
        QTest.mouseClick(found, Qt.MouseButton.LeftButton, pos=QPoint(10, found.height() // 2))

    def pick(self, name: str, starts: str) -> None:
        """Chooses an item by its text, like a person with wheel or arrow keys."""
        box = next(
            c
            for c in self.window.findChildren(QComboBox)
            if c.isVisible() and name in in_english(c.accessibleName())
        )
        wanted = next(i for i in range(box.count()) if _reads(box.itemText(i), starts))
        key = Qt.Key.Key_Down if wanted > box.currentIndex() else Qt.Key.Key_Up
        box.setFocus()
        for _ in range(abs(wanted - box.currentIndex())):
            QTest.keyClick(box, key)

    def tick(self, starts: str) -> None:
        """Ticks a box by its text or its name."""
        found = next(
            b
            for b in self.window.findChildren(QCheckBox)
            if b.isVisible() and (_reads(b.text(), starts) or _reads(b.accessibleName(), starts))
        )
        QTest.mouseClick(found, Qt.MouseButton.LeftButton, pos=QPoint(10, found.height() // 2))

    def sentence(self) -> SentenceView:
        """The plan's sentence."""
        return next(v for v in self.window.findChildren(SentenceView) if v.isVisible())

    def open(self, choice: Choice) -> None:
        """Opens a choice of the plan's sentence, if it is not open."""
        self.wait(lambda: self.window.drafting.plan is not None, "the plan", 0)
        QTest.qWait(120)
        if self.window.drafting.opened is not choice:
            part = self.sentence().part_of(choice)
            QTest.mouseClick(part, Qt.MouseButton.LeftButton, pos=part.middle)

    def choose_in_sentence(self, choice: Choice, starts: str) -> None:
        """Opens a choice of the sentence, and selects an option."""
        part = self.sentence().part_of(choice)
        QTest.mouseClick(part, Qt.MouseButton.LeftButton, pos=part.middle)
        self.wait(lambda: self.radio(starts) is not None, starts, 0)
        self.choose(starts)

    def decide(self) -> None:
        """Decides to continue, if that is asked."""
        QTest.qWait(150)
        while asked := next((b for w in _ACCEPT if (b := self.button(w))), None):
            QTest.mouseClick(asked, Qt.MouseButton.LeftButton)
            QTest.qWait(150)

    def drag(self, view: QWidget, start: QPointF, end: QPointF, hold: Callable[[], None]) -> None:
        """Presses, moves in steps, holds, and releases."""
        a, b = start.toPoint(), end.toPoint()
        QTest.mousePress(view, Qt.MouseButton.LeftButton, pos=a)
        for i in range(1, 13):
            QTest.mouseMove(view, a + (b - a) * i / 12)
            QTest.qWait(12)
        hold()
        QTest.mouseRelease(view, Qt.MouseButton.LeftButton, pos=b)


class PartDrag:
    """A part that is dragged over a view, by the events of a drag."""

    def __init__(self, view: QWidget, given: str, at: QPointF) -> None:
        self._view, self._said = view, QMimeData()
        self._said.setData(PART_MIME, given.encode())
        self._send(QDragEnterEvent(at.toPoint(), *self._how()))

    def _how(self) -> tuple[Any, ...]:
        button, no_key = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        return Qt.DropAction.CopyAction, self._said, button, no_key

    def _send(self, event: QDropEvent | QDragEnterEvent) -> None:
        QApplication.sendEvent(self._view, event)

    def over(self, at: QPointF) -> bool:
        """Moves; True if it can be dropped there."""
        move = QDragMoveEvent(at.toPoint(), *self._how())
        self._send(move)
        return move.isAccepted()

    def drop(self, at: QPointF) -> bool:
        """Drops it; True if that is possible there."""
        can = self.over(at)
        self._send(QDropEvent(at, *self._how()))
        return can


def drop_part(view: QWidget, given: str, at: QPointF) -> bool:
    """Drops a part on a view; True if that is possible there."""
    return PartDrag(view, given, at).drop(at)


def _open(world: World, look: theme.Theme = theme.LINEN) -> Window:
    application = make_application(sys.argv[:1])
    theme.apply(application, look)
    window = Window(world.workspace, demo=True)
    # Python must keep it while the window exists, and a window while its tasks run.
    window.keep = application
    _WINDOWS.append(window)
    window.conducting.opener = lambda _path: None
    window.resize(1280, 800)
    window.show()
    return window


def _strands(window: Window, hands: Hands) -> None:
    """Opens the chosen library, its strands and one file, and goes back."""
    window.shelves.setFocus()
    QTest.keyClick(window.shelves, Qt.Key.Key_Return)
    hands.wait(lambda: window.drafting.woven is not None, "the strands", 600)
    bundle, ledger = window.strands.bundle, window.strands.ledger
    hands.take("strands")
    QTest.mouseClick(bundle, Qt.MouseButton.LeftButton, pos=bundle.switch_point.toPoint())
    QTest.mouseClick(
        bundle, Qt.MouseButton.LeftButton, pos=bundle.point_of("media/Day 02").toPoint()
    )
    hands.wait(
        lambda: 0 < ledger.shown_rows < len(window.drafting.woven or ()), "the files of one strand"
    )
    line = ledger.table.visualRect(ledger.model_.index(2, 1)).center()
    QTest.mouseClick(ledger.table.viewport(), Qt.MouseButton.LeftButton, pos=line)
    hands.wait(lambda: window.strands.has_picture, "a clip's first frame", 300)
    QTest.mouseClick(bundle, Qt.MouseButton.LeftButton, pos=bundle.switch_point.toPoint())
    QTest.keyClick(window, Qt.Key.Key_1, Qt.KeyboardModifier.ControlModifier)
    hands.press("Back")
    hands.wait(lambda: window.drafting.plan is None, "the shelves")


def _relink(window: Window, hands: Hands) -> None:
    """Finds lost files: one card, two questions, the act, its undo, and the act again."""
    relinks = window.relinks
    hands.press("Relink: look")
    hands.wait(lambda: relinks.outcome is not None and relinks.looking is None, "what was found")
    hands.wait(
        lambda: all(t.has_picture for t in window.relink.tiles[1:3]),
        "pictures of the candidates",
        300,
    )
    hands.take("relink-decision")
    hands.press("Accept")
    for left in (1, 0):
        QTest.keyClick(window.relink, Qt.Key.Key_2)
        hands.wait(
            partial(lambda n: relinks.outcome is not None and len(relinks.outcome.open) == n, left),
            "the next question",
        )
    hands.wait(lambda: relinks.found == 16, "both decided", 400)
    hands.take("relink")
    for text in ("Relink 16", "Undo", "Relink 16"):
        hands.press(text)
        hands.wait(lambda: not relinks.busy and relinks.relinking is not None, "the documents")
        hands.wait(
            lambda: relinks.outcome is not None and relinks.looking is None, "what is lost now"
        )
    hands.press("Shelves")
    hands.wait(lambda: window.shelves.isVisible() and window.drafting.plan is None, "the shelves")


def whole_crossing(world: World, folder: Path | None = None) -> tuple[list[Path], Path, Path]:
    """Runs a whole crossing on the demo in the real window.

    Returns:
        The pictures, the receipt (JSON) and its page (HTML).
    """
    folder = folder or world.root / "pictures"
    folder.mkdir(parents=True, exist_ok=True)
    window = _open(world)
    hands = Hands(window, folder)
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the shelves", 500)
    hands.take("shelves")
    _strands(window, hands)
    _relink(window, hands)

    def hold() -> None:
        hands.wait(lambda: bool(view._previews), "what would become of the shelves", 200)
        hands.take("shelves-dragging")

    hands.drag(
        view, view.block_of(world.weir.name).center(), view.shelf_of("Heron A").center(), hold
    )
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    hands.open(Choice.ORIGINALS)
    hands.choose("Are deleted")
    hands.wait(
        lambda: (
            window.drafting.plan is not None
            and window.drafting.plan.choices.after.value == "release"
        ),
        "the choice",
    )
    hands.take("plan")
    hands.decide()
    hands.press("Start the crossing")
    hands.wait(
        lambda: (
            window.place == 1 and any(lane.verified for lane in window.conducting._lanes.values())
        ),
        "the first file read back",
        400,
    )
    hands.take("crossing")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    notes = world.weir / "cut notes.txt"
    notes.write_text("the breach first, then the herons\n")
    hands.press("Look again")
    hands.wait(
        lambda: (
            window.conducting.steps.balance is not None and not window.conducting.steps.balance.even
        ),
        "a scale that tips",
    )
    hands.take("scales-not-in-balance")
    hands.press("Bring 1")
    hands.wait(
        lambda: (
            window.conducting.steps.balance is not None and window.conducting.steps.balance.even
        ),
        "balance",
    )
    hands.take("scales")
    hands.press("Open it from")
    hands.press("I have looked")
    hands.press("Switch over")
    hands.press("Set the originals aside")
    hands.press("Delete")
    hands.wait(lambda: hands.button("Keep them") is not None, "the exact list")
    hands.take("deleting")
    hands.press("Delete")
    hands.wait(
        lambda: (
            window.conducting.steps.balance is not None
            and hands.button("See the receipt") is not None
        ),
        "the release",
    )
    hands.press("See the receipt")
    hands.wait(
        lambda: (
            window.receipts.page.toPlainText() != "" and hands.button("See the receipt") is None
        ),
        "the receipt",
        500,
    )
    hands.take("receipts")
    crossing = window.conducting.crossings[0]
    receipt = crossing.target / ".fascis" / "receipts" / f"{crossing.id}.json"
    window.close()
    return hands.taken, receipt, receipt.with_suffix(".html")


def two_drives(world: World, folder: Path) -> list[Path]:
    """Two drives of different speed, a queue, scales with a side for each.

    One of the drives answers from memory.
    """
    _facts(
        world, "heron-b", write_mb_s=3, read_mb_s=20, answers_from_memory=True, filesystem="exfat"
    )
    window = _open(world)
    hands = Hands(window, folder)
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the shelves", 500)
    hands.drag(
        view,
        view.block_of(world.weir.name).center(),
        view.shelf_of("Heron A").center(),
        lambda: None,
    )
    hands.wait(lambda: window.drafting.plan is not None, "the plan")
    hands.open(Choice.WHERE)
    hands.pick("Second copy", "Second copy on Heron B")
    hands.wait(
        lambda: window.drafting.plan is not None and len(window.drafting.plan.goals) == 2,
        "two goals",
    )
    hands.open(Choice.ALONG)
    hands.tick("Proxies")
    hands.wait(
        lambda: window.drafting.plan is not None and bool(window.drafting.plan.left_out.files),
        "left out",
    )
    hands.open(Choice.ORIGINALS)
    hands.tick("Also delete Proxies")
    hands.wait(
        lambda: window.drafting.plan is not None and bool(window.drafting.plan.discarded.files),
        "discarded",
    )
    hands.decide()
    hands.press("Start the crossing")
    hands.wait(lambda: window.conducting.running is not None, "the start")
    for name, shelf in (("Bell", "Heron A"), ("Saltmeadow", "Heron A")):
        window.go_to(0)
        hands.wait(lambda: bool(view._blocks), "the shelves")
        hands.drag(view, view.block_of(name).center(), view.shelf_of(shelf).center(), lambda: None)
        hands.wait(
            partial(
                lambda n: (
                    window.drafting.plan is not None and window.drafting.plan.source.name == n
                ),
                name,
            ),
            "a plan",
        )
        hands.decide()
        hands.press("Add it to the queue")
        hands.wait(lambda: window.place == 1, "the crossings")
    window.conducting.choose(window.conducting.rows()[0].id)
    hands.wait(lambda: hands.button("Remove Heron A") is not None, "one drive whole", 600)
    hands.take("crossing-two-drives")
    first = window.conducting.current
    hands.wait(lambda: first is not window.conducting.running, "both whole")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales", 700)
    window.close()
    return hands.taken


def parts(world: World, folder: Path) -> list[Path]:
    """A trip copied into its year, a project that shares clips, a library that receives it."""
    window = _open(world)
    hands = Hands(window, folder)
    view, drafting = window.shelves, window.drafting
    hands.wait(lambda: view.selected is not None, "the shelves", 500)

    def plan(name: str) -> None:
        point = view.block_of(name).center().toPoint()
        QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=point)
        hands.press("Plan the crossing to Heron A")
        hands.wait(lambda: drafting.plan is not None, "the plan")
        hands.open(Choice.WHAT)
        hands.wait(lambda: bool(drafting.parts), "its parts")

    def landed(into: bool) -> bool:
        return drafting.plan is not None and drafting.plan.choices.into is into

    plan("River")
    shelf = view.shelf_of("Heron A")
    clear = QPointF(shelf.right() - 150, shelf.center().y())
    trip = PartDrag(view, TRIP, clear)
    trip.over(clear)
    hands.wait(lambda: view.folder_at("Archive") is not None, "the folders of Heron A")
    trip.over(view.folder_at("Archive") or clear)
    hands.wait(lambda: view.folder_at("Archive / 2024") is not None, "those in Archive")
    trip.drop(view.folder_at("Archive / 2024") or clear)
    hands.wait(partial(landed, True), "landing there")
    hands.press("Give other names")
    hands.wait(lambda: bool(drafting.plan and drafting.plan.choices.taken), "decided", 500)
    hands.take("part-into-year")
    hands.press("Back")
    hands.wait(lambda: drafting.plan is None, "the shelves")
    plan("River Cuts")
    archive = view.block_of("River Archive").center()
    assert drop_part(view, "projects/Spring Cut", archive)
    hands.wait(partial(landed, True), "the library", 500)
    window.go_to(3)
    bundle = window.strands.bundle
    hands.wait(lambda: bundle.isVisible() and bool(bundle.layout_.rights), "its strands", 300)
    bundle.set_by_project(True)
    hands.wait(lambda: any(e.ticked for e in bundle.layout_.rights), "the tick", 500)
    hands.take("part-strands")
    window.close()
    return hands.taken


def look(world: World, folder: Path) -> list[Path]:
    """The studio's drive is searched: what is big, and which libraries are there."""
    window = _open(world)
    hands = Hands(window, folder)
    hands.wait(lambda: window.shelves.selected is not None, "the shelves", 500)
    window.looking.begin("Studio internal", [world.weir.parent])
    window.go_to(LOOK)
    hands.wait(lambda: bool(window.look.bands), "what was found", 500)
    hands.take("look")
    window.close()
    return hands.taken


def unknown(world: World, folder: Path) -> list[Path]:
    """A library with two documents of unknown make: one is read, and a question is asked."""
    window = _open(world)
    hands = Hands(window, folder)
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the shelves", 500)
    there = world.weir.parent / PAPERS

    def block() -> QPointF | None:
        found = (b.rect.center() for b in view._blocks if b.standing.root == there)
        return next(found, None)

    hands.wait(lambda: block() is not None, "the papers")
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=(block() or QPointF()).toPoint())
    hands.press("Read what is not understood")
    hands.press(f"Read {SCANS}")
    hands.wait(lambda: hands.button("Yes, these are") is not None, "what was learnt", 500)
    hands.take("unknown-make")
    hands.press("Yes, these are")
    hands.wait(lambda: hands.button(f"Read {TITLES}") is not None, "the other document")
    hands.press("Back")
    hands.wait(lambda: hands.button("Read what is not understood") is not None, "its page")
    window.close()
    return hands.taken


def copies(world: World, folder: Path) -> list[Path]:
    """A library with two copies: one is behind, and a damaged clip of the other is repaired."""
    window = _open(world)
    hands = Hands(window, folder)
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the shelves", 500)
    there = world.heron_a / NESTS

    def block() -> QPointF | None:
        found = (b.rect.center() for b in view._blocks if b.standing.root == there)
        return next(found, None)

    hands.wait(lambda: block() is not None, "the copy")
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=(block() or QPointF()).toPoint())
    hands.press("Verify again")
    hands.wait(lambda: hands.button("Take the good files") is not None, "what is damaged", 300)
    hands.press("Back")
    hands.wait(lambda: hands.button("Verify again") is not None, "the library's page", 500)
    hands.take("copies")
    hands.press("Take the good files")
    hands.wait(lambda: hands.button("Put the good files") is not None, "the good file", 500)
    hands.press("Put the good files")
    hands.wait(lambda: hands.button("Take it back") is not None, "repaired")
    window.close()
    return hands.taken


def _facts(world: World, name: str, **facts: object) -> None:
    path = world.drives / name / DESCRIPTION
    path.write_text(json.dumps({**json.loads(path.read_text()), **facts}))


def drives(world: World, folder: Path) -> list[Path]:
    """A drive that is mounted at another path, with its page; then updating old paths."""
    window = _open(world)
    hands = Hands(window, folder)
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the shelves", 500)
    away = world.drives / "field-2"
    plug_in_elsewhere(away)
    hands.wait(
        lambda: (
            any(s.back for s in window.planning.shelves)
            or "demo-field-2" in window.planning.notes.shown()
        ),
        "back",
    )
    hands.wait(
        lambda: any(s.drive.label == "Field 2" and s.drive.connected for s in view._shelves),
        "Field 2",
    )
    at = view.shelf_of("Field 2").topLeft().toPoint() + QPoint(60, 30)
    QTest.mouseClick(view, Qt.MouseButton.LeftButton, pos=at)
    hands.wait(lambda: hands.button("Update old paths") is not None, "its page", 700)
    hands.take("drive-returned")
    window.close()
    return hands.taken


def all_screenshots(folder: Path) -> list[Path]:
    """The pictures in docs/screenshots: the whole crossing, and Dusk once."""
    stage = Path(tempfile.gettempdir()) / "river studio"
    world = demo_world(True, stage)
    taken, _, _ = whole_crossing(world, folder)
    again = demo_world(True, stage)
    window = _open(again, theme.DUSK)
    hands = Hands(window, folder)
    hands.wait(lambda: window.shelves.selected is not None, "the shelves", 500)
    hands.take("shelves-dusk")
    window.close()
    taken += hands.taken + copies(again, folder)
    taken += unknown(again, folder) + look(again, folder)
    taken += parts(again, folder) + drives(again, folder)
    return taken + two_drives(demo_world(True, stage), folder)


if __name__ == "__main__":
    print("\n".join(map(str, all_screenshots(Path(sys.argv[1])))))
