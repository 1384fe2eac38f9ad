"""What happens at the crossings: running, pausing, resuming, weighing, and the steps after verification."""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from PyQt6.QtCore import QObject, QTimer, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices, QGuiApplication

from fascis.crossing.balance import Balance, Deleting, deleting, weigh
from fascis.crossing.crossing import Crossing, all_crossings
from fascis.crossing.engine import hindrance_sentence
from fascis.crossing.events import Advanced, Attention, Control, Entered, Event
from fascis.crossing.pace import Pace
from fascis.crossing.plan import After
from fascis.crossing.states import UNFINISHED, State
from fascis.desktop.answers import Situation, clock, next_step, safe_to, why_not_delete
from fascis.desktop.crossings import CrossingRow, CrossingsView, has_scales
from fascis.desktop.panel import SidePanel
from fascis.desktop.stations import Lane
from fascis.desktop.tasks import Coalescer, Task
from fascis.files.errors import Cancelled, FascisError
from fascis.files.names import shown
from fascis.files.sizes import counted, number, size


def show_in_folder(path: str) -> None:
    """Shows a folder in the desktop's own file manager."""
    QDesktopServices.openUrl(QUrl.fromLocalFile(path))


class Conducting(QObject):
    """Connects the crossings view and the side panel with the core."""

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
        self.control = Control()
        self.opener: Callable[[str], None] = show_in_folder
        self.balance: Balance | None = None
        self.list: Deleting | None = None
        self._weighing = False
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

    def load(self, current: str | None = None) -> None:
        """Reads all journals again and shows the list."""
        kept = current or (self.current.id if self.current else None)
        held = {c.id: c for c in (self.running, self.current) if c}
        found, _ = all_crossings(self.workspace)
        fresh = []
        for c in found:
            if c.id in held and held[c.id] is self.running:
                c.close()
                c = held[c.id]
            fresh.append(c)
        for old in self.crossings:
            if old is not self.running and old not in fresh:
                old.close()
        self.crossings = fresh
        ids = [c.id for c in fresh]
        self.choose(kept if kept in ids else ids[0] if ids else "")

    def choose(self, id: str) -> None:
        """Chooses a crossing and shows it."""
        before = self.current.id if self.current else None
        self.current = next((c for c in self.crossings if c.id == id), None)
        if before != id:
            self.balance, self.list, self._sub = None, None, ""
        if self.current:
            self._read_lanes(self.current)
        self.show()

    def row(self, crossing: Crossing) -> CrossingRow:
        """A crossing as the list shows it, from its journal."""
        h = crossing.places.header
        return CrossingRow(
            crossing.id,
            h["name"],
            h["destination_drive"]["label"],
            h["source_drive"]["label"],
            self._state(crossing),
            crossing.journal.planned()[1],
            crossing is self.running,
        )

    def _state(self, crossing: Crossing) -> State:
        """Its state; of the running one as it was told, so that the window never waits for the journal."""
        return self._running_state if crossing is self.running else crossing.state

    def _read_lanes(self, crossing: Crossing) -> None:
        if crossing is self.running and self._lanes:
            return
        self._lanes = {
            s.id: Lane(s.id, s.folder, s.role, s.bytes, s.copied_bytes, s.verified_bytes)
            for s in crossing.journal.strands()
        }
        files, total = crossing.journal.planned()
        self._pace = Pace(files, total, *crossing.journal.verified())
        self._attention = crossing.journal.attentions()

    # -- showing --------------------------------------------------------------------------------------------------

    def show(self) -> None:
        """Shows the chosen crossing, in the view and in the panel."""
        if not self._visible():
            return
        self.view.show_list([self.row(c) for c in self.crossings], self.current.id if self.current else None)
        if self.current is None:
            self.view.show_empty(
                "No crossing yet",
                "Choose a library on the shelves, and put it on another one. Nothing is ever moved: it is copied, read back, and only then yours to delete.",
            )
            self.panel.show_nothing("A crossing starts at the shelves.", [("To the shelves", self.to_shelves.emit)])
            return
        row = self.row(self.current)
        if has_scales(row.state):
            if self.balance is None:
                self._weigh()
            self.view.show_balance(row, self.balance, self._frees())
        else:
            self.view.show_running(row, list(self._lanes.values()), self._frees())
        self.view.show_attention(self._attention)
        self._panel()

    def _frees(self) -> str:
        if self.list is not None and self.current and self.current.state is not State.RELEASED:
            return f"frees {size(self.list.frees)}"
        if self.current is self.running:
            return "frees the space"
        release = self.current.journal.value("release") if self.current else None
        return f"{size(release['bytes'])} deleted" if release else "frees the space"

    def situation(self) -> Situation:
        """What the answers depend on now."""
        assert self.current
        c, pace = self.current, self._pace
        files, total = c.journal.planned()
        drive = c.places.header["destination_drive"]["label"]
        if pace and c is self.running:
            left, files_left = max(0, total - pace.verified_bytes), max(0, files - pace.verified_files)
            return Situation(self._running_state, True, drive, left, files_left, pace.ready_at())
        done_files, done = c.journal.verified()
        files, total = c.journal.going()
        even = bool(self.balance and self.balance.even)
        return Situation(
            c.state,
            False,
            drive,
            max(0, total - done),
            max(0, files - done_files),
            None,
            c.journal.proven(),
            bool(c.journal.value("looked_at")),
            even,
        )

    def _panel_again(self) -> None:
        if self.running is not None and self.running is self.current and self._sub == "" and self._visible():
            self._panel()
        self._tell_pulse()

    def _tell_pulse(self) -> None:
        if self.running is None:
            self.pulse.emit("No crossing running")
            return
        at = clock(self._pace.ready_at()) if self._pace else ""
        words = "paused" if self.control.paused else f"ready at {at}" if at else "crossing"
        self.pulse.emit(f"{shown(self.running.places.header['name'])} · {words}")

    def _panel(self) -> None:
        if not self._visible() or self.current is None:
            return
        if self._error and self._sub == "":
            self._show_error()
            return
        screens = {"give_up": self._give_up_screen, "open": self._open_screen, "delete": self._delete_screen}
        if self._sub in screens:
            screens[self._sub]()
        elif has_scales(self._state(self.current)):
            self._scales_panel()
        else:
            self._running_panel()

    def _running_panel(self) -> None:
        c, s = self.current, self.situation()
        assert c
        files, total = c.journal.planned()
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
        hindered = [] if c is self.running else [hindrance_sentence(p, st) for p, st in c.hindrances()]
        actions: dict[str, Callable[[], None]] = {
            "pause": self.pause_or_go_on,
            "stop": self.stop,
            "give_up": lambda: self._screen("give_up"),
            "go_on": self.go_on,
            "skip": lambda: self.go_on(skip=True),
            "shelves": self.to_shelves.emit,
        }
        self.panel.show_running(safe_to(s), figures, s.state, c is self.running, self.control.paused, hindered, actions)

    def _screen(self, name: str) -> None:
        self._sub = name
        self._panel()

    def _back(self) -> None:
        self._sub, self._error = "", ""
        self._panel()

    def _show_error(self) -> None:
        assert self.current
        unfinished = self.current.state in UNFINISHED
        actions: list[tuple[str, Callable[[], None]]] = [("Go on", self.go_on)] if unfinished else []
        self.panel.show_error(
            "It stopped" if unfinished else "That was not done", self._error, [*actions, ("Back", self._back)]
        )

    # -- running --------------------------------------------------------------------------------------------------

    def run(self, crossing: Crossing, skip: bool = False) -> None:
        """Runs a crossing up to settled, off the interface thread."""
        if self.running is not None:
            return
        self._error, self._sub = "", ""
        self.running, self.control, self._running_state = crossing, Control(), crossing.state
        if crossing not in self.crossings:
            self.crossings.insert(0, crossing)
        self.current = crossing
        self._lanes = {}
        self._pace = None
        self._read_lanes(crossing)
        self._coalescer.start()
        self._often.start()
        control, take = self.control, self._coalescer.take
        Task(lambda: crossing.run(control, take, skip), self._ran, self)
        self.changed.emit()
        self.show()
        self._tell_pulse()

    def _ran(self, outcome: Any) -> None:
        self._coalescer.stop()
        self._often.stop()
        crossing, self.running = self.running, None
        if isinstance(outcome, FascisError) and not isinstance(outcome, Cancelled):
            self._error = str(outcome)
        elif isinstance(outcome, BaseException) and not isinstance(outcome, Cancelled):
            self._error = f"Fascis itself failed ({type(outcome).__name__}: {outcome}). What is verified is kept; the originals are untouched."
        if crossing is self.current and crossing:
            self._lanes = {}
            self._read_lanes(crossing)
        self._tell_pulse()
        self.changed.emit()
        self.show()

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
        if self.running is self.current and self._visible() and self.running and not has_scales(self._running_state):
            self.view.show_running(self.row(self.running), list(self._lanes.values()), "frees the space")

    def pause_or_go_on(self) -> None:
        """P: holds the work, or lets it go on."""
        if self.running:
            if self.control.paused:
                self.control.go_on()
            else:
                self.control.pause()
            self._panel()
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
        self.panel.show_give_up(
            copied,
            self.current.places.header["destination_drive"]["label"],
            {"back": self._back, "clear": self._give_up},
        )

    def _give_up(self) -> None:
        crossing, running, control = self.current, self.running, self.control
        assert crossing
        if running is crossing:
            control.stop()
            QTimer.singleShot(100, self._give_up)
            return
        self._do("Giving up", "Clearing what was copied; nothing else is touched.", crossing.undo)

    # -- the scales and the steps ---------------------------------------------------------------------------------

    def _weigh(self) -> None:
        crossing = self.current
        if crossing is None or self._weighing:
            return
        self._weighing = True

        def work() -> tuple[Crossing, Balance, Deleting]:
            balance = weigh(crossing)
            return crossing, balance, deleting(crossing, balance.newer)

        Task(work, self._weighed, self)

    def _weighed(self, outcome: Any) -> None:
        self._weighing = False
        if isinstance(outcome, BaseException):
            self._error = str(outcome)
        elif outcome[0] is self.current:
            _, self.balance, self.list = outcome
        if not self._error or self.balance:
            self.show()
        else:
            self._panel()

    def _scales_panel(self) -> None:
        c = self.current
        assert c
        s, drive = self.situation(), c.places.header["destination_drive"]["label"]
        after = After(c.journal.value("after", c.after.value))
        step = next_step(s.state, after, s.looked, self.balance)
        words = {
            "open": f"Open it from {drive}",
            "switch": f"Switch over: home is {drive}",
            "park": "Set the originals aside (frees nothing yet)",
            "receipt": "See the receipt",
            "put_back": "Put the originals back",
            "undo": "Take back the switch",
            "again": "Look again",
        }
        if s.state is not State.SWITCHED and step != "park":
            del words["park"]
        titles = {
            State.SETTLED: f"Before home goes to {drive}",
            State.SWITCHED: f"Home is {drive}",
            State.PARKED: "Originals set aside",
            State.RELEASED: "The originals are deleted",
        }
        actions: dict[str, Callable[[], None]] = {
            "open": lambda: self._screen("open"),
            "switch": self.switch,
            "park": self.park,
            "put_back": self.put_back,
            "undo": self.undo,
            "delete": lambda: self._screen("delete"),
            "receipt": lambda: self.to_receipts.emit(c.id),
            "again": self.look_again,
        }
        self.panel.show_scales(
            titles[s.state],
            self._lines(c, s, drive),
            step,
            words,
            self.list,
            why_not_delete(s),
            s.state,
            self.balance,
            actions,
        )

    def _lines(self, c: Crossing, s: Situation, drive: str) -> list[tuple[str, str, str]]:
        release = c.journal.value("release")
        if release:
            source = c.places.header["source_drive"]["label"]
            lines = [
                ("Deleted", size(release["bytes"]), counted(release["files"], "file")),
                (f"Free on {source} before", size(release["free_before"]), f"{number(release['free_before'])} bytes"),
                (
                    f"Free on {source} after",
                    size(release["free_after"]),
                    f"measured again: {number(release['free_after'])} bytes",
                ),
            ]
            lines += [("Less came free than was deleted", "", r) for r in release["reasons"]]
            by_reason: dict[str, int] = {}
            for left in release["left_behind"]:
                by_reason[left["why"]] = by_reason.get(left["why"], 0) + 1
            return lines + [(f"{counted(n, 'file')} stay", "", why) for why, n in by_reason.items()]
        lines = [
            (
                f"{shown(c.places.header['name'])}: whole on {drive}",
                "",
                f"verified, settled {clock(c.journal.value('settled_at'))}",
            )
        ]
        if parked := c.journal.value("parked_at"):
            lines.append(("Originals set aside", "", shown(parked)))
        lines.append(("Looked at by you", "yes" if s.looked else "not yet", ""))
        return lines

    def look_again(self) -> None:
        """Weighs again."""
        self.balance = self.list = None
        self.show()

    def _open_screen(self) -> None:
        assert self.current
        path = str(self.current.places.target)

        def copy_path() -> None:
            if board := QGuiApplication.clipboard():
                board.setText(path)

        looked = bool(self.current.journal.value("looked_at"))
        actions = {
            "copy_path": copy_path,
            "show_folder": lambda: self.opener(path),
            "looked": self.looked,
            "back": self._back,
        }
        self.panel.show_open(shown(path), looked, actions)

    def looked(self) -> None:
        """The person says that they have looked."""
        assert self.current
        self.current.looked()
        self.balance = None
        self._sub = ""
        self.show()

    def switch(self) -> None:
        """Switches over."""
        assert self.current
        self._do("Switching over", "Home goes to the new place.", self.current.switch)

    def park(self) -> None:
        """Sets the originals aside."""
        assert self.current
        self._do("Setting aside", "Looking at the originals once more, then one rename.", self.current.park)

    def put_back(self) -> None:
        """Puts the originals back under their name."""
        assert self.current
        self._do("Putting back", "One rename.", self.current.put_back)

    def undo(self) -> None:
        """Takes the switch back."""
        assert self.current
        self._do("Taking back", "Home goes back to the old place; the copy stays.", self.current.undo)

    def _delete_screen(self) -> None:
        c = self.current
        if c is None or self.list is None:
            self._back()
            return
        h = c.places.header
        self.panel.show_deleting(
            self.list,
            h["source_drive"]["label"],
            h["destination_drive"]["label"],
            {"back": self._back, "delete_now": self.delete},
        )

    def delete(self) -> None:
        """Deletes the originals that are listed; each is checked once more right before."""
        c = self.current
        if c is None or self.list is None or why_not_delete(self.situation()):
            return
        self._do(
            "Deleting the originals",
            f"{counted(self.list.files, 'file')}, each compared once more right before.",
            c.release,
        )

    def _do(self, title: str, words: str, work: Callable[[], Any]) -> None:
        self._sub, self._error = "", ""
        self.panel.show_busy(title, words)
        Task(work, self._did, self)

    def _did(self, outcome: Any) -> None:
        if isinstance(outcome, FascisError):
            self._error = str(outcome)
        elif isinstance(outcome, BaseException):
            self._error = f"Fascis itself failed ({type(outcome).__name__}: {outcome})."
        self.balance = self.list = None
        self.changed.emit()
        self.show()

    def close(self) -> None:
        """Stops what runs, and waits a little for it to note where it is."""
        self.control.stop()
        until = time.monotonic() + 5
        while self.running is not None and time.monotonic() < until:
            with suppress(RuntimeError):
                QGuiApplication.processEvents()
            time.sleep(0.01)
