"""The bundle.

The strands of a library drawn as ribbons, from where the files lie to what they are for, through a
loop of twine.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise

from msgspec import Struct
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QBrush,
    QColor,
    QFontMetricsF,
    QHelpEvent,
    QKeyEvent,
    QLinearGradient,
    QMouseEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
    QResizeEvent,
)
from PyQt6.QtWidgets import QSizePolicy, QToolTip, QWidget

from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import elide, tip
from fascis.desktop.kit.theme import BOLD
from fascis.desktop.kit.words import ROLE_WORDS
from fascis.desktop.strands.ribbons import End, Layout, Ribbon, lay_out
from fascis.desktop.strands.woven import Woven
from fascis.files.names import shown
from fascis.library.standing import Standing
from fascis.words.figures import NBSP, number, size
from fascis.words.speech import tr, trn

LEFT, RIBBONS, WORDS, EDGE = 20.0, 216.0, 200.0, 18.0
# How far ribbons of missing files reach into the view.
_STUB = 0.24
_WORD = {
    Standing.HELD: tr("held"),
    Standing.LOOSE: tr("loose: outside its folder"),
    Standing.AWAY: tr("on a drive that is away"),
    Standing.MISSING: tr("missing"),
    Standing.UNUSED: tr("unused: nothing refers to it"),
}


class _Drawn(Struct):
    path: QPainterPath
    ribbon: Ribbon


class BundleView(QWidget):
    """Paints the bundle and handles pointer and keys.

    Chosen strands are reported by their numbers.
    """

    chosen = pyqtSignal()
    # The chosen strands should be taken into or out of the plan.
    toggled = pyqtSignal()
    by_project_changed = pyqtSignal(bool)
    # The name of the part in a plan that was ticked or unticked.
    part_toggled = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.setMinimumHeight(300)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.setAccessibleName(tr("Strands, from where they lie to what they are for"))
        self.by_project = False
        self.selected: set[int] = set()
        self._woven: Woven | None = None
        self._layout = Layout()
        self._drawn: list[_Drawn] = []
        self._pressed: QPointF | None = None
        self._band: QRectF | None = None
        self._switch = QRectF()
        # The checkboxes of parts, and the name of each in a plan.
        self._boxes: list[tuple[QRectF, str]] = []
        self._hover: Ribbon | None = None
        self._painted: tuple[object, QPixmap] | None = None

    def sizeHint(self) -> QSize:
        """Room for a dozen folders."""
        return QSize(900, 400)

    def show_woven(self, woven: Woven) -> None:
        """Shows a library; the choice stays if possible."""
        if self._woven is not None:
            keys = {
                self._woven.strands[i].key for i in self.selected if i < len(self._woven.strands)
            }
            self.selected = {i for i, s in enumerate(woven.strands) if s.key in keys}
        self._woven = woven
        self._again()

    def set_by_project(self, by_project: bool) -> None:
        """Divides the right side by project, or by purpose."""
        self.by_project = by_project
        self._again()
        self.by_project_changed.emit(by_project)

    def _again(self) -> None:
        if self._woven is not None:
            self._layout = lay_out(self._woven, self.height(), self.by_project)
            self._draw_paths()
        self._painted = None
        self.update()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Lays out again."""
        self._again()

    # -- where things are --------------------------------------------------------------------------

    @property
    def layout_(self) -> Layout:
        """The layout, for tests with the pointer."""
        return self._layout

    def point_of(self, words: str) -> QPointF:
        """A point on the left end of a folder's ribbon."""
        end = next(e for e in self._layout.lefts if e.words == words)
        return QPointF(RIBBONS + 12, (end.y + end.end) / 2)

    @property
    def switch_point(self) -> QPointF:
        """The position of the text that switches the right side."""
        return self._switch.center()

    def _x(self) -> tuple[float, float, float]:
        """The x positions where ribbons start, pass the loop, and end."""
        end = self.width() - EDGE - WORDS
        return RIBBONS, RIBBONS + (end - RIBBONS) * 0.66, end

    def _draw_paths(self) -> None:
        begin, loop, end = self._x()
        self._drawn = []
        for r in sorted(self._layout.ribbons, key=lambda r: r.along):
            if r.standing in (Standing.MISSING, Standing.AWAY):
                self._drawn += [
                    _Drawn(_broken(begin, r.left, r.thick, (end - begin) * _STUB), r),
                    _Drawn(_broken(end, r.right, r.thick, -(end - begin) * 0.11), r),
                ]
            else:
                start = begin + 9 if r.standing is Standing.LOOSE else begin
                upper = [QPointF(start, r.left), QPointF(loop, r.middle), QPointF(end, r.right)]
                self._drawn.append(_Drawn(_flow(upper, r.thick), r))

    def _ribbon_at(self, point: QPointF) -> Ribbon | None:
        return next((d.ribbon for d in reversed(self._drawn) if d.path.contains(point)), None)

    def _strands_at(self, point: QPointF) -> tuple[int, ...]:
        if ribbon := self._ribbon_at(point):
            return ribbon.strands
        if point.x() < RIBBONS:
            side = self._layout.lefts
        elif point.x() > self._x()[2]:
            side = self._layout.rights
        else:
            side = []
        return next((e.strands for e in side if e.y - 2 <= point.y() <= max(e.end, e.y + 32)), ())

    # -- painting ----------------------------------------------------------------------------------

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints everything."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.drawPixmap(0, 0, self._ribbons())
        self._heads(painter)
        self._outlines(painter)
        self._lefts(painter)
        self._rights(painter)
        self._twine(painter)
        if self._band is not None:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("ink"), 1, Qt.PenStyle.DashLine))
            painter.drawRect(self._band)
        if self.hasFocus():
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("twine"), 1, Qt.PenStyle.DashLine))
            painter.drawRoundedRect(QRectF(4, 4, self.width() - 8, self.height() - 8), 6, 6)
        painter.end()

    def _ribbons(self) -> QPixmap:
        """All ribbons, painted once for each layout.

        Hovering and choosing must not paint them again.
        """
        kept = (theme.active().name, self.devicePixelRatioF())
        if self._painted is None or self._painted[0] != kept:
            pixmap = QPixmap(self.size() * self.devicePixelRatioF())
            pixmap.setDevicePixelRatio(self.devicePixelRatioF())
            pixmap.fill(theme.active().color("ground"))
            painter = QPainter(pixmap)
            painter.setRenderHint(QPainter.RenderHint.Antialiasing)
            for drawn in self._drawn:
                self._ribbon(painter, drawn)
            painter.end()
            self._painted = (kept, pixmap)
        return self._painted[1]

    def _outlines(self, painter: QPainter) -> None:
        """The chosen ribbons, and the one under the pointer."""
        painter.setBrush(Qt.BrushStyle.NoBrush)
        for drawn in self._drawn:
            chosen = bool(self.selected.intersection(drawn.ribbon.strands))
            if chosen or drawn.ribbon is self._hover:
                painter.setPen(QPen(theme.active().color("ink"), 2 if chosen else 1))
                painter.drawPath(drawn.path)

    def _heads(self, painter: QPainter) -> None:
        t = theme.active()
        painter.setFont(theme.font(12, BOLD))
        painter.setPen(t.color("muted"))
        painter.drawText(QPointF(LEFT, 20), tr("Where it lies"))
        folders = self._woven is not None and self._woven.by_folder
        words = (tr("What it is for"), tr("which folder") if folders else tr("which project"))
        right = self.width() - EDGE
        x = right
        for i in (1, 0):
            chosen = (i == 1) == self.by_project
            painter.setFont(theme.font(12, BOLD if chosen else theme.NORMAL))
            width = QFontMetricsF(painter.font()).horizontalAdvance(words[i])
            painter.setPen(t.color("ink" if chosen else "muted"))
            painter.drawText(QPointF(x - width, 20), words[i])
            if not chosen:
                self._switch = QRectF(x - width - 4, 4, width + 8, 22)
                painter.drawLine(QPointF(x - width, 23), QPointF(x, 23))
            x -= width + 22

    def _ribbon(self, painter: QPainter, drawn: _Drawn) -> None:
        t, r = theme.active(), drawn.ribbon
        fill, edge = _colours(r)
        begin, _, end = self._x()
        if r.standing is Standing.MISSING:
            painter.setPen(QPen(t.color("missing"), 1.4))
            painter.setBrush(QBrush(t.color("missing"), Qt.BrushStyle.BDiagPattern))
        elif r.standing is Standing.AWAY:
            painter.setPen(QPen(t.color("away_text"), 1.2, Qt.PenStyle.DotLine))
            painter.setBrush(Qt.BrushStyle.NoBrush)
        elif r.standing is Standing.UNUSED and not r.remakeable:
            fade = QLinearGradient(begin, 0, end, 0)
            strong, weak = QColor(fill), QColor(fill)
            strong.setAlphaF(0.9 if r.along else 0.75)
            weak.setAlphaF(0.55 if r.along else 0.25)
            fade.setColorAt(0, strong)
            fade.setColorAt(1, weak)
            painter.setPen(QPen(t.color(edge), 0.8))
            painter.setBrush(fade)
        else:
            colour = QColor(fill)
            colour.setAlphaF(0.86 if r.along else 0.42)
            line = edge if r.standing is Standing.LOOSE else "ground"
            painter.setPen(QPen(t.color(line), 0.8))
            painter.setBrush(colour)
        painter.drawPath(drawn.path)

    def _lefts(self, painter: QPainter) -> None:
        t = theme.active()
        for bar in self._layout.bars:
            painter.setPen(QPen(t.color("ink"), 4, cap=Qt.PenCapStyle.RoundCap))
            painter.drawLine(QPointF(LEFT, bar.y + 4), QPointF(LEFT, bar.end - 4))
            painter.setFont(theme.font(11, BOLD))
            painter.setPen(t.color("muted"))
            words = elide(shown(bar.words), QFontMetricsF(painter.font()), RIBBONS - LEFT - 20)
            painter.drawText(QPointF(LEFT + 10, bar.y + 12), words)
        for end in self._layout.lefts:
            middle = (end.y + end.end) / 2 + 4
            painter.setFont(
                theme.font(12, BOLD if self.selected.intersection(end.strands) else theme.NORMAL)
            )
            metrics = QFontMetricsF(painter.font())
            painter.setPen(t.color("muted"))
            width = metrics.horizontalAdvance(end.figure)
            painter.drawText(QPointF(RIBBONS - 10 - width, middle), end.figure)
            painter.setPen(t.color("ink"))
            painter.drawText(
                QPointF(LEFT + 10, middle), elide(end.words, metrics, RIBBONS - LEFT - 30 - width)
            )
            if self._unread(end.strands):
                known = min(metrics.horizontalAdvance(end.words), RIBBONS - LEFT - 30 - width)
                self._sealed(painter, QPointF(LEFT + 19 + known, middle - 4))
            if end.quiet:
                painter.setFont(theme.font(12, BOLD))
                begin, _, right = self._x()
                tone = t.color("missing_text" if end.missing else "away_text")
                self._on_ground(
                    painter, QPointF(begin + (right - begin) * _STUB + 18, middle), end.quiet, tone
                )

    def _unread(self, strands: Sequence[int]) -> int:
        """The number of documents in some strands that are not understood."""
        return sum(self._woven.strands[i].unread for i in strands) if self._woven else 0

    @staticmethod
    def _sealed(painter: QPainter, at: QPointF) -> None:
        """The mark of a strand with a document that is not understood: a seal."""
        t = theme.active()
        painter.setPen(QPen(t.color("ink"), 1.4))
        painter.setBrush(t.color("ground"))
        painter.drawEllipse(at, 5, 5)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("ink"))
        painter.drawEllipse(at, 1.8, 1.8)

    def _rights(self, painter: QPainter) -> None:
        t = theme.active()
        x = self._x()[2]
        self._boxes = []
        for end in self._layout.rights:
            painter.setPen(QPen(t.color("ink"), 4, cap=Qt.PenCapStyle.RoundCap))
            painter.drawLine(QPointF(x + 3, end.y + 2), QPointF(x + 3, max(end.end - 2, end.y + 3)))
            middle = (end.y + end.end) / 2
            if end.part and self.by_project:
                self._box(painter, QRectF(self.width() - EDGE - 15, middle - 12, 15, 15), end)
            painter.setFont(theme.font(12, BOLD))
            painter.setPen(t.color("ink"))
            metrics = QFontMetricsF(painter.font())
            painter.drawText(
                QPointF(x + 14, middle - 2), elide(shown(end.words), metrics, WORDS - 14)
            )
            painter.setFont(theme.font(12))
            painter.setPen(t.color("muted"))
            metrics = QFontMetricsF(painter.font())
            painter.drawText(QPointF(x + 14, middle + 13), elide(end.quiet, metrics, WORDS - 14))

    def _box(self, painter: QPainter, box: QRectF, end: End) -> None:
        """The checkbox of a part: only ticked parts are copied."""
        t = theme.active()
        self._boxes.append((box, end.part))
        painter.setBrush(t.color("twine") if end.ticked else t.color("ground"))
        painter.setPen(QPen(t.color("twine" if end.ticked else "ink"), 1.4))
        painter.drawRoundedRect(box, 3, 3)
        if end.ticked:
            painter.setPen(QPen(t.color("ground"), 2))
            mark = (QPointF(3, 8), QPointF(6, 11), QPointF(12, 4))
            painter.drawPolyline(*(box.topLeft() + point for point in mark))

    def box_of(self, words: str) -> QPointF:
        """The middle of a part's checkbox."""
        part = next(e.part for e in self._layout.rights if e.words == words)
        return next(box.center() for box, given in self._boxes if given == part)

    def _twine(self, painter: QPainter) -> None:
        if self._layout.loop is None:
            return
        t = theme.active()
        top, end = self._layout.loop
        x = self._x()[1]
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.setPen(QPen(t.color("twine"), 4))
        painter.drawRoundedRect(QRectF(x - 12, top, 24, end - top), 12, 12)
        words = tr("in the plan, {size}", size=size(self._layout.along_bytes))
        painter.setFont(theme.font(12, BOLD))
        width = QFontMetricsF(painter.font()).horizontalAdvance(words)
        self._on_ground(painter, QPointF(x - width / 2, end + 17), words, t.color("twine"))

    @staticmethod
    def _on_ground(painter: QPainter, at: QPointF, words: str, tone: QColor) -> None:
        """Text where ribbons may run: on a piece of the ground."""
        width = QFontMetricsF(painter.font()).horizontalAdvance(words)
        ground = theme.active().color("ground")
        ground.setAlphaF(0.85)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(ground)
        painter.drawRoundedRect(QRectF(at.x() - 5, at.y() - 13, width + 10, 18), 4, 4)
        painter.setPen(tone)
        painter.drawText(at, words)

    # -- pointer -----------------------------------------------------------------------------------

    def mousePressEvent(self, event: QMouseEvent | None) -> None:
        """Chooses a ribbon; with Shift one more; beside them a rubber band starts."""
        if event is None or event.button() != Qt.MouseButton.LeftButton:
            return
        self.setFocus(Qt.FocusReason.MouseFocusReason)
        if self._switch.contains(event.position()):
            self.set_by_project(not self.by_project)
            return
        ticked = next((p for box, p in self._boxes if box.contains(event.position())), None)
        if ticked is not None:
            self.part_toggled.emit(ticked)
            return
        more = bool(
            event.modifiers()
            & (Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.ControlModifier)
        )
        found = self._strands_at(event.position())
        if found:
            self._choose(self.selected.symmetric_difference(found) if more else set(found))
        else:
            self._pressed = event.position()
            if not more:
                self._choose(set())

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Draws the rubber band; shows what is under the pointer."""
        if event is None:
            return
        if self._pressed is not None:
            self._band = QRectF(self._pressed, event.position()).normalized()
        hover = self._ribbon_at(event.position()) if self._pressed is None else None
        if hover is not self._hover or self._band is not None:
            self._hover = hover
            self.update()

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Chooses the ribbons that the band touches."""
        if self._band is not None:
            area = QPainterPath()
            area.addRect(self._band)
            hit = {i for d in self._drawn if d.path.intersects(area) for i in d.ribbon.strands}
            self._band = None
            self._choose(hit)
        self._pressed = None
        self.update()

    def _choose(self, strands: set[int]) -> None:
        if strands != self.selected:
            self.selected = strands
            self.chosen.emit()
        self.update()

    def event(self, event: QEvent | None) -> bool:
        """Shows figures on hover."""
        if isinstance(event, QHelpEvent) and event.type() == QEvent.Type.ToolTip:
            point = QPointF(event.pos())
            ribbon = self._ribbon_at(point)
            strands = ribbon.strands if ribbon else self._strands_at(point)
            QToolTip.showText(event.globalPos(), tip(self.words_of(strands)), self)
            return True
        return super().event(event)

    def words_of(self, strands: tuple[int, ...]) -> str:
        """Figures of some strands: their kind, their size, and how much of them is copied."""
        if self._woven is None:
            return ""
        lines = []
        for i in strands[:6]:
            s = self._woven.strands[i]
            folder, role, standing = s.key
            if s.along_files == s.files:
                goes = tr("goes along")
            elif not s.along_files:
                goes = tr("not in the plan")
            else:
                goes = tr("in part in the plan")
            if standing in (Standing.MISSING, Standing.AWAY):
                goes = tr("nothing to copy")
            line = trn(
                "{value}\n{role_words}, {word}\n{n} file, {bytes}{nbsp}bytes · {goes}",
                "{value}\n{role_words}, {word}\n{n} files, {bytes}{nbsp}bytes · {goes}",
                s.files,
                value=shown(folder) or tr("its own folder"),
                role_words=ROLE_WORDS[role],
                word=_WORD[standing],
                bytes=number(s.bytes),
                nbsp=NBSP,
                goes=goes,
            )
            if s.unread:
                unread = trn(
                    "{n} document not understood", "{n} documents not understood", s.unread
                )
                line = f"{line}\n{unread}"
            lines.append(line)
        if len(strands) > 6:
            lines.append(tr("and {strands} more", strands=len(strands) - 6))
        return "\n\n".join(lines)

    # -- keyboard ----------------------------------------------------------------------------------

    def choose_nothing(self) -> None:
        """No strand is chosen any more."""
        self._choose(set())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Up and Down choose an end, Left and Right change the side, with Shift one more.

        Space takes it into the plan or out.
        """
        if event is None:
            return
        key = event.key()
        if key in (Qt.Key.Key_Up, Qt.Key.Key_Down):
            self._walk(
                1 if key == Qt.Key.Key_Down else -1,
                bool(event.modifiers() & Qt.KeyboardModifier.ShiftModifier),
            )
        elif key in (Qt.Key.Key_Left, Qt.Key.Key_Right):
            self._side = "left" if key == Qt.Key.Key_Left else "right"
            self._walk(0, False)
        elif key == Qt.Key.Key_Space and (part := self._part_here()):
            self.part_toggled.emit(part)
        elif key == Qt.Key.Key_Space and self.selected:
            self.toggled.emit()
        else:
            super().keyPressEvent(event)

    _side = "left"
    _last = -1

    def _part_here(self) -> str:
        """The chosen part at the right side, if any."""
        ends = self._layout.rights
        if not self.by_project or self._side != "right" or not 0 <= self._last < len(ends):
            return ""
        chosen = ends[self._last]
        return chosen.part if self.selected == set(chosen.strands) else ""

    def _walk(self, step: int, more: bool) -> None:
        ends = self._layout.lefts if self._side == "left" else self._layout.rights
        if not ends:
            return
        if step == 0 or not self.selected:
            self._last = 0 if step >= 0 else len(ends) - 1
        else:
            self._last = max(0, min(len(ends) - 1, self._last + step))
        found = set(ends[self._last].strands)
        self._choose(self.selected | found if more else found)


def _colours(r: Ribbon) -> tuple[QColor, str]:
    """The fill, and the name of the edge's colour."""
    t = theme.active()
    if r.standing is Standing.LOOSE:
        return t.color("loose"), "loose_text"
    if r.remakeable:
        return t.color("remakeable"), "remakeable_text"
    if r.standing is Standing.UNUSED:
        return t.color("unused"), "unused_text"
    return t.color("held"), "held_text"


def _flow(upper: Sequence[QPointF], thick: float) -> QPainterPath:
    """A ribbon through some points of its upper edge, from left to right."""
    path = QPainterPath(upper[0])
    _bend(path, upper)
    lower = [point + QPointF(0, thick) for point in reversed(upper)]
    path.lineTo(lower[0])
    _bend(path, lower)
    path.closeSubpath()
    return path


def _bend(path: QPainterPath, points: Sequence[QPointF]) -> None:
    """Continues from the first point to all others, horizontal at each."""
    for a, b in pairwise(points):
        bend = QPointF((b.x() - a.x()) * 0.5, 0)
        path.cubicTo(a + bend, b - bend, b)


def _broken(x: float, y: float, thick: float, length: float) -> QPainterPath:
    """A stub with a broken end."""
    path = QPainterPath(QPointF(x, y))
    path.lineTo(QPointF(x + length, y))
    path.lineTo(QPointF(x + length + (7 if length > 0 else -7), y + thick / 2))
    path.lineTo(QPointF(x + length, y + thick))
    path.lineTo(QPointF(x, y + thick))
    path.closeSubpath()
    return path
