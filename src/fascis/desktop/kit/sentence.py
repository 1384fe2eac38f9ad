"""A sentence in large type; parts of it are choices, opened by pointer and key."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct
from PyQt6.QtCore import QPoint, QRect, QRectF, QSize, Qt
from PyQt6.QtGui import (
    QFontMetricsF,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QRegion,
    QResizeEvent,
)
from PyQt6.QtWidgets import QAbstractButton, QSizePolicy, QWidget

from fascis.desktop.kit import theme

SIZE = 18
LINE = 29
_RADIUS = 4


class _Word(Struct, frozen=True):
    """A word, or a piece of one, with its position; ``part`` is the choice to which it belongs."""

    text: str
    part: int
    x: float
    line: int
    width: float


class Piece(Struct, frozen=True):
    """A piece of a sentence; a piece with a key is a choice."""

    text: str
    key: str = ""


class _Part(QAbstractButton):
    """A part that can be chosen; it can span several lines."""

    def __init__(self, text: str, opened: bool, parent: QWidget) -> None:
        super().__init__(parent)
        self.setText(text)
        self.setAccessibleName(text)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self._opened = opened
        self._lines: list[tuple[QRect, str]] = []

    def place(self, lines: list[tuple[QRect, str]]) -> None:
        """Covers exactly its words."""
        around = QRegion()
        for rect, _ in lines:
            around += QRegion(rect.adjusted(-3, 0, 1, 0))
        whole = around.boundingRect()
        self.setGeometry(whole)
        self.setMask(around.translated(-whole.topLeft()))
        self._lines = [(rect.translated(-whole.topLeft()), text) for rect, text in lines]

    @property
    def middle(self) -> QPoint:
        """A point of it, in its own coordinates."""
        return self._lines[0][0].center()

    def sizeHint(self) -> QSize:
        """The size it was given."""
        return self.size()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints its words, underlined."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(theme.font(SIZE, theme.BOLD))
        for rect, text in self._lines:
            if self._opened or self.underMouse():
                painter.fillRect(rect.adjusted(-3, 1, 1, -1), t.color("chosen"))
            painter.setPen(QPen(t.color("ink")))
            painter.drawText(rect, Qt.AlignmentFlag.AlignVCenter, text)
            painter.setPen(QPen(t.color("twine"), 2))
            foot = rect.bottom() - 3
            painter.drawLine(rect.left(), foot, rect.right(), foot)
        if self.hasFocus():
            outline = QPainterPath()
            for rect, _ in self._lines:
                around = QPainterPath()
                around.addRoundedRect(QRectF(rect.adjusted(-2, 1, 0, -1)), _RADIUS, _RADIUS)
                outline = outline.united(around)
            painter.setPen(QPen(t.color("ink"), 1.5))
            painter.drawPath(outline)
        painter.end()


class SentenceView(QWidget):
    """Shows a sentence; ``pressed`` is called with the key of a chosen part.

    Args:
        opened: the key of the part with an open choice.
    """

    def __init__(
        self, pieces: Sequence[Piece], pressed: Callable[[str], None], opened: str = ""
    ) -> None:
        super().__init__()
        self._pieces = list(pieces)
        self._words: list[_Word] = []
        self._height = LINE
        self.parts: dict[int, _Part] = {}
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self.setAccessibleName("".join(p.text for p in pieces))
        for number, piece in enumerate(self._pieces):
            if piece.key:
                made = _Part(piece.text, piece.key == opened, self)
                made.clicked.connect(lambda _=False, key=piece.key: pressed(key))
                self.parts[number] = made

    def part_of(self, key: str) -> _Part:
        """The first part with a key."""
        return next(made for n, made in self.parts.items() if self._pieces[n].key == key)

    def hasHeightForWidth(self) -> bool:
        """Its words wrap."""
        return True

    def heightForWidth(self, width: int) -> int:
        """The height of all lines, in pixels."""
        return (self._flow(width)[1] + 1) * LINE

    def sizeHint(self) -> QSize:
        """As wide as the panel gives."""
        return QSize(280, self.heightForWidth(max(self.width(), 280)))

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """Puts every word where it belongs at this width."""
        self._words = self._flow(self.width())[0]
        if (height := self.heightForWidth(self.width())) != self._height:
            # A scroll bar took some of the width: words pushed into a new line need room.
            self._height = height
            self.updateGeometry()
        for number, made in self.parts.items():
            lines: dict[int, list[_Word]] = {}
            for word in self._words:
                if word.part == number:
                    lines.setdefault(word.line, []).append(word)
            made.place([_line(words) for words in lines.values()])
        super().resizeEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints everything except the choices."""
        t = theme.active()
        painter = QPainter(self)
        painter.setFont(theme.font(SIZE))
        painter.setPen(QPen(t.color("ink")))
        for word in self._words:
            if word.part not in self.parts:
                at = QRectF(word.x, word.line * LINE, word.width + 2, LINE)
                painter.drawText(at, Qt.AlignmentFlag.AlignVCenter, word.text)
        painter.end()

    def _flow(self, width: int) -> tuple[list[_Word], int]:
        """The words with their positions, and the last line's number; greedy."""
        plain = QFontMetricsF(theme.font(SIZE))
        bold = QFontMetricsF(theme.font(SIZE, theme.BOLD))
        placed, x, line = list[_Word](), 0.0, 0
        glued = True  # No line break before a piece without a space before it.
        for number, piece in enumerate(self._pieces):
            metrics = bold if piece.key else plain
            space = plain.horizontalAdvance(" ")
            for at, text in enumerate(piece.text.split(" ")):
                if at:
                    x, glued = x + space, False
                if not text:
                    continue
                for some in _fitting(text, metrics, width):
                    wide = metrics.horizontalAdvance(some)
                    if x + wide > width and x > 0 and not (glued and wide < space * 2):
                        x, line = 0.0, line + 1
                    placed.append(_Word(some, number, x, line, wide))
                    x += wide
                glued = True
        return placed, line


def _line(words: list[_Word]) -> tuple[QRect, str]:
    """The words of a part in one line: position and text."""
    left, right = words[0].x, words[-1].x + words[-1].width
    rect = QRect(round(left), words[0].line * LINE, round(right - left) + 1, LINE)
    return rect, " ".join(w.text for w in words)


def _fitting(text: str, metrics: QFontMetricsF, width: float) -> list[str]:
    """A word, in pieces that fit if it is wider than a line."""
    pieces = []
    while metrics.horizontalAdvance(text) > width and len(text) > 1:
        most = next(
            n for n in range(len(text) - 1, 0, -1)
            if n == 1 or metrics.horizontalAdvance(text[:n]) <= width
        )  # fmt: skip
        pieces.append(text[:most])
        text = text[most:]
    return [*pieces, text]
