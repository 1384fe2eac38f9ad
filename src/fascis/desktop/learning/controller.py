"""What a person does about documents of unknown make, each step as a task."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from fascis.crossing.scope.surveyed import survey_library
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do
from fascis.desktop.kit.tasks import Task
from fascis.desktop.learning.page import LearningActions, LearningPage
from fascis.files.control import Control
from fascis.files.errors import Cancelled
from fascis.files.names import shown
from fascis.library.learning import Learnt, confirm, learn
from fascis.workspace import Workspace


class Learning(QObject):
    """Connects them and the side panel with the core."""

    # Something was confirmed in this library: it is to be looked at again.
    confirmed = pyqtSignal(object)

    def __init__(self, workspace: Workspace, panel: SidePanel, back: Do, parent: QObject) -> None:
        super().__init__(parent)
        self._workspace, self._panel, self._back = workspace, panel, back
        self._page = LearningPage(panel)
        # True while the panel is about this, and a look at the drives must not wipe it away.
        self.open = False
        self._turn = 0
        self._control = Control()
        self._root: Path | None = None
        self._learnt: Learnt | None = None
        self._changed = False

    def close(self) -> None:
        """Something else is chosen: what was begun here is shown no more."""
        if self.open:
            self._control.stop()
        self.open = False
        self._turn += 1

    def look(self, root: Path) -> None:
        """Shows the documents of a library that are not understood."""
        self._root = root
        control = self._begin(f"Looking at {shown(root.name)}")

        def work() -> list[tuple[Path, str]]:
            uses = survey_library(self._workspace, root, None, control).uses
            return [(root / shown(place), why) for place, why in uses.not_understood]

        self._task(work, self._show_documents)

    def _show_documents(self, documents: list[tuple[Path, str]]) -> None:
        assert self._root
        if not documents and self._changed:
            self._leave()
            return
        self._page.show_documents(self._root.name, documents, self._actions())

    def _actions(self) -> LearningActions:
        return LearningActions(self._read, self._yes, self._take, self._leave)

    def _read(self, document: Path) -> None:
        control = self._begin(f"Reading {shown(document.name)}")
        self._task(lambda: learn(self._workspace, document, (), control), self._show_learnt)

    def _show_learnt(self, learnt: Learnt) -> None:
        self._learnt = learnt
        actions = LearningActions(self._read, self._yes, self._take, self._look_again)
        self._page.show_learnt(learnt, actions)

    def _look_again(self) -> None:
        if self._root:
            self.look(self._root)

    def _yes(self) -> None:
        self._confirm(())

    def _take(self, number: int) -> None:
        """One of several that say the same, by its number."""
        self._confirm((number,))

    def _confirm(self, choice: tuple[int, ...]) -> None:
        learnt = self._learnt
        if learnt is None:
            return
        self._begin(f"Remembering {shown(learnt.document.name)}")

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
        self.open = True
        self._control = Control()
        self._panel.show_busy(words, "Nothing is changed by looking.", self._cancel)
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
                back = [("Back", self._leave)]
                self._panel.show_error("It could not be read", str(outcome), back)
                return
            then(outcome)

        Task(work, done, self)
