"""A folder drawn as a band of its contents, by size; older ones are paler."""

from __future__ import annotations

import time
from collections.abc import Collection, Sequence

from msgspec import Struct
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QMouseEvent,
    QPainter,
    QPaintEvent,
    QPen,
)
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import elide, tip
from fascis.desktop.kit.theme import BOLD
from fascis.files.names import shown
from fascis.library.looking.look import Weight
from fascis.words.figures import number, size
from fascis.words.speech import tr, trn

HEIGHT, _LINE, _GAP = 104, 4, 5
_LEAST, _ROOM_FOR_WORDS, _ROOM_FOR_PART = 26.0, 46.0, 64.0
_MOST_BLOCKS = 14
# Years after which a block has its palest colour.
_OLD = 6.0
_YEAR_NS = 365.25 * 86400 * 1e9


class Block(Struct, frozen=True):
    """One block of a band: a folder, files directly in one, or several small ones together.

    ``room``: bytes on the drive.
    """

    words: str
    room: int
    files: int
    last_change_ns: int
    weight: Weight | None = None
    path: bytes = b""

    @property
    def year(self) -> str:
        """The year of its last change."""
        if not self.last_change_ns:
            return ""
        return time.strftime("%Y", time.localtime(max(0, self.last_change_ns / 1e9)))


def blocks_of(weight: Weight) -> list[Block]:
    """The contents of a folder, largest first; small ones together at the end."""
    inner = sorted((w for w in weight.inner if w.files), key=lambda w: (-w.room, w.path))
    found = [
        Block(shown(w.path.rpartition(b"/")[2]), w.room, w.files, w.last_change_ns, w, w.path)
        for w in inner
    ]
    files = weight.files - sum(w.files for w in weight.inner)
    if files:
        words = tr("files in it") if found else shown(weight.path.rpartition(b"/")[2])
        found.append(Block(words, weight.own_room, files, weight.last_change_ns, None, weight.path))
    found.sort(key=lambda b: -b.room)
    small = found[_MOST_BLOCKS:]
    if small:
        room, files = sum(b.room for b in small), sum(b.files for b in small)
        last = max(b.last_change_ns for b in small)
        found = [
            *found[:_MOST_BLOCKS],
            Block(tr("{small} small", small=len(small)), room, files, last),
        ]
    return found


class Band(QWidget):
    """Paints one folder's blocks, which can be chosen or opened."""

    chosen = pyqtSignal(object)
    # A folder should be shown in detail.
    opened = pyqtSignal(object)
    # Back to its parent.
    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.blocks: list[Block] = []
        self.at = -1
        self._rects: list[QRectF] = []
        self._libraries: frozenset[bytes] = frozenset()

    def sizeHint(self) -> QSize:
        """One line of blocks."""
        return QSize(800, HEIGHT + _LINE + 4)

    def show_weight(self, weight: Weight, libraries: Collection[bytes]) -> None:
        """Shows the contents of a folder; libraries have an outline."""
        self.blocks, self.at = blocks_of(weight), -1
        self._libraries = frozenset(libraries)
        self.setAccessibleName(tr("What lies in {path}, by weight", path=shown(weight.path)))
        self._again()

    def _again(self) -> None:
        room = max(self.width() - 2.0, 100.0)
        self._rects = _laid_out([b.room for b in self.blocks], room)
        self.update()

    def resizeEvent(self, event: object) -> None:
        """Lays out again."""
        self._again()

    def point_of(self, words: str) -> QPointF:
        """The middle of a block, for tests with the pointer."""
        return next(
            r.center() for r, b in zip(self._rects, self.blocks, strict=True) if b.words == words
        )

    def _choose(self, at: int) -> None:
        if 0 <= at < len(self.blocks) and at != self.at:
            self.at = at
            self.chosen.emit(self.blocks[at])
            self.update()

    def tell(self) -> None:
        """Reports the selection again."""
        if 0 <= self.at < len(self.blocks):
            self.chosen.emit(self.blocks[self.at])

    def _open(self) -> None:
        if 0 <= self.at < len(self.blocks):
            weight = self.blocks[self.at].weight
            if weight is not None:
                self.opened.emit(weight)

    # -- painting ----------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the blocks, and the line below them."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for at, (block, rect) in enumerate(zip(self.blocks, self._rects, strict=True)):
            self._block(painter, block, rect, at == self.at)
        painter.setPen(QPen(t.color("ink"), _LINE, cap=Qt.PenCapStyle.RoundCap))
        y = HEIGHT + _LINE
        painter.drawLine(QPointF(2, y), QPointF(self.width() - 2, y))
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("twine"), 1, Qt.PenStyle.DashLine))
            painter.drawRoundedRect(QRectF(0.5, 0.5, self.width() - 1, self.height() - 1), 5, 5)
        painter.end()

    def _block(self, painter: QPainter, block: Block, rect: QRectF, chosen: bool) -> None:
        t = theme.active()
        library = block.path in self._libraries and block.weight is not None
        painter.setBrush(_paler(t.color("block"), t.color("ground"), block.last_change_ns))
        edge = "twine" if chosen else "ink" if library else "block_edge"
        painter.setPen(QPen(t.color(edge), 3 if chosen else 2 if library else 1))
        painter.drawRoundedRect(rect, 4, 4)
        if rect.width() < _ROOM_FOR_WORDS:
            return
        lines = ((block.words, BOLD, "ink"), (size(block.room), theme.NORMAL, "ink"))
        y = rect.top() + 20
        for words, weight, tone in lines:
            painter.setFont(theme.font(12, weight))
            painter.setPen(t.color(tone))
            metrics = QFontMetricsF(painter.font())
            fits = metrics.horizontalAdvance(words) <= rect.width() - 12
            # A name can be shortened, a figure never.
            if fits or (weight == BOLD and rect.width() >= _ROOM_FOR_PART):
                words = words if fits else elide(words, metrics, rect.width() - 14)
                painter.drawText(QPointF(rect.left() + 8, y), words)
            y += 17
        painter.setFont(theme.font(11))
        painter.setPen(t.color("muted"))
        metrics = QFontMetricsF(painter.font())
        words = elide(block.year, metrics, rect.width() - 14)
        painter.drawText(QPointF(rect.left() + 8, rect.bottom() - 9), words)

    # -- pointer and keys --------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Chooses a block."""
        if event is not None:
            self.setFocus(Qt.FocusReason.MouseFocusReason)
            at = self._at(event.position())
            if at == self.at:
                self._open()
            self._choose(at)

    def _at(self, point: QPointF) -> int:
        return next((n for n, r in enumerate(self._rects) if r.contains(point)), -1)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Left and Right choose, Enter goes deeper, Backspace back."""
        if event is None:
            return
        key = event.key()
        if key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            step = 1 if key == Qt.Key.Key_Right else -1
            self._choose(max(0, min(len(self.blocks) - 1, self.at + step)))
        elif key in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self._open()
        elif key == Qt.Key.Key_Backspace:
            self.left.emit()
        else:
            super().keyPressEvent(event)

    def event(self, event: QEvent | None) -> bool:
        """Shows the full name and exact figures on hover."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            at = self._at(QPointF(event.pos()))
            words = ""
            if at >= 0:
                b = self.blocks[at]
                words = "{}\n{}".format(
                    shown(b.path) or b.words,
                    trn(
                        "{n} file, {room} bytes on the drive",
                        "{n} files, {room} bytes on the drive",
                        b.files,
                        room=number(b.room),
                    ),
                )
            QToolTip.showText(event.globalPos(), tip(words), self)
            return True
        return super().event(event)


def _laid_out(sizes: Sequence[int], room: float) -> list[QRectF]:
    """Blocks side by side, each as wide as its share, but wide enough for the pointer."""
    count = len(sizes)
    if not count:
        return []
    free = max(room - _GAP * (count - 1) - _LEAST * count, 0.0)
    total = max(sum(sizes), 1)
    found, x = [], 1.0
    for each in sizes:
        width = _LEAST + free * each / total
        found.append(QRectF(x, 1.0, width, HEIGHT - 1.0))
        x += width + _GAP
    return found


def _paler(fill: QColor, ground: QColor, last_change_ns: int) -> QColor:
    age = (time.time() * 1e9 - last_change_ns) / _YEAR_NS / _OLD
    share = 1 - 0.75 * max(0.0, min(1.0, age))
    return QColor(
        round(ground.red() + (fill.red() - ground.red()) * share),
        round(ground.green() + (fill.green() - ground.green()) * share),
        round(ground.blue() + (fill.blue() - ground.blue()) * share),
    )
