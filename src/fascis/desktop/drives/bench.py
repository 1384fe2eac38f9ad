"""The demo's controls for stand-in drives in the side panel."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QHBoxLayout, QWidget

from fascis.demo.bench import Lever, levers
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import button, label
from fascis.desktop.kit.tasks import Task
from fascis.files.errors import FascisError
from fascis.files.names import shown
from fascis.words.speech import tr
from fascis.workspace import Workspace


class Bench(QObject):
    """Shows the controls, and carries them out in tasks."""

    changed = pyqtSignal()

    def __init__(
        self, workspace: Workspace, panel: SidePanel, back: Callable[[], None], parent: QObject
    ) -> None:
        super().__init__(parent)
        self.workspace, self.panel, self._back = workspace, panel, back
        self.open = False

    def show(self, trouble: str = "") -> None:
        """Reads the stand-ins, and shows the controls of each."""
        self.open = True

        def work() -> list[tuple[str, str, list[Lever]]]:
            drives = self.workspace.drives
            return [
                (s.description.label, s.folder.name, levers(drives, s.folder))
                for s in drives.stand_ins()
            ]

        Task(work, lambda outcome: self._paint(outcome, trouble), self)

    def _paint(self, outcome: Any, trouble: str) -> None:
        if not self.open:
            return
        panel = self.panel
        panel.begin(
            tr("Stand-in drives"),
            tr(
                "Only in the demo: do to them what happens to real ones, and see what "
                "the shelves say."
            ),
        )
        if isinstance(outcome, BaseException):
            trouble, outcome = str(outcome), []
        if trouble:
            panel.add(label(trouble, wrong=True))
        for name, folder, some in outcome:
            panel.head(shown(name))
            if folder.lower().replace("-", " ") != name.lower():
                panel.add(label(shown(folder), quiet=True))
            panel.add(self._row(name, some))
        panel.end(button(tr("Back to the shelves"), self._leave, main=True))

    def _row(self, name: str, some: list[Lever]) -> QWidget:
        made = QWidget()
        across = QHBoxLayout(made)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(12)
        for lever in some:
            b = button(lever.words, lambda lever=lever: self._pull(lever), link=True)  # type: ignore[misc]
            b.setAccessibleName(f"{lever.words}: {shown(name)}")
            across.addWidget(b)
        across.addStretch(1)
        return made

    def _pull(self, lever: Lever) -> None:
        def done(outcome: Any) -> None:
            if isinstance(outcome, BaseException) and not isinstance(outcome, FascisError):
                raise outcome
            self.show(str(outcome) if isinstance(outcome, FascisError) else "")
            self.changed.emit()

        Task(lever.pull, done, self)

    def close(self) -> None:
        """Something else is shown now."""
        self.open = False

    def _leave(self) -> None:
        self.close()
        self._back()
