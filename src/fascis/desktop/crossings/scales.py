"""The scales: originals in one pan, the copy in the other.

The beam tips by a fixed angle on any failed check.
"""

from __future__ import annotations

import math

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QWidget

from fascis.crossing.status.scales import Balance
from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import elide
from fascis.desktop.kit.theme import BOLD
from fascis.words.speech import tr

TIP_DEGREES = 4.0


class Scales(QWidget):
    """Paints a balance."""

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(196)
        self._balance: Balance | None = None
        self._names = [tr("Originals"), tr("Copy")]

    def show_balance(self, balance: Balance | None, originals: str, copies: list[str]) -> None:
        """Shows a balance, or that it is being weighed.

        A pan for the originals and one for each copy.
        """
        self._balance, self._names = balance, [originals, *copies]
        busy = balance is None or balance.busy
        if busy:
            even = tr("being weighed")
        elif balance and balance.even:
            even = tr("in balance")
        else:
            even = tr("not in balance")
        self.setAccessibleName(tr("Scales: {even}", even=even))
        self.update()

    @property
    def angle(self) -> float:
        """Degrees by which the beam tips to the originals' side."""
        known = self._balance is not None and not self._balance.busy
        return TIP_DEGREES if known and self._balance and not self._balance.even else 0.0

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints stand, beam and pans."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        copies = len(self._names) - 1
        middle, top, arm = (
            self.width() / 2,
            34.0,
            min(300.0, self.width() * (0.32 if copies == 1 else 0.28)),
        )
        pen = QPen(t.color("ink"), 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap)
        painter.setPen(pen)
        painter.drawLine(QPointF(middle, 10), QPointF(middle, 176))
        painter.drawLine(QPointF(middle - 110, 178), QPointF(middle + 110, 178))
        tilt = math.radians(self.angle)
        left = QPointF(middle - arm * math.cos(tilt), top + arm * math.sin(tilt))
        right = QPointF(middle + arm * math.cos(tilt), top - arm * math.sin(tilt))
        painter.drawLine(left, right)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("twine"))
        painter.drawEllipse(QPointF(middle, top), 7, 7)
        self._pan(painter, left, 0, 0.0, 116.0)
        for i in range(copies):
            half = 116.0 if copies == 1 else 80.0
            self._pan(painter, right, i + 1, (i - (copies - 1) / 2) * 2.15 * half, half)
        painter.end()

    def _pan(self, painter: QPainter, hook: QPointF, side: int, aside: float, half: float) -> None:
        t = theme.active()
        base, middle = hook.y() + 82, hook.x() + aside
        painter.setPen(QPen(t.color("ink"), 1.5))
        painter.drawLine(hook, QPointF(middle - half + 12, base))
        painter.drawLine(hook, QPointF(middle + half - 12, base))
        painter.setPen(QPen(t.color("ink"), 5, Qt.PenStyle.SolidLine, Qt.PenCapStyle.RoundCap))
        painter.drawLine(QPointF(middle - half, base), QPointF(middle + half, base))
        if self._balance and self._balance.weights and side < len(self._balance.weights[0]):
            self._weights(painter, middle - half + 10, base - 2, 2 * half - 20, side)
        painter.setPen(t.color("ink"))
        painter.setFont(theme.font(12, BOLD))
        name = elide(self._names[side], QFontMetricsF(painter.font()), 2.1 * half)
        painter.drawText(
            QRectF(middle - 150, base + 8, 300, 18), Qt.AlignmentFlag.AlignHCenter, name
        )

    def _weights(self, painter: QPainter, x: float, base: float, room: float, side: int) -> None:
        assert self._balance
        t = theme.active()
        weights = self._balance.weights[:7]
        newer = len(self._balance.newer) if side == 0 else 0
        if not newer and not any(w[side] for w in weights):
            return  # an empty pan
        most = max((max(w) for w in weights), default=1) or 1
        width = min(34.0, room / max(len(weights) + (1 if newer else 0), 1) - 4)
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("held"))
        for pair in weights:
            height = 8 + 44 * (pair[side] / most) ** 0.5 if pair[side] else 3
            painter.drawRoundedRect(QRectF(x, base - height, width, height), 2, 2)
            x += width + 4
        if newer:
            painter.setBrush(Qt.BrushStyle.NoBrush)
            painter.setPen(QPen(t.color("missing_text"), 2, Qt.PenStyle.DotLine))
            painter.drawRect(QRectF(x + 2, base - 46, 13, 44))
            painter.setFont(theme.font(12, BOLD))
            painter.drawText(QPointF(x + 20, base - 30), tr("{newer} newer", newer=newer))
