"""The view Shelves: drives drawn as shelves, with libraries as blocks by their size.

A block is dragged to another shelf with the pointer, or picked up with Space; both shelves show
what would become of them.
"""

from __future__ import annotations

from collections import Counter
from pathlib import Path

from PyQt6.QtCore import QEvent, QMimeData, QPointF, QRectF, QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import (
    QDragEnterEvent,
    QDragLeaveEvent,
    QDragMoveEvent,
    QDropEvent,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QToolTip

from fascis.desktop.kit.coming import Coming
from fascis.desktop.kit.pieces import PART_MIME, tip
from fascis.desktop.shelves.drawing import Block, Preview, ShelfDrawing, drive_tooltip, tooltip
from fascis.drives.model import Drive
from fascis.library.known.shelves import OnShelf, Shelf
from fascis.words.speech import tr

# After this time over a folder its subfolders are shown.
OPENS_AFTER_MS = 600


class ShelvesView(ShelfDrawing):
    """Paints the shelves and handles pointer and keys.

    Signals report what happened; the frame decides.
    """

    # A person chose a library or a drive; ``chosen`` also comes after every refresh of the drives.
    touched = pyqtSignal()
    chosen = pyqtSignal(object)  # OnShelf or None.
    drive_chosen = pyqtSignal(object)  # Shelf.
    picked_up = pyqtSignal(object)  # OnShelf.
    let_go = pyqtSignal()
    opened = pyqtSignal(object)  # OnShelf.
    put_down = pyqtSignal(object, object)  # OnShelf, Drive.
    # The part's name in a plan, and the OnShelf, Drive or folder where it was dropped.
    folder_dropped = pyqtSignal(object)
    part_put_down = pyqtSignal(str, object)
    # A part is over a drive or a folder: which subfolders are there?
    held_over = pyqtSignal(object)  # Path.

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.MinimumExpanding)
        self.setAccessibleName(tr("Shelves"))
        self.setAcceptDrops(True)
        self._pressed: QPointF | None = None
        self._opens = QTimer(self)
        self._opens.setSingleShot(True)
        self._opens.setInterval(OPENS_AFTER_MS)
        self._opens.timeout.connect(self._open_folder)

    # -- what it shows -----------------------------------------------------------------------------

    def say_empty(self, words: str) -> None:
        """Says why there is no shelf, where the shelves would be."""
        self._empty_words = words
        self.update()

    def show_shelves(self, shelves: list[Shelf], wanted: Path | None = None) -> None:
        """Shows shelves as they are now; chooses the library at ``wanted``, or keeps the choice."""
        self._shelves = shelves
        standing = [s for shelf in shelves for s in shelf.standings]
        self._several = {n for n, count in Counter(s.name for s in standing).items() if count > 1}
        libraries = {(s.name, s.library) for s in standing}
        self._twins = {n for n, count in Counter(n for n, _ in libraries).items() if count > 1}
        kept = next((s for s in standing if s.root == wanted), None)
        kept = kept or next(
            (s for s in standing if self._selected and s.id == self._selected.id), None
        )
        if self._drive is not None and (wanted is not None or self.drive is None):
            self._drive = None
        if self._drive is not None:
            kept = None
        elif kept is None and shelves:
            fullest = sorted(
                (s for s in shelves if s.standings and s.drive.connected),
                key=lambda s: -s.drive.full,
            )
            kept = fullest[0].standings[0] if fullest else None
        self._selected = kept
        self.updateGeometry()
        self.setMinimumHeight(self.sizeHint().height())
        self.update()
        if self.drive is None:
            self.chosen.emit(kept)
        else:
            self.drive_chosen.emit(self.drive)

    def show_coming(self, coming: list[Coming]) -> None:
        """Shows libraries on their way to a drive."""
        if coming != self._coming:
            self._coming = coming
            self.update()

    def show_notes(self, notes: dict[str, tuple[str, str]]) -> None:
        """Shows a short note beside drives, by UUID: a bold line, and a quiet one."""
        self._notes = notes
        self.update()

    def show_previews(self, previews: list[Preview]) -> None:
        """Shows what would become of each shelf."""
        self._previews = {p.drive: p for p in previews}
        self.update()

    @property
    def selected(self) -> OnShelf | None:
        """The library in the side panel."""
        return self._selected

    @property
    def drive(self) -> Shelf | None:
        """The drive in the side panel, if no library is chosen."""
        return next((s for s in self._shelves if s.drive.uuid == self._drive), None)

    @property
    def picked(self) -> OnShelf | None:
        """The picked-up library."""
        return self._picked

    def block_of(self, name: str) -> QRectF:
        """The position of a library's block, in the view's pixels; or of its name if narrow."""
        found = next(b for b in self._blocks if b.standing.name == name)
        return found.rect if found.name.isEmpty() else found.name

    def shelf_of(self, label: str) -> QRectF:
        """The position of a drive's shelf."""
        return next(r for r, i in self._rows if self._shelves[i].drive.label == label)

    def sizeHint(self) -> QSize:
        """The height of its shelves."""
        groups = len({s.group for s in self._shelves})
        return QSize(900, 30 + groups * 24 + len(self._shelves) * 110)

    # -- pointer -----------------------------------------------------------------------------------

    def _block_at(self, point: QPointF) -> Block | None:
        return next((b for b in self._blocks if b.holds(point)), None)

    def _row_at(self, point: QPointF) -> int | None:
        return next((i for r, i in self._rows if r.contains(point)), None)

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Chooses a block or a drive; the block can then be dragged."""
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        block = self._block_at(event.position())
        if block:
            self._select(block.standing)
            self._pressed = event.position()
        elif (i := self._row_at(event.position())) is not None:
            self._select_drive(self._shelves[i])

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Drags."""
        if event is None:
            return
        if (
            self._pressed is not None
            and self._picked is None
            and (event.position() - self._pressed).manhattanLength() > 8
        ):
            if self._selected and self._movable(self._selected):
                self._pick_up(self._selected)
            else:
                self._pressed = None
        if self._picked is not None and self._pressed is not None:
            self._pointer = event.position()
            self._over = self._row_at(event.position())
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Puts it down, or releases it where nothing can take it."""
        if event is None:
            return
        dragging, self._pressed = self._pressed is not None and self._picked is not None, None
        if dragging:
            self._put_down_or_let_go()

    def event(self, event: QEvent | None) -> bool:
        """Shows full names and exact bytes on hover."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            block, row = self._block_at(QPointF(event.pos())), self._row_at(QPointF(event.pos()))
            if block:
                words = tooltip(block.standing)
            elif row is None:
                words = ""
            else:
                words = drive_tooltip(self._shelves[row])
            QToolTip.showText(event.globalPos(), tip(words), self)
            return True
        return super().event(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Opens a library."""
        block = self._block_at(event.position()) if event else None
        if block and block.standing.home:
            self._pressed = None
            self.opened.emit(block.standing)

    # -- a part that is dragged here ---------------------------------------------------------------

    def show_folders(self, folder: Path, inside: list[Path]) -> None:
        """Shows the folders into which a part can be dropped."""
        self._folders.show(folder, inside)
        self.update()

    def folder_at(self, words: str) -> QPointF | None:
        """The position of a drive's folder, by its text; None if it is not painted."""
        return self._folders.named(words)

    def _open_folder(self) -> None:
        if self._folders.over is not None:
            self.held_over.emit(self._folders.over)

    def _hold_over(self, point: QPointF, row: int | None) -> None:
        """Asks for the folders at the part's position."""
        drive = self._shelves[row].drive if row is not None else None
        if drive is None:
            self._folders.end()
        elif drive.uuid != self._folders.drive:
            self._folders.begin(drive.uuid, drive.mount)
            self.held_over.emit(drive.mount)
        over = self._folders.at(point)
        if over != self._folders.over:
            self._folders.over = over
            self._opens.start()

    def _let_part_go(self) -> None:
        self._opens.stop()
        self._folders.end()
        self._part_over = self._over = None
        self.update()

    def _part_target(self, point: QPointF) -> OnShelf | Drive | Path | None:
        """Where a part can be dropped at a point: an existing library, a folder, a drive."""
        if (folder := self._folders.at(point)) is not None:
            return folder
        block = self._block_at(point)
        # A name below can reach into the next row.
        row = block.shelf if block is not None else self._row_at(point)
        if row is None or not self._shelves[row].drive.connected:
            return None
        if block is not None and not (block.standing.parked or block.standing.says):
            return block.standing
        return self._shelves[row].drive

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """Accepts parts of libraries, and folders from a file manager."""
        mime = event.mimeData() if event else None
        if event and mime and (mime.hasFormat(PART_MIME) or _folder_in(mime) is not None):
            event.acceptProposedAction()

    def dragMoveEvent(self, event: QDragMoveEvent | None) -> None:
        """Shows where it would be dropped."""
        if event is None:
            return
        mime = event.mimeData()
        if mime and not mime.hasFormat(PART_MIME):
            # A folder from elsewhere goes on the shelf of its drive.
            event.setAccepted(_folder_in(mime) is not None)
            return
        found = self._part_target(event.position())
        self._part_over = found if isinstance(found, OnShelf) else None
        self._over = self._row_at(event.position()) if found else None
        self._hold_over(event.position(), self._over)
        event.setAccepted(found is not None)
        self.update()

    def dragLeaveEvent(self, event: QDragLeaveEvent | None) -> None:
        """It leaves the view."""
        self._let_part_go()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """Drops a part, or puts a folder on its shelf."""
        mime = event.mimeData() if event else None
        if event and mime and not mime.hasFormat(PART_MIME):
            folder = _folder_in(mime)
            if folder is not None:
                event.acceptProposedAction()
                self.folder_dropped.emit(folder)
            return
        found = self._part_target(event.position()) if event else None
        self._let_part_go()
        if event and mime and found is not None and mime.hasFormat(PART_MIME):
            event.acceptProposedAction()
            given = bytes(mime.data(PART_MIME).data()).decode("utf-8", "surrogateescape")
            self.part_put_down.emit(given, found)

    # -- keyboard ----------------------------------------------------------------------------------

    def put_back(self) -> None:
        """The picked-up library stays where it was."""
        self._let_go()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrow keys move, Space picks up, Up and Down try shelves, Enter puts down."""
        if event is None:
            return
        key = event.key()
        if self._picked is not None:
            if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                self._try(1 if key == Qt.Key.Key_Down else -1)
            elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
                self._put_down_or_let_go()
            return
        steps = {
            Qt.Key.Key_Left: (-1, 0),
            Qt.Key.Key_Right: (1, 0),
            Qt.Key.Key_Up: (0, -1),
            Qt.Key.Key_Down: (0, 1),
        }
        if key in steps:
            self._walk(*steps[Qt.Key(key)])
        elif key == Qt.Key.Key_Space and self._selected and self._movable(self._selected):
            self._pick_up(self._selected)
        elif (
            key in (Qt.Key.Key_Return, Qt.Key.Key_Enter)
            and self._selected
            and self._selected.home
            and not event.modifiers()
        ):
            self.opened.emit(self._selected)
        else:
            super().keyPressEvent(event)

    def _walk(self, across: int, down: int) -> None:
        """Arrow keys move from block to block, and left of the first block to the drive itself."""
        at = self._where()
        if at is None:
            return
        r, c = at[0] + down, at[1] + across
        if not 0 <= r < len(self._shelves):
            return
        standings = self._shelves[r].standings
        if down:
            c = min(max(c, 0), len(standings) - 1)
        if c == -1:
            self._select_drive(self._shelves[r])
        elif c < len(standings):
            self._select(standings[c])

    def _where(self) -> tuple[int, int] | None:
        """The numbers of the chosen shelf and block; -1 for the drive itself."""
        for r, shelf in enumerate(self._shelves):
            if shelf.drive.uuid == self._drive:
                return r, -1
            for c, standing in enumerate(shelf.standings):
                if self._drive is None and self._selected and standing.id == self._selected.id:
                    return r, c
        return (0, -1) if self._shelves else None

    def _try(self, step: int) -> None:
        order = [i for i, s in enumerate(self._shelves) if s.drive.connected]
        now = self._over if self._over in order else None
        if now is None:
            home = next(
                (
                    i
                    for i, s in enumerate(self._shelves)
                    if self._picked and s.drive.uuid == self._picked.drive
                ),
                order[0],
            )
            now = home if home in order else order[0]
        self._over = order[(order.index(now) + step) % len(order)]
        self.update()

    # -- picking up and putting down ---------------------------------------------------------------

    def _movable(self, standing: OnShelf) -> bool:
        shelf = next((s for s in self._shelves if s.drive.uuid == standing.drive), None)
        return bool(shelf and shelf.drive.connected and not standing.parked and not standing.says)

    def _select(self, standing: OnShelf) -> None:
        if self._drive is not None or not self._selected or standing.id != self._selected.id:
            self._selected, self._drive = standing, None
            self.touched.emit()
            self.chosen.emit(standing)
        self.update()

    def _select_drive(self, shelf: Shelf) -> None:
        self._selected, self._drive = None, shelf.drive.uuid
        self.touched.emit()
        self.drive_chosen.emit(shelf)
        self.update()

    def _pick_up(self, standing: OnShelf) -> None:
        self._picked, self._previews = standing, {}
        self.picked_up.emit(standing)
        self.update()

    def _put_down_or_let_go(self) -> None:
        standing, over = self._picked, self._over
        if standing is None or over is None or self._shelves[over].drive.uuid == standing.drive:
            self._let_go()
            return
        drive = self._shelves[over].drive
        preview = self._previews.get(drive.uuid)
        self._let_go()
        if drive.connected and (preview is None or preview.possible or preview.verdict):
            self.put_down.emit(standing, drive)

    def _let_go(self) -> None:
        self._picked = self._over = self._pointer = self._pressed = None
        self._previews = {}
        self.let_go.emit()
        self.update()


def _folder_in(mime: QMimeData) -> Path | None:
    """The one folder or document dragged from a file manager; None for anything else."""
    urls = mime.urls() if mime.hasUrls() else []
    local = [url.toLocalFile() for url in urls if url.isLocalFile()]
    return Path(local[0]) if len(urls) == 1 and local else None
