"""The line of a crossing with its stations, and the bars of its strands."""

from __future__ import annotations

from msgspec import Struct
from PyQt6.QtCore import QPointF, QRect, QRectF, QSize, Qt
from PyQt6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPen, QRegion
from PyQt6.QtWidgets import QSizePolicy, QWidget

from fascis.crossing.model.states import State
from fascis.desktop.kit import theme
from fascis.desktop.kit.pieces import elide
from fascis.desktop.kit.theme import BOLD
from fascis.files.names import elided, shown
from fascis.library.roles import Role
from fascis.words.figures import size
from fascis.words.speech import tr

# One more copy ends when it is whole: the number of stations.
ONE_MORE = 4
STATIONS = (
    tr("Plan"),
    tr("Copy"),
    tr("Verify"),
    tr("Settle"),
    tr("Switch over"),
    tr("Set aside"),
    tr("Release"),
)


def reached(state: State, all_copied: bool = False) -> tuple[int, int]:
    """``(done, at)``: finished stations, and the present or next one.

    Pure; tested alone.
    """
    table = {
        State.PLANNED: (1, 1),
        State.COPYING: (1, 3 if all_copied else 2),
        State.VERIFYING: (2, 3),
        State.WAITING: (2, 3),
        State.FAILED: (1, 2),
        State.SETTLED: (4, 4),
        State.SWITCHED: (5, 5),
        State.PARKED: (6, 6),
        State.RELEASED: (7, 7),
        State.UNDONE: (0, 0),
        State.REFUSED: (0, 0),
    }
    return table[state]


class StationLine(QWidget):
    """Stations from plan to release, with the two lines.

    Originals untouched, set aside, deleted.
    """

    def __init__(self) -> None:
        super().__init__()
        self.setFixedHeight(108)
        self._state, self._home, self._frees, self._busy = State.PLANNED, "", "", False
        self._one_more = False

    def show_state(
        self, state: State, home: str, frees: str, busy: bool, one_more: bool = False
    ) -> None:
        """Shows the state of a crossing.

        Args:
            home: the new drive's name.
            frees: the room a release would free.
            one_more: home stays, so it ends when the copy is whole.
        """
        shown_now = (self._state, self._home, self._frees, self._busy, self._one_more)
        if shown_now == (state, home, frees, busy, one_more):
            return
        self._state, self._home, self._frees, self._busy = state, home, frees, busy
        self._one_more = one_more
        self.setAccessibleName(tr("Stations: {value}", value=state.words))
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the line."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        done, _ = reached(self._state)
        under = (
            tr("what, where"),
            tr("read once"),
            tr("read back"),
            tr("one whole library"),
            tr("home is {home}", home=self._home),
            tr("frees nothing yet"),
            self._frees,
        )
        stations = STATIONS[:ONE_MORE] if self._one_more else STATIONS
        step = (self.width() - 120) / 6
        xs = [60 + step * i for i in range(len(stations))]
        y = 44.0
        painter.setPen(QPen(t.color("line"), 5))
        painter.drawLine(QPointF(xs[0], y), QPointF(xs[-1], y))
        last = max(0, min(done + (1 if self._busy and done < 4 else 0), len(stations)) - 1)
        if done:
            painter.setPen(QPen(t.color("ink"), 5))
            painter.drawLine(QPointF(xs[0], y), QPointF(xs[last], y))
        for i, x in enumerate(xs):
            behind, busy = i < done, self._busy and i in (1, 2) and self._state is State.COPYING
            painter.setBrush(t.color("ink" if behind and not busy else "ground"))
            radius = 11 if busy else 8
            painter.setPen(
                QPen(t.color("ink" if behind or busy else "block_edge"), 4 if busy else 3)
            )
            painter.drawEllipse(QPointF(x, y), radius, radius)
            painter.setFont(theme.font(13, BOLD if busy or i == done - 1 else theme.NORMAL))
            painter.setPen(t.color("ink"))
            painter.drawText(
                QRectF(x - step / 2, y + 18, step, 18), Qt.AlignmentFlag.AlignHCenter, stations[i]
            )
            painter.setFont(theme.font(12))
            painter.setPen(t.color("muted"))
            text = elide(under[i], QFontMetricsF(painter.font()), step - 6)
            painter.drawText(
                QRectF(x - step / 2, y + 36, step, 18), Qt.AlignmentFlag.AlignHCenter, text
            )
        if not self._one_more:
            self._borders(painter, xs, y)
        painter.end()

    def _borders(self, painter: QPainter, xs: list[float], y: float) -> None:
        t = theme.active()
        first, second = (xs[4] + xs[5]) / 2, (xs[5] + xs[6]) / 2
        painter.setFont(theme.font(12, BOLD))
        painter.setPen(t.color("twine"))
        painter.drawText(
            QRectF(first - 190, 2, 184, 18), Qt.AlignmentFlag.AlignRight, tr("originals untouched")
        )
        painter.drawText(
            QRectF(first, 2, second - first, 18), Qt.AlignmentFlag.AlignHCenter, tr("set aside")
        )
        painter.drawText(
            QRectF(second - 2, 2, self.width() - second, 18),
            Qt.AlignmentFlag.AlignHCenter,
            tr("gone for good"),
        )
        painter.setPen(QPen(t.color("twine"), 2, Qt.PenStyle.DashLine))
        painter.drawLine(QPointF(first, 4), QPointF(first, y + 54))
        painter.setPen(QPen(t.color("twine"), 2))
        for offset in (-2.5, 2.5):
            painter.drawLine(QPointF(second + offset, 4), QPointF(second + offset, y + 54))


class LaneOn(Struct):
    """The progress of one strand on one drive, in bytes."""

    copied: int = 0
    verified: int = 0


class Lane(Struct):
    """One strand, and its progress on every drive; ``total`` in bytes."""

    id: int
    folder: bytes
    role: Role
    total: int
    drives: list[LaneOn]

    @property
    def copied(self) -> int:
        """Bytes copied, on all drives together."""
        return sum(d.copied for d in self.drives)

    @property
    def verified(self) -> int:
        """Bytes read back and equal, on all drives together."""
        return sum(d.verified for d in self.drives)


def lane_name(folder: bytes, role: Role) -> str:
    """The name of a strand: its folder, and its role if the folder does not show it."""
    name = shown(folder) or tr("top folder")
    if (
        role in (Role.ORIGINAL, Role.OTHER)
        or role.value in name.lower()
        or folder.split(b"/")[0].lower() in (b"proxies", b"renders", b"previews")
    ):
        return name
    return f"{name}, {role.words}"


def _far(lane: Lane) -> tuple[int, ...]:
    """The progress of a bar, to decide whether it must be painted again."""
    return (lane.total, *(n for on in lane.drives for n in (on.copied, on.verified)))


# Above the first bar: the drives' names.
_TOP = 24


class Lanes(QWidget):
    """A thin bar for every strand: waiting, copied, read back and equal."""

    ROW = 34

    def __init__(self) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        self._lanes: list[Lane] = []
        self.drives: list[str] = []
        self._drawn: list[tuple[int, ...]] = []

    def show_lanes(self, lanes: list[Lane], drives: list[str]) -> None:
        """Shows the strands, largest first, with one bar for each drive."""
        same = drives == self.drives and [x.id for x in lanes] == [x.id for x in self._lanes]
        self._lanes, self.drives = lanes, list(drives)
        self.setMinimumHeight(self.sizeHint().height())
        total = size(sum(x.total for x in lanes))
        done = [size(sum(x.drives[i].verified for x in lanes)) for i in range(len(drives))]
        said = ", ".join(
            tr("{size} of {total} read back and equal on {drive}", size=d, total=total, drive=n)
            for d, n in zip(done, drives, strict=True)
        )
        self.setAccessibleName(said)
        before, self._drawn = self._drawn, [_far(lane) for lane in lanes]
        if not same:
            self.update()
            return
        # Five times a second only one or two of many bars change.
        for number, (old, new) in enumerate(zip(before, self._drawn, strict=True)):
            if old != new:
                self.update(self._band(number))

    @property
    def _row(self) -> int:
        return self.ROW if len(self.drives) < 2 else self.ROW + 6

    def _band(self, number: int) -> QRect:
        """The area of a bar."""
        return QRect(0, _TOP + number * self._row - 2, self.width(), self._row)

    def sizeHint(self) -> QSize:
        """The height of its bars."""
        return QSize(700, 26 + self._row * len(self._lanes) + 26)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Paints the bars."""
        t = theme.active()
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        left, right = 190.0, self.width() - (70.0 if len(self.drives) < 2 else 150.0)
        painter.setFont(theme.font(12, BOLD))
        painter.setPen(t.color("muted"))
        heads = [elided(shown(d), 40 // len(self.drives)) for d in self.drives]
        painter.drawText(
            QPointF(left, 14),
            tr("{first} above, {second} below", first=heads[0], second=heads[1])
            if len(heads) > 1
            else heads[0],
        )
        painter.drawText(QPointF(right + 12, 14), tr("verified"))
        seen = event.region() if event is not None else QRegion(self.rect())
        for number, lane in enumerate(self._lanes):
            # Only some of many bars are visible, and fewer have changed.
            if seen.intersects(self._band(number)):
                self._lane(painter, lane, _TOP + number * self._row, left, right)
        x, y = left, _TOP + len(self._lanes) * self._row
        painter.setFont(theme.font(12))
        for colour, words in (
            ("trough", tr("waiting")),
            ("copied", tr("copied")),
            ("held", tr("read back and equal")),
        ):
            painter.fillRect(QRectF(x, y + 6, 14, 9), t.color(colour))
            painter.setPen(t.color("muted"))
            painter.drawText(QPointF(x + 20, y + 15), words)
            x += 20 + QFontMetricsF(painter.font()).horizontalAdvance(words) + 24
        painter.end()

    def _lane(self, painter: QPainter, lane: Lane, y: float, left: float, right: float) -> None:
        t = theme.active()
        painter.setFont(theme.font(13))
        painter.setPen(t.color("ink"))
        name = elide(lane_name(lane.folder, lane.role), QFontMetricsF(painter.font()), left - 24)
        painter.drawText(QRectF(0, y - 1, left - 14, 17), Qt.AlignmentFlag.AlignRight, name)
        painter.setFont(theme.font(11))
        painter.setPen(t.color("muted"))
        painter.drawText(
            QRectF(0, y + 15, left - 14, 15), Qt.AlignmentFlag.AlignRight, size(lane.total)
        )
        several = len(self.drives) > 1
        for i, on in enumerate(lane.drives):
            bar = QRectF(left, y + 3 + 16 * i, right - left, 11 if several else 13)
            self._bar(painter, bar, on, max(lane.total, 1))
            painter.setFont(theme.font(12 if several else 13))
            painter.setPen(t.color("ink"))
            done = f"{on.verified * 100 // lane.total if lane.total else 100}%"
            if several:
                done += "  " + elide(self.drives[i], QFontMetricsF(painter.font()), 92)
            painter.drawText(QPointF(right + 12, bar.bottom() - 1), done)

    @staticmethod
    def _bar(painter: QPainter, bar: QRectF, on: LaneOn, total: int) -> None:
        t = theme.active()
        painter.setPen(Qt.PenStyle.NoPen)
        for colour, share in (
            ("trough", 1.0),
            ("copied", on.copied / total),
            ("held", on.verified / total),
        ):
            painter.setBrush(t.color(colour))
            painter.drawRoundedRect(
                QRectF(bar.x(), bar.y(), bar.width() * min(share, 1), bar.height()), 3, 3
            )
