"""The view Receipts: past crossings, newest first; the chosen one reads like a document."""

from __future__ import annotations

from typing import Any

from PyQt6.QtCore import QBuffer, QIODevice, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QPagedPaintDevice,
    QPageSize,
    QPdfWriter,
    QTextCharFormat,
    QTextCursor,
)
from PyQt6.QtWidgets import QHBoxLayout, QListWidget, QTextBrowser, QWidget

from fascis.crossing.model.states import State
from fascis.crossing.receipts.receipt import clock_text
from fascis.files.names import shown
from fascis.words.figures import size
from fascis.words.speech import tr, trn


class ReceiptsView(QWidget):
    """A list, and the page of the chosen receipt."""

    chosen = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("ground")
        across = QHBoxLayout(self)
        across.setContentsMargins(18, 12, 18, 10)
        across.setSpacing(16)
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Receipts"))
        self.list.setFixedWidth(290)
        self.list.setWordWrap(True)
        self.list.currentRowChanged.connect(self._row)
        self.page = QTextBrowser()
        self.page.setOpenLinks(False)
        self.page.setAccessibleName(tr("Receipt"))
        across.addWidget(self.list)
        across.addWidget(self.page, 1)
        self._ids: list[str] = []

    def show_list(self, records: list[dict[str, Any]], current: str | None) -> None:
        """Shows the existing receipts."""
        self._ids = [r["crossing"] for r in records]
        self.list.blockSignals(True)
        self.list.clear()
        for r in records:
            verified = trn(
                "{n} file, {size}",
                "{n} files, {size}",
                r["verified_files"],
                size=size(r["verified_bytes"]),
            )
            lines = (
                shown(r["name"]),
                f"{r['from_drive']['label']} → {r['to_drive']['label']}",
                verified,
                f"{clock_text(r['settled_at'])} · {State(r['state']).words}",
            )
            self.list.addItem("\n".join(lines))
        self.list.blockSignals(False)
        if not records:
            self.page.setPlainText(
                tr("No crossing has arrived yet. A receipt is written when one does.")
            )
        else:
            self.list.setCurrentRow(self._ids.index(current) if current in self._ids else 0)
            self._row(self.list.currentRow())

    def show_page(self, page: bytes) -> None:
        """Shows a receipt's page."""
        text = page.decode()
        for here, there in (
            ("<h2>", "<p style='font-size:15px;font-weight:600;margin-top:22px'>"),
            ("</h2>", "</p>"),
            ("border-collapse:collapse;", ""),
        ):
            # Differences between this small page viewer and a browser.
            text = text.replace(here, there)
        self.page.setHtml(text)

    def as_pdf(self) -> bytes:
        """The page shown, as a PDF on A4 paper."""
        buffer = QBuffer()
        buffer.open(QIODevice.OpenModeFlag.WriteOnly)
        writer = QPdfWriter(buffer)
        writer.setTitle(tr("Receipt of a crossing"))
        writer.setPageSize(QPageSize(QPageSize.PageSizeId.A4))
        self.print_on(writer)
        buffer.close()
        return bytes(buffer.data().data())

    def print_on(self, paper: QPagedPaintDevice) -> None:
        """Prints the page shown: dark on white, whatever the theme."""
        document = self.page.document()
        copy = document.clone() if document else None
        if copy is not None:
            everything = QTextCursor(copy)
            everything.select(QTextCursor.SelectionType.Document)
            ink = QTextCharFormat()
            ink.setForeground(QColor("black"))
            everything.mergeCharFormat(ink)
            copy.print(paper)

    def _row(self, row: int) -> None:
        if 0 <= row < len(self._ids):
            self.chosen.emit(self._ids[row])

    @property
    def current(self) -> str | None:
        """The id of the chosen crossing."""
        row = self.list.currentRow()
        return self._ids[row] if 0 <= row < len(self._ids) else None
