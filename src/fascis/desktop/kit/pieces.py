"""Small widgets for the side panel and the views."""

from __future__ import annotations

from collections.abc import Callable
from html import escape

from PyQt6.QtCore import QRectF, QSize, Qt
from PyQt6.QtGui import QColor, QFontMetricsF, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import (
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from fascis.desktop.kit import theme


def label(text: str, wrap: bool = True, **properties: bool) -> QLabel:
    """Plain text; properties such as ``quiet=True`` choose its style."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    made.setWordWrap(wrap)
    for name, value in properties.items():
        made.setProperty(name, value)
    return made


def tip(text: str) -> str:
    """A tool tip as plain text.

    A name with markup in it is shown literally, and nothing in it is opened.
    """
    if not {"<", "&"} & set(text):
        return text
    return f"<span>{escape(text)}</span>".replace("\n", "<br>")


Do = Callable[[], object]
"""What pressing something does."""

PART_MIME = "application/x-fascis-part"
"""What is dragged when a part of a library is: what names it to a plan."""


def button(text: str, pressed: Do, **properties: bool) -> QPushButton:
    """A button; ``main=True``, ``link=True``, ``delete=True`` choose its kind."""
    made = QPushButton(in_lines(text, _ACROSS))
    made.setAccessibleName(text)
    made.setAutoDefault(False)
    for name, value in properties.items():
        made.setProperty(name, value)
    made.clicked.connect(lambda: pressed())
    if properties.get("link"):
        made.setCursor(Qt.CursorShape.PointingHandCursor)
    return made


def rule() -> QFrame:
    """A thin line."""
    made = QFrame()
    made.setObjectName("rule")
    return made


class Row(QWidget):
    """A line of the panel whose figure and quiet text can change in place."""

    def __init__(self) -> None:
        super().__init__()
        self.figure: QLabel | None = None
        self.quiet: QLabel | None = None

    def change(self, right: str, quiet: str) -> None:
        """Shows new texts without building anything again, so that focus and clicks stay."""
        for shown_at, text in ((self.figure, right), (self.quiet, quiet)):
            if shown_at is not None and shown_at.text() != text:
                shown_at.setText(text)


def row(left: str, right: str = "", quiet: str = "", **properties: bool) -> Row:
    """A line of the panel: text, quiet text below, a figure or an answer at the right."""
    made = Row()
    across = QHBoxLayout(made)
    across.setContentsMargins(0, 5, 0, 5)
    across.setSpacing(10)
    down = QVBoxLayout()
    down.setSpacing(1)
    down.addWidget(label(left))
    if quiet:
        made.quiet = label(quiet, quiet=True)
        down.addWidget(made.quiet)
    across.addLayout(down, 1)
    if right:
        figure = label(right, wrap=False, head=True)
        figure.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        for name, value in properties.items():
            figure.setProperty(name, value)
        across.addWidget(figure)
        made.figure = figure
    made.setAccessibleName(" ".join(filter(None, (left, right, quiet))))
    return made


def clear(layout: QLayout) -> None:
    """Removes everything from a layout."""
    while (item := layout.takeAt(0)) is not None:
        if (widget := item.widget()) is not None:
            widget.hide()
            widget.deleteLater()
        elif (inner := item.layout()) is not None:
            clear(inner)


def elide(text: str, metrics: QFontMetricsF, width: float) -> str:
    """Text shortened in the middle to a width in pixels."""
    return metrics.elidedText(text, Qt.TextElideMode.ElideMiddle, max(0.0, width))


# Room for text, in pixels: beside the mark of a choice in a card of the panel, and in a button
# across the panel.
_BESIDE, _ACROSS = 250.0, 268.0


def in_lines(words: str, room: float = _BESIDE) -> str:
    """Text broken into lines for a button or a choice, which do not break lines themselves."""
    metrics = QFontMetricsF(theme.font(13, theme.BOLD))
    lines = [""]
    for word in words.split(" "):
        longer = f"{lines[-1]} {word}".lstrip()
        if metrics.horizontalAdvance(longer) <= room:
            lines[-1] = longer
        else:
            lines.append(word)
    return "\n".join(filter(None, lines))


class ElidedLabel(QLabel):
    """A single line of text that uses the available width; the rest is left out in the middle.

    The tool tip has all of it.
    """

    def __init__(self, text: str = "", **properties: bool) -> None:
        super().__init__(text)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setMinimumWidth(0)
        self.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Preferred)
        for name, value in properties.items():
            self.setProperty(name, value)

    def minimumSizeHint(self) -> QSize:
        """It can become as narrow as needed."""
        return QSize(0, super().minimumSizeHint().height())

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints what fits."""
        painter = QPainter(self)
        room = self.contentsRect()
        room.setLeft(room.left() + self.margin() + self.indent_())
        words = elide(self.text(), QFontMetricsF(self.font()), room.width())
        self.setToolTip("" if words == self.text() else tip(self.text()))
        painter.setPen(QPen(self.palette().color(self.foregroundRole())))
        painter.drawText(QRectF(room), self.alignment() | Qt.AlignmentFlag.AlignVCenter, words)
        painter.end()

    def indent_(self) -> int:
        """Room at the left, in pixels; a label's style sheet does not pass it to painters."""
        return int(self.property("indented") or 0)


class FullBar(QWidget):
    """The used share of a drive, now or afterwards: a bar of ink with text."""

    def __init__(self, fraction: float, left: str, right: str = "", after: bool = False) -> None:
        super().__init__()
        self._fraction, self._left, self._right, self._after = (
            min(max(fraction, 0.0), 1.0),
            left,
            right,
            after,
        )
        self.setFixedHeight(17)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        self.setAccessibleName(f"{left} {right}")

    def sizeHint(self) -> QSize:
        """As wide as the panel gives."""
        return QSize(200, 17)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the bar."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        whole = QRectF(0, 0, self.width(), self.height())
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.color("trough"))
        painter.drawRoundedRect(whole, 3, 3)
        filled = QRectF(0, 0, self.width() * self._fraction, self.height())
        painter.setBrush(t.color("muted" if self._after else "ink"))
        painter.drawRoundedRect(filled, 3, 3)
        painter.setFont(theme.font(11))
        width = QFontMetricsF(painter.font()).horizontalAdvance(self._left)
        inside = width + 14 < filled.width()
        painter.setPen(QPen(QColor(t.on_ink if inside else t.ink)))
        x = 8 if inside else filled.width() + 8
        painter.drawText(
            QRectF(x, 0, self.width(), self.height()), Qt.AlignmentFlag.AlignVCenter, self._left
        )
        painter.setPen(QPen(QColor(t.ink)))
        room = self.width() - filled.width() - (0 if inside else width + 8)
        if self._right and QFontMetricsF(painter.font()).horizontalAdvance(self._right) + 16 < room:
            painter.drawText(
                QRectF(0, 0, self.width() - 8, self.height()),
                Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight,
                self._right,
            )
        painter.end()
