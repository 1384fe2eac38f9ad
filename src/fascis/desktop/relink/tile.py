"""A candidate as a tile: its picture, its number, and what agrees and differs."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QPainter, QPaintEvent, QPen, QPixmap
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import label
from fascis.desktop.kit.theme import BOLD

PICTURE = 104  # Pixels high.


class Tile(QWidget):
    """A tile: a candidate, the document's record, or "none of them": a picture and a few lines."""

    pressed = pyqtSignal()

    def __init__(self, mark: str, words: str, width: int) -> None:
        super().__init__()
        self._mark, self._words = mark, words
        self._pixmap: QPixmap | None = None
        self.likely = False
        self.setFixedWidth(width)
        self.setAccessibleName(f"{mark} {words}".strip())
        if mark:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            self.setCursor(Qt.CursorShape.PointingHandCursor)
        down = QVBoxLayout(self)
        down.setContentsMargins(3, PICTURE + 12, 3, 0)
        down.setSpacing(2)
        self._head = label("", head=True)
        self._lines = label("", quiet=True)
        down.addWidget(self._head)
        down.addWidget(self._lines)
        down.addStretch(1)

    def say(self, head: str, lines: list[str]) -> None:
        """Shows text under the picture."""
        self._head.setText(head)
        self._head.setVisible(bool(head))
        self._lines.setText("\n".join(lines))
        self.setAccessibleDescription("; ".join([head, *lines]))

    @property
    def lines(self) -> str:
        """The text under the picture."""
        return f"{self._head.text()}\n{self._lines.text()}"

    @property
    def has_picture(self) -> bool:
        """True if a picture is shown."""
        return self._pixmap is not None

    def show_picture(self, image: Any, instead: str) -> None:
        """Shows a picture, or text if there is none."""
        if isinstance(image, QImage):
            ratio = self.devicePixelRatioF()
            self._pixmap = QPixmap.fromImage(image).scaled(
                round((self.width() - 6) * ratio),
                round(PICTURE * ratio),
                Qt.AspectRatioMode.KeepAspectRatio,
                Qt.TransformationMode.SmoothTransformation,
            )
            self._pixmap.setDevicePixelRatio(ratio)
        else:
            self._words = instead
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the picture, its frame and its numeral."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(3, 3, self.width() - 6, PICTURE)
        if self._pixmap is not None:
            painter.fillRect(box, t.color("trough"))
            size = self._pixmap.deviceIndependentSize()
            at = QPointF(box.center().x() - size.width() / 2, box.center().y() - size.height() / 2)
            painter.drawPixmap(at, self._pixmap)
        else:
            painter.setPen(t.color("muted"))
            painter.setFont(theme.font(12))
            painter.drawText(
                box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._words
            )
        remembered = not self._mark
        pen = QPen(
            t.color("missing" if remembered else "line"),
            1,
            Qt.PenStyle.DashLine if remembered else Qt.PenStyle.SolidLine,
        )
        if self.hasFocus() or self.likely:
            pen = QPen(t.color("ink"), 2.5 if self.hasFocus() else 1.5)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(box, 5, 5)
        if self._mark:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("ink"))
            painter.drawRoundedRect(QRectF(10, 9, 20, 20), 4, 4)
            painter.setPen(t.color("on_ink"))
            painter.setFont(theme.font(12, BOLD))
            painter.drawText(QRectF(10, 9, 20, 20), Qt.AlignmentFlag.AlignCenter, self._mark)
        painter.end()

    def mousePressEvent(self, event: Any) -> None:
        """A click chooses."""
        if self._mark:
            self.setFocus()
            self.pressed.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter and Space choose."""
        if (
            event
            and self._mark
            and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space)
        ):
            self.pressed.emit()
        else:
            super().keyPressEvent(event)
