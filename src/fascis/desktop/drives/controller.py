"""Actions on a drive: examining, mounting, measuring, preparing, removing.

Also libraries found on it.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from PyQt6.QtCore import QObject, QTimer, pyqtSignal

from fascis.crossing.fit.suiting import Suits, suits
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.desktop.drives.page import Deed, DrivePage, Known, Tools
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.tasks import Task
from fascis.drives.care.measuring import measure
from fascis.drives.care.preparing import CHOICES, LIBRARIES, make_folder_for_libraries
from fascis.drives.care.removal import remove_safely
from fascis.drives.system.udisks import kernel_name, mount, service_there
from fascis.files.control import Control
from fascis.files.errors import FascisError
from fascis.files.names import shown
from fascis.files.route import Moved
from fascis.library.known.apartness import tell_apart
from fascis.library.known.shelves import OnShelf, Shelf
from fascis.library.register import KnownLibrary
from fascis.machine.disk_tool import DiskTool, data_folders, find_disk_tool
from fascis.relink.relinking import relinking_of
from fascis.relink.returned import folders_to_look_in, returned_moves
from fascis.words.figures import NBSP
from fascis.words.speech import tr
from fascis.workspace import Workspace

_AFTER_STOP_MS = 200


class Runs(Protocol):
    """What is known of the running crossing."""

    @property
    def name(self) -> str:
        """The library's name."""

    @property
    def drives(self) -> frozenset[str]:
        """The UUIDs of its drives."""


class Caring(QObject):
    """Connects a chosen drive and the side panel with the core; drives are read in tasks."""

    # The drives should be read again.
    changed = pyqtSignal()
    # Libraries should be searched for on the drive of a shelf.
    look_asked = pyqtSignal(object)
    # A library's folder, moves, folders to search, a literal survey.
    returned = pyqtSignal(object, object, object, object)
    # A folder that should be added.
    added = pyqtSignal(object)
    # A folder that should become home on this computer, confirmed by the person.
    made_home = pyqtSignal(object)

    def __init__(
        self,
        workspace: Workspace,
        panel: SidePanel,
        shelf_of: Callable[[str], Shelf | None],
        running: Callable[[], Runs | None],
        stop: Callable[[], None],
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self.workspace, self.panel = workspace, panel
        self.drive_page = DrivePage(panel)
        self._shelf_of, self._running, self._stop = shelf_of, running, stop
        self.tool: Callable[[], DiskTool | None] = lambda: find_disk_tool(data_folders(os.environ))
        self.shelf: Shelf | None = None
        self._painted: Shelf | None = None
        # The library for which a file system should suit.
        self._library: Path | None = None
        self._facts: dict[tuple[str, Path], tuple[bool, bool]] = {}
        self._inner = False
        self._news = ""
        self._turn, self._control = 0, Control()
        # Between two folders, until one is chosen again.
        self._differs: dict[tuple[Path, Path], str] = {}

    # -- a drive -----------------------------------------------------------------------------------

    def show(self, shelf: Shelf) -> None:
        """Shows a chosen drive, or its new state; an inner page stays open."""
        same = self.shelf is not None and self.shelf.drive.uuid == shelf.drive.uuid
        self.shelf = shelf
        if same and (self._inner or shelf == self._painted):
            return
        if not same:
            self._news = ""
        self.page()

    def leave(self) -> None:
        """Something else is shown now."""
        self.shelf, self._inner, self._news, self._painted = None, False, "", None
        self._turns()

    def _turns(self) -> int:
        """Something else is shown: results for the previous page are ignored."""
        self._turn += 1
        self._control.stop()
        self._control = Control()
        return self._turn

    def touched(self) -> None:
        """A person chose something: the comparison of two folders is made again."""
        self._differs.clear()

    def suit(self, root: Path | None) -> None:
        """The library chosen last, for which a file system should suit."""
        self._library = root or self._library

    def page(self, news: str = "") -> None:
        """The drive's own page; details follow a moment later."""
        shelf = self.shelf
        if shelf is None:
            return
        self._inner, self._news = False, news or self._news
        turn, key = self._turns(), (shelf.drive.uuid, shelf.drive.mount)
        self._paint(shelf, self._facts.get(key))

        def work() -> tuple[bool, bool]:
            folder = shelf.drive.connected and (
                bool(shelf.standings) or (shelf.drive.mount / LIBRARIES).is_dir()
            )
            return service_there(), folder

        def done(outcome: Any) -> None:
            if isinstance(outcome, BaseException) and not isinstance(
                outcome, (FascisError, OSError)
            ):
                raise outcome
            if turn != self._turn or isinstance(outcome, BaseException):
                # It was removed meanwhile: the shelf shows that.
                return
            if outcome != self._facts.get(key):
                self._facts[key] = outcome
                if not self._inner:
                    self._known(shelf, *outcome)

        Task(work, done, self)

    def _known(self, shelf: Shelf, service: bool, folder: bool) -> None:
        """The possible actions are known now.

        Other buttons, and the reason if it cannot be mounted.
        """
        if shelf.drive.mounted:
            self.drive_page.show_buttons(shelf, service, folder, self._do_deed)
        else:
            self._paint(shelf, (service, folder))

    def _paint(self, shelf: Shelf, facts: tuple[bool, bool] | None) -> None:
        service, folder = facts or (False, True)
        self._painted = shelf
        self.drive_page.show(shelf, service, folder, self._do_deed, self._news)

    def _do_deed(self, deed: Deed) -> None:
        match deed:
            case Deed.MOUNT:
                self.mount()
            case Deed.MEASURE:
                self.measure()
            case Deed.FOLDER:
                self.make_folder()
            case Deed.SUITS:
                self.suits()
            case Deed.REMOVE:
                self.remove()
            case Deed.RETURNED:
                self.make_right()
            case Deed.LOOK:
                self.look_asked.emit(self.shelf)

    def _inside(
        self,
        title: str,
        words: str,
        work: Callable[[], Any],
        then: Callable[[Any], None],
        cancel: Callable[[], None] | None = None,
    ) -> None:
        """Does work on an inner page, and shows the result; errors are shown there."""
        self._inner = True
        turn = self._turns()
        self.panel.show_busy(title, words, cancel)

        def done(outcome: Any) -> None:
            if turn != self._turn:
                return
            if isinstance(outcome, (FascisError, OSError)):
                self.panel.show_error(
                    tr("It could not be done"), str(outcome), [(tr("Back to the drive"), self.page)]
                )
            elif isinstance(outcome, BaseException):
                raise outcome
            else:
                then(outcome)

        Task(work, done, self)

    def _do(
        self, words: str, work: Callable[[], str], cancel: Callable[[], None] | None = None
    ) -> None:
        """Does something with the drive; the result is shown on the drive's page."""
        shelf = self.shelf
        if shelf is None:
            return

        def then(news: str) -> None:
            self._facts.pop((shelf.drive.uuid, shelf.drive.mount), None)
            self.page(news)
            self.changed.emit()

        self._inside(shown(shelf.drive.label), words, work, then, cancel)

    def mount(self) -> None:
        """Mounts a connected drive."""
        shelf = self.shelf
        if shelf is not None:
            self._do(
                tr("Mounting it."),
                lambda: tr("Mounted at {mount}.", mount=shown(str(mount(shelf.drive)))),
            )

    def measure(self) -> None:
        """Measures it, briefly."""
        shelf, control = self.shelf, Control()
        if shelf is None:
            return

        def work() -> str:
            speed = measure(self.workspace.drives, shelf.drive, control=control)
            self.workspace.register.put_drives([shelf.drive])
            self.workspace.register.put_speed(shelf.drive.uuid, speed.write_mb_s, speed.read_mb_s)
            shelf.speed = speed.write_mb_s, speed.read_mb_s, self.workspace.clock()
            told = tr(
                "Writes {write_mb_s}{nbsp}MB/s, reads {read_mb_s}{nbsp}MB/s.",
                write_mb_s=f"{speed.write_mb_s:.0f}",
                nbsp=NBSP,
                read_mb_s=f"{speed.read_mb_s:.0f}",
            )
            if speed.proven:
                return told
            return f"{told} {tr('Reading was perhaps from memory.')}"

        words = tr(
            "Measuring: some megabytes are written, read back and removed again, for a few seconds."
        )
        self._do(words, work, control.stop)

    def make_folder(self) -> None:
        """Makes the folder for libraries, and tests what the drive can store."""
        shelf = self.shelf
        if shelf is not None:
            make = lambda: make_folder_for_libraries(self.workspace.drives, shelf.drive)[0]  # noqa: E731
            self._do(
                tr("Making a folder for libraries."),
                lambda: tr("{make} is there, and can be written.", make=shown(str(make()))),
            )

    def remove(self) -> None:
        """Removes it safely; if a crossing uses it, asks first."""
        shelf, running = self.shelf, self._running()
        if shelf is None:
            return
        if running is None or shelf.drive.uuid not in running.drives:
            self._remove_now(shelf)
            return
        self._inner = True
        self.drive_page.show_taking_part(
            shown(shelf.drive.label),
            shown(running.name),
            self.page,
            lambda: self._stop_and_remove(shelf),
        )

    def _stop_and_remove(self, shelf: Shelf) -> None:
        self.panel.show_busy(
            tr("Stopping the crossing"), tr("What is verified is kept. The drive is removed then.")
        )
        self._stop()
        self._when_stopped(shelf)

    def _when_stopped(self, shelf: Shelf) -> None:
        """Removes the drive when nothing runs.

        Not if the person has chosen something else meanwhile.
        """
        if self.shelf is None or self.shelf.drive.uuid != shelf.drive.uuid:
            return
        if self._running() is not None:
            QTimer.singleShot(_AFTER_STOP_MS, lambda: self._when_stopped(shelf))
        else:
            self._remove_now(shelf)

    def _remove_now(self, shelf: Shelf) -> None:
        def work() -> str:
            off = remove_safely(shelf.drive)
            return (
                tr("It can be unplugged now.")
                if off
                else tr("It is unmounted, and can be unplugged now.")
            )

        self._do(tr("Writing everything out, then unmounting it."), work)

    # -- preparing ---------------------------------------------------------------------------------

    def suits(self) -> None:
        """Which file system would suit the library chosen last, and what each costs."""
        shelf, root = self.shelf, self._library
        if shelf is None:
            return

        def work() -> tuple[str, list[Suits], DiskTool | None]:
            if root is None:
                return "", [Suits(c, 0, ()) for c in CHOICES], self.tool()
            surveyed = survey_library(self.workspace, root)
            return shown(surveyed.name), suits(surveyed), self.tool()

        def then(outcome: tuple[str, list[Suits], DiskTool | None]) -> None:
            library, found, tool = outcome
            name = kernel_name(shelf.drive.device)
            tools = Tools(tool.name if tool else "", f"/dev/{name}" if name else "")
            self.drive_page.show_suits(
                library, found, tools, self.page, lambda: self._open_tool(tool) if tool else None
            )

        self._inside(
            tr("Which file system?"),
            tr("Checking the library against the limits of each."),
            work,
            then,
            self.page,
        )

    def _open_tool(self, tool: DiskTool) -> None:
        def done(outcome: Any) -> None:
            if isinstance(outcome, OSError):
                words = tr(
                    "{name}: {strerror}. Nothing was changed.",
                    name=tool.name,
                    strerror=outcome.strerror,
                )
                self.panel.show_error(
                    tr("The disk tool did not open"), words, [(tr("Back to the drive"), self.page)]
                )

        Task(tool.open, done, self)

    # -- paths that led to where it was ------------------------------------------------------------

    def make_right(self) -> None:
        """Updates old paths to this drive in documents.

        Opens Relink for the first library that needs it.
        """
        shelf = self.shelf
        if shelf is None:
            return

        def then(outcome: tuple[Path, list[Moved], list[Path], Surveyed] | None) -> None:
            if outcome is None:
                self.page(
                    tr("No document contains an old path of this drive. Nothing needs an update.")
                )
            else:
                self.returned.emit(*outcome)

        words = tr("Checking the documents of known libraries.")
        self._inside(
            tr("Update old paths"),
            words,
            lambda: first_to_make_right(self.workspace, shelf),
            then,
            self.page,
        )

    # -- libraries that a drive brings along -------------------------------------------------------

    def show_another(self, standing: OnShelf, known: OnShelf | None) -> None:
        """Shows a library that is new here, or another folder of a known one."""
        self.leave()
        turn, control = self._turn, self._control
        shelf = self._shelf_of(standing.drive)
        known_shelf = self._shelf_of(known.drive) if known else None
        drive = shown(shelf.drive.label) if shelf else tr("a drive")
        chosen = self.added if known is None else self.made_home

        def show(differs: str) -> None:
            where = None
            if known and known_shelf:
                label = shown(known_shelf.drive.label)
                where = Known(label, shown(str(known.root)), differs)
            self.drive_page.show_another(
                standing, drive, where, self.changed.emit, lambda: chosen.emit(standing.root)
            )

        differs = self._differs.get((standing.root, known.root), "") if known else ""
        show(differs)
        if known is None or shelf is None or known_shelf is None or differs:
            return
        if not known_shelf.drive.connected:
            show(
                tr(
                    "{label} is away; what differs is not known",
                    label=shown(known_shelf.drive.label),
                )
            )
            return
        step = max(shelf.drive.rules.granularity_ns, known_shelf.drive.rules.granularity_ns)
        names = shown(shelf.drive.label), shown(known_shelf.drive.label)
        if names[0] == names[1]:
            names = tr("this one"), tr("the known one")

        def done(outcome: Any) -> None:
            if turn == self._turn:
                if isinstance(outcome, BaseException) and not isinstance(outcome, FascisError):
                    raise outcome
                words = str(outcome) if isinstance(outcome, FascisError) else outcome.words(*names)
                self._differs[standing.root, root] = words
                show(words)

        root = known.root
        Task(
            lambda: tell_apart(self.workspace.drives, standing.root, root, step, control),
            done,
            self,
        )


def first_to_make_right(
    workspace: Workspace, shelf: Shelf
) -> tuple[Path, list[Moved], list[Path], Surveyed] | None:
    """The first known library whose documents have old paths to this drive.

    With the update; None if there is no such library.
    """
    mount = bytes(shelf.drive.mount)
    for library in _likely(workspace, shelf):
        surveyed = survey_library(workspace, library.root)
        moves = [m for m in returned_moves(surveyed.uses, [shelf.drive]) if m.new == mount]
        if moves:
            literal = survey_library(workspace, library.root, literal=True)
            relinking = relinking_of(literal.source, literal.survey, literal.uses, workspace)
            return library.root, moves, folders_to_look_in(relinking.lost, moves), literal
    return None


def _likely(workspace: Workspace, shelf: Shelf) -> list[KnownLibrary]:
    """Known, connected libraries: those on the drive first."""
    there = [x for x in workspace.register.libraries() if x.root.exists()]
    return sorted(there, key=lambda x: (x.drive != shelf.drive.uuid, x.name))
