"""Paints ties: ribbons from where documents look to where files are, through loops of twine."""

from __future__ import annotations

from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QHelpEvent, QPainter, QPainterPath, QPaintEvent, QPen
from PyQt6.QtWidgets import QToolTip, QWidget

from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import elide, tip
from fascis.desktop.kit.theme import BOLD
from fascis.desktop.relink.ties import TieLayout, TieRibbon
from fascis.relink.outcome import State
from fascis.words.speech import tr


class TiesView(QWidget):
    """Paints the ties."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("Ties, from where documents look to where files are"))
        self.setMinimumHeight(150)
        self.setMouseTracking(True)
        self.layout_ = TieLayout()

    def sizeHint(self) -> QSize:
        """Room for half a dozen folders."""
        return QSize(900, 330)

    def show_layout(self, layout: TieLayout) -> None:
        """Shows ties."""
        self.layout_ = layout
        said = ", ".join(
            f"{e.words}: {r.words}"
            for e in layout.lefts
            for r in layout.ribbons
            if e.y <= r.left < e.end
        )
        self.setAccessibleDescription(said[:2000])
        self.update()

    def _sides(self) -> tuple[float, float]:
        """The start and end of ribbons."""
        width = float(self.width())
        side = min(230.0, width * 0.21)
        return side, width - side - 6

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the ends, the ribbons and the loops of twine."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = self._sides()
        painter.setFont(theme.font(12))
        metrics = QFontMetricsF(painter.font())
        for end in self.layout_.lefts:
            painter.setPen(t.color("ink"))
            where = QRectF(0, end.y, left - 16, end.end - end.y)
            painter.drawText(
                where,
                Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter,
                elide(end.words, metrics, left - 18),
            )
            pen = QPen(t.color("missing"), 4, Qt.PenStyle.CustomDashLine, Qt.PenCapStyle.FlatCap)
            pen.setDashPattern([1, 1])
            painter.setPen(pen)
            painter.drawLine(QPointF(left - 6, end.y + 1), QPointF(left - 6, end.end - 1))
        for ribbon in self.layout_.ribbons:
            self._paint_ribbon(painter, ribbon, left, right)
        for ribbon in self.layout_.ribbons:
            if ribbon.state is State.FOUND:
                self._paint_loop(painter, ribbon, left, right)
        for end in self.layout_.rights:
            painter.fillRect(QRectF(right, end.y, 6, end.end - end.y), t.color("ink"))
            painter.setPen(t.color("ink"))
            room = self.width() - right - 16
            where = QRectF(right + 14, end.y, room, end.end - end.y)
            painter.drawText(where, Qt.AlignmentFlag.AlignVCenter, elide(end.words, metrics, room))
        painter.end()

    def _paint_ribbon(self, painter: QPainter, r: TieRibbon, left: float, right: float) -> None:
        t = theme.active()
        if r.state is State.FOUND:
            path = QPainterPath(QPointF(left, r.left))
            middle = (left + right) / 2
            path.cubicTo(middle, r.left, middle, r.right, right, r.right)
            path.lineTo(right, r.right + r.thick)
            path.cubicTo(
                middle, r.right + r.thick, middle, r.left + r.thick, left, r.left + r.thick
            )
            painter.setPen(Qt.PenStyle.NoPen)
            colour = t.color("held")
            colour.setAlpha(225)
            painter.fillPath(path, colour)
            return
        if r.state is State.OPEN:
            end = left + (right - left) * 0.44
            painter.setPen(Qt.PenStyle.NoPen)
            fill = t.color("loose")
            fill.setAlpha(110)
            painter.fillRect(QRectF(left, r.left, end - left, r.thick), fill)
            painter.setPen(QPen(t.color("loose_text"), 1.5))
            for side, way in ((r.left, -6.0), (r.left + r.thick, 6.0)):
                painter.drawLine(QPointF(left, side), QPointF(end, side))
                painter.drawLine(QPointF(end, side), QPointF(end + 34, side + way))
            self._paint_words(painter, r, end + 46, t.color("loose_text"))
            return
        end = left + (right - left) * 0.2
        pen = QPen(
            t.color("away" if r.away else "missing"),
            1.4,
            Qt.PenStyle.DotLine if r.away else Qt.PenStyle.DashLine,
        )
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(left + 0.5, r.left, end - left, r.thick))
        self._paint_words(painter, r, end + 12, t.color("away_text" if r.away else "missing_text"))

    def _paint_words(self, painter: QPainter, r: TieRibbon, x: float, colour: QColor) -> None:
        painter.setFont(theme.font(12, BOLD))
        painter.setPen(colour)
        painter.drawText(
            QRectF(x, r.left + r.thick / 2 - 10, 260, 20), Qt.AlignmentFlag.AlignVCenter, r.words
        )
        painter.setFont(theme.font(12))

    def _paint_loop(self, painter: QPainter, r: TieRibbon, left: float, right: float) -> None:
        t = theme.active()
        x, y = left + (right - left) * 0.49, (r.left + r.right) / 2
        painter.setPen(QPen(t.color("twine"), 3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QRectF(x - 7, y - 8, 14, r.thick + 16))
        painter.setFont(theme.font(12, BOLD))
        inside = r.thick >= 16
        painter.setPen(t.color("on_ink") if inside else t.color("held_text"))
        box = QRectF(x + 18, y + r.thick / 2 - 10, 200, 20)
        if not inside:
            width = QFontMetricsF(painter.font()).horizontalAdvance(r.words) + 8
            painter.fillRect(QRectF(box.x() - 4, box.y() + 1, width, 18), t.color("ground"))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, r.words)
        painter.setFont(theme.font(12))

    def event(self, event: QEvent | None) -> bool:
        """Full names on hover."""
        if isinstance(event, QHelpEvent):
            left, right = self._sides()
            y = event.pos().y()
            if event.pos().x() < left:
                ends = self.layout_.lefts
            elif event.pos().x() > right:
                ends = self.layout_.rights
            else:
                ends = []
            found = next((e for e in ends if e.y <= y <= e.end), None)
            QToolTip.showText(event.globalPos(), tip(found.path) if found else "", self)
            return True
        return super().event(event)
