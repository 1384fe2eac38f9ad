"""The view Crossings: the list of crossings, and the chosen one.

Stations, bars, problems, the scales.
"""

from __future__ import annotations

from enum import Enum

from msgspec import Struct
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QColor
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QListWidget,
    QListWidgetItem,
    QScrollArea,
    QTableWidget,
    QTableWidgetItem,
    QVBoxLayout,
    QWidget,
)

from fascis.crossing.model.states import ARRIVED, State
from fascis.crossing.status.scales import Balance
from fascis.desktop.crossings.scales import Scales
from fascis.desktop.crossings.stations import Lane, Lanes, StationLine
from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import clear, label, tip
from fascis.files.names import elided, shown
from fascis.words.figures import clock, listed, number, size
from fascis.words.speech import tr, trn

# Lines of the list that are not crossings.
_YOURS, _FINISHED = "yours", "finished"


class Group(Enum):
    """The group of a line in the list."""

    YOU = "you"  # It waits for a person.
    NOW = "now"  # It runs, or is in the queue.
    DONE = "done"


class CrossingRow(Struct):
    """One line of the list, as read from a journal.

    ``waits`` is its position in the queue, from 1, or 0; ``one_more`` means that home stays.
    """

    id: str
    name: str
    drives: list[str]
    source_drive: str
    state: State
    bytes: int
    running: bool
    ready: str = ""
    waits: int = 0
    group: Group = Group.NOW
    one_more: bool = False


class CrossingsView(QWidget):
    """Shows what it is given; ``chosen`` reports which crossing was clicked."""

    chosen = pyqtSignal(str)
    # Finished ones are shown, or not any more.
    folded = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("ground")
        down = QVBoxLayout(self)
        down.setContentsMargins(18, 10, 18, 8)
        down.setSpacing(8)
        self.list = QListWidget()
        self.list.setAccessibleName(tr("Crossings"))
        self.list.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.list.setTextElideMode(Qt.TextElideMode.ElideMiddle)
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.currentRowChanged.connect(self._row_chosen)
        self.list.itemClicked.connect(self._pressed)
        self.list.itemActivated.connect(self._pressed)
        self._unfolded = False
        self.title = label("", wrap=False, title=True)
        self.subtitle = label("", quiet=True)
        self.stations = StationLine()
        self.scales = Scales()
        self.checks = _table((tr("Checked"), tr("Originals"), tr("Copy"), ""))
        self.lanes = Lanes()
        self._scroll = QScrollArea()
        self._scroll.setWidgetResizable(True)
        self._scroll.setWidget(self.lanes)
        self.attention = _table((tr("Needed attention"), tr("Drive"), tr("What it means")))
        self.empty = QWidget()
        self.empty_down = QVBoxLayout(self.empty)
        # In a low window the drawing keeps its size, and scrolls.
        around = QScrollArea()
        around.setWidgetResizable(True)
        around.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        around.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        # From the outside in, see the window.
        down.addWidget(self.list)
        down.addWidget(around, 1)
        below = QWidget()
        around.setWidget(below)
        under = QVBoxLayout(below)
        under.setContentsMargins(0, 0, 0, 0)
        under.setSpacing(8)
        self.checks.setMinimumHeight(150)
        self._scroll.setMinimumHeight(150)
        for widget, stretch in (
            (self.stations, 0),
            (self.title, 0),
            (self.subtitle, 0),
            (self.scales, 0),
            (self.checks, 3),
            (self._scroll, 4),
            (self.attention, 2),
            (self.empty, 1),
        ):
            under.addWidget(widget, stretch)
        self._ids: list[str] = []

    def show_list(self, rows: list[CrossingRow], current: str | None) -> None:
        """Shows the list of crossings with one of them chosen."""
        finished = sum(r.group is Group.DONE for r in rows)
        waiting = sum(r.group is Group.YOU for r in rows)
        if any(r.id == current and r.group is Group.DONE for r in rows):
            self._unfolded = True
        lines = [(r.id, *_line(r)) for r in rows if r.group is not Group.DONE]
        if waiting:
            words = trn("{n} waits for you", "{n} wait for you", waiting)
            lines.insert(0, (_YOURS, words, words))
        if finished:
            mark = "▾" if self._unfolded else "▸"
            words = tr("Finished, {n}", n=number(finished))
            lines.append((_FINISHED, words, f"{words} {mark}"))
        if self._unfolded:
            lines += [(r.id, *_line(r)) for r in rows if r.group is Group.DONE]
        self._fill_list(lines, current)

    def _fill_list(self, lines: list[tuple[str, str, str]], current: str | None) -> None:
        """Fills the list: ids, or the kind of heading; full texts, and shortened ones."""
        self.list.blockSignals(True)
        ids = [id for id, _, _ in lines]
        if ids != self._ids:
            # Otherwise only texts change: the line under the pointer stays.
            self.list.clear()
            self.list.addItems(ids)
            self._ids = ids
        for i, (id, words, short) in enumerate(lines):
            if item := self.list.item(i):
                item.setText(short)
                item.setToolTip(tip(words))
                if id in (_YOURS, _FINISHED):
                    item.setFont(theme.font(12, theme.BOLD))
                if id == _YOURS:
                    item.setFlags(Qt.ItemFlag.NoItemFlags)
                    item.setForeground(theme.active().color("ink"))
        if current in self._ids:
            self.list.setCurrentRow(self._ids.index(current))
        self.list.blockSignals(False)
        self.list.setVisible(bool(lines))
        self.list.setFixedHeight(min(5, max(1, len(lines))) * 37 + 3)

    def _row_chosen(self, row: int) -> None:
        if 0 <= row < len(self._ids) and self._ids[row] not in (_YOURS, _FINISHED):
            self.chosen.emit(self._ids[row])

    def _pressed(self, item: QListWidgetItem) -> None:
        """The heading of finished crossings unfolds and folds them."""
        if self._ids[self.list.row(item)] == _FINISHED:
            self._unfolded = not self._unfolded
            self.folded.emit()

    def show_empty(self, words: str, more: str) -> None:
        """Shows the first steps."""
        clear(self.empty_down)
        self.empty_down.addStretch(1)
        for text, kind in ((words, {"title": True}), (more, {"quiet": True})):
            made = label(text, **kind)
            made.setAlignment(Qt.AlignmentFlag.AlignHCenter)
            self.empty_down.addWidget(made)
        self.empty_down.addStretch(2)
        for widget in (
            self.stations,
            self.title,
            self.subtitle,
            self.scales,
            self.checks,
            self._scroll,
            self.attention,
        ):
            widget.hide()
        self.empty.show()

    def show_running(
        self, row: CrossingRow, lanes: list[Lane], frees: str, whole: str = ""
    ) -> None:
        """Shows a running crossing; ``whole`` says which drive is finished before the others."""
        self.empty.hide()
        for widget in (self.scales, self.checks):
            widget.hide()
        words = {
            State.FAILED: tr("Stopped: a copy read back wrong three times"),
            State.UNDONE: tr("Given up; the old place is home"),
            State.WAITING: tr("Waiting for a decision"),
        }.get(row.state, tr("Waits its turn") if row.waits else "")
        self.title.setText(whole or words)
        self.title.setVisible(bool(whole or words))
        self.subtitle.setText(words)
        self.subtitle.setVisible(bool(whole and words))
        self.stations.show()
        self._scroll.show()
        self.stations.show_state(row.state, row.drives[0], frees, row.running, row.one_more)
        self.lanes.show_lanes(lanes, row.drives)

    def show_balance(self, row: CrossingRow, balance: Balance | None, frees: str) -> None:
        """Shows the scales of a settled crossing.

        ``balance`` is None while both places are checked.
        """
        self.empty.hide()
        self._scroll.hide()
        for widget in (self.stations, self.title, self.subtitle, self.scales, self.checks):
            widget.show()
        self.stations.show_state(row.state, row.drives[0], frees, False, row.one_more)
        if balance is None:
            words = tr("Looking at both places again …")
        elif balance.busy:
            words = tr("A drive is busy, trying again …")
        elif balance.even and balance.lacks:
            words = trn(
                "Whole, but for {n} file that you left out",
                "Whole, but for {n} files that you left out",
                balance.lacks,
            )
        elif balance.even:
            words = tr("In balance")
        else:
            words = tr("Not yet in balance")
        if row.state is State.RELEASED and balance and balance.even:
            words = tr("Home, and the originals are gone")
        self.title.setText(words)
        failed = next((c for c in balance.checks if not c.well), None) if balance else None
        if balance and balance.trouble:
            more = balance.trouble
        elif failed:
            more = f"{failed.name}: {failed.verdict}"
        else:
            more = ""
        self.subtitle.setText(f"{shown(row.name)}" + (f" · {more}" if more else ""))
        self.scales.show_balance(
            balance, tr("Originals, {source_drive}", source_drive=row.source_drive), row.drives
        )
        self._fill_checks(balance, row)

    def _fill_checks(self, balance: Balance | None, row: CrossingRow) -> None:
        checks = balance.checks if balance else []
        heads = [tr("Checked"), tr("Originals"), *row.drives, ""]
        if self.checks.columnCount() != len(heads):
            _columns(self.checks, len(heads))
        self.checks.setHorizontalHeaderLabels(heads)
        self.checks.setRowCount(len(checks))
        for r, check in enumerate(checks):
            name = f"{check.name}   {check.detail}" if check.detail else check.name
            copies = [*check.copies, *[""] * len(row.drives)][: len(row.drives)]
            for c, text in enumerate((name, check.originals, *copies, check.verdict)):
                item = QTableWidgetItem(text)
                if 0 < c < len(heads) - 1:
                    item.setTextAlignment(
                        Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter
                    )
                if not check.well:
                    item.setFont(theme.font(13, theme.BOLD))
                    item.setBackground(QColor(theme.active().chosen))
                self.checks.setItem(r, c, item)

    def show_attention(self, rows: list[tuple[bytes, str, str, float]]) -> None:
        """Lists only what needed attention."""
        self.attention.setVisible(bool(rows))
        self.attention.setRowCount(min(len(rows), 200))
        for r, (place, drive, meaning, at) in enumerate(rows[-200:]):
            cells = (shown(place), shown(drive), f"{meaning} · {clock(at)}" if at else meaning)
            for c, text in enumerate(cells):
                item = QTableWidgetItem(text)
                item.setToolTip(tip(text))
                self.attention.setItem(r, c, item)


def has_scales(state: State) -> bool:
    """True if a crossing is shown as scales."""
    return state in ARRIVED


def _line(row: CrossingRow) -> tuple[str, str]:
    """A line of the list: the full text, and one with long names shortened."""
    ready = f", {row.ready}" if row.ready else ""

    def words(most: int) -> str:
        to = listed([elided(shown(d), most) for d in row.drives])
        name, source = elided(shown(row.name), most), elided(shown(row.source_drive), most)
        line = f"{name}     {source} → {to}     {size(row.bytes)}     {_state_words(row)}{ready}"
        return f"{row.waits}   {line}" if row.waits else line

    return words(1000), words(30)


def _state_words(row: CrossingRow) -> str:
    if row.running:
        return tr("crossing now")
    if row.waits:
        return tr("waits its turn")
    return row.state.words


def _columns(table: QTableWidget, count: int) -> None:
    """Sets a table's columns: the check, the figures, the verdict."""
    table.setColumnCount(count)
    horizontal = table.horizontalHeader()
    assert horizontal
    horizontal.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
    for c in range(1, count):
        horizontal.setSectionResizeMode(c, QHeaderView.ResizeMode.ResizeToContents)
        table.setHorizontalHeaderItem(c, item := QTableWidgetItem())
        right = Qt.AlignmentFlag.AlignRight if c < count - 1 else Qt.AlignmentFlag.AlignLeft
        item.setTextAlignment(right | Qt.AlignmentFlag.AlignVCenter)


def _table(heads: tuple[str, ...]) -> QTableWidget:
    made = QTableWidget(0, len(heads))
    made.setHorizontalHeaderLabels(list(heads))
    made.setAccessibleName(heads[0])
    made.setShowGrid(False)
    made.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
    made.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
    made.setSelectionMode(QAbstractItemView.SelectionMode.NoSelection)
    made.setFocusPolicy(Qt.FocusPolicy.NoFocus)
    vertical, horizontal = made.verticalHeader(), made.horizontalHeader()
    assert vertical is not None and horizontal is not None
    vertical.hide()
    vertical.setDefaultSectionSize(29)
    horizontal.setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
    for c in range(1, len(heads)):
        horizontal.setSectionResizeMode(c, QHeaderView.ResizeMode.ResizeToContents)
    horizontal.setHighlightSections(False)
    horizontal.setDefaultAlignment(Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter)
    for c in (1, 2):
        if heads[0] == "Checked" and (item := made.horizontalHeaderItem(c)):
            item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
    return made
