"""The view Look: what is big, as bands, and the libraries found, with a checkbox each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtWidgets import QCheckBox, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from fascis.desktop.kit.pieces import clear, label, rule, tip
from fascis.desktop.look.bands import Band
from fascis.files.names import elided, shown
from fascis.files.times import whole
from fascis.library.identity import kind_words
from fascis.library.looking.look import LibraryFound, Looked, Weight
from fascis.words.figures import month, number, size
from fascis.words.speech import tr, trn

_LONGEST_PATH = 60
FOOT = tr(
    "Left, Right choose · Enter goes deeper, Backspace back · Space ticks · "
    "Ctrl+Enter puts what is ticked on the shelf"
)


class LookView(QWidget):
    """Shows a search while it runs, and its result."""

    # A block was chosen: a folder, or something in one.
    chosen = pyqtSignal(object)
    ticked = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.setObjectName("ground")
        self.setAccessibleName(tr("Look"))
        around = QVBoxLayout(self)
        around.setContentsMargins(20, 14, 20, 8)
        around.setSpacing(6)
        self._title = label("", title=True)
        self._under = label("", quiet=True)
        around.addWidget(self._title)
        around.addWidget(self._under)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        inner = QWidget()
        inner.setObjectName("ground")
        down = QVBoxLayout(inner)
        down.setContentsMargins(0, 0, 6, 0)
        down.setSpacing(6)
        self._bands = QVBoxLayout()
        self._bands.setSpacing(4)
        down.addLayout(self._bands)
        self._found = label("", head=True)
        down.addSpacing(8)
        down.addWidget(self._found)
        self._list = QVBoxLayout()
        self._list.setSpacing(2)
        down.addLayout(self._list)
        down.addStretch(1)
        scroll.setWidget(inner)
        around.addWidget(scroll, 1)
        self.bands: list[Band] = []
        self.boxes: list[tuple[QCheckBox, LibraryFound]] = []
        self._libraries: frozenset[bytes] = frozenset()

    # -- while it is looked ------------------------------------------------------------------------

    def show_looking(self, title: str) -> None:
        """Nothing is known yet."""
        self._title.setText(title)
        self._under.setText(tr("Looking. Nothing is written there."))
        self._found.setText("")
        self._clear()

    def show_so_far(self, files: int, roots: Sequence[Path]) -> None:
        """The progress, and what was found so far."""
        self._under.setText(trn("{n} file looked at so far", "{n} files looked at so far", files))
        self._found.setText(_found_words(len(roots), tr("so far")) if roots else "")
        clear(self._list)
        for root in roots[:50]:
            self._list.addWidget(label(elided(shown(str(root)), 90)))

    # -- when it is done ---------------------------------------------------------------------------

    def show_looked(self, looked: Looked) -> None:
        """What was found."""
        self._clear()
        words = trn(
            "{n} file looked at in {seconds} s",
            "{n} files looked at in {seconds} s",
            looked.files,
            seconds=f"{looked.seconds:.0f}",
        )
        told = [words]
        if looked.not_permitted:
            told.append(
                trn(
                    "not permitted to look into {n} folder",
                    "not permitted to look into {n} folders",
                    len(looked.not_permitted),
                )
            )
        told.append(tr("the older something is the paler"))
        self._under.setText(" · ".join(told))
        self._libraries = frozenset(bytes(one.root) for one in looked.libraries)
        for top in looked.tops:
            if top.files:
                self._add_band(top, shown(top.path) if len(looked.tops) > 1 else "")
        count = len(looked.libraries)
        self._found.setText(_found_words(count))
        for one in sorted(looked.libraries, key=lambda one: -one.room):
            self._add_library(one)
        if not count:
            words = tr(
                "No folder with documents and media, and no catalog. Add one by hand, or look at "
                "another drive."
            )
            self._list.addWidget(label(words, quiet=True))

    def _add_library(self, one: LibraryFound) -> None:
        line = QWidget()
        across = QHBoxLayout(line)
        across.setContentsMargins(0, 3, 0, 3)
        across.setSpacing(10)
        box = QCheckBox(elided(shown(one.name), 40))
        box.setChecked(one.known or not one.unknown)
        box.setEnabled(not one.known)
        box.toggled.connect(lambda _: self.ticked.emit())
        box.setToolTip(tip(shown(str(one.root))))
        about = [kind_words(one.kind), trn("{n} document", "{n} documents", one.documents)]
        about += [tr("of unknown make")] if one.unknown else []
        about += [tr("on the shelf already")] if one.known else []
        words = " · ".join([*about, elided(shown(str(one.root.parent)), _LONGEST_PATH)])
        box.setAccessibleName(f"{shown(one.name)}, {words}, {size(one.room)}")
        across.addWidget(box)
        across.addWidget(label(words, wrap=False, quiet=True), 1)
        across.addWidget(label(size(one.room), wrap=False, head=True))
        across.addWidget(label(month(whole(one.last_change_ns) / 1e9), wrap=False, quiet=True))
        self._list.addWidget(line)
        self._list.addWidget(rule())
        self.boxes.append((box, one))

    # -- bands -------------------------------------------------------------------------------------

    def _add_band(self, weight: Weight, title: str) -> Band:
        if title:
            self._bands.addWidget(label(title, head=True))
        band = Band()
        band.show_weight(weight, self._libraries)
        band.chosen.connect(self.chosen)
        band.opened.connect(lambda inner, band=band: self._deeper(band, inner))
        band.left.connect(lambda band=band: self._back(band))
        self._bands.addWidget(band)
        self.bands.append(band)
        return band

    def _deeper(self, band: Band, weight: Weight) -> None:
        """Shows the contents of a block, below its band."""
        at = self.bands.index(band)
        while len(self.bands) > at + 1 and len(self.bands) > 1:
            self._remove_last()
        inner = self._add_band(weight, shown(weight.path.rpartition(b"/")[2]))
        inner.setFocus()
        inner._choose(0)

    def _back(self, band: Band) -> None:
        at = self.bands.index(band)
        if at:
            while len(self.bands) > at:
                self._remove_last()
            self.bands[-1].setFocus()
            self.bands[-1].tell()

    def _remove_last(self) -> None:
        """Removes the last band and its title."""
        self.bands.pop()
        for _ in range(2):
            item = self._bands.takeAt(self._bands.count() - 1)
            if item is not None and (widget := item.widget()) is not None:
                widget.deleteLater()

    def _clear(self) -> None:
        clear(self._bands)
        clear(self._list)
        self.bands, self.boxes = [], []

    def wanted(self) -> list[LibraryFound]:
        """The ticked libraries."""
        return [one for box, one in self.boxes if box.isChecked() and box.isEnabled()]

    def first_focus(self) -> None:
        """To the first library that can be ticked, otherwise to the bands."""
        box = next((box for box, _ in self.boxes if box.isEnabled()), None)
        if box is not None:
            box.setFocus(Qt.FocusReason.TabFocusReason)
        elif self.bands:
            self.bands[0].setFocus(Qt.FocusReason.TabFocusReason)


def _found_words(count: int, more: str = "") -> str:
    words = (
        tr("Libraries found, {count}", count=number(count)) if count else tr("No libraries found")
    )
    return f"{words} {more}".strip()
