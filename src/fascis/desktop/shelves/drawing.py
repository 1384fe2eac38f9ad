"""How shelves are drawn.

Drives as lines, libraries as blocks with a width by their size, and previews of changes.
"""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct, field
from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from fascis.desktop.kit import theme
from fascis.desktop.kit.coming import Coming
from fascis.desktop.kit.pieces import elide
from fascis.desktop.kit.theme import BOLD, NORMAL
from fascis.desktop.shelves.folders import Folders
from fascis.desktop.shelves.laying import GAP, LEAST_BLOCK, lay_out
from fascis.drives.care.describing import (
    file_system_words,
    speed_words,
    state_words,
    transport_words,
)
from fascis.drives.model import Drive
from fascis.files.names import shown
from fascis.files.times import whole
from fascis.library.known.places import State
from fascis.library.known.shelves import OnShelf, Shelf
from fascis.words.figures import NBSP, day, moment, number, percent, size
from fascis.words.speech import tr, trn

LABEL_X, SHELF_X, RIGHT = 20, 186, 24
BLOCK_H = 62
# Names below narrow blocks have this many lines.
_STEPS = 3
_GROUPS = {"inside": tr("Inside this machine"), "connected": tr("Connected"), "away": tr("Away")}
NOTCH = 0.85
# The width of a sign in a block's corner.
SIGN = 21
# How a copy compares with its home: equal, behind, ahead, different; damaged; unknown.
SIGNS = {
    State.EQUAL: "=",
    State.BEHIND: "−",
    State.AHEAD: "+",
    State.DIFFERS: "≠",
    State.DAMAGED: "!",
    State.UNKNOWN: "?",
}


class Preview(Struct, frozen=True):
    """What would become of a shelf if the picked-up library were put there.

    ``verdict`` is the bold first line.
    """

    drive: str
    verdict: str
    detail: str
    takes: int
    possible: bool


class Block(Struct):
    """Where a library is painted, and on which shelf."""

    rect: QRectF
    shelf: int
    standing: OnShelf
    # The position of its name below, if it is too narrow for it.
    name: QRectF = field(default_factory=QRectF)

    @property
    def point(self) -> QPointF:
        """A point for the pointer."""
        return self.name.center() if not self.name.isEmpty() else self.rect.center()

    def holds(self, point: QPointF) -> bool:
        """True for a point in it, or in its name."""
        return self.rect.contains(point) or self.name.contains(point)


def _capacity_step(drive: Drive, largest: int) -> float:
    """Shelf length in three steps by capacity, to distinguish a stick from an archive drive."""
    if drive.capacity * 3 >= largest:
        return 1.0
    return 0.72 if drive.capacity * 12 >= largest else 0.34


def drive_words(shelf: Shelf) -> str:
    """The quiet lines under a drive's name.

    What it is, and why it cannot be used now, or its speed.
    """
    drive = shelf.drive
    if state := state_words(drive, shelf.seen_at):
        return f"{file_system_words(drive)} · {state}"
    first = " · ".join(
        filter(None, (file_system_words(drive), transport_words(drive), size(drive.capacity)))
    )
    return "\n".join(filter(None, (first, speed_words(shelf.speed))))


def short_flag(shelf: Shelf) -> str:
    """The one thing about a drive that must be seen before it is chosen, or its used share."""
    drive = shelf.drive
    if drive.twin_of:
        return (
            tr("one of two with one identity")
            if drive.ambiguous
            else tr("a clone of it is connected")
        )
    if drive.errors:
        return trn("{n} fault counted", "{n} faults counted", drive.errors)
    if not drive.connected:
        return ""
    if drive.read_only:
        return tr("read-only")
    return (
        tr("seems a backup disk")
        if shelf.character.backup
        else tr("{percent} full", percent=percent(drive.full))
    )


def is_urgent(shelf: Shelf) -> bool:
    """True if that one thing is not the used share, or if the drive is nearly full."""
    drive = shelf.drive
    wrong = drive.twin_of or drive.errors or drive.read_only or shelf.character.backup
    return bool(wrong) or drive.full >= NOTCH


def block_words(standing: OnShelf, several: bool) -> str:
    """The second line of a block: its size.

    If several have its name, or it is new, which one it is.
    """
    if standing.says:
        return tr("new here") if standing.offered else tr("another folder")
    words = size(standing.size) if standing.size or standing.summary else tr("not looked at")
    if standing.parked:
        if standing.aside_at:
            return tr("{size} · set aside {day}", size=words, day=day(standing.aside_at))
        which = tr("set aside")
    elif standing.home:
        which = tr("home")
    else:
        which = tr("copy")
    return f"{which} · {words}" if several else words


class ShelfDrawing(QWidget):
    """What the view of shelves paints. The view knows what is chosen, picked up and hovered."""

    def __init__(self) -> None:
        super().__init__()
        self._shelves: list[Shelf] = []
        self._previews: dict[str, Preview] = {}
        self._blocks: list[Block] = []
        self._rows: list[tuple[QRectF, int]] = []
        self._selected: OnShelf | None = None
        # The chosen drive, if no library is chosen.
        self._drive: str | None = None
        self._picked: OnShelf | None = None
        self._over: int | None = None
        # The library over which a part is dragged.
        self._part_over: OnShelf | None = None
        self._folders = Folders()
        self._pointer: QPointF | None = None
        self._notes: dict[str, tuple[str, str]] = {}
        # Names of several blocks, and names of several libraries.
        self._several: set[str] = set()
        self._twins: set[str] = set()
        self._coming: list[Coming] = []
        self._empty_words = tr("Looking at the drives …")

    # -- painting ----------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints everything."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.fillRect(self.rect(), theme.active().color("ground"))
        self._blocks, self._rows = [], []
        if not self._shelves:
            painter.setPen(theme.active().color("muted"))
            painter.drawText(self.rect(), Qt.AlignmentFlag.AlignCenter, self._empty_words)
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
        if over or (self._picked is None and self._over == index):
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("panel"))
            painter.drawRoundedRect(row, 8, 8)
        self._drive_label(painter, shelf, y)
        if drive.uuid == self._drive:
            self._chosen_drive(painter, y)
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
        if drive.uuid == self._folders.drive:
            self._folders.paint(painter, SHELF_X, base + 9, self.width() - RIGHT)
        if preview and over and preview.possible:
            end = self._outline(painter, preview, drive, end, base, length)
        self._right_words(painter, shelf, y, base, end, preview)

    def _drive_label(self, painter: QPainter, shelf: Shelf, y: float) -> None:
        t, drive = theme.active(), shelf.drive
        width = SHELF_X - LABEL_X - 12
        painter.setFont(theme.font(13, BOLD))
        painter.setPen(t.color("ink"))
        painter.drawText(
            QPointF(LABEL_X, y + 14),
            elide(shown(drive.label), QFontMetricsF(painter.font()), width),
        )
        painter.setFont(theme.font(12))
        painter.setPen(t.color("muted"))
        words = QRectF(LABEL_X, y + 20, width, 48)
        taken = painter.boundingRect(words, Qt.TextFlag.TextWordWrap, drive_words(shelf))
        painter.drawText(words, Qt.TextFlag.TextWordWrap, drive_words(shelf))
        if flag := short_flag(shelf):
            urgent = is_urgent(shelf)
            painter.setFont(theme.font(12, BOLD if urgent else NORMAL))
            painter.setPen(t.color("ink" if urgent else "muted"))
            painter.drawText(
                QRectF(LABEL_X, min(taken.bottom(), y + 68) + 1, width, 32),
                Qt.TextFlag.TextWordWrap,
                flag,
            )

    def _chosen_drive(self, painter: QPainter, y: float) -> None:
        """The outline of a chosen drive."""
        rect = QRectF(LABEL_X - 7, y - 3, SHELF_X - LABEL_X - 2, 102)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(theme.active().color("ink"), 2))
        painter.drawRoundedRect(rect, 5, 5)
        if self.hasFocus():
            painter.setPen(QPen(theme.active().color("twine"), 1, Qt.PenStyle.DashLine))
            painter.drawRoundedRect(rect.adjusted(-3, -3, 3, 3), 7, 7)

    def _standings(
        self, painter: QPainter, index: int, shelf: Shelf, x: float, base: float, length: float
    ) -> float:
        drive = shelf.drive
        layout = lay_out(
            shelf.standings, shelf.other if drive.connected else 0, drive.capacity, x, length
        )
        if layout.other:
            self._other(painter, shelf, QRectF(x, base - BLOCK_H, layout.other, BLOCK_H))
        below: list[Block] = []
        for laid in layout.laid:
            rect = QRectF(laid.x, base - BLOCK_H, laid.width, BLOCK_H)
            self._blocks.append(block := Block(rect, index, laid.standing))
            self._block(painter, rect, laid.standing, drive.connected, laid.narrow)
            name = QFontMetricsF(theme.font(13, BOLD)).horizontalAdvance(
                self._called(laid.standing)
            )
            sign = SIGN if laid.standing.state in SIGNS else 0
            if laid.narrow or name > rect.width() - 12 - sign:
                below.append(block)
        end = max([layout.end, *(self._arrives(painter, shelf, layout.end, base, length))])
        if drive.uuid != self._folders.drive:
            self._names_below(painter, below, base)
        return end

    def _called(self, standing: OnShelf) -> str:
        """A library's name, with its folder if another one has that name too."""
        if standing.name in self._twins:
            return tr(
                "{name} in {folder}",
                name=shown(standing.name),
                folder=shown(standing.root.parent.name or "/"),
            )
        return shown(standing.name)

    def _arrives(
        self, painter: QPainter, shelf: Shelf, x: float, base: float, length: float
    ) -> Iterator[float]:
        """A library on its way to a shelf: dashed, and filled as far as it is verified."""
        t = theme.active()
        for coming in self._coming:
            if coming.drive != shelf.drive.uuid:
                continue
            width = max(LEAST_BLOCK, length * coming.bytes / max(shelf.drive.capacity, 1))
            width = min(width, max(SHELF_X + length - x - GAP, LEAST_BLOCK))
            rect = QRectF(x + GAP, base - BLOCK_H, width, BLOCK_H)
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("copied"))
            filled = rect.adjusted(0, 0, -rect.width() * (1 - coming.done), 0)
            painter.drawRoundedRect(filled, 3, 3)
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("ink"), 1.5, Qt.PenStyle.DashLine))
            painter.drawRoundedRect(rect, 3, 3)
            painter.setPen(t.color("ink"))
            painter.setFont(theme.font(12, BOLD))
            metrics = QFontMetricsF(painter.font())
            room = max(rect.width() - 12, 150.0)
            at = rect.x() + 7 if rect.width() > 90 else rect.right() + 7
            words = elide(shown(coming.name), metrics, room)
            painter.drawText(QPointF(at, rect.y() + 18), words)
            painter.setFont(theme.font(12))
            painter.drawText(QPointF(at, rect.y() + 35), coming.words)
            x = rect.right() if at < rect.right() else at + room
            yield x

    def _names_below(self, painter: QPainter, narrow: list[Block], base: float) -> None:
        """The names of blocks that are too narrow for them, in steps, so that each has room.

        The others are counted; they can be chosen by their slice or with the arrow keys.
        """
        ends, end, more = [float(SHELF_X)] * _STEPS, self.width() - RIGHT, 0
        for block in narrow:
            chosen = self._selected is not None and block.standing.id == self._selected.id
            painter.setFont(theme.font(11, BOLD if chosen else NORMAL))
            metrics = QFontMetricsF(painter.font())
            line = block.rect.center().x()
            step = min(range(_STEPS), key=lambda s: (max(line, ends[s]), s))
            x = max(line, ends[step])
            sign = SIGNS.get(block.standing.state, "") if block.standing.state else ""
            words = f"{elide(self._called(block.standing), metrics, 150)} {sign}".rstrip()
            wide = metrics.horizontalAdvance(words)
            if x + 4 + wide > end - 60 and not chosen:
                more += 1
                continue
            x = min(x, end - wide - 4)
            y = base + 22 + 11 * step
            painter.setPen(QPen(theme.active().color("line"), 1))
            painter.drawLine(QPointF(line, base + 3), QPointF(line, y - 8))
            if line >= ends[step]:
                painter.drawLine(QPointF(line, y - 8), QPointF(line, y))
            painter.setPen(theme.active().color("ink"))
            painter.drawText(QPointF(x + 4, y), words)
            block.name = QRectF(x, y - 11, wide + 8, 13)
            ends[step] = x + wide + 14
        if more:
            painter.setFont(theme.font(11))
            painter.setPen(theme.active().color("muted"))
            words = trn("+{n} small", "+{n} small", more)
            painter.drawText(QPointF(end - 56, base + 22), words)

    def _other(self, painter: QPainter, shelf: Shelf, rect: QRectF) -> None:
        t = theme.active()
        painter.setPen(QPen(t.color("line"), 1))
        painter.setBrush(t.color("trough"))
        painter.drawRoundedRect(rect, 3, 3)
        if rect.width() > 70:
            painter.setFont(theme.font(12))
            painter.setPen(t.color("muted"))
            name = tr("System, other") if shelf.group == "inside" else tr("Other")
            short = elide(name, QFontMetricsF(painter.font()), rect.width() - 12)
            painter.drawText(
                rect.adjusted(8, 6, -4, 0),
                Qt.AlignmentFlag.AlignTop,
                f"{short}\n{size(shelf.other)}",
            )

    def _block(
        self,
        painter: QPainter,
        rect: QRectF,
        standing: OnShelf,
        connected: bool,
        narrow: bool = False,
    ) -> None:
        t = theme.active()
        lifted = self._picked is not None and standing.id == self._picked.id
        line = Qt.PenStyle.DashLine if standing.says else Qt.PenStyle.SolidLine
        painter.setPen(
            QPen(
                t.color("block_edge" if connected else "away_text"),
                1,
                Qt.PenStyle.DotLine if not connected or lifted else line,
            )
        )
        painter.setBrush(t.color("ground" if lifted or not connected or standing.says else "block"))
        painter.drawRoundedRect(rect, 3, 3)
        if standing.parked:
            painter.setBrush(Qt.BrushStyle.BDiagPattern)
            painter.drawRoundedRect(rect, 3, 3)
        self._strip(painter, rect, standing)
        metrics_bold = QFontMetricsF(theme.font(13, BOLD))
        room = rect.width() - 12 - (0 if narrow else self._sign(painter, rect, standing))
        fits = metrics_bold.horizontalAdvance(self._called(standing)) <= room
        if rect.width() >= 60 or fits:
            painter.setFont(theme.font(13, BOLD))
            painter.setPen(t.color("ink"))
            painter.drawText(
                QPointF(rect.x() + 7, rect.y() + 18),
                elide(self._called(standing), metrics_bold, room),
            )
            painter.setFont(theme.font(12))
            words = block_words(standing, standing.name in self._several)
            metrics = QFontMetricsF(painter.font())
            if metrics.horizontalAdvance(words) > rect.width() - 10 and " " in words:
                words = words.split(" · ")[0]
            if metrics.horizontalAdvance(words) <= rect.width() - 8:  # Half a figure means nothing.
                painter.drawText(QPointF(rect.x() + 7, rect.y() + 35), words)
            if standing.reminder:
                painter.setFont(theme.font(11))
                metrics = QFontMetricsF(painter.font())
                reminder = elide(standing.reminder, metrics, rect.width() - 12)
                painter.drawText(QPointF(rect.x() + 7, rect.y() + 49), reminder)
        if self._part_over and standing.id == self._part_over.id:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("twine"), 3))
            painter.drawRoundedRect(rect.adjusted(-4, -4, 4, 2), 6, 6)
        if self._selected and standing.id == self._selected.id:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("ink"), 2))
            painter.drawRoundedRect(rect.adjusted(-3, -3, 3, 1), 5, 5)
            if self.hasFocus():
                painter.setPen(QPen(t.color("twine"), 1, Qt.PenStyle.DashLine))
                painter.drawRoundedRect(rect.adjusted(-6, -6, 6, 4), 7, 7)

    def _sign(self, painter: QPainter, rect: QRectF, standing: OnShelf) -> float:
        """How a copy compares with its home, as a sign in the block's corner; returns its width."""
        sign = SIGNS.get(standing.state) if standing.state else None
        if not sign:
            return 0.0
        t = theme.active()
        wrong = standing.state is State.DAMAGED
        tab = QRectF(rect.right() - SIGN, rect.y() + 4, 17, 17)
        painter.setPen(QPen(t.color("block_edge"), 1))
        painter.setBrush(t.color("ink" if wrong else "ground"))
        painter.drawRoundedRect(tab, 3, 3)
        painter.setFont(theme.font(13, BOLD))
        painter.setPen(t.color("on_ink" if wrong else "ink"))
        painter.drawText(tab, Qt.AlignmentFlag.AlignCenter, sign)
        return float(SIGN)

    def _strip(self, painter: QPainter, rect: QRectF, standing: OnShelf) -> None:
        """The strip at a block's foot, for files inside the library.

        In use, can be made again, unused.
        """
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
        self,
        painter: QPainter,
        preview: Preview,
        drive: Drive,
        x: float,
        base: float,
        length: float,
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
            elide(
                shown(self._picked.name if self._picked else ""),
                QFontMetricsF(painter.font()),
                width - 10,
            ),
        )
        painter.setFont(theme.font(12))
        painter.drawText(
            QPointF(rect.x() + 7, rect.y() + 35),
            elide(size(preview.takes), QFontMetricsF(painter.font()), width - 8),
        )
        return rect.right()

    def _right_words(
        self,
        painter: QPainter,
        shelf: Shelf,
        y: float,
        base: float,
        end: float,
        preview: Preview | None,
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
            painter.drawText(
                QRectF(x, top + 18, room, 36), Qt.TextFlag.TextWordWrap, preview.detail
            )
            if own:
                return
        elif drive.uuid in self._notes:
            self._note(
                painter, self._notes[drive.uuid], end + 14, base - BLOCK_H + 4, max(room, 160)
            )
        if drive.connected:
            painter.setFont(theme.font(13, BOLD))
            painter.setPen(t.color("ink"))
            painter.drawText(
                QRectF(self.width() - RIGHT - 90, y + 14, 90, 18),
                Qt.AlignmentFlag.AlignRight,
                size(drive.free),
            )
            painter.setFont(theme.font(12))
            painter.setPen(t.color("muted"))
            painter.drawText(
                QRectF(self.width() - RIGHT - 90, y + 32, 90, 16),
                Qt.AlignmentFlag.AlignRight,
                tr("free"),
            )

    def _note(
        self, painter: QPainter, note: tuple[str, str], x: float, top: float, room: float
    ) -> None:
        """Recent news of a drive, beside its libraries."""
        t = theme.active()
        top -= 0 if note[0] else 18
        painter.setFont(theme.font(12, BOLD))
        painter.setPen(t.color("ink"))
        painter.drawText(
            QRectF(x, top, room, 16),
            Qt.AlignmentFlag.AlignVCenter,
            elide(note[0], QFontMetricsF(painter.font()), room),
        )
        painter.setFont(theme.font(12))
        painter.setPen(t.color("muted"))
        painter.drawText(QRectF(x, top + 18, room, 36), Qt.TextFlag.TextWordWrap, note[1])

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
        painter.drawText(
            rect.adjusted(10, 23, -6, 0), Qt.AlignmentFlag.AlignTop, size(self._picked.size)
        )
        painter.setOpacity(1)


def drive_tooltip(shelf: Shelf) -> str:
    """The full label, the mount point and the exact bytes of a drive."""
    d = shelf.drive
    lines = [shown(d.label), shown(str(d.mount)) if d.mounted else tr("not mounted")]
    if d.connected:
        lines.append(
            tr(
                "{free}{nbsp}of {capacity}{nbsp}bytes free",
                free=number(d.free),
                nbsp=NBSP,
                capacity=number(d.capacity),
            )
        )
    return "\n".join(lines)


def tooltip(standing: OnShelf) -> str:
    """The full name, the path and the exact bytes of a block."""
    if standing.summary is None:
        return tr(
            "{name}\n{root}\nnot looked at yet",
            name=shown(standing.name),
            root=shown(str(standing.root)),
        )
    s = standing.summary
    changed = moment(whole(s.last_change_ns) / 1e9)
    looked = moment(standing.surveyed_at) if standing.surveyed_at else tr("not yet")
    copies = trn("{n} copy", "{n} copies", standing.copies) if standing.copies else tr("no copy")
    if standing.reminder:
        copies += f" · {standing.reminder}"
    return trn(
        "{name}\n{root}\n{n} file, {bytes}{nbsp}bytes ({allocated} on the "
        "drive)\nlast change {changed}\nsurveyed {looked} · {copies}",
        "{name}\n{root}\n{n} files, {bytes}{nbsp}bytes ({allocated} on the "
        "drive)\nlast change {changed}\nsurveyed {looked} · {copies}",
        s.files,
        name=shown(standing.name),
        root=shown(str(standing.root)),
        bytes=number(s.bytes),
        nbsp=NBSP,
        allocated=number(s.allocated),
        changed=changed,
        looked=looked,
        copies=copies,
    )
