"""What happens at the crossings: the list, running, pausing, going on. The steps after verification are in ``steps``."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from PyQt6.QtCore import QObject, QTimer, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices, QGuiApplication

from fascis.crossing.crossing import Crossing
from fascis.crossing.events import Advanced, Attention, Control, Entered, Event
from fascis.crossing.known import all_crossings
from fascis.crossing.pace import Pace
from fascis.crossing.states import UNFINISHED, State
from fascis.desktop.answers import Situation, clock, safe_to
from fascis.desktop.crossings import CrossingRow, CrossingsView, has_scales
from fascis.desktop.panel import SidePanel
from fascis.desktop.seen import Seen, read_seen
from fascis.desktop.stations import Lane
from fascis.desktop.steps import Steps
from fascis.desktop.tasks import Coalescer, Task
from fascis.files.errors import Cancelled, FascisError
from fascis.files.names import shown
from fascis.files.sizes import number, size


def show_in_folder(path: str) -> None:
    """Shows a folder in the desktop's own file manager."""
    QDesktopServices.openUrl(QUrl.fromLocalFile(path))


class Conducting(QObject):
    """Connects the crossings view and the side panel with the core. Journals are read in tasks, never here."""

    pulse = pyqtSignal(str)
    changed = pyqtSignal()
    to_receipts = pyqtSignal(str)
    to_shelves = pyqtSignal()

    def __init__(
        self, workspace: Any, view: CrossingsView, panel: SidePanel, visible: Callable[[], bool], parent: QObject
    ) -> None:
        super().__init__(parent)
        self.workspace, self.view, self.panel, self._visible = workspace, view, panel, visible
        self.crossings: list[Crossing] = []
        self.current: Crossing | None = None
        self.running: Crossing | None = None
        self.seen: Seen | None = None  # of the chosen crossing
        self.control = Control()
        self.opener: Callable[[str], None] = show_in_folder
        self.steps = Steps(self)
        self._loaded_once = False
        self._lanes: dict[int, Lane] = {}
        self._pace: Pace | None = None
        self._error: str = ""
        self._sub = ""
        self._running_state = State.PLANNED
        self._attention: list[tuple[bytes, str, str, float]] = []
        self._coalescer = Coalescer(self)
        self._coalescer.batch.connect(self._events)
        self._often = QTimer(self)
        self._often.setInterval(200)
        self._often.timeout.connect(self._panel_again)
        view.chosen.connect(self.choose)

    # -- the list -------------------------------------------------------------------------------------------------

    def load(self, then: Callable[[], object] | None = None) -> None:
        """Looks for journals that are not open yet, shows the list, and then does ``then``."""
        held = {c.id: c for c in self.crossings}

        def work() -> list[Crossing]:
            found, _ = all_crossings(self.workspace, held)
            for crossing in found:
                crossing.journal.planned()  # counted here, so that the window never waits for it
            return found

        def done(outcome: Any) -> None:
            self._loaded_once = True
            if isinstance(outcome, BaseException):
                self._error = str(outcome)
            else:
                self._take(outcome)
            if self.current is None and self.crossings:
                self.choose(self.crossings[0].id)
            else:
                self.show()
            if then:
                then()

        Task(work, done, self)

    def _take(self, found: list[Crossing]) -> None:
        """Takes over what a task has found; what was opened here meanwhile stays as it is."""
        mine = {c.id: c for c in self.crossings}
        for crossing in found:
            if (known := mine.get(crossing.id)) is not None and known is not crossing:
                crossing.close()
        found_ids = {c.id for c in found}
        self.crossings = [c for c in self.crossings if c.id not in found_ids] + [mine.get(c.id, c) for c in found]

    def choose(self, id: str) -> None:
        """Chooses a crossing and shows it."""
        before = self.current.id if self.current else None
        self.current = next((c for c in self.crossings if c.id == id), None)
        if before != id:
            self.steps.forget()
            self._sub, self._error, self.seen = "", "", None
            self._read()
        self.show()

    def _read(self) -> None:
        """Reads the chosen crossing's journal, and shows what was read."""
        crossing = self.current
        if crossing is None or crossing is self.running:
            return

        def done(outcome: Any) -> None:
            if crossing is not self.current or crossing is self.running:
                return
            if isinstance(outcome, BaseException):
                self._error = str(outcome)
            else:
                self._take_in(outcome)
            self.show()

        Task(lambda: read_seen(crossing), done, self)

    def _take_in(self, seen: Seen) -> None:
        self.seen = seen
        self._lanes = {
            s.id: Lane(s.id, s.folder, s.role, s.bytes, s.copied_bytes, s.verified_bytes) for s in seen.strands
        }
        self._pace = Pace(*seen.planned, *seen.verified)
        self._attention = list(seen.attention)

    def row(self, crossing: Crossing) -> CrossingRow:
        """A crossing as the list shows it, from its journal."""
        h = crossing.places.header
        return CrossingRow(
            crossing.id,
            h["name"],
            crossing.places.label,
            h["source_drive"]["label"],
            self._state(crossing),
            crossing.journal.planned()[1],
            crossing is self.running,
        )

    def _state(self, crossing: Crossing) -> State:
        """Its state; of the running one as it was told, so that the window never waits for the journal."""
        return self._running_state if crossing is self.running else crossing.state

    # -- showing --------------------------------------------------------------------------------------------------

    def show(self) -> None:
        """Shows the chosen crossing, in the view and in the panel."""
        if not self._visible() or not self._loaded_once:
            return
        self.view.show_list([self.row(c) for c in self.crossings], self.current.id if self.current else None)
        if self.current is None:
            self.view.show_empty(
                "No crossing yet",
                "Choose a library on the shelves, and put it on another one. Nothing is ever moved: it is copied, read back, and only then yours to delete.",
            )
            self.panel.show_nothing("A crossing starts at the shelves.", [("To the shelves", self.to_shelves.emit)])
            return
        if self.seen is None:
            if self._error:
                self._show_error()
            else:
                self.view.show_empty("Reading its journal …", "")
                self.panel.show_busy(shown(self.current.places.header["name"]), "Reading its journal.")
            return
        row = self.row(self.current)
        if has_scales(row.state):
            self.steps.show(row)
        else:
            self.view.show_running(row, list(self._lanes.values()), self.frees())
        self.view.show_attention(self._attention)
        self.show_panel()

    def frees(self) -> str:
        """What the last station says."""
        state = self._state(self.current) if self.current else None
        if self.steps.list is not None and state is not State.RELEASED:
            return f"frees {size(self.steps.list.frees)}"
        release = self.seen.release if self.seen and state is State.RELEASED else None
        return f"{size(release['bytes'])} deleted" if release else "frees the space"

    def situation(self) -> Situation:
        """What the answers depend on now."""
        assert self.current and self.seen
        pace = self._pace
        if pace and self.current is self.running:
            files, total = self.seen.planned
            left, files_left = max(0, total - pace.verified_bytes), max(0, files - pace.verified_files)
            return Situation(self._running_state, True, self.seen.drive, left, files_left, pace.ready_at())
        return self.seen.situation(bool(self.steps.balance and self.steps.balance.even))

    def _panel_again(self) -> None:
        if self.running is not None and self.running is self.current and self._sub == "" and self._visible():
            self.show_panel()
        self._tell_pulse()

    def _tell_pulse(self) -> None:
        if self.running is None:
            self.pulse.emit("No crossing running")
            return
        at = clock(self._pace.ready_at()) if self._pace else ""
        words = "paused" if self.control.paused else f"ready at {at}" if at else "crossing"
        self.pulse.emit(f"{shown(self.running.places.header['name'])} · {words}")

    def show_panel(self) -> None:
        """Shows what belongs beside the chosen crossing now."""
        if not self._visible() or self.current is None or self.seen is None:
            return
        if self._error and self._sub == "":
            self._show_error()
            return
        screens = {"give_up": self._give_up_screen, **self.steps.screens}
        if self._sub in screens:
            screens[self._sub]()
        elif has_scales(self._state(self.current)):
            self.steps.show_panel()
        else:
            self._running_panel()

    def _running_panel(self) -> None:
        c, s = self.current, self.situation()
        assert c and self.seen
        files, total = self.seen.planned
        pace = self._pace if c is self.running else None
        strands = self._lanes.values()
        copied, verified = sum(x.copied for x in strands), total - s.unverified
        figures = {
            "Copied": f"{size(copied)} of {size(total)}",
            "Read back and equal": size(verified),
            "Files": f"{number(files - s.files_unverified)} of {number(files)}",
        }
        if pace:
            figures["Speed"] = f"{size(pace.bytes_a_second())}/s"
            figures["Ready"] = clock(pace.ready_at()) or "soon to be told"
        hindered = [] if c is self.running else self.seen.hindered
        actions: dict[str, Callable[[], None]] = {
            "pause": self.pause_or_go_on,
            "stop": self.stop,
            "give_up": lambda: self.screen("give_up"),
            "go_on": self.go_on,
            "skip": lambda: self.go_on(skip=True),
            "shelves": self.to_shelves.emit,
        }
        self.panel.show_running(safe_to(s), figures, s.state, c is self.running, self.control.paused, hindered, actions)

    def screen(self, name: str) -> None:
        """Shows one of the panel's inner pages."""
        self._sub = name
        self.show_panel()

    def back(self) -> None:
        """Leaves an inner page."""
        self._sub, self._error = "", ""
        self.show_panel()

    def _show_error(self) -> None:
        assert self.current
        unfinished = self.current.state in UNFINISHED
        actions: list[tuple[str, Callable[[], None]]] = [("Go on", self.go_on)] if unfinished else []
        self.panel.show_error(
            "It stopped" if unfinished else "That was not done", self._error, [*actions, ("Back", self.back)]
        )

    # -- running --------------------------------------------------------------------------------------------------

    def run(self, crossing: Crossing, skip: bool = False, bring: bool = False) -> None:
        """Runs a crossing up to settled, or brings along what became newer, off the interface thread."""
        if self.running is not None:
            return
        self._error, self._sub = "", ""
        self.running, self.control, self._running_state = crossing, Control(), crossing.state
        if crossing not in self.crossings:
            self.crossings.insert(0, crossing)
        if crossing is not self.current or bring:
            self.steps.forget()
        self.current, self.seen, self._lanes, self._pace = crossing, None, {}, None
        Task(lambda: read_seen(crossing), lambda seen: self._begin(seen, skip, bring), self)
        self.changed.emit()
        self.show()
        self._tell_pulse()

    def _begin(self, seen: Any, skip: bool, bring: bool) -> None:
        """The journal was read; now the work begins."""
        crossing, control, take = self.running, self.control, self._coalescer.take
        assert crossing
        if isinstance(seen, BaseException):
            self._ran(seen)
            return
        self._take_in(seen)
        self._coalescer.start()
        self._often.start()
        if bring:
            self.steps.forget()
            self._running_state = State.COPYING
            Task(lambda: crossing.bring_along(control, take), self._ran, self)
        else:
            Task(lambda: crossing.run(control, take, skip), self._ran, self)
        self.show()

    def _ran(self, outcome: Any) -> None:
        self._coalescer.stop()
        self._often.stop()
        self.running = None
        if isinstance(outcome, FascisError) and not isinstance(outcome, Cancelled):
            self._error = str(outcome)
        elif isinstance(outcome, BaseException) and not isinstance(outcome, Cancelled):
            self._error = f"Fascis itself failed ({type(outcome).__name__}: {outcome}). What is verified is kept; the originals are untouched."
        self._tell_pulse()
        self.changed.emit()
        self._read()

    def _events(self, events: list[Event]) -> None:
        for event in events:
            if isinstance(event, Advanced) and self._pace:
                self._pace.advance(event)
                if lane := self._lanes.get(event.strand):
                    lane.copied += event.copied_bytes
                    lane.verified += event.verified_bytes
            elif isinstance(event, Attention):
                self._attention = [*self._attention, (event.place, event.drive, event.meaning, time.time())]
                if self._visible():
                    self.view.show_attention(self._attention)
            elif isinstance(event, Entered):
                self._running_state = event.state
        if (
            self.running is self.current
            and self._visible()
            and self.seen
            and self.running
            and not has_scales(self._running_state)
        ):
            self.view.show_running(self.row(self.running), list(self._lanes.values()), "frees the space")

    def pause_or_go_on(self) -> None:
        """P: holds the work, or lets it go on."""
        if self.running:
            if self.control.paused:
                self.control.go_on()
            else:
                self.control.pause()
            self.show_panel()
            self._tell_pulse()

    def stop(self) -> None:
        """Stops; it goes on another day."""
        self.control.stop()

    def go_on(self, skip: bool = False) -> None:
        """Goes on with the chosen crossing."""
        if self.current and self.current.state in UNFINISHED:
            self.run(self.current, skip)

    def _give_up_screen(self) -> None:
        assert self.current
        copied = sum(x.copied for x in self._lanes.values())
        self.panel.show_give_up(copied, self.current.places.label, {"back": self.back, "clear": self._give_up})

    def _give_up(self) -> None:
        crossing, running, control = self.current, self.running, self.control
        assert crossing
        if running is crossing:
            control.stop()
            QTimer.singleShot(100, self._give_up)
            return
        self.do("Giving up", "Clearing what was copied; nothing else is touched.", crossing.undo)

    def do(self, title: str, words: str, work: Callable[[], Any]) -> None:
        """One step off the interface thread; then everything is read anew."""
        self._sub, self._error = "", ""
        self.panel.show_busy(title, words)
        Task(work, self._did, self)

    def _did(self, outcome: Any) -> None:
        if isinstance(outcome, FascisError):
            self._error = str(outcome)
        elif isinstance(outcome, BaseException):
            self._error = f"Fascis itself failed ({type(outcome).__name__}: {outcome})."
        self.steps.forget()
        self.changed.emit()
        self._read()

    def again(self, error: str = "") -> None:
        """Reads and shows the chosen crossing again, or says what went wrong."""
        if error:
            self._error = error
            self.show_panel()
        else:
            self._read()

    def close(self) -> None:
        """Stops what runs, and waits a little for it to note where it is."""
        self.control.stop()
        until = time.monotonic() + 5
        while self.running is not None and time.monotonic() < until:
            with suppress(RuntimeError):
                QGuiApplication.processEvents()
            time.sleep(0.01)
