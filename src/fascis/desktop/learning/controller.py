"""Actions on documents of unknown make, each as a task."""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do
from fascis.desktop.kit.tasks import Task, post
from fascis.desktop.learning.page import LearningActions, LearningPage, ToRead
from fascis.files.control import Control
from fascis.files.errors import Cancelled
from fascis.files.names import shown
from fascis.library.learning.asking import Step, confirm, learn
from fascis.library.learning.learnt import Learnt
from fascis.library.learning.proposing import proposals
from fascis.words.speech import tr
from fascis.workspace import Workspace

_STEPS = {
    "listing": tr("Looking at its files. Looking changes nothing."),
    "reading": tr("Reading a private copy. Looking changes nothing."),
    "searching": tr("Searching for paths in it. Looking changes nothing."),
    "trying": tr("Checking on a private copy whether it can be rewritten."),
}


class Learning(QObject):
    """Connects them and the side panel with the core."""

    # Something was confirmed in this library: it must be surveyed again.
    confirmed = pyqtSignal(object)
    # The possible readings of this library are known.
    proposed = pyqtSignal(object)

    def __init__(self, workspace: Workspace, panel: SidePanel, back: Do, parent: QObject) -> None:
        super().__init__(parent)
        self._workspace, self._panel, self._back = workspace, panel, back
        self._page = LearningPage(panel)
        # True while the panel shows this, and a refresh of the drives must not replace it.
        self.open = False
        self._turn = 0
        self._control, self._proposing = Control(), Control()
        self._root: Path | None = None
        self._learnt: Learnt | None = None
        self._changed = False
        # How many documents of a library could be confirmed.
        self.asks: dict[Path, int] = {}
        self._name = ""
        self._alone = False

    def propose(self, surveyed: Surveyed) -> None:
        """Finds possible readings of a library in the background; nobody waits for it."""
        root, uses = surveyed.root, surveyed.uses
        if not uses.not_understood:
            self.asks.pop(root, None)
            return

        def done(outcome: Any) -> None:
            if not isinstance(outcome, BaseException):
                self.asks[root] = sum(one.asks for one in outcome.values())
                self.proposed.emit(root)

        control = self._proposing
        Task(lambda: proposals(self._workspace, surveyed.source, uses, control), done, self)

    def stop(self) -> None:
        """The window closes: background work stops."""
        self._proposing.stop()
        self._control.stop()

    def close(self) -> None:
        """Something else is chosen: results of this are not shown any more."""
        if self.open:
            self._control.stop()
        self.open = False
        self._turn += 1

    def look(self, root: Path) -> None:
        """Shows the documents of a library that are not understood."""
        self._root, self._alone = root, False
        control = self._begin(tr("Looking at {name}", name=shown(root.name)))
        step = self._steps()

        def work() -> list[ToRead]:
            surveyed = survey_library(self._workspace, root, None, control)
            uses = surveyed.uses
            known = proposals(self._workspace, surveyed.source, uses, control, step)
            above = surveyed.source
            return [
                ToRead(above / os.fsdecode(place), why, known.get(place))
                for place, why in uses.not_understood
            ]

        self._task(work, self._show_documents)

    def read(self, root: Path, document: Path) -> None:
        """Examines one document; from there back to where the person was."""
        self._root, self._alone = root, True
        self._read(document)

    def _steps(self) -> Step:
        """Shows the present step in the panel, from any thread."""
        turn = self._turn + 1
        return lambda step, _number: post(self, partial(self._show_step, turn, step))

    def _show_step(self, turn: int, step: str) -> None:
        if turn == self._turn and self.open:
            self._panel.show_busy(self._name, _STEPS[step], self._cancel)

    def _show_documents(self, documents: list[ToRead]) -> None:
        assert self._root
        self.asks[self._root] = sum(bool(d.proposal and d.proposal.asks) for d in documents)
        if not documents and self._changed:
            self._leave()
            return
        self._page.show_documents(self._root.name, documents, self._actions())

    def _actions(self) -> LearningActions:
        return LearningActions(self._read, self._yes, self._take, self._leave)

    def _read(self, document: Path) -> None:
        control = self._begin(tr("Reading {name}", name=shown(document.name)))
        step = self._steps()
        self._task(lambda: learn(self._workspace, document, (), control, step), self._show_learnt)

    def _show_learnt(self, learnt: Learnt) -> None:
        self._learnt = learnt
        actions = LearningActions(self._read, self._yes, self._take, self._look_again)
        self._page.show_learnt(learnt, actions)

    def _look_again(self) -> None:
        if self._alone:
            self._leave()
        elif self._root:
            self.look(self._root)

    def _yes(self) -> None:
        self._confirm(())

    def _take(self, number: int) -> None:
        """Chooses one of several fields with the same content, by its number."""
        self._confirm((number,))

    def _confirm(self, choice: tuple[int, ...]) -> None:
        learnt = self._learnt
        if learnt is None:
            return
        self._begin(tr("Remembering {name}", name=shown(learnt.document.name)))

        def done(_: object) -> None:
            self._changed = True
            self._look_again()

        self._task(lambda: confirm(self._workspace, learnt, choice), done)

    def _leave(self) -> None:
        root, changed = self._root, self._changed
        self._changed = False
        self.close()
        if changed and root:
            self.confirmed.emit(root)
        else:
            self._back()

    # -- tasks -------------------------------------------------------------------------------------

    def _begin(self, words: str) -> Control:
        self.open, self._name = True, words
        self._control = Control()
        self._panel.show_busy(words, tr("Looking changes nothing."), self._cancel)
        return self._control

    def _cancel(self) -> None:
        self._control.stop()
        self._leave()

    def _task(self, work: Any, then: Any) -> None:
        self._turn += 1
        turn = self._turn

        def done(outcome: Any) -> None:
            if turn != self._turn or isinstance(outcome, Cancelled):
                return
            if isinstance(outcome, BaseException):
                back = [(tr("Back"), self._leave)]
                self._panel.show_error(tr("It could not be read"), str(outcome), back)
                return
            then(outcome)

        Task(work, done, self)
