"""The parts of a library in the side panel: ticked, weighed, dragged to a shelf, or split apart."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PyQt6.QtCore import QMimeData, QPointF, Qt
from PyQt6.QtGui import QDrag, QMouseEvent
from PyQt6.QtWidgets import QApplication, QCheckBox, QHBoxLayout, QRadioButton, QVBoxLayout, QWidget

from fascis.crossing.model.afterwards import After
from fascis.crossing.scope.named_parts import NamedPart, Weight
from fascis.crossing.split import SplitPlan
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import PART_MIME, Do, button, label, row, rule, tip
from fascis.files.codes import Severity
from fascis.files.names import elided, shown
from fascis.words.figures import counted, size


@dataclass(frozen=True, slots=True)
class PartsActions:
    """What can be done with parts."""

    tick: Callable[[str], None]
    plan: Do
    split: Do
    everything: Do
    back: Do


class _PartBox(QCheckBox):
    """A part that is ticked; dragged, it is put on a shelf or into a library."""

    def __init__(self, part: NamedPart, ticked: bool, tick: Callable[[str], None]) -> None:
        super().__init__(elided(shown(part.words), 30))
        self._given, self._pressed = part.given, QPointF()
        self.setChecked(ticked)
        self.setAccessibleName(f"Part: {part.words}")
        self.setToolTip(tip(shown(part.place)))
        self.toggled.connect(lambda _on: tick(part.given))

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Where a drag may begin."""
        if event is not None:
            self._pressed = event.position()
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drags the part once the pointer has gone far enough."""
        if event is None or not event.buttons() & Qt.MouseButton.LeftButton:
            return
        far = (event.position() - self._pressed).manhattanLength()
        if far > QApplication.startDragDistance():
            self.setDown(False)
            drag, said = QDrag(self), QMimeData()
            said.setData(PART_MIME, self._given.encode("utf-8", "surrogateescape"))
            drag.setMimeData(said)
            drag.setPixmap(self.grab())
            drag.exec(Qt.DropAction.CopyAction)


class PartsPage:
    """Shows the parts of a library, and what a split would make of it."""

    def __init__(self, panel: SidePanel) -> None:
        self._panel = panel

    def show(
        self,
        name: str,
        parts: Sequence[NamedPart],
        weights: dict[str, Weight],
        ticked: frozenset[str],
        actions: PartsActions,
    ) -> None:
        """The parts with their boxes: what each brings by itself, and what others use too."""
        panel = self._panel
        folders = bool(parts) and parts[0].folder
        what = "folders" if folders else "projects"
        panel.begin(
            f"Parts of {shown(name)}",
            f"Tick {what}, or drag one to a shelf, or onto a library on it.",
        )
        if not parts:
            panel.add(label("There is no project and no catalog's folder in it."))
        for part in parts:
            panel.add(self._part(part, weights.get(part.given), part.given in ticked, actions))
            panel.add(rule())
        chosen = counted(len(ticked), "part")
        plan = button(f"Plan {chosen}" if ticked else "Plan", actions.plan, main=True)
        plan.setEnabled(bool(ticked))
        if not ticked:
            panel.add_to_foot(label("Nothing is ticked.", quiet=True))
        buttons = [plan]
        if len(parts) > 1 and not folders:
            buttons.append(button("Split by project…", actions.split))
        panel.end(*buttons, button("All of it", actions.everything), button("Back", actions.back))

    def _part(
        self, part: NamedPart, weight: Weight | None, ticked: bool, actions: PartsActions
    ) -> QWidget:
        """One part: its box with its figure, and below what of it others use too."""
        made = QWidget()
        down = QVBoxLayout(made)
        down.setContentsMargins(0, 5, 0, 5)
        down.setSpacing(1)
        across = QHBoxLayout()
        across.addWidget(_PartBox(part, ticked, actions.tick), 1)
        words = "lies elsewhere, and goes by itself"
        if weight is not None:
            words = _weight_words(weight)
            across.addWidget(label(size(weight.own[1] + weight.shared[1]), wrap=False, head=ticked))
        down.addLayout(across)
        down.addWidget(label(words, quiet=True))
        return made

    def show_split(self, split: SplitPlan, draft: SplitDraft, actions: SplitActions) -> None:
        """The new libraries side by side: what each weighs, and what none of them has."""
        panel = self._panel
        drive = split.plans[0].destination_drive if split.plans else None
        there = shown(drive.label) if drive else "there"
        panel.begin("Split", f"{shown(draft.name)} → {there}, {shown(draft.folder)}")
        panel.head(counted(len(split.plans), "new library", "new libraries"))
        for plan in split.plans:
            files = counted(plan.totals.files, "file")
            panel.add_row(elided(shown(plan.name), 26), size(plan.totals.bytes), files)
        twice = split.parts_bytes + split.stays_bytes - split.before_bytes
        panel.head("Together")
        panel.add_row("Now", size(split.before_bytes))
        panel.add_row("The new ones", size(split.parts_bytes))
        if twice > 0:
            panel.add(
                label(f"{size(twice)} of it is used by several, and goes into each.", quiet=True)
            )
        if split.stays_files:
            panel.add_row(
                "In none of them",
                size(split.stays_bytes),
                f"{counted(split.stays_files, 'file stays', 'files stay')} where they are",
            )
        if split.stays_files or draft.rest:
            rest = QCheckBox("Make a library of the rest too")
            rest.setChecked(draft.rest)
            rest.toggled.connect(actions.rest)
            panel.add(rest)
        panel.head("Home and originals")
        panel.add(self._after(draft, actions))
        self._problems(split)
        reason = "A problem above stops it." if split.stopped else ""
        if split.asks and not draft.decided and not reason:
            decide = QCheckBox("Go on all the same")
            decide.toggled.connect(lambda _on: actions.decide())
            panel.add(decide)
            reason = "Decide first."
        start = button("Start the split", actions.start, main=True)
        start.setEnabled(not reason)
        if reason:
            panel.add_to_foot(label(reason, quiet=True))
        panel.end(start, button("Back", actions.back))

    def _after(self, draft: SplitDraft, actions: SplitActions) -> QWidget:
        made = QWidget()
        down = QVBoxLayout(made)
        down.setContentsMargins(0, 0, 0, 0)
        for after, words in (
            (After.COPY, "Home stays here; these are copies"),
            (After.KEEP, "Home goes to them; originals stay"),
            (After.RELEASE, "…then originals are deleted,\nafter I have looked"),
        ):
            choice = QRadioButton(words)
            choice.setChecked(draft.after is after)
            choice.toggled.connect(lambda on, a=after: actions.after(a) if on else None)
            down.addWidget(choice)
        words = "An original goes when every part that uses it holds it, all at the end."
        down.addWidget(label(words, quiet=True))
        return made

    def _problems(self, split: SplitPlan) -> None:
        if not split.problems:
            return
        self._panel.head("Before it can start" if split.stopped else "Good to know")
        for problem in split.problems:
            stops = problem.severity is Severity.STOPS
            mark = {Severity.STOPS: "Stops", Severity.DECISION: "Decide"}.get(problem.severity, "")
            self._panel.add(row(problem.sentence, mark, problem.remedy, wrong=stops))
            self._panel.add(rule())


@dataclass(frozen=True, slots=True)
class SplitDraft:
    """A split that a person is planning.

    Attributes:
        name: the library's.
        folder: where the new libraries are to stand.
        rest: a library is made of what no part has.
        decided: what it asks is decided.
    """

    name: str
    folder: str
    rest: bool = False
    after: After = After.KEEP
    decided: bool = False


@dataclass(frozen=True, slots=True)
class SplitActions:
    """What can be done with a split that is planned."""

    rest: Callable[[bool], None]
    after: Callable[[After], None]
    decide: Do
    start: Do
    back: Do


def _weight_words(weight: Weight) -> str:
    words = f"{counted(weight.own[0] + weight.shared[0], 'file')}"
    if weight.shared[0]:
        others = ", ".join(weight.shared_with[:2]) or "other documents"
        words += f" · shared: {size(weight.shared[1])}, also used by {elided(others, 40)}"
    return words
