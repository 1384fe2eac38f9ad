"""The window's frame: the mark, three views, the pulse, the side panel, the foot line."""

from __future__ import annotations

import sys
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import (
    QByteArray,
    QFileSystemWatcher,
    QProcess,
    QSettings,
    QSize,
    QSocketNotifier,
    Qt,
    QTimer,
)
from PyQt6.QtGui import QAction, QCloseEvent, QGuiApplication, QKeyEvent, QKeySequence, QShortcut
from PyQt6.QtPrintSupport import QPrintDialog, QPrinter
from PyQt6.QtWidgets import (
    QApplication,
    QButtonGroup,
    QFileDialog,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLineEdit,
    QMainWindow,
    QMenu,
    QPushButton,
    QScrollArea,
    QStackedWidget,
    QVBoxLayout,
    QWidget,
)

from fascis.copies.travelled import travelled_receipts
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.receipts.receipt import receipt_html, receipts_of
from fascis.crossing.scope.surveyed import Surveyed
from fascis.crossing.status.queue import to_go_on
from fascis.desktop.crossings.controller import Conducting
from fascis.desktop.crossings.seen import Listed
from fascis.desktop.crossings.view import CrossingsView
from fascis.desktop.drives.bench import Bench
from fascis.desktop.drives.controller import Caring
from fascis.desktop.keys import KeyActions, Keys
from fascis.desktop.kit import tasks, theme
from fascis.desktop.kit.mark import mark_icon
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import ElidedLabel, button, clear, label, tip
from fascis.desktop.kit.tasks import Task, post
from fascis.desktop.look.controller import Looking
from fascis.desktop.look.view import FOOT as LOOK_FOOT
from fascis.desktop.look.view import LookView
from fascis.desktop.manual import NAME as MANUAL
from fascis.desktop.manual import ManualWindow, manual_folder
from fascis.desktop.plan.controller import Planning
from fascis.desktop.receipts.view import ReceiptsView
from fascis.desktop.relink.controller import Relinks
from fascis.desktop.relink.page import RelinkActions, RelinkPage
from fascis.desktop.relink.view import RelinkView
from fascis.desktop.report import SavingReport
from fascis.desktop.shelves.view import ShelvesView
from fascis.desktop.strands.view import StrandsView
from fascis.desktop.strands.woven import Woven
from fascis.drives.stand_in import DESCRIPTION
from fascis.drives.system.mounts import MountWatch
from fascis.drives.system.udisks import News
from fascis.files.errors import FascisError
from fascis.files.names import elided, shown
from fascis.files.own.saving import write_over
from fascis.files.own.unexpected import told_unexpected
from fascis.files.route import Moved
from fascis.library.known.shelves import OnShelf, Shelf
from fascis.relink.outcome import Decisions
from fascis.words.figures import listed, size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

# Milliseconds from the first report of a change to a refresh: several come at once.
SOON_MS = 150
# The most interrupted crossings that are named when the window opens.
_MOST_OFFERED = 3
PLACES = (tr("Shelves"), tr("Crossings"), tr("Receipts"))
STRANDS, RELINK = tr("Strands"), tr("Relink")
# Inner views: the first two belong to a library, the last to the shelves.
STRANDS_PLACE, RELINK_PLACE, LOOK = 3, 4, 5
_FOOT = {
    0: tr(
        "Drag a library to another shelf, or: Space picks it up · Up and Down "
        "try shelves · Enter puts it down, or opens its strands · Left: the drive"
    ),
    1: tr("P pauses. Nothing is deleted while you are away."),
    2: tr(
        "Up and Down choose a receipt. The same page travels inside the library, "
        "in .fascis/receipts."
    ),
    LOOK: LOOK_FOOT,
}


class Window(QMainWindow):
    """Creates the views, connects them, and shows one at a time.

    Start-up order: views, controllers, connections, watches, the first refresh of the shelves, the
    offer to resume.
    """

    def __init__(self, workspace: Workspace, demo: bool = False) -> None:
        super().__init__()
        self.workspace, self.demo, self.keep = workspace, demo, QApplication.instance()
        tasks.reports = workspace.state
        self.setWindowTitle(tr("Fascis, demo") if demo else "Fascis")
        self.setWindowIcon(mark_icon())
        self.setMinimumSize(900, 520)
        self.shelves, self.crossings, self.receipts = ShelvesView(), CrossingsView(), ReceiptsView()
        self.strands, self.relink, self.panel = StrandsView(), RelinkView(), SidePanel()
        self.look = LookView()
        self._build()
        self.planning = Planning(workspace, self.shelves, self.panel, self._busy, self)
        self.drafting = self.planning.drafting
        self.relinks = Relinks(workspace, self)
        self._relink_page = RelinkPage(self.panel)
        self.conducting = Conducting(
            workspace, self.crossings, self.panel, lambda: self.place == 1, self
        )
        self.caring = Caring(
            workspace,
            self.panel,
            self.planning.shelf_of,
            lambda: self.conducting.running,
            self.conducting.stop,
            self,
        )
        self.looking = Looking(
            workspace,
            self.look,
            self.panel,
            lambda: self.go_to(0),
            lambda path: self.conducting.opener(path),
            lambda: self.place == LOOK,
            self,
        )
        self.bench = Bench(workspace, self.panel, self.planning.show_chosen, self)
        self._report = SavingReport(workspace, self.panel, lambda: self.go_to(self.place), self)
        self._connect()
        self._watch()
        self._settings = QSettings(str(workspace.config / "window.ini"), QSettings.Format.IniFormat)
        self._records: dict[str, dict[str, Any]] = {}
        self.manual: ManualWindow | None = None
        geometry = self._settings.value("geometry")
        if isinstance(geometry, QByteArray):
            self.restoreGeometry(geometry)
        else:
            self.resize(1280, 800)
        self.go_to(0)
        self.planning.refresh()
        self._offer_to_go_on()
        self.shelves.setFocus()

    # -- building ----------------------------------------------------------------------------------

    def _build(self) -> None:
        # From the outside in: what changes its window is styled again, with all that is in it.
        whole = QWidget()
        whole.setObjectName("ground")
        self.setCentralWidget(whole)
        down = QVBoxLayout(whole)
        down.setContentsMargins(0, 0, 0, 0)
        down.setSpacing(0)
        down.addWidget(self._top())
        self._offer = QWidget()
        self._offer.setObjectName("offer")
        self._offer.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._offer_across = QHBoxLayout(self._offer)
        self._offer_across.setContentsMargins(18, 6, 18, 6)
        self._offer.hide()
        down.addWidget(self._offer)
        middle = QHBoxLayout()
        middle.setSpacing(0)
        down.addLayout(middle, 1)
        left = QVBoxLayout()
        left.setSpacing(0)
        middle.addLayout(left, 1)
        self._stack = QStackedWidget()
        left.addWidget(self._stack, 1)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setWidget(self.shelves)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        views = (self.crossings, self.receipts, self.strands, self.relink, self.look)
        for view in (scroll, *views):
            self._stack.addWidget(view)
        self._foot = ElidedLabel()
        self._foot.setObjectName("foot")
        self._foot.setFixedHeight(26)
        left.addWidget(self._foot)
        middle.addWidget(self.panel)

    def _top(self) -> QWidget:
        top = QWidget()
        top.setObjectName("top")
        top.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        top.setFixedHeight(46)
        across = QHBoxLayout(top)
        across.setContentsMargins(12, 4, 18, 4)
        mark = QPushButton(mark_icon(), "")
        mark.setProperty("mark", True)
        mark.setIconSize(QSize(28, 28))
        mark.setAccessibleName(tr("Menu"))
        mark.setMenu(self._menu())
        across.addWidget(mark)
        name = QLabel(tr("Fascis"))
        name.setObjectName("name")
        across.addWidget(name)
        across.addSpacing(18)
        self._places: list[QPushButton] = []
        for i, text in enumerate(PLACES):
            b = button(text, partial(self.go_to, i), place=True)
            b.setCheckable(True)
            b.setToolTip(tr("Ctrl+{i}", i=i + 1))
            self._places.append(b)
            across.addWidget(b)
        self._library = QWidget()
        beside = QHBoxLayout(self._library)
        beside.setContentsMargins(8, 0, 0, 0)
        line = QFrame()
        line.setObjectName("upright")
        beside.addWidget(line)
        beside.addSpacing(10)
        self._library_name = ElidedLabel("", head=True)
        beside.addWidget(self._library_name)
        for text, key, show in (
            (STRANDS, tr("Ctrl+{i}", i=4), partial(self.go_to, 3)),
            (RELINK, tr("Ctrl+{i}", i=5), self._open_relink),
        ):
            opened = button(text, show, place=True)
            opened.setCheckable(True)
            opened.setToolTip(key)
            beside.addWidget(opened)
            self._places.append(opened)
        self._group = QButtonGroup(self)
        for b in self._places:
            self._group.addButton(b)
        self._library.hide()
        across.addWidget(self._library)
        across.addStretch(1)
        self._pulse = ElidedLabel(tr("No crossing running"))
        self._pulse.setObjectName("pulse")
        self._pulse.setAlignment(Qt.AlignmentFlag.AlignRight)
        across.addWidget(self._pulse)
        return top

    def _menu(self) -> QMenu:
        menu = QMenu(self)
        for text, do in (
            (tr("Look for libraries…"), self.look_for_libraries),
            (tr("Add a library…"), lambda: self.planning.adding.ask_library()),
            (tr("Add a single document…"), lambda: self.planning.adding.ask_document()),
            (
                tr("New catalog over a folder of photos…"),
                lambda: self.planning.adding.ask_catalog(),
            ),
            (tr("Add photos to the chosen catalog…"), lambda: self.planning.adding.ask_photos()),
            (tr("Look at the drives again"), lambda: self.planning.refresh()),
            (tr("Manual"), self.open_manual),
            (tr("Save a report for the makers…"), lambda: self._report.show()),
            *([(tr("Stand-in drives…"), self._show_bench)] if self.demo else []),
            (tr("Light: Linen"), lambda: self.set_theme("Linen")),
            (tr("Dark: Dusk"), lambda: self.set_theme("Dusk")),
            (tr("Quit"), self.close),
        ):
            action = QAction(text, self)
            action.triggered.connect(lambda _=False, do=do: do())
            menu.addAction(action)
        return menu

    def _connect(self) -> None:
        self.planning.started.connect(self._started)
        self.planning.refreshed.connect(self._drives_seen)
        self.planning.see_crossing.connect(lambda: self.go_to(1))
        self.planning.look_asked.connect(self.look_for_libraries)
        self.planning.demo_asked.connect(self._open_demo)
        self.looking.added.connect(self._found_added)
        self.looking.alone.connect(self.planning.add_library)
        self.looking.several.connect(lambda: self.go_to(LOOK))
        self.shelves.folder_dropped.connect(self._dropped)
        self.conducting.pulse.connect(self._pulse.setText)
        self.conducting.coming.connect(self.shelves.show_coming)
        self.conducting.changed.connect(self.planning.refresh)
        self.conducting.to_receipts.connect(self._to_receipt)
        self.conducting.to_shelves.connect(lambda: self.go_to(0))
        self.receipts.chosen.connect(self._show_receipt)
        self.drafting.see_strands.connect(lambda: self.go_to(3))
        self.drafting.woven_changed.connect(self._woven)
        self.shelves.opened.connect(self.planning.open_strands)
        self.shelves.touched.connect(self.bench.close)
        self.shelves.touched.connect(self.caring.touched)
        self.planning.held = lambda: self.bench.open or self._report.open
        self.shelves.chosen.connect(self._library_chosen)
        self.shelves.drive_chosen.connect(self._drive_chosen)
        self.planning.another.connect(self._another)
        self.caring.look_asked.connect(self._look_on)
        self.caring.changed.connect(self.planning.refresh)
        self.bench.changed.connect(self.planning.refresh)
        self.caring.returned.connect(self._make_right)
        self.caring.added.connect(self.planning.add_library)
        self.caring.made_home.connect(self.planning.adding.make_home)
        self.strands.without_changed.connect(self.drafting.take_in_or_out)
        self.strands.part_toggled.connect(self.drafting.tick_part)
        self.strands.read_asked.connect(self.planning.read_document)
        self.planning.see_relink.connect(self._relink)
        self.relinks.changed.connect(self._relinks_changed)
        self.relinks.progress.connect(self._relink_page.progress)
        self.relinks.wants_copy.connect(self._plan_with)
        self.relinks.relinked.connect(self._relinked)
        self.relink.said.connect(
            lambda words: self._foot.setText(words) if self.place == 4 else None
        )
        self.strands.said.connect(
            lambda words: self._foot.setText(words) if self.place == 3 else None
        )
        keys = {
            "Ctrl+1": lambda: self.go_to(0),
            "Ctrl+2": lambda: self.go_to(1),
            "Ctrl+3": lambda: self.go_to(2),
            "Ctrl+4": self._open_strands,
            "Ctrl+5": self._open_relink,
            "Ctrl+Z": lambda: self.relinks.take_back() if self.place == 4 else None,
            "F6": self._next_area,
            "Ctrl+Return": self.main_button,
            "Ctrl+Enter": self.main_button,
            "Ctrl+Q": self.close,
        }
        for key, do in keys.items():
            QShortcut(QKeySequence(key), self).activated.connect(do)
        self._keys = Keys(self, KeyActions(self._letter, self._escape, self._find))

    def _watch(self) -> None:
        self._mounts = MountWatch()
        self._notifier = QSocketNotifier(self._mounts.fd, QSocketNotifier.Type.Exception, self)  # type: ignore[call-overload]
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(SOON_MS)
        self._soon.timeout.connect(self.planning.refresh)
        # The kernel answers no the second time: it has already told Qt.
        self._notifier.activated.connect(lambda *_: self._look_soon())
        self._stand_ins = QFileSystemWatcher(self)
        Task(self._stand_in_files, self._watch_stand_ins, self)
        self._stand_ins.fileChanged.connect(lambda _: self._look_soon())
        self._stand_ins.directoryChanged.connect(lambda _: self._look_soon())
        self._news: News | None = None
        Task(lambda: News(lambda: post(self, self._look_soon)), self._listens, self)

    def take_unexpected(self, error: BaseException) -> None:
        """An unexpected error, from any thread: stored for a report and shown.

        The window stays open, and running work is not affected.
        """
        if isinstance(error, Exception) and not isinstance(error, FascisError):
            error = told_unexpected(error, self.workspace.state)
        post(self, partial(self._startled, str(error)))

    def _startled(self, words: str) -> None:
        self.panel.show_error(
            tr("An unexpected error"), words, [(tr("Back"), lambda: self.go_to(self.place))]
        )

    def _look_soon(self) -> None:
        """Reads the drives in a moment.

        Even while one change follows the other.
        """
        if not self._soon.isActive():
            self._soon.start()

    def _stand_in_files(self) -> list[str]:
        """In a task: the files that describe stand-in drives, and their folder."""
        drives = self.workspace.drives
        files = [str(s.folder / DESCRIPTION) for s in drives.stand_ins()]
        return [*files, str(drives.stand_in_folder)] if drives.stand_in_folder else files

    def _watch_stand_ins(self, files: Any) -> None:
        if isinstance(files, list) and files:
            self._stand_ins.addPaths(files)

    def _listens(self, news: Any) -> None:
        """The system's drive service reports what the mount table does not.

        Drives that are connected or removed.
        """
        if isinstance(news, News):
            self._news = news

    def _drives_seen(self) -> None:
        """The drives were read again: crossings that waited for one resume."""
        there = {
            str(s.drive.mount / DESCRIPTION) for s in self.planning.shelves if s.drive.stand_in
        }
        if gone := there - set(self._stand_ins.files()):
            # The watcher treats a rewritten file as another one.
            self._stand_ins.addPaths(sorted(gone))
        self.conducting.drives_changed(
            {s.drive.uuid for s in self.planning.shelves if s.drive.connected}
        )

    # -- places ------------------------------------------------------------------------------------

    @property
    def place(self) -> int:
        """The present view."""
        return self._stack.currentIndex()

    def go_to(self, place: int, receipt: str | None = None) -> None:
        """Shows a view; in Receipts, the given one."""
        self._stack.setCurrentIndex(place)
        self._places[0 if place == LOOK else place].setChecked(True)
        self._foot.setText(_FOOT.get(place, ""))
        if place == 0:
            if self.drafting.plan is not None:
                self.drafting.show_plan()
            else:
                self.drafting.leave()
                self.planning.show_chosen()
            self.shelves.setFocus()
        elif place == 3:
            if self.drafting.woven is None:
                self.strands.show_waiting(tr("Looking at the library. Nothing is written into it."))
            if self.drafting.plan is not None:
                self.drafting.show_plan()
            self.strands.bundle.setFocus()
        elif place == 4:
            self._relinks_changed()
            self.relink.setFocus()
        elif place == LOOK:
            self.looking.show()
            self.look.first_focus()
        elif place == 1:
            self.conducting.load()
            self.crossings.list.setFocus()
        else:
            self._load_receipts(receipt)
            self.receipts.list.setFocus()

    def _open_strands(self) -> None:
        """Ctrl+4: the strands of the open or chosen library."""
        if self.drafting.woven is not None:
            self.go_to(3)
        elif self.shelves.selected is not None and self.shelves.selected.home:
            self.planning.open_strands(self.shelves.selected)

    # -- drives ------------------------------------------------------------------------------------

    def _library_chosen(self, standing: OnShelf | None) -> None:
        self.caring.suit(standing.root if standing is not None and standing.home else None)
        if standing is None or standing.says is None:
            self.caring.leave()

    def _drive_chosen(self, shelf: Shelf) -> None:
        free = self.drafting.draft is None and not self.planning.tells and not self.bench.open
        if self.place == 0 and free:
            self.caring.show(shelf)

    def _show_bench(self) -> None:
        self.go_to(0)
        self.caring.leave()
        self.bench.show()

    def _another(self, standing: OnShelf) -> None:
        """A library found on a drive.

        Beside the known one with its id, if there is one.
        """
        there = [s for shelf in self.planning.shelves for s in shelf.standings]
        known = next((s for s in there if s.library == standing.library and s.home), None)
        self.caring.show_another(standing, known)

    def _make_right(
        self, root: Path, moves: list[Moved], folders: list[Path], surveyed: Surveyed
    ) -> None:
        """Paths to a drive's earlier mount point: one card for the drive, accepted already."""
        self.caring.leave()
        self.relinks.open(
            root, Decisions(accepted=frozenset(moves)), folders, surveyed, literal=True
        )
        self._library.show()
        self.go_to(4)

    def open_manual(self) -> None:
        """Shows the manual in a window of its own."""

        def read() -> tuple[str, Path]:
            folder = manual_folder()
            if folder is None:
                raise FascisError(tr("The manual was not installed with Fascis."))
            return (folder / MANUAL).read_text(encoding="utf-8"), folder

        def opened(outcome: Any) -> None:
            if isinstance(outcome, BaseException):
                back = [(tr("Back"), lambda: self.go_to(self.place))]
                self.panel.show_error(tr("The manual cannot be shown"), str(outcome), back)
                return
            self.manual = ManualWindow(*outcome)
            self.manual.show()

        Task(read, opened, self)

    # -- looking for libraries ---------------------------------------------------------------------

    def look_for_libraries(self) -> None:
        """Searches the home and every connected drive."""
        self.looking.begin(tr("This machine"))
        self.go_to(LOOK)

    def _look_on(self, shelf: Shelf) -> None:
        """Searches one drive; for that of the home, only the home."""
        drive = shelf.drive
        home = Path.home()
        folder = home if home.is_relative_to(drive.mount) else drive.mount
        self.looking.begin(shown(drive.label), [folder])
        self.go_to(LOOK)

    def _found_added(self, root: Path) -> None:
        """Found libraries are on the shelf, and one is chosen."""
        self.planning.was_added(root)
        self.go_to(0)

    def _dropped(self, folder: Path) -> None:
        """A folder or document was dropped on the shelves."""
        self.planning.tells = True
        self.looking.take(folder)

    def _open_demo(self) -> None:
        """The demo, in a window of its own with its own files."""
        QProcess.startDetached(sys.executable, ["-P", "-m", "fascis", "demo"])

    # -- relinking ---------------------------------------------------------------------------------

    def _open_relink(self) -> None:
        """Ctrl+5: the lost files of the open or chosen library."""
        draft, chosen = self.drafting.draft, self.shelves.selected
        root = self.relinks.root
        if draft:
            root = draft.standing.root
        elif chosen is not None and chosen.home:
            root = chosen.root
        if root is not None:
            self._relink(root)

    def _relink(self, root: Path, decisions: Decisions | None = None) -> None:
        """Opens Relink for a library; earlier results and decisions are kept."""
        if self.relinks.root != root or decisions is not None or self.relinks.outcome is None:
            self.relinks.open(root, decisions, None, *self.planning.known_of(root))
        self._library.show()
        self.go_to(4)

    def _relinks_changed(self) -> None:
        if self.place != 4:
            return
        surveyed = self.relinks.surveyed
        if surveyed is not None:
            self._library_name.setText(elided(surveyed.name, 36))
            self._library_name.setToolTip(tip(surveyed.name))
        self.relink.show_relinks(self.relinks)
        actions = RelinkActions(self._ask_where, self._ask_file, self._relink_another)
        self._relink_page.show(self.relinks, actions)

    def _ask_where(self) -> None:
        folder = QFileDialog.getExistingDirectory(self, tr("A folder or a drive to look in"))
        if folder:
            self.relinks.look_in(Path(folder))

    def _ask_file(self) -> None:
        """A given file: the one in question, or the lost one with its name."""
        name, _ = QFileDialog.getOpenFileName(self, tr("Where one of the lost files is now"))
        if name:
            self.relink.take_file(Path(name))

    def _relink_another(self, library: str, move: Moved) -> None:
        """The same folder move, for another library that lost files there."""
        root = next((x.root for x in self.workspace.register.libraries() if x.id == library), None)
        if root is not None:
            self._relink(root, Decisions(accepted=frozenset((move,))))

    def _relinked(self, root: Path) -> None:
        """Documents changed: the shelves and an open plan are made again."""
        self.planning.library_changed(root)

    def _plan_with(self, ties: dict[bytes, bytes]) -> None:
        """Relinked only in the copy: a plan with that."""
        if self.relinks.root is not None and self.planning.plan_with(self.relinks.root, ties):
            self.go_to(3)

    def _woven(self, woven: Woven | None) -> None:
        """The plan was made, made again, or left."""
        self._library.setVisible(woven is not None or self.place == 4)
        if woven is not None:
            self._library_name.setText(elided(woven.surveyed.name, 36))
            self._library_name.setToolTip(tip(woven.surveyed.name))
            self.strands.show_woven(woven)
        elif self.place == 3:
            self.go_to(0)

    def _busy(self) -> str:
        running = self.conducting.running
        if running:
            return tr(
                "{name} is crossing; this one waits its turn behind it.", name=shown(running.name)
            )
        return ""

    def _started(self, crossing: Crossing) -> None:
        self.conducting.enqueue(crossing)
        self.go_to(1)

    def main_button(self) -> None:
        """Ctrl+Enter: the panel's main button, which never deletes."""
        main = self.panel.main
        if main is not None and main.isEnabled():
            main.click()

    def _next_area(self) -> None:
        areas = [
            self._places[0 if self.place == LOOK else self.place],
            self._stack.currentWidget() if self.place else self.shelves,
            self.panel.main,
        ]
        there = [a for a in areas if a is not None]
        focus = QApplication.focusWidget()
        at = next(
            (
                i
                for i, a in enumerate(there)
                if a is focus or (focus is not None and a.isAncestorOf(focus))
            ),
            -1,
        )
        there[(at + 1) % len(there)].setFocus(Qt.FocusReason.TabFocusReason)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Keys for the window itself: no widget has the focus."""
        if event is None or not self._keys.pressed(self, event):
            super().keyPressEvent(event)

    def _letter(self, letter: str) -> bool:
        """A letter or number, unless a text field has the focus."""
        if letter == "P":
            self.conducting.pause_or_go_on()
            return True
        return self.place == RELINK_PLACE and self.relink.letter(letter)

    def _escape(self) -> bool:
        """Closes the innermost: what is picked up, an open choice, an inner page, a view."""
        if self.place == 0 and self.shelves.picked is not None:
            self.shelves.put_back()
            return True
        if self.place == STRANDS_PLACE and self.strands.bundle.selected:
            self.strands.bundle.choose_nothing()
            return True
        if self.drafting.close_choice():
            return True
        back = self.panel.back
        if back is not None and back.isVisible():
            back.click()
            return True
        if self.place in (STRANDS_PLACE, RELINK_PLACE, LOOK):
            self.go_to(0)
            return True
        return False

    def _find(self) -> bool:
        """Goes to the search field of the view."""
        view = self._stack.currentWidget()
        fields: list[QLineEdit] = view.findChildren(QLineEdit) if view is not None else []
        field = next((f for f in fields if f.isVisible()), None)
        if field is not None:
            field.setFocus(Qt.FocusReason.ShortcutFocusReason)
            field.selectAll()
        return field is not None

    # -- receipts ----------------------------------------------------------------------------------

    def _load_receipts(self, current: str | None) -> None:
        def read() -> list[dict[str, Any]]:
            arrived = [c.id for c in self.conducting.crossings if c.arrived]
            # The list of crossings reports damaged journals.
            records = receipts_of(self.conducting.opened.of(id).journal for id in arrived)[0]
            ids = {c.id for c in self.conducting.crossings}
            return records + travelled_receipts(self.workspace, ids)

        def show(records: Any) -> None:
            if self.place != 2:
                return
            if isinstance(records, BaseException):
                self.panel.show_error(tr("The receipts could not be read"), str(records), [])
                return
            self._records = {r["crossing"]: r for r in records}
            if not records:
                self.panel.show_nothing(
                    tr("A receipt is the readable record of a crossing."),
                    [(tr("To the shelves"), lambda: self.go_to(0))],
                )
            self.receipts.show_list(records, current)

        self.conducting.load(lambda: Task(read, show, self))

    def _to_receipt(self, id: str) -> None:
        self.go_to(2, id)

    def _show_receipt(self, id: str) -> None:
        crossing = next((c for c in self.conducting.crossings if c.id == id), None)
        record = self._records.get(id)
        if record is None:
            return
        self.receipts.show_page(receipt_html(record))
        self.panel.begin(tr("Receipt"), shown(record["name"]))
        self.panel.add_row(tr("Files"), f"{record['verified_files']}", tr("read back and equal"))
        self.panel.add_row(tr("Size"), size(record["verified_bytes"]))
        self.panel.add(label(tr("To check the copy without Fascis, in its folder:"), quiet=True))
        field = QLineEdit("b3sum --check .fascis/manifest.b3")  # for programs
        field.setReadOnly(True)
        self.panel.add(field)
        buttons = [
            button(tr("Save the page…"), lambda: self._save(receipt_html(record)), main=True),
            button(tr("Save as PDF…"), self._save_pdf),
            button(tr("Print…"), self._print),
        ]
        if crossing is None:
            words = tr("It crossed on another computer; the receipt came with the library.")
            self.panel.add(label(words, quiet=True))
            folder = record["library"]
        else:
            folder = str(crossing.target)
        buttons.append(button(tr("Show in folder"), lambda: self.conducting.opener(folder)))
        if crossing is not None:
            buttons.append(button(tr("See its crossing"), lambda: self._see(id), link=True))
        self.panel.end(*buttons)

    def _see(self, id: str) -> None:
        self.go_to(1)
        self.conducting.choose(id)

    def _save(self, page: bytes) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Save the receipt"), "receipt.html", tr("Page (*.html)")
        )
        if name:
            Task(lambda: write_over(Path(name), page), self._saved, self)

    def _save_pdf(self) -> None:
        name, _ = QFileDialog.getSaveFileName(
            self, tr("Save the receipt"), "receipt.pdf", tr("PDF (*.pdf)")
        )
        if name:
            pdf = self.receipts.as_pdf()
            Task(lambda: write_over(Path(name), pdf), self._saved, self)

    def _print(self) -> None:
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        if QPrintDialog(printer, self).exec():
            self.receipts.print_on(printer)

    def _saved(self, outcome: Any) -> None:
        if isinstance(outcome, BaseException):
            self.panel.show_error(
                tr("It was not saved"), str(outcome), [(tr("Back"), lambda: self.go_to(self.place))]
            )

    # -- going on ----------------------------------------------------------------------------------

    def _offer_to_go_on(self) -> None:
        def found() -> None:
            crossings = self.conducting.crossings
            if going := to_go_on(crossings):
                self._offer_interrupted(list(going))
            elif first := next(
                (c for c in crossings if c.state is State.SETTLED and c.waits), None
            ):
                words = tr(
                    "{name} is whole on {drive} and waits at the scales.",
                    name=elided(shown(first.name), 40),
                    drive=elided(shown(first.labels[0]), 30),
                )
                see = partial(self._accept_offer, first.id, False)
                self._show_offer(words, button(tr("See the scales"), see))

        self.conducting.load(found)

    def _offer_interrupted(self, going: list[Listed]) -> None:
        """All interrupted crossings, in the order in which they resume."""
        named = [
            tr(
                "{name} to {drive} ({done} of {total} verified)",
                name=elided(shown(c.name), 32),
                drive=elided(shown(c.labels[0]), 24),
                done=size(c.verified_bytes),
                total=size(c.planned_bytes),
            )
            for c in going[:_MOST_OFFERED]
        ]
        if more := len(going) - len(named):
            named.append(trn("{n} more", "{n} more", more))
        words = trn(
            "{n} crossing was interrupted: {crossings}. The originals are untouched.",
            "{n} crossings were interrupted: {crossings}. The originals are untouched.",
            len(going),
            crossings=listed(named),
        )
        go = trn("Continue", "Continue all, in this order", len(going))
        self._show_offer(words, button(go, partial(self._accept_offer, going[0].id, True)))

    def _show_offer(self, words: str, go: QPushButton) -> None:
        clear(self._offer_across)
        self._offer_across.addWidget(label(words), 1)
        self._offer_across.addWidget(go)
        self._offer_across.addWidget(button(tr("Not now"), self._offer.hide, link=True))
        self._offer.show()
        self.offer_button = go

    def _accept_offer(self, id: str, run: bool) -> None:
        self._offer.hide()
        self.go_to(1)
        self.conducting.choose(id)
        if run:
            self.conducting.go_on_in_order()

    # -- theme and the end -------------------------------------------------------------------------

    def set_theme(self, name: str) -> None:
        """Changes the theme and stores it."""
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        theme.apply(application, theme.THEMES[name])
        self._settings.setValue("theme", name)
        for widget in (self.shelves, self.crossings, self.panel, self.receipts, self.relink):
            widget.update()

    def closeEvent(self, event: QCloseEvent | None) -> None:
        """Stores size and view; a running crossing stops cleanly and is offered next time."""
        self._settings.setValue("geometry", self.saveGeometry())
        if self.manual is not None:
            self.manual.close()
        self.conducting.close()
        self.relinks.cancel()
        self.looking.stop()
        self.planning.learning.stop()
        if self._news is not None:
            self._news.close()
        self._notifier.setEnabled(False)
        self._mounts.close()
        super().closeEvent(event)


def preferred_theme(workspace: Workspace) -> theme.Theme:
    """The theme that was set, otherwise the system's."""
    kept = QSettings(str(workspace.config / "window.ini"), QSettings.Format.IniFormat).value(
        "theme"
    )
    if kept in theme.THEMES:
        return theme.THEMES[str(kept)]
    hints = QGuiApplication.styleHints()
    return theme.DUSK if hints and hints.colorScheme() == Qt.ColorScheme.Dark else theme.LINEN
