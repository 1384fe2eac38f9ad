"""One plan at a time: a person's choices, the newest plan for them, its decisions, its start."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace
from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.answers import Answer, Turn
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan, make_usual_plan
from fascis.crossing.plan.plan import Plan, still_holds
from fascis.crossing.plan.sentence import Choice
from fascis.crossing.scope.catalog_folders import folders_of_catalog
from fascis.crossing.scope.named_parts import NamedPart, Weight, named_parts, weigh_parts
from fascis.crossing.scope.surveyed import Surveyed, survey_library, with_ties
from fascis.desktop.kit.decisions import DecisionActions, about, open_decisions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.tasks import Task
from fascis.desktop.plan.along import along_of
from fascis.desktop.plan.choosing import Around, ChoiceActions, Target
from fascis.desktop.plan.page import PlanActions, PlanPage
from fascis.desktop.plan.splitting import Splitting
from fascis.desktop.strands.woven import Woven, WovenStrand, weave
from fascis.drives.model import Drive
from fascis.files.errors import FascisError
from fascis.library.known.shelves import OnShelf
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.words.speech import tr
from fascis.workspace import Workspace


class PlanDraft(Struct, frozen=True):
    """The plan in progress: the library, and the destination folder."""

    standing: OnShelf
    destination: Path


class Drafting(QObject):
    """Holds the choices, makes their plan in tasks, and shows the newest."""

    started = pyqtSignal(object)  # Crossing
    # Woven, or None if there is no plan any more.
    woven_changed = pyqtSignal(object)
    see_strands = pyqtSignal()
    see_relink = pyqtSignal(object)  # The library's folder.
    # A library's folder, and a document in it to be read.
    read_asked = pyqtSignal(object, object)
    # There is no plan any more, and nothing else uses the panel.
    left = pyqtSignal()
    # The panel shows why there is no plan any more.
    failed = pyqtSignal()

    def __init__(
        self,
        workspace: Workspace,
        panel: SidePanel,
        targets: Callable[[Plan], Sequence[Target]],
        busy: Callable[[], str],
        parent: QObject,
    ) -> None:
        """``targets`` returns the possible drives."""
        super().__init__(parent)
        self._workspace, self.panel = workspace, panel
        self._targets, self._busy = targets, busy
        self.draft: PlanDraft | None = None
        self.plan: Plan | None = None
        self.woven: Woven | None = None
        self._surveyed: Surveyed | None = None
        self._choices = Choices()
        # The person chose what happens to home; until then it stays where everything is.
        self._after_said = False
        self._also: Path | None = None
        self._ties: dict[bytes, bytes] = {}
        # Of several plans made at once the last counts; this one is shown.
        self._turn = self._shown_turn = 0
        # The number of the plan that is being started.
        self._starting = -1
        self._accepted: frozenset[Any] = frozenset()
        self.opened: Choice | None = None
        self.parts: tuple[list[NamedPart], dict[str, Weight]] | None = None
        # Start was pressed while a newer plan was being made.
        self._start_wanted = False
        self._page = PlanPage(panel)
        self.splitting = Splitting(workspace, panel, self.show_plan, self)
        self.splitting.started.connect(self._part_begun)

    # -- beginning and leaving ---------------------------------------------------------------------

    def begin(
        self,
        standing: OnShelf,
        destination: Path,
        opened: Choice | None = None,
        choices: Choices | None = None,
    ) -> None:
        """Plans a crossing of a library into a folder and shows the plan.

        Args:
            opened: the choice that is open first.
            choices: earlier choices.
        """
        self._forget()
        self.draft = PlanDraft(standing, destination)
        self._choices, self._after_said = choices or Choices(), choices is not None
        self.opened = opened
        self.woven_changed.emit(None)
        words = tr("Looking at both places. Nothing is written.")
        self.panel.show_busy(tr("Plan"), words, self.back)
        self._make()

    def leave(self) -> None:
        """There is no plan any more; a plan that is still being made is not shown."""
        self._forget()
        self.woven_changed.emit(None)

    def back(self) -> None:
        """Leaves the plan, back to the earlier selection."""
        self.leave()
        self.left.emit()

    def _forget(self) -> None:
        self.draft = self.plan = self.woven = self._surveyed = self._also = None
        self._choices, self._after_said, self._accepted = Choices(), False, frozenset()
        self._ties, self.opened, self.parts = {}, None, None
        self._start_wanted = False
        self._turn += 1
        self._page.forget()

    # -- choosing ----------------------------------------------------------------------------------

    def take_in_or_out(self, strands: list[WovenStrand]) -> None:
        """Takes strands into the plan, or out if all of them are in it."""
        plan = self.plan
        if plan is None:
            return
        movable = [
            s
            for s in strands
            if s.key[2] not in (Standing.MISSING, Standing.AWAY) and s.key[1] is not Role.DOCUMENT
        ]
        keys = {s.key for s in movable}
        out = all(s.along_files for s in movable)
        chosen = self._choices
        without = chosen.without | keys if out else chosen.without - keys
        changes: dict[str, Any] = {"without": frozenset(without)}
        # Strands that a checkbox had taken out come back with it.
        if not out:
            changes["leave_out"] = chosen.leave_out - {s.key[1] for s in movable}
            changes["gather"] = chosen.gather or any(s.key[2] is Standing.LOOSE for s in movable)
            unused = any(s.key[2] is Standing.UNUSED and not s.key[1].remakeable for s in movable)
            changes["leave_unused"] = chosen.leave_unused and not unused
        self.change(**changes)

    def change(self, **changes: Any) -> None:
        """Changes choices: the plan is made again.

        The newest choices change, not those of the plan that is shown.
        """
        self._after_said = self._after_said or "after" in changes
        self._choices = replace(self._choices, **changes)
        self._make()

    def _name(self, name: str) -> None:
        if self.plan is not None and name != (self._choices.name or self.plan.name):
            self.change(name=name)

    def _tick(self, given: str) -> None:
        self.plan_parts(self._choices.only ^ {given})

    def tick_part(self, given: str) -> None:
        """Ticks or unticks a part in Strands: the plan is made again."""
        if self.plan is not None:
            self._tick(given)

    def plan_parts(self, only: frozenset[str]) -> None:
        """Plans these parts; an empty selection means everything."""
        if self._choices.only != only:
            self.change(only=only, name="", taken=None)
        else:
            self.show_plan()

    def take_everything(self) -> None:
        """Plans the whole library again."""
        self.plan_parts(frozenset())

    def put_part(self, given: str, where: object) -> None:
        """A part was dropped on a shelf, or on a library there: it is planned for there."""
        if self.draft is None:
            return
        if isinstance(where, OnShelf):
            self.draft = replace(self.draft, destination=where.root)
        elif isinstance(where, Drive):
            self.draft = replace(self.draft, destination=where.mount)
        elif isinstance(where, Path):
            self.draft = replace(self.draft, destination=where)
        into = not isinstance(where, Drive)
        self.change(only=self._choices.only | {given}, name="", into=into, taken=None)

    def choose_folder(self, folder: Path) -> None:
        """Plans the same for another folder."""
        if self.draft is None or folder == self.draft.destination:
            return
        if self._also == folder:
            self._also = None
        self.draft = replace(self.draft, destination=folder)
        self.change(taken=None)

    def _ask_folder(self) -> None:
        if self.draft is None:
            return
        folder = QFileDialog.getExistingDirectory(
            self.panel, tr("The folder that will contain the library"), str(self.draft.destination)
        )
        if folder:
            self.choose_folder(Path(folder))

    def _choose_also(self, folder: Path | None) -> None:
        self._also = folder
        self._make()

    def _swap(self) -> None:
        """Exchanges home and the second copy."""
        if self.draft and self._also:
            destination, self._also = self._also, self.draft.destination
            self.draft = replace(self.draft, destination=destination)
            self._make()

    def _open(self, choice: Choice | None) -> None:
        self._page.commit()
        self.opened = choice
        if choice is not None:
            self._page.focus_choice()
        if choice is Choice.WHAT and self.parts is None:
            self._weigh()
        self.show_plan()

    def close_choice(self) -> bool:
        """Esc: closes the open choice; False if there was none."""
        if self.plan is None or self.opened is None:
            return False
        self._open(None)
        return True

    def _weigh(self) -> None:
        """Finds the parts of the library, and the size of each."""
        surveyed, turn = self._surveyed, self._turn
        if surveyed is None:
            return

        def work() -> tuple[list[NamedPart], dict[str, Weight]]:
            parts = named_parts(surveyed)
            return parts, weigh_parts(surveyed, parts)

        def done(outcome: Any) -> None:
            if turn > self._turn or self.draft is None:
                return
            if isinstance(outcome, BaseException):
                self._error(tr("The parts could not be found"), outcome)
                return
            self.parts = outcome
            if self.opened is Choice.WHAT:
                self._page.focus_choice()
                self.show_plan()

        Task(work, done, self)

    # -- deciding ----------------------------------------------------------------------------------

    def _answer(self, problem: Problem, answer: Answer) -> None:
        if answer.turn is Turn.ACCEPT:
            self._accepted |= {about(problem)}
            self.show_plan()
        elif answer.turn is Turn.CHANGE:
            self.change(**answer.changes)
        elif answer.turn is Turn.FIND and self.draft:
            self.see_relink.emit(self.draft.standing.root)
        elif answer.turn is Turn.READ and self.draft and problem.files:
            self.read(self.draft.standing.root, problem.files[0])
        elif answer.turn is Turn.AGAIN:
            self._surveyed = None
            self._make()
        else:
            self._open(Choice(answer.turn.value))

    def read(self, root: Path, place: bytes) -> None:
        """Starts reading where a document keeps its paths."""
        self.read_asked.emit(root, place)

    def _reopen(self, problem: Problem) -> None:
        self._accepted -= {about(problem)}
        self.show_plan()

    # -- making ------------------------------------------------------------------------------------

    def with_ties(self, ties: dict[bytes, bytes]) -> None:
        """The copy will refer to found files."""
        self._ties, self._surveyed = ties, None
        self._make()

    def known_survey(self, root: Path) -> Surveyed | None:
        """The survey of the open plan, if it is for this library."""
        mine = self.draft is not None and self.draft.standing.root == root and not self._ties
        return self._surveyed if mine else None

    def library_changed(self, root: Path) -> None:
        """A library's documents were rewritten: its plan is made again."""
        if self.draft is not None and self.draft.standing.root == root:
            self._surveyed = None
            self._make()

    def _make(self) -> None:
        draft, choices, surveyed, also, ties = (
            self.draft,
            self._choices,
            self._surveyed,
            self._also,
            self._ties,
        )
        if draft is None:
            return
        self._turn += 1
        turn, said = self._turn, self._after_said
        if self.plan is not None:
            self._page.wait()

        def work() -> tuple[Surveyed, Plan, Woven]:
            known = surveyed or with_ties(
                survey_library(self._workspace, draft.standing.root), ties
            )
            make = make_plan if said else make_usual_plan
            # A catalog's folder that lies elsewhere is copied by itself.
            elsewhere = folders_of_catalog(self._workspace, known, sorted(choices.only))
            goes = elsewhere.surveyed if elsewhere else known
            wanted = replace(choices, only=elsewhere.only) if elsewhere else choices
            plan = make(self._workspace, goes, draft.destination, wanted, also)
            return known, plan, weave(goes, plan, self._workspace.drives)

        Task(work, lambda outcome: self._planned(turn, outcome), self)

    def _planned(self, turn: int, outcome: Any) -> None:
        if turn != self._turn or self.draft is None:
            return
        if isinstance(outcome, BaseException):
            self._error(tr("This cannot be planned"), outcome)
            return
        if self._surveyed is not outcome[0]:
            self.parts = None
        self._surveyed, self.plan, self.woven = outcome
        self._shown_turn = turn
        self.woven_changed.emit(self.woven)
        if self.opened is Choice.WHAT and self.parts is None:
            self._weigh()
        wanted, self._start_wanted = self._start_wanted, False
        self.show_plan()
        if (
            wanted
            and self.plan is not None
            and not open_decisions(self.plan.problems, self._accepted)
        ):
            self.start()

    def show_plan(self, news: str = "") -> None:
        """Shows the plan in the panel; ``news`` is a sentence above it."""
        plan, woven = self.plan, self.woven
        if plan is None or woven is None:
            return
        if self._starting == self._turn:
            # Shown again while it starts: it must not be started twice.
            self._show_starting()
            return
        around = Around(
            along=along_of(woven, plan.choices.without),
            targets=self._targets(plan),
            parts=self.parts,
            ticked=self._choices.only,
            opened=self.opened,
            busy=self._busy(),
            accepted=self._accepted,
            news=news,
            waits=self._turn != self._shown_turn,
        )
        choosing = ChoiceActions(
            change=self.change,
            name=self._name,
            tick=self._tick,
            everything=self.take_everything,
            split=self._split,
            place=self.choose_folder,
            folder=self._ask_folder,
            also=self._choose_also,
            swap=self._swap,
            strands=self.see_strands.emit,
        )
        deciding = DecisionActions(self._answer, self._reopen)
        actions = PlanActions(choosing, self._open, deciding, self.start, self.back)
        self._page.show(plan, around, actions)

    # -- starting ----------------------------------------------------------------------------------

    def start(self) -> None:
        """Starts the planned crossing; waits for the newest plan first.

        If the library changed since the plan, shows the new plan instead.
        """
        self._page.commit()
        plan, surveyed = self.plan, self._surveyed
        if plan is None or surveyed is None:
            return
        if self._turn != self._shown_turn:
            self._start_wanted = True
            return
        if open_decisions(plan.problems, self._accepted) or self._starting == self._turn:
            return
        also, only, turn = self._also, self._choices.only, self._turn
        self._starting = turn
        self._show_starting()

        def work() -> Crossing | tuple[Surveyed, Plan, Woven]:
            again = with_ties(survey_library(self._workspace, surveyed.root), surveyed.ties)
            elsewhere = folders_of_catalog(self._workspace, again, sorted(only))
            goes = elsewhere.surveyed if elsewhere else again
            fresh = make_plan(self._workspace, goes, plan.asked_for, plan.choices, also, ask=True)
            if not still_holds(plan, fresh):
                return again, fresh, weave(goes, fresh, self._workspace.drives)
            return Crossing.start(self._workspace, fresh, decided=True)

        Task(work, lambda outcome: self._started(turn, outcome), self)

    def _show_starting(self) -> None:
        self.panel.show_busy(
            tr("Starting"),
            tr("Looking at both places once more, then writing the plan into its journal."),
        )

    def _started(self, turn: int, outcome: Any) -> None:
        if self._starting == turn:
            self._starting = -1
        # Later choices belong to another plan, and stay.
        if isinstance(outcome, Crossing):
            if turn == self._turn:
                self.leave()
            self.started.emit(outcome)
            return
        if turn != self._turn:
            return
        if isinstance(outcome, BaseException):
            self._error(tr("It did not start; nothing was written"), outcome)
            return
        self._surveyed, self.plan, self.woven = outcome
        self.woven_changed.emit(self.woven)
        self._accepted = frozenset()
        self.show_plan(
            tr(
                "The library, its places or what the drive reports changed since this plan was "
                "shown. The plan was made again; nothing was copied."
            )
        )

    def _split(self) -> None:
        if self._surveyed is not None and self.draft is not None:
            self.splitting.begin(self._surveyed, self.draft.destination)

    def _part_begun(self, crossing: Crossing) -> None:
        self.leave()
        self.started.emit(crossing)

    def _error(self, title: str, error: BaseException) -> None:
        if not isinstance(error, FascisError):
            raise error
        self.leave()
        self.failed.emit()
        self.panel.show_error(title, str(error), [(tr("Back to the shelves"), self.left.emit)])
