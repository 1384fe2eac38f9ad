"""Saving a report for the makers: its contents, with names or without, and its path."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QCheckBox, QFileDialog

from fascis.crossing.status.makers_report import makers_report
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import button, label
from fascis.desktop.kit.tasks import Task
from fascis.files.names import shown
from fascis.files.own.saving import write_over
from fascis.words.speech import tr
from fascis.workspace import Workspace


class SavingReport(QObject):
    """The page in the side panel.

    Args:
        back: shows what the panel had before.
    """

    def __init__(
        self, workspace: Workspace, panel: SidePanel, back: Callable[[], None], parent: QObject
    ) -> None:
        super().__init__(parent)
        self._workspace, self._panel, self._back = workspace, panel, back
        # The file dialog, or its replacement in a test.
        self.ask: Callable[[], str] = self._ask
        self.open = False

    def show(self) -> None:
        """Says what would be saved."""
        self.open = True
        self._panel.begin(
            tr("A report for the makers"),
            tr("It helps to find out what went wrong. It is saved where you say; nothing is sent."),
        )
        self._panel.head(tr("What is in it"))
        self._panel.add_row(tr("Versions"), "", tr("Fascis, the system, the packages it uses"))
        self._panel.add_row(
            tr("Drives"), "", tr("kind, size and space of those that are connected")
        )
        self._panel.add_row(
            tr("The last crossings"), "", tr("states, counts and what needed attention")
        )
        self._panel.add_row(tr("The log"), "", tr("what Fascis did"))
        self._without = QCheckBox(tr("Leave names and paths out"))
        self._panel.space(8)
        self._panel.add(self._without)
        self._panel.add(
            label(
                tr("The report then has no name of a file, folder, library or drive."), quiet=True
            )
        )
        self._panel.end(
            button(tr("Save the report…"), self._save, main=True),
            button(tr("Back"), self._leave, back=True),
        )

    def _leave(self) -> None:
        self.open = False
        self._back()

    def _ask(self) -> str:
        name, _ = QFileDialog.getSaveFileName(
            self._panel, tr("Save the report"), "fascis-report.json", tr("Report (*.json)")
        )
        return name

    def _save(self) -> None:
        names = not self._without.isChecked()
        name = self.ask()
        if not name:
            return
        self._panel.show_busy(tr("Saving the report"), tr("Reading journals and the log."))
        Task(
            lambda: write_over(Path(name), makers_report(self._workspace, names)),
            lambda outcome: self._saved(name, outcome),
            self,
        )

    def _saved(self, name: str, outcome: Any) -> None:
        if not self.open:
            return
        if isinstance(outcome, BaseException):
            self._panel.show_error(
                tr("It was not saved"), str(outcome), [(tr("Back"), self._leave)]
            )
            return
        self._panel.begin(tr("The report is saved"), shown(name))
        self._panel.add(label(tr("Nothing was sent."), well=True))
        self._panel.end(button(tr("Back"), self._leave, main=True, back=True))
