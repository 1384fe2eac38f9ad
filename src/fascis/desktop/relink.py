"""The view Relink: where documents look and where files are, ties between; below it one question at a time, with pictures."""

from __future__ import annotations

import os
import time
from functools import partial
from pathlib import Path
from typing import Any

import platformdirs
from PyQt6.QtCore import QEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import (
    QColor,
    QDragEnterEvent,
    QDropEvent,
    QFontMetricsF,
    QHelpEvent,
    QImage,
    QKeyEvent,
    QPainter,
    QPainterPath,
    QPaintEvent,
    QPen,
    QPixmap,
)
from PyQt6.QtWidgets import QHBoxLayout, QLineEdit, QScrollArea, QToolTip, QVBoxLayout, QWidget

from fascis.desktop import theme
from fascis.desktop.pieces import clear, elide, label, rule
from fascis.desktop.previews import picture_from, picture_of
from fascis.desktop.relinks import Relinks, short_names, tells
from fascis.desktop.tasks import Task
from fascis.desktop.theme import BOLD
from fascis.desktop.ties import TieLayout, TieRibbon, lay_out_ties, sentence
from fascis.documents.photo_facts import Facts
from fascis.files.names import elided, shown
from fascis.files.sizes import number
from fascis.library.uses import private_catalog
from fascis.relink.contents import Contents
from fascis.relink.lost import Lost, path_of_document
from fascis.relink.matching import Candidate, State

_TILE, _LEAST, _PICTURE = 212, 150, 104


class TiesView(QWidget):
    """Paints the ties."""

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Ties, from where documents look to where files are")
        self.setMinimumHeight(150)
        self.setMouseTracking(True)
        self.layout_ = TieLayout()

    def sizeHint(self) -> QSize:
        """Room for half a dozen folders."""
        return QSize(900, 330)

    def show_layout(self, layout: TieLayout) -> None:
        """Shows ties."""
        self.layout_ = layout
        said = ", ".join(f"{e.words}: {r.words}" for e in layout.lefts for r in layout.ribbons if e.y <= r.left < e.end)
        self.setAccessibleDescription(said[:2000])
        self.update()

    def _sides(self) -> tuple[float, float]:
        """Where ribbons begin and end."""
        width = float(self.width())
        side = min(230.0, width * 0.21)
        return side, width - side - 6

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the ends, the ribbons and the loops of twine."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = self._sides()
        painter.setFont(theme.font(12))
        metrics = QFontMetricsF(painter.font())
        for end in self.layout_.lefts:
            painter.setPen(t.color("ink"))
            where = QRectF(0, end.y, left - 16, end.end - end.y)
            painter.drawText(
                where, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, elide(end.words, metrics, left - 18)
            )
            pen = QPen(t.color("missing"), 4, Qt.PenStyle.CustomDashLine, Qt.PenCapStyle.FlatCap)
            pen.setDashPattern([1, 1])
            painter.setPen(pen)
            painter.drawLine(QPointF(left - 6, end.y + 1), QPointF(left - 6, end.end - 1))
        for ribbon in self.layout_.ribbons:
            self._paint_ribbon(painter, ribbon, left, right)
        for ribbon in self.layout_.ribbons:
            if ribbon.state is State.FOUND:
                self._paint_loop(painter, ribbon, left, right)
        for end in self.layout_.rights:
            painter.fillRect(QRectF(right, end.y, 6, end.end - end.y), t.color("ink"))
            painter.setPen(t.color("ink"))
            room = self.width() - right - 16
            where = QRectF(right + 14, end.y, room, end.end - end.y)
            painter.drawText(where, Qt.AlignmentFlag.AlignVCenter, elide(end.words, metrics, room))
        painter.end()

    def _paint_ribbon(self, painter: QPainter, r: TieRibbon, left: float, right: float) -> None:
        t = theme.active()
        if r.state is State.FOUND:
            path = QPainterPath(QPointF(left, r.left))
            middle = (left + right) / 2
            path.cubicTo(middle, r.left, middle, r.right, right, r.right)
            path.lineTo(right, r.right + r.thick)
            path.cubicTo(middle, r.right + r.thick, middle, r.left + r.thick, left, r.left + r.thick)
            painter.setPen(Qt.PenStyle.NoPen)
            colour = t.color("held")
            colour.setAlpha(225)
            painter.fillPath(path, colour)
            return
        if r.state is State.OPEN:
            end = left + (right - left) * 0.44
            painter.setPen(Qt.PenStyle.NoPen)
            fill = t.color("loose")
            fill.setAlpha(110)
            painter.fillRect(QRectF(left, r.left, end - left, r.thick), fill)
            painter.setPen(QPen(t.color("loose_text"), 1.5))
            for side, way in ((r.left, -6.0), (r.left + r.thick, 6.0)):
                painter.drawLine(QPointF(left, side), QPointF(end, side))
                painter.drawLine(QPointF(end, side), QPointF(end + 34, side + way))
            self._paint_words(painter, r, end + 46, t.color("loose_text"))
            return
        end = left + (right - left) * 0.2
        pen = QPen(
            t.color("away" if r.away else "missing"), 1.4, Qt.PenStyle.DotLine if r.away else Qt.PenStyle.DashLine
        )
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRect(QRectF(left + 0.5, r.left, end - left, r.thick))
        self._paint_words(painter, r, end + 12, t.color("away_text" if r.away else "missing_text"))

    def _paint_words(self, painter: QPainter, r: TieRibbon, x: float, colour: QColor) -> None:
        painter.setFont(theme.font(12, BOLD))
        painter.setPen(colour)
        painter.drawText(QRectF(x, r.left + r.thick / 2 - 10, 260, 20), Qt.AlignmentFlag.AlignVCenter, r.words)
        painter.setFont(theme.font(12))

    def _paint_loop(self, painter: QPainter, r: TieRibbon, left: float, right: float) -> None:
        t = theme.active()
        x, y = left + (right - left) * 0.49, (r.left + r.right) / 2
        painter.setPen(QPen(t.color("twine"), 3))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawEllipse(QRectF(x - 7, y - 8, 14, r.thick + 16))
        painter.setFont(theme.font(12, BOLD))
        inside = r.thick >= 16
        painter.setPen(t.color("on_ink") if inside else t.color("held_text"))
        box = QRectF(x + 18, y + r.thick / 2 - 10, 200, 20)
        if not inside:
            width = QFontMetricsF(painter.font()).horizontalAdvance(r.words) + 8
            painter.fillRect(QRectF(box.x() - 4, box.y() + 1, width, 18), t.color("ground"))
        painter.drawText(box, Qt.AlignmentFlag.AlignVCenter, r.words)
        painter.setFont(theme.font(12))

    def event(self, event: QEvent | None) -> bool:
        """Whole names on hover."""
        if isinstance(event, QHelpEvent):
            left, right = self._sides()
            y = event.pos().y()
            ends = (
                self.layout_.lefts if event.pos().x() < left else self.layout_.rights if event.pos().x() > right else []
            )
            found = next((e for e in ends if e.y <= y <= e.end), None)
            QToolTip.showText(event.globalPos(), found.path if found else "", self)
            return True
        return super().event(event)


class Tile(QWidget):
    """One candidate, or what the documents remember, or none of them: a picture and a few lines."""

    pressed = pyqtSignal()

    def __init__(self, mark: str, words: str, width: int) -> None:
        super().__init__()
        self._mark, self._words = mark, words
        self._pixmap: QPixmap | None = None
        self.likely = False
        self.setFixedWidth(width)
        self.setAccessibleName(f"{mark} {words}".strip())
        if mark:
            self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
            self.setCursor(Qt.CursorShape.PointingHandCursor)
        down = QVBoxLayout(self)
        down.setContentsMargins(3, _PICTURE + 12, 3, 0)
        down.setSpacing(2)
        self._head = label("", head=True)
        self._lines = label("", quiet=True)
        down.addWidget(self._head)
        down.addWidget(self._lines)
        down.addStretch(1)

    def say(self, head: str, lines: list[str]) -> None:
        """Shows words under the picture."""
        self._head.setText(head)
        self._head.setVisible(bool(head))
        self._lines.setText("\n".join(lines))
        self.setAccessibleDescription("; ".join([head, *lines]))

    @property
    def lines(self) -> str:
        """The words under the picture."""
        return f"{self._head.text()}\n{self._lines.text()}"

    @property
    def has_picture(self) -> bool:
        """True once a picture is shown."""
        return self._pixmap is not None

    def show_picture(self, image: Any, instead: str) -> None:
        """Shows a picture, or words where there is none."""
        if isinstance(image, QImage):
            ratio = self.devicePixelRatioF()
            self._pixmap = QPixmap.fromImage(image).scaled(
                round((self.width() - 6) * ratio),
                round(_PICTURE * ratio),
                Qt.AspectRatioMode.KeepAspectRatio,
                Qt.TransformationMode.SmoothTransformation,
            )
            self._pixmap.setDevicePixelRatio(ratio)
        else:
            self._words = instead
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the picture, its frame and its numeral."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(3, 3, self.width() - 6, _PICTURE)
        if self._pixmap is not None:
            painter.fillRect(box, t.color("trough"))
            size = self._pixmap.deviceIndependentSize()
            at = QPointF(box.center().x() - size.width() / 2, box.center().y() - size.height() / 2)
            painter.drawPixmap(at, self._pixmap)
        else:
            painter.setPen(t.color("muted"))
            painter.setFont(theme.font(12))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextWordWrap, self._words)
        remembered = not self._mark
        pen = QPen(
            t.color("missing" if remembered else "line"),
            1,
            Qt.PenStyle.DashLine if remembered else Qt.PenStyle.SolidLine,
        )
        if self.hasFocus() or self.likely:
            pen = QPen(t.color("ink"), 2.5 if self.hasFocus() else 1.5)
        painter.setPen(pen)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawRoundedRect(box, 5, 5)
        if self._mark:
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(t.color("ink"))
            painter.drawRoundedRect(QRectF(10, 9, 20, 20), 4, 4)
            painter.setPen(t.color("on_ink"))
            painter.setFont(theme.font(12, BOLD))
            painter.drawText(QRectF(10, 9, 20, 20), Qt.AlignmentFlag.AlignCenter, self._mark)
        painter.end()

    def mousePressEvent(self, event: Any) -> None:
        """A click chooses."""
        if self._mark:
            self.setFocus()
            self.pressed.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter and Space choose."""
        if event and self._mark and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.pressed.emit()
        else:
            super().keyPressEvent(event)

    def focusInEvent(self, event: Any) -> None:
        """The frame shows the focus."""
        self.update()
        super().focusInEvent(event)

    def focusOutEvent(self, event: Any) -> None:
        """The frame shows the focus."""
        self.update()
        super().focusOutEvent(event)


class RelinkView(QWidget):
    """Joins the ties and the question below. What is decided is told to :class:`Relinks`, never decided here."""

    said = pyqtSignal(str)

    def __init__(self) -> None:
        super().__init__()
        self.setAccessibleName("Relink")
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
            label("Where the documents look", wrap=False, quiet=True),
            label("Where it is now", wrap=False, quiet=True),
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

    # -- what it shows --------------------------------------------------------------------------------------------

    def show_relinks(self, relinks: Relinks) -> None:
        """Shows what is lost and found of a library."""
        self.relinks = relinks
        outcome, relinking = relinks.outcome, relinks.relinking
        lost = relinking.files if relinking else relinks.expected
        groups = relinks.groups()
        for widget in (self.ties, self._from, self._to):
            widget.setVisible(bool(groups))
        self._empty.setVisible(not groups)
        asks = outcome is not None and bool(outcome.open)
        if outcome is None:
            self._lost.setText(f"{number(lost)} lost" if lost else "Nothing is lost" if relinking else "")
            self._found.setText("")
            self._rest.setText(self._waiting_words(relinks, lost) if groups else "")
            self._empty.setText(self._waiting_words(relinks, lost))
        else:
            for words, part in zip(outcome.words, (self._lost, self._found, self._rest), strict=True):
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
        if not lost:
            return "Every file that its documents refer to is where it should be."
        if relinks.looking is not None:
            return "Looking for them…"
        return "Look in a folder for them, at the right, or drop one here."

    def resizeEvent(self, event: Any) -> None:
        """Lays out anew."""
        super().resizeEvent(event)
        if self.relinks is not None and self.isVisible():
            self.show_relinks(self.relinks)

    def _say(self) -> None:
        """What can be done, in the line at the foot."""
        keys = "drop a folder here to look in it · Ctrl+Enter the main button"
        if self.relinks and self.relinks.history:
            keys = "Z takes back · " + keys
        if self.tiles and self._question.isVisible():
            numbers = " ".join(str(i) for i in range(1, max(2, len(self.tiles) - 1)))
            keys = f"{numbers} choose · 0 none of them · N next · {keys}"
        self.said.emit(keys)

    # -- the question ---------------------------------------------------------------------------------------------

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
        self._name.setToolTip(shown(lost.path))
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
        self.tiles = [Tile("", "no picture kept", width)]
        self.tiles += [Tile(str(n), "…", width) for n in range(1, len(candidates) + 1)]
        self.tiles.append(Tile("0", "none of them", width))
        for n, tile in enumerate(self.tiles):
            self._tiles.addWidget(tile)
            if n:
                tile.pressed.connect(partial(self.relinks.choose, n if n <= len(candidates) else 0))
        self._tiles.addStretch(1)
        self.tiles[-1].say("", ["stays lost for now"])
        short = short_names(self.relinks.known, self.relinks.relinking.root if self.relinks.relinking else b"")
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
        Task(lambda: Contents().facts(paths), lambda f: self._facts(turn, lost, candidates, f, short), self)

    def _show_picture(self, turn: int, tile: Tile, image: Any) -> None:
        if turn == self._turn:
            tile.show_picture(image, "no picture of this kind of file")

    def _remembered(self, lost: Lost) -> QImage | None:
        """The picture that a catalog keeps of a lost photo."""
        relinks = self.relinks
        if relinks is None or relinks.surveyed is None:
            return None
        for reference in lost.references:
            document = relinks.surveyed.uses.documents[reference.document]
            if document.format == "fascat":
                path = Path(os.fsdecode(path_of_document(relinks.surveyed.source, document)))
                with private_catalog(path, relinks.workspace.private) as catalog:
                    kept = catalog.preview(reference.at)
                return picture_from(kept) if kept else None
        return None

    def _show_remembered(self, turn: int, image: Any) -> None:
        if turn == self._turn and self.tiles:
            self.tiles[0].show_picture(image, "no picture kept")

    def _facts(self, turn: int, lost: Lost, candidates: list[Candidate], facts: Any, short: Any) -> None:
        if turn == self._turn and isinstance(facts, dict):
            self._tell(lost, candidates, facts, short)

    def _tell(self, lost: Lost, candidates: list[Candidate], facts: dict[bytes, Facts], short: Any) -> None:
        """Words under every tile."""
        known = [f"{number(lost.size)} bytes" if lost.size else "size not known"]
        if lost.length:
            known.append(f"length {timecode(lost.length.seconds, lost.length.rate)}")
            if lost.length.begins:
                known.append(f"used from {timecode(lost.length.begins, lost.length.rate)}")
        if lost.captured:
            known.append(f"taken {lost.captured[:19].replace('T', ', ')}")
        if lost.mtime_ns:
            known.append(f"changed {day(lost.mtime_ns)}")
        catalog = bool(lost.captured)
        self.tiles[0].say(
            "What the catalog remembers" if catalog else "What is remembered", [*known, short(lost.folder)]
        )
        rate = lost.length.rate if lost.length else 25.0
        for tile, c in zip(self.tiles[1:], candidates, strict=False):
            more = {"date of change": f"changed {day(c.mtime_ns)}"}
            if said := facts.get(c.path):
                more |= {"length": f"length {timecode(said.seconds, rate)}"} if said.seconds else {}
                more |= {"capture time": f"taken {said.captured_at.replace('T', ', ')}"} if said.captured_at else {}
            tile.say(_headline(c), [*tells(lost.size, c, more), short(c.path.rpartition(b"/")[0])])

    # -- keys and drops -------------------------------------------------------------------------------------------

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Numerals choose, N asks about the next, Z takes back; when no field has the focus."""
        relinks = self.relinks
        if event is None or relinks is None or isinstance(self.focusWidget(), QLineEdit):
            super().keyPressEvent(event)
        elif event.text().isdecimal() and relinks.current is not None:
            relinks.choose(int(event.text()))
        elif event.key() == Qt.Key.Key_N:
            relinks.next()
        elif event.key() == Qt.Key.Key_Z:
            relinks.take_back()
        else:
            super().keyPressEvent(event)

    def dragEnterEvent(self, event: QDragEnterEvent | None) -> None:
        """A folder may be dropped."""
        mime = event.mimeData() if event else None
        if event and mime and any(u.isLocalFile() for u in mime.urls()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent | None) -> None:
        """A dropped folder is looked in; a file of the name that is asked about is taken to be it."""
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
        """One file was shown: it is what is asked about, or the lost file of its name; else its folder is looked in."""
        relinks = self.relinks
        if relinks is not None and relinks.outcome is not None:
            named = [i for i, x in enumerate(relinks.outcome.match.lost) if x.name == os.fsencode(path.name)]
            i = relinks.current if relinks.current in named else named[0] if len(named) == 1 else None
            if i is not None:
                relinks.locate(i, path)
            else:
                relinks.look_in(path.parent)


def _headline(c: Candidate) -> str:
    if "capture time" in c.agrees:
        return "Taken at the same second"
    if "capture time" in c.differs:
        return "Another moment"
    if "length" in c.differs:
        return "Of another length"
    if "content" in c.differs:
        return "Other content"
    if "size" in c.differs:
        return "Of another size"
    if "probably its proxy" in c.differs:
        return "Probably its proxy"
    if "name" in c.differs:
        return "Another name"
    return "Same name and size" if "size" in c.agrees else "Same name"


def timecode(seconds: float, rate: float) -> str:
    """A length as hours, minutes, seconds and frames; in hundredths where no frames are counted."""
    per = round(rate) if rate >= 1 else 100
    frames = round(seconds * (rate if rate >= 1 else 100))
    whole, part = divmod(frames, per)
    return f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}{':' if rate >= 1 else '.'}{part:02d}"


def day(ns: int) -> str:
    """A date and a time of day."""
    return time.strftime("%d %b %Y, %H:%M:%S", time.localtime(ns / 1e9))
