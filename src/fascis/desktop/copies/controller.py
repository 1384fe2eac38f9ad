"""Actions on a library's copies, each as a task, with its progress and its end."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from fascis.copies.bringing_back import plan_bringing_back, way_back
from fascis.copies.comparing import look_at_copies
from fascis.copies.repairing import Found, Repairs
from fascis.copies.ungathering import put_back, told_of
from fascis.copies.updating import plan_update
from fascis.copies.verifying.verified import Verified, verify_at
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.answers import Answer, Turn
from fascis.desktop.copies.page import ChangeActions, CopiesPage, CopyActions, PlanToChange
from fascis.desktop.kit.decisions import DecisionActions, about, open_decisions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button
from fascis.desktop.kit.tasks import Task
from fascis.files.control import Control
from fascis.files.errors import Cancelled, FascisError
from fascis.files.names import shown
from fascis.library.known.places import KnownPlaces, Place, State
from fascis.library.known.shelves import OnShelf
from fascis.words.figures import duration, size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

_TELLS_MS = 250
_UPDATED = (State.BEHIND, State.DIFFERS, State.AHEAD)


class _Progress:
    """The progress of reading, reported by a thread and shown by the window."""

    def __init__(self) -> None:
        self._begun = time.monotonic()
        self._told = (0, 0, 0)

    def beat(self, files: int, done: int, of: int) -> None:
        """Takes the files and bytes read so far, and the bytes in all."""
        self._told = (files, done, of)

    @property
    def words(self) -> tuple[str, str]:
        """What is being read, and the remaining time."""
        files, done, of = self._told
        seconds = time.monotonic() - self._begun
        left = ""
        if of > done and seconds > 2 and done:
            left = tr("about {duration} left", duration=duration((of - done) * seconds / done))
        read = size(done)
        if of:
            read = tr("{size} of {size_2}", size=size(done), size_2=size(of))
        return read, ", ".join(filter(None, (trn("{n} file", "{n} files", files), left)))


def _nothing(_: Control) -> None:
    return


class Afterwards(QObject):
    """Connects a library's copies and the side panel with the core."""

    started = pyqtSignal(object)  # Crossing
    # The stored state of the copies changed.
    changed = pyqtSignal()

    def __init__(
        self, workspace: Workspace, panel: SidePanel, back: Do, one_more: Callable[[OnShelf], None],
        parent: QObject,
    ) -> None:  # fmt: skip
        super().__init__(parent)
        self._workspace, self._panel, self._back = workspace, panel, back
        self._one_more = one_more
        self.page = CopiesPage(panel)
        self.places: list[KnownPlaces] = []
        self.ways: dict[str, Path] = {}
        # True while the panel shows this, and a refresh of the drives must not replace it.
        self.open = False
        self._turn = 0
        self._control = Control()
        self._progress: _Progress | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(_TELLS_MS)
        self._timer.timeout.connect(self._tell)
        self._change: PlanToChange | None = None
        self._make: Callable[[Control], Any] | None = None
        # The steps before a crossing starts; its description; planning it with another choice.
        self._first: Callable[[Control], Any] = _nothing
        self._loose: list[str] = []
        self._again: Callable[[bool], None] | None = None

    # -- what can be done --------------------------------------------------------------------------

    def known(self, standing: OnShelf) -> KnownPlaces | None:
        """The paths of the library whose block is on a shelf."""
        return next((k for k in self.places if k.library.id == standing.library), None)

    def actions(self, standing: OnShelf, best: bool) -> CopyActions:
        """The actions for the copies of the chosen library.

        Args:
            best: there is a drive for one more copy.
        """
        known = self.known(standing)
        if known is None:
            return CopyActions()
        mine = next((p for p in known.all if p.path == standing.root), None)
        copies = [p for p in known.copies if p.there and p.seen.what == "copy"]
        back = self.ways.get(standing.library) if standing.home and known.home.there else None
        return CopyActions(
            look=partial(self.look, known) if copies and known.home.there else None,
            verify=partial(self.verify, known, mine) if mine and mine.listed else None,
            update={
                p.path: partial(self.update, known, p)
                for p in copies
                if known.home.there and State(p.seen.state) in _UPDATED
            },
            repair=self._repair_from(known, mine) if mine and mine.seen.damaged else [],
            back=(back, partial(self.bring_back, known, back)) if back else None,
            one_more=partial(self._one_more, standing) if best and standing.home else None,
        )

    def _repair_from(self, known: KnownPlaces, mine: Place) -> list[tuple[str, Do]]:
        """Paths of the library that can have intact versions of files damaged elsewhere."""
        if not mine.there:
            return []
        # The good file is compared with the lists of the repaired library: a home needs none.
        others = (p for p in (known.home, *known.copies) if p.path != mine.path and p.there)
        return [(p.label, partial(self.look_for_good, known, mine, p)) for p in others]

    # -- the panel ---------------------------------------------------------------------------------

    def close(self) -> None:
        """Something else is chosen: results of this are not shown any more."""
        if self.open:
            self._control.stop()
        self._turn += 1
        self.open = False
        self._timer.stop()

    def _leave(self) -> None:
        self.close()
        self._back()

    def _busy(
        self,
        title: str,
        words: str,
        work: Callable[[Control, _Progress], Any],
        done: Callable[[Any], None],
    ) -> None:
        """Does something long, and shows its progress."""
        self._turn += 1
        turn, self.open = self._turn, True
        self._control = control = Control()
        self._progress = progress = _Progress()
        self._panel.begin(title, words)
        self._panel.add_row(tr("Read"), "–", " ")
        self._panel.end(button(tr("Cancel"), self._leave, back=True))
        self._timer.start()

        def ended(outcome: Any) -> None:
            if turn != self._turn:
                return
            self._timer.stop()
            if isinstance(outcome, Cancelled):
                self._leave()
            elif isinstance(outcome, BaseException):
                self._failed(outcome)
            else:
                done(outcome)

        Task(lambda: work(control, progress), ended, self)

    def _tell(self) -> None:
        if self._progress is not None:
            self._panel.change_rows([self._progress.words])

    def _failed(self, error: BaseException) -> None:
        if not isinstance(error, (FascisError, OSError)):
            raise error
        self._panel.show_error(
            tr("That could not be done"), str(error), [(tr("Back"), self._leave)]
        )

    # -- looking and verifying ---------------------------------------------------------------------

    def look(self, known: KnownPlaces) -> None:
        """Compares the connected copies with their home."""

        def done(_: Any) -> None:
            self.close()
            self._back()
            self.changed.emit()

        self._busy(
            shown(known.library.name),
            tr("Comparing its copies with home. Nothing is written into them."),
            lambda control, _: look_at_copies(self._workspace, known, control),
            done,
        )

    def verify(self, known: KnownPlaces, place: Place) -> None:
        """Reads a copy or home again."""

        def done(found: Verified) -> None:
            name, repair = known.library.name, self._repair_from(known, place)
            self.page.show_verified(name, place.label, found, repair, self._leave)
            self.changed.emit()

        self._busy(
            tr("Verifying {name}", name=shown(known.library.name)),
            tr(
                "on {label}. Every file is read again; nothing is written there.",
                label=shown(place.label),
            ),
            lambda control, told: verify_at(self._workspace, place.path, control, told.beat),
            done,
        )

    # -- repairing ---------------------------------------------------------------------------------

    def look_for_good(self, known: KnownPlaces, place: Place, other: Place) -> None:
        """Finds files damaged in one place and intact in another."""
        repairs = Repairs(self._workspace)

        def done(found: Found) -> None:
            apply = partial(self._repair, place, other, found)
            self.page.show_repair(known.library.name, other.label, found, apply, self._leave)

        self._busy(
            tr("Repair"),
            tr(
                "Reading {name} on {label} again, and the good files on {label_2}.",
                name=shown(known.library.name),
                label=shown(place.label),
                label_2=shown(other.label),
            ),
            lambda control, told: repairs.look(place.path, other.path, control, told.beat),
            done,
        )

    def _repair(self, place: Place, other: Place, found: Found) -> None:
        repairs = Repairs(self._workspace)

        def done(act: Any) -> None:
            undo = partial(self._undo_repair, act.id)
            self.page.show_repaired(act, undo, self._leave)
            self.changed.emit()

        def work(control: Control, told: _Progress) -> Any:
            act = repairs.apply(place.path, other.path, found, control)
            # That files are intact now is stored after reading them, not after writing them.
            verify_at(self._workspace, place.path, control, told.beat)
            return act

        words = tr("Putting the good files back, then reading everything once more.")
        self._busy(tr("Repair"), words, work, done)

    def _undo_repair(self, id: str) -> None:
        def done(_: Any) -> None:
            self._leave()
            self.changed.emit()

        def work(control: Control, told: _Progress) -> None:
            act = Repairs(self._workspace).undo(id)
            verify_at(self._workspace, Path(act.root), control, told.beat)

        self._busy(tr("Repair"), tr("Taking it back."), work, done)

    # -- bringing up to date, bringing back --------------------------------------------------------

    def update(self, known: KnownPlaces, place: Place) -> None:
        """Plans updating a copy from its home."""
        self._first, self._loose, self._again = _nothing, [], None
        name, where = shown(known.library.name), shown(place.label)
        home = known.home.path
        self._plan(
            PlanToChange(
                tr("Bring {where} up to date", where=where),
                tr("The copy of {name} at {path}", name=name, path=shown(str(place.path))),
                tr("Bring {where} up to date", where=where),
                None,
            ),
            lambda control: plan_update(self._workspace, home, place.path, control)[0],
        )

    def bring_back(self, known: KnownPlaces, before: Path, ungather: bool = False) -> None:
        """Plans bringing a library back to its earlier path.

        Args:
            ungather: gathered media returns to its loose path.
        """
        name, home = shown(known.library.name), known.home.path

        def make(control: Control) -> Any:
            way = way_back(self._workspace, home)
            plan, loose = plan_bringing_back(self._workspace, way, None, control, ungather)
            self._first = partial(put_back, home, loose)
            self._loose = told_of(loose)
            return plan

        self._again = partial(self.bring_back, known, before)
        self._plan(
            PlanToChange(
                tr("Bring {name} back", name=name),
                tr(
                    "to {before}; documents that nobody edited are again what they were there",
                    before=shown(str(before)),
                ),
                tr("Bring it back"),
                None,
                ungather=ungather,
            ),
            make,
        )

    def _plan(self, change: PlanToChange, make: Callable[[Control], Any]) -> None:
        self._make = make

        def done(plan: Any) -> None:
            self._change = replace(change, plan=plan, said=self._loose)
            self._show_plan()

        words = tr("Looking at both places. Nothing is written.")
        self._busy(change.title, words, lambda control, _: make(control), done)

    def _show_plan(self) -> None:
        assert self._change
        able = (Turn.ACCEPT, Turn.AGAIN)
        deciding = DecisionActions(self._answer, self._reopen, able)
        actions = ChangeActions(deciding, self.start, self._leave, self._again)
        self.page.show_plan(self._change, actions)

    def _answer(self, problem: Problem, answer: Answer) -> None:
        assert self._change and self._make
        if answer.turn is Turn.AGAIN:
            self._plan(self._change, self._make)
            return
        accepted = self._change.accepted | {about(problem)}
        self._change = replace(self._change, accepted=accepted)
        self._show_plan()

    def _reopen(self, problem: Problem) -> None:
        assert self._change
        accepted = self._change.accepted - {about(problem)}
        self._change = replace(self._change, accepted=accepted)
        self._show_plan()

    def start(self) -> None:
        """Starts the planned crossing, after planning it once more."""
        change, make = self._change, self._make
        if change is None or make is None or change.plan is None:
            return
        if open_decisions(change.plan.problems, change.accepted):
            return
        before = change.plan

        def work(control: Control, _: _Progress) -> Any:
            plan = make(control)
            if _asks(plan) != _asks(before):
                return plan
            self._first(control)
            return Crossing.start(self._workspace, plan, decided=True)

        def done(outcome: Any) -> None:
            if isinstance(outcome, Crossing):
                self.close()
                self.started.emit(outcome)
                self.changed.emit()
                return
            self._change = replace(change, plan=outcome, accepted=frozenset())
            self._show_plan()

        self._busy(change.title, tr("Looking at both places once more."), work, done)


def _asks(plan: Any) -> Any:
    """What was agreed in a plan: its changes, and its problems."""
    facts = plan.update.facts if plan.update else None
    return facts, [(p.code, p.files) for p in plan.problems if p.code.severity.value != "note"]
