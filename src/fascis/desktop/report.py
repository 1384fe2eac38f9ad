"""Saving a report for the makers: what is in it, with names or without, and where it goes."""

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
        # The file dialog, or what stands for it in a test.
        self.ask: Callable[[], str] = self._ask
        self.open = False

    def show(self) -> None:
        """Says what would be saved."""
        self.open = True
        self._panel.begin(
            "A report for the makers",
            "It helps to find out what went wrong. It is saved where you say; nothing is sent.",
        )
        self._panel.head("What is in it")
        self._panel.add_row("Versions", "", "Fascis, the system, the packages it uses")
        self._panel.add_row("Drives", "", "kind, size and space of those that are connected")
        self._panel.add_row("The last crossings", "", "states, counts and what needed attention")
        self._panel.add_row("The log", "", "what Fascis did")
        self._without = QCheckBox("Leave names and paths out")
        self._panel.space(8)
        self._panel.add(self._without)
        self._panel.add(
            label("The report then has no name of a file, folder, library or drive.", quiet=True)
        )
        self._panel.end(
            button("Save the report…", self._save, main=True),
            button("Back", self._leave, back=True),
        )

    def _leave(self) -> None:
        self.open = False
        self._back()

    def _ask(self) -> str:
        name, _ = QFileDialog.getSaveFileName(
            self._panel, "Save the report", "fascis-report.json", "Report (*.json)"
        )
        return name

    def _save(self) -> None:
        names = not self._without.isChecked()
        name = self.ask()
        if not name:
            return
        self._panel.show_busy("Saving the report", "Reading journals and the log.")
        Task(
            lambda: write_over(Path(name), makers_report(self._workspace, names)),
            lambda outcome: self._saved(name, outcome),
            self,
        )

    def _saved(self, name: str, outcome: Any) -> None:
        if not self.open:
            return
        if isinstance(outcome, BaseException):
            self._panel.show_error("It was not saved", str(outcome), [("Back", self._leave)])
            return
        self._panel.begin("The report is saved", shown(name))
        self._panel.add(label("Nothing was sent.", well=True))
        self._panel.end(button("Back", self._leave, main=True, back=True))
