"""Folders of a drive, shown below its shelf while a part is dragged over it.

A part can be dropped into each; after a moment over one, its subfolders are shown.
"""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QPointF, QRectF, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPen

from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import elide
from fascis.desktop.kit.theme import BOLD, NORMAL
from fascis.files.names import shown

_HEIGHT, _LONGEST = 19, 190


class Folders:
    """The folders that are shown, their positions, and the one under the part."""

    def __init__(self) -> None:
        self.drive = ""
        self.over: Path | None = None
        self._mount = Path()
        self._shown: list[Path] = []
        self._painted: list[tuple[QRectF, Path]] = []

    def begin(self, drive: str, mount: Path) -> None:
        """A part is over a drive now; its folders are not known yet."""
        self.drive, self._mount = drive, mount
        self._shown, self._painted, self.over = [], [], None

    def end(self) -> None:
        """It is over none."""
        self.begin("", Path())

    def show(self, folder: Path, inside: list[Path]) -> None:
        """Shows the folders in a folder, with that one first unless it is the drive itself."""
        if not self.drive or not folder.is_relative_to(self._mount):
            return
        self._shown = inside if folder == self._mount else [folder, *inside]

    def at(self, point: QPointF) -> Path | None:
        """The folder painted at a point."""
        return next((path for rect, path in self._painted if rect.contains(point)), None)

    def named(self, words: str) -> QPointF | None:
        """The middle of a folder by its text, if it is painted."""
        found = (r.center() for r, path in self._painted if self._words(path) == words)
        return next(found, None)

    def _words(self, path: Path) -> str:
        return " / ".join(map(shown, path.relative_to(self._mount).parts))

    def paint(self, painter: QPainter, x: float, y: float, end: float) -> None:
        """Paints as many as have room, and the number of the others."""
        colour = theme.active().color
        self._painted = []
        for n, path in enumerate(self._shown):
            over = path == self.over
            painter.setFont(theme.font(12, BOLD if over else NORMAL))
            metrics = QFontMetricsF(painter.font())
            words = elide(self._words(path), metrics, _LONGEST)
            rect = QRectF(x, y, metrics.horizontalAdvance(words) + 16, _HEIGHT)
            more = len(self._shown) - n
            if rect.right() > end - (40 if more > 1 else 0):
                painter.setPen(colour("muted"))
                painter.drawText(QPointF(x + 2, y + 14), f"+{more}")
                return
            painter.setPen(QPen(colour("twine" if over else "block_edge"), 2 if over else 1))
            painter.setBrush(colour("block" if over else "ground"))
            painter.drawRoundedRect(rect, 4, 4)
            painter.setPen(colour("ink"))
            painter.drawText(rect, Qt.AlignmentFlag.AlignCenter, words)
            self._painted.append((rect, path))
            x = rect.right() + 6
