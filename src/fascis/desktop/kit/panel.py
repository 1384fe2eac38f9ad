"""The side panel: always about the selection or the next step, ending in one main button."""

from __future__ import annotations

import logging
from collections.abc import Iterable, Sequence

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QApplication, QPushButton, QScrollArea, QVBoxLayout, QWidget

from fascis.desktop.kit.pieces import Do, Row, button, clear, label, row, rule
from fascis.words.speech import tr

_LOG = logging.getLogger(__name__)

WIDTH = 336


class SidePanel(QWidget):
    """A column that scrolls, with the main button at its foot."""

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self.setFixedWidth(WIDTH)
        self.setAccessibleName(tr("Side panel"))
        self.setFocusPolicy(Qt.FocusPolicy.ClickFocus)
        around = QVBoxLayout(self)
        around.setContentsMargins(1, 0, 0, 0)
        around.setSpacing(0)
        self._scroll = scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        inner = QWidget()
        inner.setObjectName("inner")
        inner.setAttribute(Qt.WidgetAttribute.WA_StyledBackground)
        self._down = QVBoxLayout(inner)
        self._down.setContentsMargins(18, 18, 18, 8)
        self._down.setSpacing(4)
        scroll.setWidget(inner)
        around.addWidget(scroll, 1)
        foot = QWidget()
        self._built = (inner, foot)
        self._foot = QVBoxLayout(foot)
        self._foot.setContentsMargins(18, 8, 18, 16)
        self._foot.setSpacing(8)
        around.addWidget(foot)
        self.main: QPushButton | None = None
        # The button that leaves an inner page: Esc presses it.
        self.back: QPushButton | None = None
        self._signature: object = None
        self._rows: list[Row] = []

    # -- building ----------------------------------------------------------------------------------

    def begin(self, title: str, under: str = "") -> None:
        """Empties the panel and sets its title."""
        self._empty()
        self._down.addWidget(label(title, title=True))
        if under:
            self._down.addWidget(label(under, quiet=True))
        self._down.addSpacing(8)

    def begin_plain(self, name: str) -> None:
        """Empties the panel; it has a name for screen readers, and no title."""
        self._empty()
        self._built[0].setAccessibleName(name)

    def _empty(self) -> None:
        self._signature = None
        self._rows = []
        focus = QApplication.focusWidget()
        if focus is not None and self.isAncestorOf(focus):
            # The focused widget disappears; otherwise the focus would jump to the first one in the
            # window.
            self.setFocus()
        for part in self._built:
            # Hidden, it is laid out once; visible, once for each added widget.
            part.hide()
        clear(self._down)
        clear(self._foot)
        self.main = self.back = None

    def show_part(self, widget: QWidget) -> None:
        """Scrolls to one of its widgets."""
        self._scroll.ensureWidgetVisible(widget)

    def add(self, widget: QWidget) -> None:
        """Adds a widget."""
        self._down.addWidget(widget)

    def add_row(self, left: str, right: str = "", quiet: str = "", **properties: bool) -> None:
        """Adds a line with a rule below."""
        made = row(left, right, quiet, **properties)
        self._rows.append(made)
        self.add(made)
        self.add(rule())

    def shows(self, signature: object) -> bool:
        """True if the panel was built for this already, see :meth:`remember`."""
        return self._signature == signature

    def remember(self, signature: object) -> None:
        """Stores what the panel was built for, until it is built again."""
        self._signature = signature

    def change_rows(self, lines: Iterable[tuple[str, str]]) -> None:
        """Changes the texts at the right of the rows, and below, without building them again."""
        for made, (right, quiet) in zip(self._rows, lines, strict=True):
            made.change(right, quiet)

    def space(self, height: int) -> None:
        """Adds a little room, in pixels."""
        self._down.addSpacing(height)

    def head(self, text: str) -> None:
        """Adds a heading."""
        self._down.addSpacing(10)
        self.add(label(text, head=True))

    def end(self, *buttons: QPushButton) -> None:
        """Finishes the column; the first button is the main one."""
        self._down.addStretch(1)
        self._put_buttons(*buttons)
        for part in self._built:
            part.show()

    def change_buttons(self, *buttons: QPushButton) -> None:
        """Changes the buttons at the foot; the rest stays."""
        clear(self._foot)
        self._put_buttons(*buttons)

    def _put_buttons(self, *buttons: QPushButton) -> None:
        for b in buttons:
            self._foot.addWidget(b)
        self.main = next((b for b in buttons if b.property("main")), None)
        self.back = next((b for b in buttons if b.property("back")), None)

    def add_to_foot(self, widget: QWidget) -> None:
        """Adds a widget above the buttons, where it is always visible."""
        self._foot.addWidget(widget)

    # -- what any room may say ---------------------------------------------------------------------

    def show_nothing(self, words: str, actions: Sequence[tuple[str, Do]]) -> None:
        """Nothing is selected: shows the first step."""
        self.begin(tr("No library chosen"), words)
        self.end(*(button(text, do, main=i == 0) for i, (text, do) in enumerate(actions)))

    def show_busy(self, title: str, words: str, cancel: Do | None = None) -> None:
        """Something is in progress."""
        self.begin(title, words)
        self.end(*([button(tr("Cancel"), cancel, back=True)] if cancel else []))

    def show_error(self, title: str, sentence: str, actions: Sequence[tuple[str, Do]]) -> None:
        """An error, where it belongs: what, where, what it means, what to do."""
        _LOG.info("told: %s: %s", title, sentence)
        self.begin(title)
        self.add(label(sentence, wrong=True))
        last = len(actions) - 1
        self.end(
            *(button(text, do, main=i == 0, back=i == last) for i, (text, do) in enumerate(actions))
        )
