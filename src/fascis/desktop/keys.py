"""Keys that work unless a text field has the focus, as the foot line shows."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct
from PyQt6 import sip
from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import (
    QAbstractButton,
    QAbstractSpinBox,
    QApplication,
    QComboBox,
    QLineEdit,
    QPlainTextEdit,
    QRadioButton,
    QTextEdit,
    QWidget,
)

_FIELDS = (QLineEdit, QTextEdit, QPlainTextEdit, QAbstractSpinBox)
_ARROWS = (Qt.Key.Key_Left, Qt.Key.Key_Right, Qt.Key.Key_Up, Qt.Key.Key_Down)


class KeyActions(Struct, frozen=True):
    """The functions of keys; each returns whether it did something.

    Attributes:
        letter: a letter or numeral, in upper case.
        escape: closes the innermost page.
        find: goes to the search field.
    """

    letter: Callable[[str], bool]
    escape: Callable[[], bool]
    find: Callable[[], bool]


class Keys(QObject):
    """Sees the keys of a window before the focused widget; watches only that one."""

    def __init__(self, window: QWidget, actions: KeyActions) -> None:
        super().__init__(window)
        self._window, self._do = window, actions
        self._watched: QWidget | None = None
        application = QApplication.instance()
        assert isinstance(application, QApplication)
        application.focusChanged.connect(self._focus_changed)

    def _focus_changed(self, _old: QWidget | None, now: QWidget | None) -> None:
        if self._watched is not None and not sip.isdeleted(self._watched):
            self._watched.removeEventFilter(self)
        self._watched = None
        if now is not None and now.window() is self._window:
            now.installEventFilter(self)
            self._watched = now

    def eventFilter(self, watched: QObject | None, event: QEvent | None) -> bool:
        """True for a key that did something here; all others reach their widget."""
        if not isinstance(event, QKeyEvent) or event.type() != QEvent.Type.KeyPress:
            return False
        return isinstance(watched, QWidget) and self.pressed(watched, event)

    def pressed(self, focus: QWidget, event: QKeyEvent) -> bool:
        """True if a key did something, whatever has the focus."""
        if event.key() == Qt.Key.Key_Escape:
            return self._do.escape()
        moves = isinstance(focus, QAbstractButton) and not isinstance(focus, QRadioButton)
        if event.key() in _ARROWS and moves:
            # A button would pass the focus out of its view, or press its neighbour.
            event.ignore()
            return True
        held = event.modifiers() & ~(
            Qt.KeyboardModifier.ShiftModifier | Qt.KeyboardModifier.KeypadModifier
        )
        typed = isinstance(focus, _FIELDS) and not _read_only(focus)
        if typed or held != Qt.KeyboardModifier.NoModifier:
            return False
        if isinstance(focus, QComboBox) and focus.isEditable():
            return False
        text = event.text()
        if text == "/":
            return self._do.find()
        return len(text) == 1 and text.isalnum() and self._do.letter(text.upper())


def _read_only(field: QWidget) -> bool:
    return isinstance(field, (QLineEdit, QTextEdit, QPlainTextEdit)) and field.isReadOnly()
