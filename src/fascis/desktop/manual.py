"""The manual, in a window of its own: read from where it was installed, without a network."""

from __future__ import annotations

import sys
from pathlib import Path

from PyQt6.QtCore import Qt, QUrl
from PyQt6.QtGui import QImage, QKeySequence, QShortcut, QTextCursor, QTextDocument
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QTextBrowser, QWidget

from fascis.words.speech import tr

NAME = "manual.md"
# Pictures show a window; in the manual they are as wide as a page.
_PICTURE = 720
# Pixels around the text, below a paragraph, and above a heading.
_MARGIN, _AIR, _HEAD = 28, 8, 14


def manual_folder() -> Path | None:
    """The folder of the manual: in the sources, otherwise where it was installed; or None."""
    sources = Path(__file__).parents[3] / "docs"
    installed = Path(sys.prefix) / "share/doc/fascis"
    return next((folder for folder in (sources, installed) if (folder / NAME).is_file()), None)


class ManualWindow(QWidget):
    """Shows the manual: its headings at the left, and its text with pictures."""

    def __init__(self, text: str, folder: Path) -> None:
        super().__init__(None, Qt.WindowType.Window)
        self.setWindowTitle(tr("Manual"))
        self.resize(1080, 760)
        self.setObjectName("ground")
        self.headings = QListWidget()
        self.headings.setAccessibleName(tr("Chapters"))
        self.headings.setFixedWidth(250)
        self.page = _Page(folder)
        self.page.setAccessibleName(tr("Manual"))
        self.page.setOpenLinks(False)
        self.page.setMarkdown(text)
        self._give_air()
        across = QHBoxLayout(self)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.headings)
        across.addWidget(self.page, 1)
        for line in text.splitlines():
            if line.startswith("## "):
                self.headings.addItem(line[3:])
        self.headings.currentTextChanged.connect(self.go_to)
        QShortcut(QKeySequence("Esc"), self).activated.connect(self.close)

    def _give_air(self) -> None:
        """Sets the room around the text, and between its paragraphs."""
        document = self.page.document()
        if document is None:
            return
        document.setDocumentMargin(_MARGIN)
        cursor = QTextCursor(document)
        block = document.begin()
        while block.isValid():
            form = block.blockFormat()
            form.setTopMargin(_HEAD if form.headingLevel() else 0)
            form.setBottomMargin(_AIR)
            cursor.setPosition(block.position())
            cursor.setBlockFormat(form)
            block = block.next()
        self.page.moveCursor(QTextCursor.MoveOperation.Start)

    def go_to(self, heading: str) -> None:
        """Shows a chapter."""
        document = self.page.document()
        block = document.begin() if document is not None else None
        while block is not None and block.isValid():
            if block.blockFormat().headingLevel() == 2 and block.text() == heading:
                self.page.moveCursor(QTextCursor.MoveOperation.End)
                self.page.setTextCursor(QTextCursor(block))
                return
            block = block.next()


class _Page(QTextBrowser):
    """A page whose pictures lie in a folder, and are not wider than the page."""

    def __init__(self, folder: Path) -> None:
        super().__init__()
        self._folder = folder

    def loadResource(self, kind: int, name: QUrl) -> object:
        """A picture of the manual; nothing is loaded from elsewhere."""
        if kind != QTextDocument.ResourceType.ImageResource.value:
            return None
        path = self._folder / name.path()
        picture = QImage(str(path))
        if picture.isNull():
            return None
        return picture.scaledToWidth(_PICTURE, Qt.TransformationMode.SmoothTransformation)
