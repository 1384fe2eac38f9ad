"""Planning a split in the window: the new libraries, what happens to the rest, and the start."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec.structs import replace
from PyQt6.QtCore import QObject, pyqtSignal

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.answers import Answer, Turn
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.crossing.split import NewLibrary, Split, SplitPlan, one_for_each, plan_split
from fascis.desktop.kit.decisions import DecisionActions, about, open_decisions
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.tasks import Task
from fascis.desktop.plan.split_page import SplitActions, SplitDraft, SplitPage
from fascis.files.errors import FascisError
from fascis.files.names import shown
from fascis.words.speech import tr
from fascis.workspace import Workspace


class Splitting(QObject):
    """Plans a split of a plan's library, and starts it."""

    started = pyqtSignal(object)  # Crossings, one after the other.

    def __init__(
        self, workspace: Workspace, panel: SidePanel, back: Callable[[], None], parent: QObject
    ) -> None:
        super().__init__(parent)
        self._workspace, self._panel, self._back = workspace, panel, back
        self._page = SplitPage(panel)
        self._surveyed: Surveyed | None = None
        self._folder = Path()
        self.plan: SplitPlan | None = None
        self.draft: SplitDraft | None = None
        self._turn = 0

    def begin(self, surveyed: Surveyed, folder: Path) -> None:
        """Plans a split into a folder: a library for each project."""
        self._surveyed, self._folder = surveyed, folder
        self.draft = SplitDraft(surveyed.name, str(folder))
        self._make()

    def _libraries(self, surveyed: Surveyed, rest: bool) -> list[NewLibrary]:
        found = one_for_each(surveyed)
        if rest:
            projects = tuple(p for library in found for p in library.projects)
            found.append(NewLibrary(tr("{name} (rest)", name=surveyed.name), projects, rest=True))
        return found

    def _make(self) -> None:
        surveyed, draft, folder = self._surveyed, self.draft, self._folder
        if surveyed is None or draft is None:
            return
        self._turn += 1
        turn = self._turn
        self._panel.show_busy(
            tr("Split"), tr("Looking at both places. Nothing is written."), self._back
        )

        def work() -> SplitPlan:
            libraries = self._libraries(surveyed, draft.rest)
            return plan_split(self._workspace, surveyed, folder, libraries, draft.after)

        Task(work, lambda outcome: self._planned(turn, outcome), self)

    def _planned(self, turn: int, outcome: Any) -> None:
        if turn != self._turn or self.draft is None:
            return
        if isinstance(outcome, BaseException):
            self._failed(tr("This cannot be planned"), outcome)
            return
        self.plan = outcome
        self._show()

    def _show(self) -> None:
        assert self.plan and self.draft
        actions = SplitActions(
            rest=lambda on: self._change(rest=on),
            after=lambda after: self._change(after=after),
            decisions=DecisionActions(self._answer, self._reopen, (Turn.ACCEPT,)),
            start=self.start,
            back=self._leave,
        )
        self._page.show_split(self.plan, self.draft, actions)

    def _change(self, rest: bool | None = None, after: After | None = None) -> None:
        assert self.draft
        self.draft = replace(
            self.draft,
            rest=self.draft.rest if rest is None else rest,
            after=after or self.draft.after,
        )
        self._make()

    def _answer(self, problem: Problem, _answer: Answer) -> None:
        assert self.draft
        self.draft = replace(self.draft, accepted=self.draft.accepted | {about(problem)})
        self._show()

    def _reopen(self, problem: Problem) -> None:
        assert self.draft
        self.draft = replace(self.draft, accepted=self.draft.accepted - {about(problem)})
        self._show()

    def _leave(self) -> None:
        self.draft = self.plan = None
        self._turn += 1
        self._back()

    def start(self) -> None:
        """Starts the crossings of the split; they run one after another."""
        surveyed, draft, folder = self._surveyed, self.draft, self._folder
        if surveyed is None or draft is None or self.plan is None:
            return
        if open_decisions(self.plan.problems, draft.accepted):
            return
        self._panel.show_busy(
            tr("Starting"), tr("Looking at both places once more, then writing plans.")
        )

        def work() -> Split:
            again = survey_library(self._workspace, surveyed.root)
            libraries = self._libraries(again, draft.rest)
            plan = plan_split(self._workspace, again, folder, libraries, draft.after, ask=True)
            return Split.start(self._workspace, plan, consent=False)

        Task(work, self._begun, self)

    def _begun(self, outcome: Any) -> None:
        if isinstance(outcome, BaseException):
            self._failed(tr("It did not start; nothing was copied"), outcome)
            return
        self.draft = self.plan = None
        for part in outcome.parts:
            self.started.emit(part)

    def _failed(self, title: str, error: BaseException) -> None:
        if not isinstance(error, FascisError):
            raise error
        self.draft = None
        self._panel.show_error(title, shown(str(error)), [(tr("Back"), self._back)])
