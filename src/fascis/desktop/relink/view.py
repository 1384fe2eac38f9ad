"""The view Relink: where documents look and where files are, with ties between.

Below it one question at a time, with pictures.
"""

from __future__ import annotations

import os
from functools import partial
from pathlib import Path
from typing import Any

import platformdirs
from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QDragEnterEvent, QDropEvent, QImage
from PyQt6.QtWidgets import QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from fascis.desktop.kit.pieces import clear, label, rule, tip
from fascis.desktop.kit.previews import picture_from, picture_of
from fascis.desktop.kit.tasks import Task
from fascis.desktop.relink.controller import Relinks, short_names, tells
from fascis.desktop.relink.drawing import TiesView
from fascis.desktop.relink.ties import lay_out_ties, sentence
from fascis.desktop.relink.tile import Tile
from fascis.documents.photo_facts import Facts
from fascis.files.names import elided, shown
from fascis.files.times import whole
from fascis.library.references.reading import PathSource
from fascis.relink.contents import Contents
from fascis.relink.lost import Lost, path_of_document
from fascis.relink.outcome import Candidate
from fascis.words.figures import moment_to_the_second, number
from fascis.words.speech import tr, trn

# The largest and the smallest width in pixels.
_TILE, _LEAST = 212, 150


class RelinkView(QWidget):
    """Combines the ties and the question below.

    Decisions go to :class:`Relinks`, never decided here.
    """

    said = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName(tr("Relink"))
        self.setAcceptDrops(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.relinks: Relinks | None = None
        self.thumbnails = Path(platformdirs.user_cache_path())
        self.tiles: list[Tile] = []
        self._asked: object = None
        self._turn = 0
        down = QVBoxLayout(self)
        down.setContentsMargins(18, 12, 18, 6)
        down.setSpacing(4)
        across = QHBoxLayout()
        self._lost = label("", wrap=False, title=True)
        self._found, self._rest = label("", wrap=False, head=True), label("", wrap=False)
        across.addWidget(self._lost)
        across.addSpacing(10)
        across.addWidget(self._found)
        across.addWidget(self._rest)
        across.addStretch(1)
        down.addLayout(across)
        heads = QHBoxLayout()
        self._from, self._to = (
            label(tr("Where the documents look"), wrap=False, quiet=True),
            label(tr("Where it is now"), wrap=False, quiet=True),
        )
        heads.addWidget(self._from)
        heads.addStretch(1)
        heads.addWidget(self._to)
        down.addLayout(heads)
        self._empty = label("", quiet=True)
        self._empty.setAlignment(Qt.AlignmentFlag.AlignCenter)
        down.addWidget(self._empty, 1)
        self.ties = TiesView()
        down.addWidget(self.ties, 1)
        self._rule = rule()
        down.addWidget(self._rule)
        self._question = QWidget()
        below = QVBoxLayout(self._question)
        below.setContentsMargins(0, 4, 0, 0)
        below.setSpacing(4)
        line = QHBoxLayout()
        self._name = label("", wrap=False, head=True)
        self._about = label("", quiet=True)
        line.addWidget(self._name)
        line.addSpacing(8)
        line.addWidget(self._about, 1)
        below.addLayout(line)
        scroll = QScrollArea()
        scroll.setWidgetResizable(True)
        scroll.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        scroll.setMinimumHeight(258)
        row = QWidget()
        self._tiles = QHBoxLayout(row)
        self._tiles.setContentsMargins(0, 0, 0, 0)
        self._tiles.setSpacing(10)
        scroll.setWidget(row)
        below.addWidget(scroll, 1)
        down.addWidget(self._question)
        self._question.hide()

    # -- what it shows -----------------------------------------------------------------------------

    @staticmethod
    def _lost_words(relinks: Relinks, lost: int) -> str:
        """The number of lost files, before the search."""
        if lost:
            return tr("{count} lost", count=number(lost))
        if not relinks.relinking:
            return ""
        if relinks.old_paths:
            return trn("{n} file by an old path", "{n} files by an old path", relinks.old_paths)
        return tr("Nothing is lost")

    def show_relinks(self, relinks: Relinks) -> None:
        """Shows lost and found files of a library."""
        self.relinks = relinks
        outcome, relinking = relinks.outcome, relinks.relinking
        lost = relinking.files if relinking else relinks.expected
        groups = relinks.groups()
        for widget in (self.ties, self._from, self._to):
            widget.setVisible(bool(groups))
        self._empty.setVisible(not groups)
        asks = outcome is not None and bool(outcome.open)
        if outcome is None:
            self._lost.setText(self._lost_words(relinks, lost))
            self._found.setText("")
            self._rest.setText(self._waiting_words(relinks, lost) if groups else "")
            self._empty.setText(self._waiting_words(relinks, lost))
        else:
            for words, part in zip(
                outcome.words, (self._lost, self._found, self._rest), strict=True
            ):
                part.setText(words)
        if groups:
            short = short_names(relinks.known, relinking.root if relinking else b"")
            self.ties.show_layout(lay_out_ties(groups, self._ties_height(asks), short))
            self.ties.setMinimumHeight(round(self.ties.layout_.height) + 8)
        if asks:
            self._ask()
        else:
            self._question.hide()
            self._rule.hide()
            self._asked = None
        self._say()

    def _ties_height(self, asks: bool) -> float:
        room = self.height() - 110 - (300 if asks else 20)
        return float(max(140, room))

    @staticmethod
    def _waiting_words(relinks: Relinks, lost: int) -> str:
        if relinks.trouble:
            return relinks.trouble
        if relinks.busy:
            return relinks.busy
        if not lost and relinks.old_paths:
            return trn(
                "{n} file is found, by a path that leads to where a drive used to be. "
                "Fascis follows such paths; other programs do not. Choose that drive on "
                "Shelves to update the old paths.",
                "{n} files are found, by a path that leads to where a drive used to be. "
                "Fascis follows such paths; other programs do not. Choose that drive on "
                "Shelves to update the old paths.",
                relinks.old_paths,
            )
        if not lost:
            return tr("Every file that its documents refer to is in its place.")
        if relinks.looking is not None:
            return tr("Looking for them…")
        return tr("Look in a folder for them, at the right, or drop one here.")

    def resizeEvent(self, event: Any) -> None:
        """Lays out again."""
        super().resizeEvent(event)
        if self.relinks is not None and self.isVisible():
            self.show_relinks(self.relinks)

    def _say(self) -> None:
        """The possible actions, in the foot line."""
        keys = tr("drop a folder here to look in it · Ctrl+Enter the main button")
        if self.relinks and self.relinks.history:
            keys = tr("Z takes back · {keys}", keys=keys)
        if self.tiles and self._question.isVisible():
            numbers = " ".join(str(i) for i in range(1, max(2, len(self.tiles) - 1)))
            keys = tr(
                "{numbers} choose · 0 none of them · N next · {keys}", numbers=numbers, keys=keys
            )
        self.said.emit(keys)

    # -- the question ------------------------------------------------------------------------------

    def _ask(self) -> None:
        relinks = self.relinks
        assert relinks is not None and relinks.outcome is not None
        i = relinks.current
        self._question.setVisible(i is not None)
        self._rule.setVisible(i is not None)
        if i is None:
            self._asked = None
            return
        match = relinks.outcome.match
        lost, candidates = match.lost[i], relinks.candidates()
        self._name.setText(elided(shown(lost.path.rpartition(b"/")[2]), 48))
        self._name.setToolTip(tip(shown(lost.path)))
        self._about.setText(sentence(match, i, relinks.at + 1, len(relinks.outcome.open)))
        asked = (lost.path, tuple((c.path, c.agrees, c.differs) for c in candidates))
        if asked != self._asked:
            self._asked = asked
            self._make_tiles(lost, candidates)

    def _make_tiles(self, lost: Lost, candidates: list[Candidate]) -> None:
        assert self.relinks is not None
        self._turn += 1
        had_focus = any(t.hasFocus() for t in self.tiles)
        clear(self._tiles)
        room = (self.width() - 36 - 10 * (len(candidates) + 1)) // (len(candidates) + 2)
        width = min(max(room, _LEAST), _TILE)
        self.tiles = [Tile("", tr("no picture kept"), width)]
        self.tiles += [Tile(str(n), "…", width) for n in range(1, len(candidates) + 1)]
        self.tiles.append(Tile("0", tr("none of them"), width))
        for n, tile in enumerate(self.tiles):
            self._tiles.addWidget(tile)
            if n:
                tile.pressed.connect(partial(self.relinks.choose, n if n <= len(candidates) else 0))
        self._tiles.addStretch(1)
        self.tiles[-1].say("", [tr("it stays lost for now")])
        short = short_names(
            self.relinks.known, self.relinks.relinking.root if self.relinks.relinking else b""
        )
        self._tell(lost, candidates, {}, short)
        if had_focus:
            self.setFocus()
        turn, thumbnails = self._turn, self.thumbnails
        begins = lost.length.begins if lost.length else 0.0
        for tile, c in zip(self.tiles[1:], candidates, strict=False):
            path = Path(os.fsdecode(c.path))
            show = partial(self._show_picture, turn, tile)
            Task(partial(picture_of, path, thumbnails, begins), show, self)
        Task(partial(self._remembered, lost), partial(self._show_remembered, turn), self)
        paths = [c.path for c in candidates]
        Task(
            lambda: Contents().facts(paths),
            lambda f: self._facts(turn, lost, candidates, f, short),
            self,
        )

    def _show_picture(self, turn: int, tile: Tile, image: Any) -> None:
        if turn == self._turn:
            tile.show_picture(image, tr("no picture of this kind of file"))

    def _remembered(self, lost: Lost) -> QImage | None:
        """The preview that a catalog stores of a lost photo."""
        relinks = self.relinks
        if relinks is None or relinks.surveyed is None:
            return None
        for reference in lost.references:
            document = relinks.surveyed.uses.documents[reference.document]
            source = PathSource(
                path_of_document(relinks.surveyed.source, document), relinks.workspace.private
            )
            with source, document.kind.open(source) as opened:
                kept = opened.picture(reference.at)
            if kept:
                return picture_from(kept)
        return None

    def _show_remembered(self, turn: int, image: Any) -> None:
        if turn == self._turn and self.tiles:
            self.tiles[0].show_picture(image, tr("no picture kept"))

    def _facts(
        self, turn: int, lost: Lost, candidates: list[Candidate], facts: Any, short: Any
    ) -> None:
        if turn == self._turn and isinstance(facts, dict):
            self._tell(lost, candidates, facts, short)

    def _tell(
        self, lost: Lost, candidates: list[Candidate], facts: dict[bytes, Facts], short: Any
    ) -> None:
        """The text under every tile."""
        known = [
            tr("{count} bytes", count=number(lost.size)) if lost.size else tr("size not known")
        ]
        if lost.length:
            known.append(
                tr("length {timecode}", timecode=timecode(lost.length.seconds, lost.length.rate))
            )
            if lost.length.begins:
                known.append(
                    tr(
                        "used from {timecode}",
                        timecode=timecode(lost.length.begins, lost.length.rate),
                    )
                )
        if lost.captured:
            known.append(tr("taken {replace}", replace=lost.captured[:19].replace("T", ", ")))
        if lost.mtime_ns:
            known.append(tr("changed {day}", day=day(lost.mtime_ns)))
        catalog = bool(lost.captured)
        self.tiles[0].say(
            tr("What the catalog remembers") if catalog else tr("What is remembered"),
            [*known, short(lost.folder)],
        )
        rate = lost.length.rate if lost.length else 25.0
        for tile, c in zip(self.tiles[1:], candidates, strict=False):
            more = {"date of change": tr("changed {day}", day=day(c.mtime_ns))}
            if said := facts.get(c.path):
                if said.seconds:
                    more["length"] = tr("length {timecode}", timecode=timecode(said.seconds, rate))
                if said.captured_at:
                    more["capture time"] = tr(
                        "taken {replace}", replace=said.captured_at.replace("T", ", ")
                    )
            tile.say(_headline(c), [*tells(lost.size, c, more), short(c.path.rpartition(b"/")[0])])

    # -- keys and drops ----------------------------------------------------------------------------

    def letter(self, letter: str) -> bool:
        """Numbers choose, N shows the next, Z undoes; returns whether it did something."""
        relinks = self.relinks
        if relinks is None:
            return False
        if letter.isdecimal() and relinks.current is not None:
            relinks.choose(int(letter))
        elif letter == "N":
            relinks.next()
        elif letter == "Z":
            relinks.take_back()
        else:
            return False
        return True

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """A folder can be dropped."""
        mime = event.mimeData() if event else None
        if event and mime and any(u.isLocalFile() for u in mime.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """A dropped folder is searched.

        A file with the name in question is taken as that file.
        """
        mime = event.mimeData() if event else None
        if mime is None or self.relinks is None:
            return
        for url in mime.urls():
            path = Path(url.toLocalFile())
            Task(path.is_dir, partial(self._dropped, path), self)

    def _dropped(self, path: Path, folder: Any) -> None:
        relinks = self.relinks
        if relinks is None:
            return
        if folder is True:
            relinks.look_in(path)
        else:
            self.take_file(path)

    def take_file(self, path: Path) -> None:
        """One file was given: it is the file in question, or the lost file with its name.

        Otherwise its folder is searched.
        """
        relinks = self.relinks
        if relinks is not None and relinks.outcome is not None:
            named = [
                i
                for i, x in enumerate(relinks.outcome.match.lost)
                if x.name == os.fsencode(path.name)
            ]
            if relinks.current in named:
                i = relinks.current
            elif len(named) == 1:
                i = named[0]
            else:
                i = None
            if i is not None:
                relinks.locate(i, path)
            else:
                relinks.look_in(path.parent)


def _headline(c: Candidate) -> str:
    if "capture time" in c.agrees:
        return tr("Taken at the same second")
    if "capture time" in c.differs:
        return tr("Another moment")
    if "length" in c.differs:
        return tr("Of another length")
    if "content" in c.differs:
        return tr("Other content")
    if "size" in c.differs:
        return tr("Of another size")
    if "probably its proxy" in c.differs:
        return tr("Probably its proxy")
    if "name" in c.differs:
        return tr("Another name")
    return tr("Same name and size") if "size" in c.agrees else tr("Same name")


def timecode(seconds: float, rate: float) -> str:
    """A length as hours, minutes, seconds and frames; in hundredths if there are no frames."""
    per = round(rate) if rate >= 1 else 100
    frames = round(seconds * (rate if rate >= 1 else 100))
    whole, part = divmod(frames, per)
    clock = f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}"
    return f"{clock}{':' if rate >= 1 else '.'}{part:02d}"


def day(ns: int) -> str:
    """A date and time of a stored time."""
    return moment_to_the_second(whole(ns) / 1e9)
