"""Putting libraries on the shelves: a folder, a document, a new catalog of photos."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, pyqtSignal
from PyQt6.QtWidgets import QFileDialog

from fascis.crossing.scope.surveyed import Surveyed, remember, survey_library
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.tasks import Task
from fascis.desktop.shelves.view import ShelvesView
from fascis.documents.catalog import ENDING
from fascis.documents.registry import endings
from fascis.files.codes import Severity
from fascis.files.control import Control
from fascis.files.errors import Cancelled, FascisError
from fascis.files.names import shown
from fascis.library.catalogs import Cataloged, catalog_folders
from fascis.words.speech import tr
from fascis.workspace import Workspace


def _patterns() -> str:
    """Names of documents that can be a library by themselves, for a file dialog."""
    return " ".join(f"*.{ending.decode()}" for ending in endings())


class Adding(QObject):
    """Asks for something to add, surveys it in a task, and shows the result."""

    # A survey is running: the panel shows it.
    begun = pyqtSignal()
    added = pyqtSignal(object)  # Surveyed
    # The person returns to the shelves.
    left = pyqtSignal()

    def __init__(
        self, workspace: Workspace, view: ShelvesView, panel: SidePanel, parent: QObject
    ) -> None:
        super().__init__(parent)
        self._workspace, self._view, self._panel = workspace, view, panel

    def _start(self) -> str:
        """Where a dialog starts: beside the chosen library, otherwise at home."""
        chosen = self._view.selected
        return str(chosen.root.parent if chosen is not None else Path.home())

    def ask_library(self) -> None:
        """Asks for a library's folder."""
        title = tr("The library's own folder")
        folder = QFileDialog.getExistingDirectory(self._view, title, self._start())
        if folder:
            self.add_library(Path(folder))

    def ask_document(self) -> None:
        """Asks for a single document that is a library by itself, with the files it refers to."""
        kinds = tr("Documents ({patterns})", patterns=_patterns())
        title = tr("A catalog, a timeline or a playlist")
        name, _ = QFileDialog.getOpenFileName(self._view, title, self._start(), kinds)
        if name:
            self.add_library(Path(name))

    def ask_catalog(self) -> None:
        """Asks for a folder of photos and for the name of a new catalog of it."""
        title = tr("The folder of photos")
        folder = QFileDialog.getExistingDirectory(self._view, title, self._start())
        if not folder:
            return
        name, _ = QFileDialog.getSaveFileName(
            self._view,
            tr("The new catalog"),
            f"{folder}/{Path(folder).name}.{ENDING}",
            tr("Photo catalog (*.{ending})", ending=ENDING),
        )
        if name:
            whole = name if name.endswith(f".{ENDING}") else f"{name}.{ENDING}"
            self.catalog(Path(whole), [Path(folder)])

    def ask_photos(self) -> None:
        """Asks for a folder of photos to add to the catalog of the chosen library."""
        chosen = self._view.selected
        root = chosen.root if chosen is not None else None

        def work() -> list[Path]:
            if root is None:
                return []
            found = sorted(root.glob(f"*.{ENDING}")) if root.is_dir() else [root]
            return [path for path in found if path.suffix == f".{ENDING}"]

        Task(work, self._ask_photos, self)

    def _ask_photos(self, found: Any) -> None:
        if isinstance(found, OSError):
            found = []
        if isinstance(found, BaseException):
            raise found
        if len(found) != 1:
            self._error(
                tr("No catalog is chosen"),
                FascisError(
                    tr(
                        "Choose a library that has one catalog in its own folder. Nothing was "
                        "changed."
                    )
                ),
            )
            return
        title = tr("The folder of photos to add")
        folder = QFileDialog.getExistingDirectory(self._view, title, self._start())
        if folder:
            self.catalog(found[0], [Path(folder)])

    def catalog(self, path: Path, folders: list[Path]) -> None:
        """Makes a catalog, or adds folders of photos to one; then surveys it as a library."""
        control = Control()
        self.begun.emit()
        words = tr("Reading the photos. Nothing is written into them or their folders.")
        self._panel.show_busy(shown(path.name), words, control.stop)

        def work() -> Cataloged:
            return catalog_folders(
                self._workspace.drives, path, folders, self._workspace.private, control
            )

        def done(outcome: Any) -> None:
            if isinstance(outcome, BaseException):
                self._error(tr("The catalog was not changed"), outcome)
                return
            inside = all(f.is_relative_to(path.parent) for f in folders)
            self.add_library(path.parent if inside else path)

        Task(work, done, self)

    def add_library(self, root: Path) -> None:
        """Surveys a folder and puts it on its shelf."""
        self._look_at(root, home=False)

    def make_home(self, root: Path) -> None:
        """The person confirms that one folder of a library, and no other, is home here."""
        self._look_at(root, home=True)

    def _look_at(self, root: Path, home: bool) -> None:
        control = Control()
        self.begun.emit()
        self._panel.show_busy(
            shown(root.name), tr("Looking at it. Nothing is written into it."), control.stop
        )

        def work() -> Surveyed:
            surveyed = survey_library(self._workspace, root, None, control)
            stops = [p for p in surveyed.problems if p.severity is Severity.STOPS]
            if stops:
                raise FascisError(stops[0].sentence)
            key = remember(self._workspace, surveyed)
            if home:
                drive = self._workspace.drives.at(surveyed.source)
                self._workspace.register.put_library(
                    surveyed.root, drive.uuid, surveyed.name, surveyed.kind, key
                )
                remember(self._workspace, surveyed)
            return surveyed

        Task(work, self._added, self)

    def _added(self, outcome: Any) -> None:
        if isinstance(outcome, BaseException):
            self._error(tr("This folder cannot be added"), outcome)
            return
        self.added.emit(outcome)

    def _error(self, title: str, error: BaseException) -> None:
        if isinstance(error, Cancelled):
            self.left.emit()
            return
        if not isinstance(error, FascisError):
            raise error
        self.begun.emit()
        self._panel.show_error(title, str(error), [(tr("Back to the shelves"), self.left.emit)])
