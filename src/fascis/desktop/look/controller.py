"""Actions of a search: starting it, stopping it, putting found libraries on the shelf."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal

from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do, button, label
from fascis.desktop.kit.tasks import Task, post
from fascis.desktop.look.bands import Block
from fascis.desktop.look.view import LookView
from fascis.files.codes import Severity
from fascis.files.control import Control
from fascis.files.errors import Cancelled, FascisError
from fascis.files.names import parent, shown
from fascis.files.times import whole
from fascis.library.looking.finding import Found
from fascis.library.looking.look import LibraryFound, Looked, look, usual_folders
from fascis.library.looking.seeing import TYPES
from fascis.words.figures import day, size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

_KINDS = (tr("Film"), tr("Pictures"), tr("Sound"), tr("Other files"))
_TYPE_WORDS = dict(zip(TYPES, _KINDS, strict=True))


class Looking(QObject):
    """Connects the view and the side panel with the core."""

    # Libraries were put on the shelf: the first of them.
    added = pyqtSignal(object)
    # The given folder contains at most one library: it should be put on the shelf itself.
    alone = pyqtSignal(object)
    # Several libraries were found in the given folder: they should be shown.
    several = pyqtSignal()

    def __init__(
        self,
        workspace: Workspace,
        view: LookView,
        panel: SidePanel,
        back: Do,
        opener: Callable[[str], None],
        shows: Callable[[], bool],
        above: QObject,
    ) -> None:
        super().__init__(above)
        # True while the view is visible: it then controls the panel.
        self._shows = shows
        self._workspace, self._view, self._panel = workspace, view, panel
        self._back, self._opener = back, opener
        self._control = Control()
        self._turn = 0
        self._looked: Looked | None = None
        self._block: Block | None = None
        self.running = False
        view.chosen.connect(self._chosen)
        view.ticked.connect(self._show)

    def begin(self, title: str, folders: Sequence[Path] = ()) -> None:
        """Searches; by default the home and every connected drive."""
        turn, control = self._start()
        self._view.show_looking(title)
        self._panel.show_busy(tr("Looking"), tr("Nothing is written there."), self._cancel)

        def tell(files: int, found: list[Found]) -> None:
            roots = sorted({one.root for one in found})
            post(self, partial(self._so_far, turn, files, roots))

        def work() -> Looked:
            where = folders or usual_folders(self._workspace)
            return look(self._workspace, where, control, tell)

        Task(work, lambda outcome: self._done(turn, outcome), self)

    def _start(self) -> tuple[int, Control]:
        """Starts something new: earlier work is stopped, and not shown any more."""
        self._control.stop()
        self._control = Control()
        self._turn += 1
        self.running, self._looked, self._block = True, None, None
        return self._turn, self._control

    def take(self, path: Path) -> None:
        """A folder was given: if it contains several libraries, these are shown to be ticked."""
        turn, control = self._start()
        self._panel.show_busy(
            shown(path.name), tr("Looking at it. Nothing is written there."), self._cancel
        )

        def work() -> Looked | None:
            return look(self._workspace, [path], control) if path.is_dir() else None

        def done(outcome: Any) -> None:
            if turn != self._turn:
                return
            if outcome is None or (isinstance(outcome, Looked) and len(outcome.libraries) < 2):
                self.running = False
                self.alone.emit(path)
                return
            self._view.show_looking(shown(path.name))
            self.several.emit()
            self._done(turn, outcome)

        Task(work, done, self)

    def stop(self) -> None:
        """Stops a running search."""
        self._control.stop()
        self._turn += 1
        self.running = False

    def _cancel(self) -> None:
        self.stop()
        self._back()

    def _so_far(self, turn: int, files: int, roots: list[bytes]) -> None:
        if turn == self._turn and self.running:
            self._view.show_so_far(files, [Path(os.fsdecode(root)) for root in roots])

    def _done(self, turn: int, outcome: Any) -> None:
        if turn != self._turn:
            return
        self.running = False
        if isinstance(outcome, Cancelled):
            return
        if isinstance(outcome, BaseException):
            back = [(tr("Back to the shelves"), self._back)]
            if self._shows():
                self._panel.show_error(tr("It cannot be looked at"), str(outcome), back)
            return
        self._looked = outcome
        self._view.show_looked(outcome)
        if self._shows():
            self._show()
            self._view.first_focus()

    # -- the panel ---------------------------------------------------------------------------------

    def _chosen(self, block: Block) -> None:
        self._block = block
        self._show()

    def show(self) -> None:
        """Shows the panel again, in its present state."""
        if self.running:
            self._panel.show_busy(tr("Looking"), tr("Nothing is written there."), self._cancel)
        elif self._looked is not None:
            self._show()

    def _show(self) -> None:
        looked, block = self._looked, self._block
        if looked is None:
            return
        panel = self._panel
        panel.begin(tr("What is on it"), tr("Looking writes nothing anywhere."))
        if block is not None:
            self._tell_block(block)
        elif looked.tops:
            self._tell_types(self._types(looked))
        wanted = self._view.wanted()
        buttons = []
        if wanted:
            words = trn(
                "Put {n} library on the shelf", "Put {n} libraries on the shelf", len(wanted)
            )
            buttons.append(button(words, lambda: self._put(wanted), main=True))
        buttons.append(button(tr("Back to the shelves"), self._back, main=not wanted))
        panel.end(*buttons)

    @staticmethod
    def _types(looked: Looked) -> list[int]:
        return [sum(top.types[n] for top in looked.tops) for n in range(len(TYPES))]

    def _tell_types(self, types: Sequence[int]) -> None:
        """Its contents by length: with holes in files this is more than the room."""
        self._panel.head(tr("By their lengths"))
        for kind, total in zip(TYPES, types, strict=True):
            if total:
                self._panel.add_row(_TYPE_WORDS[kind], size(total))

    def _tell_block(self, block: Block) -> None:
        panel = self._panel
        panel.add(label(block.words, head=True))
        panel.add_row(tr("Takes"), size(block.room), trn("{n} file", "{n} files", block.files))
        panel.add_row(tr("Last change"), day(whole(block.last_change_ns) / 1e9))
        if block.weight is not None:
            self._tell_types(block.weight.types)
        if not block.path:
            return
        panel.add_row(tr("In"), "", shown(parent(block.path)))
        path = Path(os.fsdecode(block.path))
        panel.add(button(tr("Show in folder"), lambda: self._opener(str(path)), link=True))
        if block.weight is not None:
            words = tr("It is a library: put it on the shelf")
            panel.add(button(words, lambda: self._put_all([path]), link=True))

    # -- onto the shelf ----------------------------------------------------------------------------

    def _put(self, wanted: Sequence[LibraryFound]) -> None:
        self._put_all([one.root for one in wanted])

    def _put_all(self, roots: Sequence[Path]) -> None:
        """Surveys each, and puts it on its shelf."""
        self._control = control = Control()
        words = tr("Each is surveyed first. Nothing is written into it.")
        self._panel.show_busy(
            trn(
                "Putting {n} library on the shelf", "Putting {n} libraries on the shelf", len(roots)
            ),
            words,
            self._cancel,
        )
        self._turn += 1
        turn = self._turn

        def work() -> list[str]:
            wrong = []
            for root in roots:
                surveyed = survey_library(self._workspace, root, None, control)
                stops = [p for p in surveyed.problems if p.severity is Severity.STOPS]
                if stops:
                    wrong.append(stops[0].sentence)
                else:
                    remember(self._workspace, surveyed)
            return wrong

        def done(outcome: Any) -> None:
            if turn != self._turn or isinstance(outcome, Cancelled):
                return
            wrong = [str(outcome)] if isinstance(outcome, (FascisError, OSError)) else outcome
            if isinstance(wrong, BaseException):
                raise wrong
            if wrong:
                back = [(tr("Back to the shelves"), lambda: self.added.emit(roots[-1]))]
                self._panel.show_error(tr("Not all could be put there"), " ".join(wrong), back)
            else:
                self.added.emit(roots[0])

        Task(work, done, self)
