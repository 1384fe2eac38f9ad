"""The place Shelves: drives drawn as shelves, libraries standing on them as wide as they are big.

A block is dragged to another shelf with the pointer, or picked up with Space; both shelves show what would become of them.
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from pathlib import Path

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QFontMetricsF, QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from fascis.desktop import theme
from fascis.desktop.pieces import elide
from fascis.desktop.theme import BOLD, NORMAL
from fascis.drives.model import Drive
from fascis.files.names import shown
from fascis.files.sizes import NBSP, counted, size
from fascis.library.shelves import OnShelf, Shelf

LABEL_X, SHELF_X, RIGHT = 20, 186, 24
BLOCK_H, LEAST_BLOCK = 62, 28
_GROUPS = {"inside": "Inside this machine", "connected": "Connected", "away": "Away"}
NOTCH = 0.85


@dataclass(frozen=True, slots=True)
class Preview:
    """What would become of a shelf if the picked-up library were put on it. ``verdict`` is the bold first line."""

    drive: str
    verdict: str
    detail: str
    takes: int
    possible: bool


@dataclass(slots=True)
class _Block:
    rect: QRectF
    shelf: int
    standing: OnShelf


def _capacity_step(drive: Drive, largest: int) -> float:
    """Shelf length in three steps by capacity, so that a stick does not look like an archive."""
    if drive.capacity * 3 >= largest:
        return 1.0
    return 0.72 if drive.capacity * 12 >= largest else 0.34


def drive_words(drive: Drive, seen_at: float | None) -> str:
    """The quiet line under a drive's name."""
    name = drive.rules.name if drive.rules.name != "unknown" else drive.filesystem
    if not drive.connected:
        seen = f"last seen {time.strftime('%d %b, %H:%M', time.localtime(seen_at))}" if seen_at else "away"
        return f"{name} · {seen}"
    transport = {"nvme": "NVMe", "usb": "USB", "sata": "SATA", "network": "network"}.get(drive.transport, "")
    return " · ".join(filter(None, (name, transport, size(drive.capacity))))


class ShelvesView(QWidget):
    """Paints the shelves and takes pointer and keys. Signals say what happened; the frame decides."""

    chosen = pyqtSignal(object)  # OnShelf or None
    drive_chosen = pyqtSignal(object)  # Drive
    picked_up = pyqtSignal(object)  # OnShelf
    let_go = pyqtSignal()
    opened = pyqtSignal(object)  # OnShelf
    put_down = pyqtSignal(object, object)  # OnShelf, Drive

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.MinimumExpanding)
        self.setAccessibleName("Shelves")
        self._shelves: list[Shelf] = []
        self._previews: dict[str, Preview] = {}
        self._blocks: list[_Block] = []
        self._rows: list[tuple[QRectF, int]] = []
        self._selected: OnShelf | None = None
        self._picked: OnShelf | None = None
        self._over: int | None = None
        self._pressed: QPointF | None = None
        self._pointer: QPointF | None = None
        self.empty_text = ""

    # -- what it shows --------------------------------------------------------------------------------------------

    def show_shelves(self, shelves: list[Shelf], wanted: Path | None = None) -> None:
        """Shows shelves as they are now, choosing the library at ``wanted``, else keeping the selection."""
        self._shelves = shelves
        standing = [s for shelf in shelves for s in shelf.standings]
        kept = next((s for s in standing if s.root == wanted), None)
        kept = kept or next((s for s in standing if self._selected and s.id == self._selected.id), None)
        if kept is None and shelves:
            fullest = sorted((s for s in shelves if s.standings and s.drive.connected), key=lambda s: -s.drive.full)
            kept = fullest[0].standings[0] if fullest else None
        self._selected = kept
        self.updateGeometry()
        self.setMinimumHeight(self.sizeHint().height())
        self.update()
        self.chosen.emit(kept)

    def show_previews(self, previews: list[Preview]) -> None:
        """Shows what would become of each shelf."""
        self._previews = {p.drive: p for p in previews}
        self.update()

    @property
    def selected(self) -> OnShelf | None:
        """The library that the side panel is about."""
        return self._selected

    @property
    def picked(self) -> OnShelf | None:
        """The library that is in the air."""
        return self._picked

    def block_of(self, name: str) -> QRectF:
        """Where a library's block is painted, in the view's pixels."""
        return next(b.rect for b in self._blocks if b.standing.name == name)

    def shelf_of(self, label: str) -> QRectF:
        """Where a drive's shelf is painted."""
        return next(r for r, i in self._rows if self._shelves[i].drive.label == label)

    def sizeHint(self) -> QSize:
        """As high as its shelves need."""
        groups = len({s.group for s in self._shelves})
        return QSize(900, 30 + groups * 24 + len(self._shelves) * 110)

    # -- painting -------------------------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints everything."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.active().color("ground"))
        self._blocks, self._rows = [], []
        if not self._shelves:
            painter.setPen(theme.active().color("muted"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self.empty_text or "Looking at the drives …")
        y, group = 12.0, ""
        largest = max((s.drive.capacity for s in self._shelves), default=1)
        for i, shelf in enumerate(self._shelves):
            if shelf.group != group:
                group = shelf.group
                painter.setFont(theme.font(12, BOLD))
                painter.setPen(theme.active().color("muted"))
                painter.drawText(QPointF(LABEL_X, y + 10), _GROUPS[group])
                y += 22
            self._shelf(painter, i, shelf, y, largest)
            y += 110
        if self._picked and self._pointer:
            self._ghost(painter)
        painter.end()

    def _shelf(self, painter: QPainter, index: int, shelf: Shelf, y: float, largest: int) -> None:
        t, drive = theme.active(), shelf.drive
        row = QRectF(14, y - 4, self.width() - 28, 106)
        self._rows.append((row, index))
        preview = self._previews.get(drive.uuid) if self._picked else None
        over = self._picked is not None and self._over == index and drive.uuid != self._picked.drive
        if over:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("panel"))
            painter.drawRoundedRect(row, 8, 8)
        self._drive_label(painter, shelf, y)
        length = (self.width() - SHELF_X - RIGHT - 96) * _capacity_step(drive, largest)
        base = y + 12 + BLOCK_H
        painter.setPen(
            QPen(
                t.color("away_text" if not drive.connected else "ink"),
                4,
                Qt.PenStyle.DotLine if not drive.connected else Qt.PenStyle.SolidLine,
                Qt.PenCapStyle.RoundCap,
            )
        )
        painter.drawLine(QPointF(SHELF_X, base + 2), QPointF(SHELF_X + length, base + 2))
        if drive.connected:
            notch = SHELF_X + length * NOTCH
            painter.setPen(QPen(t.color("ink"), 2))
            painter.drawLine(QPointF(notch, base + 6), QPointF(notch, base + 13))
        end = self._standings(painter, index, shelf, SHELF_X, base, length)
        if preview and over and preview.possible:
            end = self._outline(painter, preview, drive, end, base, length)
        self._right_words(painter, shelf, y, base, end, preview)

    def _drive_label(self, painter: QPainter, shelf: Shelf, y: float) -> None:
        t, drive = theme.active(), shelf.drive
        painter.setFont(theme.font(13, BOLD))
        painter.setPen(t.color("ink"))
        painter.drawText(
            QPointF(LABEL_X, y + 14), elide(shown(drive.label), QFontMetricsF(painter.font()), SHELF_X - LABEL_X - 12)
        )
        painter.setFont(theme.font(12))
        painter.setPen(t.color("muted"))
        words = QRectF(LABEL_X, y + 20, SHELF_X - LABEL_X - 12, 40)
        painter.drawText(words, Qt.TextFlag.TextWordWrap, drive_words(drive, shelf.seen_at))
        if drive.connected:
            painter.setFont(theme.font(12, BOLD if drive.full >= NOTCH else NORMAL))
            painter.setPen(t.color("ink" if drive.full >= NOTCH else "muted"))
            painter.drawText(QPointF(LABEL_X, y + 64), f"{drive.full:.0%} full")

    def _standings(self, painter: QPainter, index: int, shelf: Shelf, x: float, base: float, length: float) -> float:
        drive = shelf.drive
        capacity = max(drive.capacity, 1)
        if drive.connected and shelf.other > 0.001 * capacity:
            width = max(3.0, length * shelf.other / capacity)
            self._other(painter, shelf, QRectF(x, base - BLOCK_H, width, BLOCK_H))
            x += width + 2
        small: list[OnShelf] = []
        for standing in shelf.standings:
            width = length * standing.size / capacity
            if x + max(width, LEAST_BLOCK) > SHELF_X + length + LEAST_BLOCK * 4 and standing is not self._selected:
                small.append(standing)
                continue
            rect = QRectF(x, base - BLOCK_H, max(width, LEAST_BLOCK), BLOCK_H)
            self._blocks.append(_Block(rect, index, standing))
            self._block(painter, rect, standing, drive.connected)
            x = rect.right() + 3
        if small:
            painter.setPen(theme.active().color("muted"))
            painter.drawText(QPointF(x + 4, base - 6), f"+{len(small)} small")
            x += 70
        return x

    def _other(self, painter: QPainter, shelf: Shelf, rect: QRectF) -> None:
        t = theme.active()
        painter.setPen(QPen(t.color("line"), 1))
        painter.setBrush(t.color("trough"))
        painter.drawRoundedRect(rect, 3, 3)
        if rect.width() > 70:
            painter.setFont(theme.font(12))
            painter.setPen(t.color("muted"))
            name = "System, other" if shelf.group == "inside" else "Other"
            painter.drawText(
                rect.adjusted(8, 6, -4, 0),
                Qt.AlignmentFlag.AlignTop,
                f"{elide(name, QFontMetricsF(painter.font()), rect.width() - 12)}\n{size(shelf.other)}",
            )

    def _block(self, painter: QPainter, rect: QRectF, standing: OnShelf, connected: bool) -> None:
        t = theme.active()
        lifted = self._picked is not None and standing.id == self._picked.id
        painter.setPen(
            QPen(
                t.color("block_edge" if connected else "away_text"),
                1,
                Qt.PenStyle.DotLine if not connected or lifted else Qt.PenStyle.SolidLine,
            )
        )
        painter.setBrush(t.color("ground" if lifted or not connected else "block"))
        painter.drawRoundedRect(rect, 3, 3)
        if standing.parked:
            painter.setBrush(Qt.BrushStyle.BDiagPattern)
            painter.drawRoundedRect(rect, 3, 3)
        self._strip(painter, rect, standing)
        metrics_bold = QFontMetricsF(theme.font(13, BOLD))
        if rect.width() >= 34:
            painter.setFont(theme.font(13, BOLD))
            painter.setPen(t.color("ink"))
            painter.drawText(
                QPointF(rect.x() + 7, rect.y() + 18), elide(shown(standing.name), metrics_bold, rect.width() - 12)
            )
            painter.setFont(theme.font(12))
            words = size(standing.size) if standing.summary else "not looked at"
            painter.drawText(
                QPointF(rect.x() + 7, rect.y() + 35), elide(words, QFontMetricsF(painter.font()), rect.width() - 10)
            )
        if self._selected and standing.id == self._selected.id:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("ink"), 2))
            painter.drawRoundedRect(rect.adjusted(-3, -3, 3, 1), 5, 5)
            if self.hasFocus():
                painter.setPen(QPen(t.color("twine"), 1, Qt.PenStyle.DashLine))
                painter.drawRoundedRect(rect.adjusted(-6, -6, 6, 4), 7, 7)

    def _strip(self, painter: QPainter, rect: QRectF, standing: OnShelf) -> None:
        """The strip at a block's foot, only of what is inside it: in use, can be made again, unused."""
        if not standing.summary or not standing.summary.allocated or standing.parked:
            return
        t = theme.active()
        share = standing.summary.remakeable / standing.summary.allocated
        foot = QRectF(rect.x() + 2, rect.bottom() - 9, rect.width() - 4, 8)
        painter.setPen(Qt.PenStyle.NoPen)
        idle = min(standing.summary.unused[1] / max(standing.summary.bytes, 1), 1 - share)
        x = foot.x()
        for part, colour in ((1 - share - idle, "held"), (share, "remakeable"), (idle, "unused")):
            painter.setBrush(t.color(colour))
            painter.drawRect(QRectF(x, foot.y(), foot.width() * part, foot.height()))
            x += foot.width() * part

    def _outline(
        self, painter: QPainter, preview: Preview, drive: Drive, x: float, base: float, length: float
    ) -> float:
        width = max(LEAST_BLOCK + 12.0, length * preview.takes / max(drive.capacity, 1))
        rect = QRectF(x + 2, base - BLOCK_H, width, BLOCK_H)
        painter.setPen(QPen(theme.active().color("ink"), 2, Qt.PenStyle.DashLine))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(rect, 3, 3)
        if width < 64:
            return rect.right()
        painter.setFont(theme.font(12, BOLD))
        painter.drawText(
            QPointF(rect.x() + 7, rect.y() + 18),
            elide(shown(self._picked.name if self._picked else ""), QFontMetricsF(painter.font()), width - 10),
        )
        painter.setFont(theme.font(12))
        painter.drawText(
            QPointF(rect.x() + 7, rect.y() + 35), elide(size(preview.takes), QFontMetricsF(painter.font()), width - 8)
        )
        return rect.right()

    def _right_words(
        self, painter: QPainter, shelf: Shelf, y: float, base: float, end: float, preview: Preview | None
    ) -> None:
        t, drive = theme.active(), shelf.drive
        room = self.width() - RIGHT - 96 - end - 16
        if preview:
            own = self._picked is not None and self._picked.drive == drive.uuid
            x, top = end + 14, base - BLOCK_H + 4
            if room < 200:
                x, room = end + 14, max(room, 120)
            painter.setFont(theme.font(12, BOLD))
            painter.setPen(t.color("ink"))
            painter.drawText(
                QRectF(x, top, room, 16),
                Qt.AlignmentFlag.AlignVCenter,
                elide(preview.verdict, QFontMetricsF(painter.font()), room),
            )
            painter.setFont(theme.font(12))
            painter.setPen(t.color("muted"))
            painter.drawText(QRectF(x, top + 18, room, 36), Qt.TextFlag.TextWordWrap, preview.detail)
            if own:
                return
        if drive.connected:
            painter.setFont(theme.font(13, BOLD))
            painter.setPen(t.color("ink"))
            painter.drawText(
                QRectF(self.width() - RIGHT - 90, y + 14, 90, 18), Qt.AlignmentFlag.AlignRight, size(drive.free)
            )
            painter.setFont(theme.font(12))
            painter.setPen(t.color("muted"))
            painter.drawText(QRectF(self.width() - RIGHT - 90, y + 32, 90, 16), Qt.AlignmentFlag.AlignRight, "free")

    def _ghost(self, painter: QPainter) -> None:
        assert self._picked and self._pointer
        t = theme.active()
        rect = QRectF(self._pointer.x() + 8, self._pointer.y() + 6, 170, 44)
        painter.setOpacity(0.94)
        painter.setPen(QPen(t.color("ink"), 1.5))
        painter.setBrush(t.color("block"))
        painter.drawRoundedRect(rect, 4, 4)
        painter.setFont(theme.font(13, BOLD))
        painter.drawText(
            rect.adjusted(10, 5, -6, 0),
            Qt.AlignmentFlag.AlignTop,
            elide(shown(self._picked.name), QFontMetricsF(painter.font()), 152),
        )
        painter.setFont(theme.font(12))
        painter.drawText(rect.adjusted(10, 23, -6, 0), Qt.AlignmentFlag.AlignTop, size(self._picked.size))
        painter.setOpacity(1)

    # -- pointer --------------------------------------------------------------------------------------------------

    def _block_at(self, point: QPointF) -> _Block | None:
        return next((b for b in self._blocks if b.rect.contains(point)), None)

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
            self.drive_chosen.emit(self._shelves[i].drive)

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
        """Puts down, or lets go where nothing can take it."""
        if event is None:
            return
        dragging, self._pressed = self._pressed is not None and self._picked is not None, None
        if dragging:
            self._put_down_or_let_go()

    def event(self, event: QEvent | None) -> bool:
        """Shows whole names and exact bytes on hover."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            block = self._block_at(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), tooltip(block.standing) if block else "", self)
            return True
        return super().event(event)

    def mouseDoubleClickEvent(self, event: QMouseEvent | None) -> None:
        """Opens a library."""
        block = self._block_at(event.position()) if event else None
        if block and block.standing.home:
            self._pressed = None
            self.opened.emit(block.standing)

    # -- keyboard -------------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows walk, Space picks up, Up and Down then try shelves, Enter puts down, Esc takes back."""
        if event is None:
            return
        key = event.key()
        if self._picked is not None:
            if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
                self._try(1 if key == Qt.Key.Key_Down else -1)
            elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
                self._put_down_or_let_go()
            elif key == Qt.Key.Key_Escape:
                self._let_go()
            return
        steps = {Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1)}
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
        rows = [list(shelf.standings) for shelf in self._shelves]
        here = next(
            (
                (r, c)
                for r, row in enumerate(rows)
                for c, s in enumerate(row)
                if self._selected and s.id == self._selected.id
            ),
            None,
        )
        if here is None:
            return
        r, c = here
        if across and 0 <= c + across < len(rows[r]):
            self._select(rows[r][c + across])
        elif down:
            r += down
            while 0 <= r < len(rows) and not rows[r]:
                r += down
            if 0 <= r < len(rows):
                self._select(rows[r][min(c, len(rows[r]) - 1)])

    def _try(self, step: int) -> None:
        order = [i for i, s in enumerate(self._shelves) if s.drive.connected]
        now = self._over if self._over in order else None
        if now is None:
            home = next(
                (i for i, s in enumerate(self._shelves) if self._picked and s.drive.uuid == self._picked.drive),
                order[0],
            )
            now = home if home in order else order[0]
        self._over = order[(order.index(now) + step) % len(order)]
        self.update()

    # -- picking up and putting down ------------------------------------------------------------------------------

    def _movable(self, standing: OnShelf) -> bool:
        shelf = next((s for s in self._shelves if s.drive.uuid == standing.drive), None)
        return bool(shelf and shelf.drive.connected and not standing.parked)

    def _select(self, standing: OnShelf) -> None:
        if not self._selected or standing.id != self._selected.id:
            self._selected = standing
            self.chosen.emit(standing)
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


def tooltip(standing: OnShelf) -> str:
    """Whole name, place and exact bytes of a block."""
    if standing.summary is None:
        return f"{shown(standing.name)}\n{shown(str(standing.root))}\nnot looked at yet"
    s = standing.summary
    changed = time.strftime("%d %b %Y, %H:%M", time.localtime(s.last_change_ns / 1e9))
    looked = time.strftime("%d %b, %H:%M", time.localtime(standing.surveyed_at)) if standing.surveyed_at else "not yet"
    copies = (
        f"{counted(standing.copies, 'verified copy', 'verified copies')}" if standing.copies else "no verified copy"
    )
    return (
        f"{shown(standing.name)}\n{shown(str(standing.root))}\n{counted(s.files, 'file')}, {s.bytes:,}{NBSP}bytes"
        f" ({s.allocated:,} on the drive)\nlast change {changed}\nsurveyed {looked} · {copies}"
    )
