"""The ledger: the files of the chosen strands, one a line, fast with a million lines.

Filtered, searched and sorted in a task.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from PyQt6.QtCore import QAbstractTableModel, QModelIndex, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QColor, QResizeEvent
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHBoxLayout,
    QHeaderView,
    QLineEdit,
    QPushButton,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import button, label, tip
from fascis.desktop.kit.tasks import Task
from fascis.desktop.strands.woven import NOBODY, Woven
from fascis.files.names import shown
from fascis.library.roles import ROLES
from fascis.library.standing import STANDINGS, Standing
from fascis.words.figures import exact, number, size
from fascis.words.speech import tr

# The text for a document that is not understood.
UNREAD = tr("not read")
COLUMNS = (
    tr("Standing"),
    tr("File"),
    tr("Size"),
    tr("Where it is"),
    tr("Used by"),
    tr("In the plan"),
)
_LOST = (Standing.MISSING, Standing.AWAY)


class FileTable(QAbstractTableModel):
    """Some of a library's files; texts are made only for visible lines."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._woven: Woven | None = None
        self._rows: np.ndarray = np.empty(0, np.int64)

    def show_rows(self, woven: Woven, rows: np.ndarray) -> None:
        """Shows these rows, in this order."""
        self.beginResetModel()
        self._woven, self._rows = woven, rows
        self.endResetModel()

    def file(self, line: int) -> int:
        """The file of a line, as its row in the woven columns."""
        return int(self._rows[line])

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """The number of lines."""
        return len(self._rows)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """The number of columns."""
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = 0) -> Any:
        """The columns' names."""
        if orientation is Qt.Orientation.Horizontal and role == Qt.ItemDataRole.DisplayRole:
            return COLUMNS[section]
        return None

    def data(self, index: QModelIndex, role: int = 0) -> Any:
        """The text of one cell, its colour, or the full text on hover."""
        if self._woven is None:
            return None
        i, column = int(self._rows[index.row()]), index.column()
        if role == Qt.ItemDataRole.DisplayRole:
            return self._words(i, column)
        if role == Qt.ItemDataRole.ToolTipRole:
            length = exact(int(self._woven.size[i]))
            if STANDINGS[int(self._woven.standing[i])] in _LOST:
                length = tr("last known size {size}", size=length)
            used = tr("used by {used_by}", used_by=self._woven.used_by(i))
            lines = [shown(self._woven.place(i)), f"{length} · {used}"]
            if self._woven.unread[i]:
                lines.append(tr("Not understood: what it refers to is not known."))
            return tip("\n".join(lines))
        if role == Qt.ItemDataRole.ForegroundRole:
            return self._colour(i, column)
        if role == Qt.ItemDataRole.TextAlignmentRole and column == 2:
            return Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
        return None

    def _words(self, i: int, column: int) -> str:
        woven = self._woven
        assert woven is not None
        standing, role = STANDINGS[int(woven.standing[i])], ROLES[int(woven.role[i])]
        if column == 0 and woven.unread[i]:
            return UNREAD
        if column == 0:
            return f"{standing.words}, {role.words}" if role.remakeable else standing.words
        if column == 1:
            return shown(woven.place(i).rpartition(b"/")[2])
        if column == 2:
            known = int(woven.size[i])
            if standing in _LOST:
                return tr("was {size}", size=size(known)) if known else tr("not known")
            return size(known)
        return (woven.where, woven.used_by, woven.goes_to)[column - 3](i)

    def _colour(self, i: int, column: int) -> QColor | None:
        t, woven = theme.active(), self._woven
        assert woven is not None
        standing, role = STANDINGS[int(woven.standing[i])], ROLES[int(woven.role[i])]
        if column == 0 and woven.unread[i]:
            return t.color("ink")
        if column == 0:
            remakeable = role.remakeable and standing.inside
            return t.color("remakeable_text" if remakeable else f"{standing.value}_text")
        if (column == 3 and standing in _LOST) or (column == 4 and woven.used_by(i) == NOBODY):
            return t.color("muted")
        return None


class Ledger(QWidget):
    """Filters by standing, a search field, and the table."""

    # Its row in the woven columns; -1 for none.
    file_chosen = pyqtSignal(int)

    def __init__(self) -> None:
        super().__init__()
        self._woven: Woven | None = None
        self._strands: set[int] = set()
        self._filter: Standing | None = None
        self._order: tuple[int, bool] | None = None
        self._turn = 0
        down = QVBoxLayout(self)
        down.setContentsMargins(18, 4, 14, 0)
        down.setSpacing(4)
        across = QHBoxLayout()
        across.setSpacing(2)
        self._chips: dict[Standing | None, QPushButton] = {}
        for standing in (None, *STANDINGS):
            chip = button("", lambda s=standing: self.filter_by(s), chip=True)  # type: ignore[misc]
            chip.setCheckable(True)
            chip.setAutoExclusive(True)
            if standing is not None:
                chip.setProperty("standing", standing.value)
            self._chips[standing] = chip
            across.addWidget(chip)
        self._unread = button("", self.filter_unread, chip=True)
        self._unread.setCheckable(True)
        self._unread.setAutoExclusive(True)
        self._only_unread = False
        across.addWidget(self._unread)
        self._chips[None].setChecked(True)
        across.addStretch(1)
        self.search = QLineEdit()
        self.search.setPlaceholderText(tr("/ find a file"))
        self.search.setAccessibleName(tr("Find a file"))
        self.search.setMaximumWidth(190)
        self.search.setMinimumWidth(90)
        self.search.setClearButtonEnabled(True)
        across.addWidget(self.search)
        down.addLayout(across)
        self.table = QTableView()
        self.model_ = FileTable(self)
        self.table.setModel(self.model_)
        self._dress_table()
        down.addWidget(self.table, 1)
        self._none = label("", quiet=True)
        self._none.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._none.hide()
        down.addWidget(self._none, 1)
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(120)
        self._soon.timeout.connect(self._again)
        self.search.textChanged.connect(lambda _: self._soon.start())

    def _dress_table(self) -> None:
        table = self.table
        table.setAccessibleName(tr("Files"))
        table.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        table.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        table.setShowGrid(False)
        table.setWordWrap(False)
        table.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        table.setTabKeyNavigation(False)
        upright, across = table.verticalHeader(), table.horizontalHeader()
        assert upright is not None and across is not None
        upright.hide()
        upright.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        upright.setDefaultSectionSize(27)
        across.setSectionResizeMode(QHeaderView.ResizeMode.Fixed)
        across.setSectionResizeMode(1, QHeaderView.ResizeMode.Stretch)
        across.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
        across.setSectionsClickable(True)
        across.sectionClicked.connect(self._sort)
        across.setHighlightSections(False)
        selection = table.selectionModel()
        assert selection is not None
        selection.currentRowChanged.connect(
            lambda now, _: self.file_chosen.emit(
                self.model_.file(now.row()) if now.isValid() else -1
            )
        )

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """The name gets most of the width."""
        room = max(self.width() - 36 - 222, 200)
        for column, width in (
            (0, 104),
            (2, 118),
            (3, room * 0.25),
            (4, room * 0.2),
            (5, room * 0.2),
        ):
            self.table.setColumnWidth(column, round(width))

    # -- what it shows -----------------------------------------------------------------------------

    def show_woven(self, woven: Woven, strands: set[int]) -> None:
        """Shows a library's files, or those of some strands."""
        self._woven, self._strands = woven, set(strands)
        counts = woven.counts()
        self._chips[None].setText(tr("Everything {count}", count=number(len(woven))))
        for standing in STANDINGS:
            chip = self._chips[standing]
            chip.setText(f"{standing.words} {number(counts[standing][0])}")
            # A missing column needs no width.
            chip.setVisible(bool(counts[standing][0]) or chip.isChecked())
        unread = int(woven.unread.sum())
        self._unread.setText(f"{UNREAD} {number(unread)}")
        self._unread.setVisible(unread > 0)
        if not unread and self._only_unread:
            self._chips[None].setChecked(True)
            self._filter, self._only_unread = None, False
        for chip in (*self._chips.values(), self._unread):
            chip.setAccessibleName(chip.text())
        self._again()

    def choose_strands(self, strands: set[int]) -> None:
        """Shows the files of these strands; without any, everything."""
        self._strands = set(strands)
        self._again()

    def filter_by(self, standing: Standing | None) -> None:
        """Shows one standing, or all."""
        self._filter, self._only_unread = standing, False
        self._again()

    def filter_unread(self) -> None:
        """Shows the documents that are not understood."""
        self._filter, self._only_unread = None, True
        self._again()

    def _sort(self, column: int) -> None:
        down = self._order == (column, False)
        self._order = (column, down)
        header = self.table.horizontalHeader()
        assert header is not None
        header.setSortIndicatorShown(True)
        header.setSortIndicator(
            column, Qt.SortOrder.DescendingOrder if down else Qt.SortOrder.AscendingOrder
        )
        self._again()

    @property
    def shown_rows(self) -> int:
        """The number of files in the table."""
        return self.model_.rowCount()

    def _say_none(self, none: bool) -> None:
        """Says why there are no lines, and what to do."""
        strands = tr("the chosen strands") if self._strands else tr("this library")
        kind = self._filter.value if self._filter else UNREAD if self._only_unread else ""
        wanted = self.search.text().strip()
        if kind and wanted:
            words = tr(
                "No file of {strands} is {kind} with “{wanted}” in its name or folder.",
                strands=strands,
                kind=kind,
                wanted=wanted,
            )
        elif kind:
            words = tr("No file of {strands} is {kind}.", strands=strands, kind=kind)
        elif wanted:
            words = tr(
                "No file of {strands} with “{wanted}” in its name or folder.",
                strands=strands,
                wanted=wanted,
            )
        else:
            words = tr("No file of {strands}.", strands=strands)
        more = tr("Esc in the bundle lets go of what is chosen.") if self._strands else ""
        words = " ".join(filter(None, (words, more)))
        self._none.setText(words)
        self._none.setVisible(none)
        self.table.setVisible(not none)

    def _again(self) -> None:
        woven = self._woven
        if woven is None:
            return
        self._turn += 1
        turn, strands, standing, order = (
            self._turn,
            sorted(self._strands),
            self._filter,
            self._order,
        )
        text, unread = self.search.text().strip().lower(), self._only_unread

        def work() -> np.ndarray:
            return chosen_rows(woven, strands, standing, text, order, unread)

        def show(rows: Any) -> None:
            if turn == self._turn and self._woven is woven:
                if isinstance(rows, BaseException):
                    raise rows
                self.model_.show_rows(woven, rows)
                self._say_none(len(rows) == 0)
                self.file_chosen.emit(-1)

        Task(work, show, self)


def chosen_rows(
    woven: Woven,
    strands: list[int],
    standing: Standing | None,
    text: str,
    order: tuple[int, bool] | None,
    unread: bool = False,
) -> np.ndarray:
    """The rows that pass the filters, in order; by default, rows that need attention come first.

    Never in the interface thread.
    """
    mask = np.ones(len(woven), bool)
    if strands:
        mask &= np.isin(woven.strand, np.array(strands))
    if standing is not None:
        mask &= woven.standing == STANDINGS.index(standing)
    if unread:
        mask &= woven.unread
    rows = np.flatnonzero(mask)
    if text:
        lower = woven.lower()
        rows = np.array([i for i in rows.tolist() if text in lower[i]], np.int64)
    if order is None:
        rank = np.array([_FIRST.index(s) for s in STANDINGS])[woven.standing[rows]]
        # After lost files, and before everything else.
        rank = np.where(woven.unread[rows], _FIRST.index(Standing.LOOSE) - 0.5, rank)
        return rows[np.argsort(rank, kind="stable")]
    column, down = order
    if column == 2:
        found = rows[np.argsort(woven.size[rows], kind="stable")]
    else:
        words = {
            0: lambda i: STANDINGS[int(woven.standing[i])].value,
            1: lambda i: woven.place(i).rpartition(b"/")[2].lower(),
            3: woven.where,
            4: woven.used_by,
            5: woven.goes_to,
        }[column]
        found = np.array(sorted(rows.tolist(), key=words), np.int64)
    return found[::-1] if down else found


_FIRST = (Standing.MISSING, Standing.AWAY, Standing.LOOSE, Standing.HELD, Standing.UNUSED)
