"""The view Strands.

A library's bundle, the ledger of its files below, and a picture of the chosen file.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

import platformdirs
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QImage, QPixmap
from PyQt6.QtWidgets import QHBoxLayout, QLabel, QSplitter, QVBoxLayout, QWidget

from fascis.desktop.kit.pieces import button, label
from fascis.desktop.kit.previews import picture_of
from fascis.desktop.kit.tasks import Task
from fascis.desktop.strands.bundle import BundleView
from fascis.desktop.strands.ledger import Ledger
from fascis.desktop.strands.woven import Woven
from fascis.files.names import elided, shown
from fascis.library.standing import STANDINGS, Standing
from fascis.words.figures import size
from fascis.words.speech import tr, trn

_PICTURE = (168, 110)


class StrandsView(QWidget):
    """Combines the bundle, the ledger and the picture.

    The plan is shown here, never decided.
    """

    # The strands to be taken into or out of the plan.
    without_changed = pyqtSignal(object)
    # The name of the part in a plan that was ticked or unticked.
    part_toggled = pyqtSignal(str)
    said = pyqtSignal(str)
    # A document that is not understood should be read: its path.
    read_asked = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("Strands"))
        self.bundle, self.ledger = BundleView(), Ledger()
        self.woven: Woven | None = None
        self.thumbnails = Path(platformdirs.user_cache_path())
        self._turn = 0
        # From the outside in, see the window.
        down = QVBoxLayout(self)
        down.setContentsMargins(0, 0, 0, 0)
        self._waiting = label(tr("Looking at the library. Nothing is written into it."), quiet=True)
        self._waiting.setAlignment(Qt.AlignmentFlag.AlignCenter)
        down.addWidget(self._waiting, 1)
        self._parts = QSplitter(Qt.Orientation.Vertical)
        self._parts.setChildrenCollapsible(False)
        down.addWidget(self._parts, 1)
        self._parts.addWidget(self.bundle)
        below = QWidget()
        self._parts.addWidget(below)
        across = QHBoxLayout(below)
        across.setContentsMargins(0, 0, 0, 0)
        across.setSpacing(0)
        across.addWidget(self.ledger, 1)
        across.addWidget(self._make_preview())
        self._parts.setStretchFactor(0, 3)
        self._parts.setStretchFactor(1, 2)
        self._parts.hide()
        self.bundle.chosen.connect(self._strands_chosen)
        self.bundle.toggled.connect(self._toggle)
        self.bundle.part_toggled.connect(self.part_toggled)
        self.ledger.file_chosen.connect(self._file_chosen)

    def _make_preview(self) -> QWidget:
        self._preview = QWidget()
        self._preview.setFixedWidth(_PICTURE[0] + 18)
        down = QVBoxLayout(self._preview)
        down.setContentsMargins(0, 8, 18, 8)
        self._picture = QLabel()
        self._picture.setFixedSize(*_PICTURE)
        self._picture.setAlignment(Qt.AlignmentFlag.AlignCenter)
        self._picture.setObjectName("picture")
        down.addWidget(self._picture)
        self._about = label("", quiet=True)
        down.addWidget(self._about)
        self._read = button(tr("Read it…"), self._ask_to_read)
        self._chosen: Path | None = None
        down.addWidget(self._read)
        down.addStretch(1)
        self._preview.hide()
        return self._preview

    # -- what it shows -----------------------------------------------------------------------------

    def show_waiting(self, words: str) -> None:
        """Nothing is known yet, or the survey failed: says so."""
        self.woven = None
        self._waiting.setText(words)
        self._waiting.show()
        self._parts.hide()

    def show_woven(self, woven: Woven) -> None:
        """Shows a library, or the same one after the plan changed."""
        self.woven = woven
        self._waiting.hide()
        self._parts.show()
        self.bundle.show_woven(woven)
        self.ledger.show_woven(woven, self.bundle.selected)
        self._say()

    def _strands_chosen(self) -> None:
        self.ledger.choose_strands(self.bundle.selected)
        self._say()

    def _say(self) -> None:
        """The selection and the possible actions, in the foot line."""
        keys = tr(
            "Space takes a strand into or out of the plan, at the right side ticks a "
            "part · Up, Down choose · / find"
        )
        if self.woven and self.bundle.selected:
            chosen = [self.woven.strands[i] for i in self.bundle.selected]
            total = sum(s.bytes for s in chosen)
            keys = trn(
                "{n} strand chosen · {size} · {keys}",
                "{n} strands chosen · {size} · {keys}",
                len(chosen),
                size=size(total),
                keys=keys,
            )
        self.said.emit(keys)

    def _toggle(self) -> None:
        if self.woven is not None:
            self.without_changed.emit([self.woven.strands[i] for i in sorted(self.bundle.selected)])

    @property
    def has_picture(self) -> bool:
        """True while a picture of the chosen file is shown."""
        return self._preview.isVisible() and not self._picture.pixmap().isNull()

    # -- the chosen file ---------------------------------------------------------------------------

    def _file_chosen(self, i: int) -> None:
        self._turn += 1
        woven = self.woven
        if woven is None or i < 0:
            self._preview.hide()
            return
        standing = STANDINGS[int(woven.standing[i])]
        self._about.setText(
            tr(
                "{rpartition}\nused by {used_by}",
                rpartition=elided(shown(woven.place(i).rpartition(b"/")[2]), 60),
                used_by=elided(woven.used_by(i), 60),
            )
        )
        self._picture.setPixmap(QPixmap())
        self._preview.show()
        self._picture.setVisible(not woven.unread[i])
        self._read.setVisible(bool(woven.unread[i]))
        self._chosen = woven.path(i)
        if woven.unread[i]:
            name = elided(shown(self._chosen.name), 60)
            self._about.setText(tr("{name}\nWhat it refers to is not known.", name=name))
            return
        if standing in (Standing.MISSING, Standing.AWAY):
            self._picture.setText(tr("It is not here, so it cannot be shown."))
            return
        self._picture.setText("…")
        turn, path, cache = self._turn, woven.path(i), self.thumbnails
        Task(lambda: picture_of(path, cache), lambda found: self._show_picture(turn, found), self)

    def _ask_to_read(self) -> None:
        if self._chosen is not None:
            self.read_asked.emit(self._chosen)

    def _show_picture(self, turn: int, found: Any) -> None:
        if turn != self._turn:
            return
        if not isinstance(found, QImage):
            self._picture.setText(tr("No picture of this kind of file."))
            return
        ratio = self.devicePixelRatioF()
        pixmap = QPixmap.fromImage(found).scaled(
            round(_PICTURE[0] * ratio),
            round(_PICTURE[1] * ratio),
            Qt.AspectRatioMode.KeepAspectRatio,
            Qt.TransformationMode.SmoothTransformation,
        )
        pixmap.setDevicePixelRatio(ratio)
        self._picture.setPixmap(pixmap)
