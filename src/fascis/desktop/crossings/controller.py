"""Running crossings: the list, running, pausing, resuming.

The steps after verification are in ``steps``.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QObject, QTimer, QUrl, pyqtSignal
from PyQt6.QtGui import QDesktopServices, QGuiApplication

from fascis.copies.repairing import repair_originals
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.events import Attention, Event
from fascis.crossing.model.states import UNFINISHED, State
from fascis.crossing.status.opened import Opened
from fascis.crossing.status.queue import in_turn, let_go_first, line_up, to_go_on
from fascis.crossing.status.report import notice
from fascis.desktop.crossings.answers import Situation, clock, safe_to
from fascis.desktop.crossings.page import CrossingPage, OnItsWay, OnItsWayActions
from fascis.desktop.crossings.pulse import Returns, ready_times, whole_words
from fascis.desktop.crossings.running import Running
from fascis.desktop.crossings.seen import Listed, Seen, read_listed, read_seen
from fascis.desktop.crossings.stations import Lane
from fascis.desktop.crossings.steps import Steps
from fascis.desktop.crossings.view import CrossingRow, CrossingsView, Group, has_scales
from fascis.desktop.kit.coming import Coming
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.pieces import Do
from fascis.desktop.kit.tasks import Coalescer, Task
from fascis.drives.care.removal import remove_safely
from fascis.files.control import Control
from fascis.files.errors import Cancelled, DriveGone, FascisError
from fascis.files.names import elided, shown
from fascis.machine.awake import Awake
from fascis.machine.notice import tell_desktop
from fascis.words.figures import listed, number, percent, size
from fascis.words.speech import tr, trn

# In units of 200 ms: how often the times in the list are updated.
_LIST_BEATS = 10
# Seconds; if a stop takes longer, a drive is not answering.
_PATIENCE_MS = 1500


def show_in_folder(path: str) -> None:
    """Shows a folder in the desktop's own file manager."""
    QDesktopServices.openUrl(QUrl.fromLocalFile(path))


class Conducting(QObject):
    """Connects the crossings view and the side panel with the core.

    Journals are read in tasks, never here.
    """

    pulse = pyqtSignal(str)
    coming = pyqtSignal(object)  # Libraries on their way to drives: a list of Coming.
    changed = pyqtSignal()
    to_receipts = pyqtSignal(str)
    to_shelves = pyqtSignal()

    def __init__(
        self,
        workspace: Any,
        view: CrossingsView,
        panel: SidePanel,
        visible: Callable[[], bool],
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self.workspace, self.view, self.panel, self._visible = workspace, view, panel, visible
        self.opened = Opened(workspace)
        self.crossings: list[Listed] = []
        self.current: Listed | None = None
        self.now: Running | None = None
        # A task waits for a drive that does not answer: the program ends without it.
        self.stuck = False
        self.opener: Callable[[str], None] = show_in_folder
        self.notify: Callable[[str, str, bool], object] = tell_desktop
        self.page = CrossingPage(panel)
        self.leave_to_receipts: Callable[[str], None] = self.to_receipts.emit
        self.steps = Steps(self, self)
        # For the chosen crossing, while it does not run.
        self._seen: Seen | None = None
        self._read_lanes: dict[int, Lane] = {}
        self._loaded_once = False
        self._errors: dict[str, str] = {}
        self._sub = ""
        self._closing = False
        # Crossings with a step in progress.
        self._acting: set[str] = set()
        self._beats = 0
        self._removed: set[int] = set()
        self._returns = Returns()
        self._coalescer = Coalescer(self)
        self._coalescer.batch.connect(self._events)
        self._often = QTimer(self)
        self._often.setInterval(200)
        self._often.timeout.connect(self._panel_again)
        view.chosen.connect(self.choose)
        view.folded.connect(self.show)

    # -- what is chosen, and what runs -------------------------------------------------------------

    @property
    def running(self) -> Listed | None:
        """The crossing that runs."""
        return self.now.crossing if self.now else None

    @property
    def control(self) -> Control:
        """Pauses and stops the running crossing."""
        return self.now.control if self.now else Control()

    @property
    def _mine(self) -> Running | None:
        """The run of the chosen crossing, if that is the running one."""
        return self.now if self.now and self._is_chosen(self.now.crossing.id) else None

    @property
    def seen(self) -> Seen | None:
        """The last content of the chosen crossing's journal."""
        return self._mine.seen if self._mine else self._seen

    @property
    def _lanes(self) -> dict[int, Lane]:
        return self._mine.lanes if self._mine else self._read_lanes

    @property
    def _error(self) -> str:
        return self._errors.get(self.current.id, "") if self.current else self._errors.get("", "")

    @_error.setter
    def _error(self, sentence: str) -> None:
        self._errors[self.current.id if self.current else ""] = sentence

    # -- the list ----------------------------------------------------------------------------------

    def load(self, then: Callable[[], object] | None = None) -> None:
        """Finds journals that are not open yet, shows the list, and then does ``then``."""

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

        Task(lambda: [read_listed(c) for c in self.opened.look()], done, self)

    def _take(self, found: list[Listed]) -> None:
        """Uses what a task has read; for crossings started meanwhile, the present data stays."""
        ids = {c.id for c in found}
        self.crossings = [c for c in self.crossings if c.id not in ids] + found
        if self.now is not None:
            self.now.crossing = self._listed(self.now.crossing.id) or self.now.crossing
        if self.current is not None:
            self.current = self._listed(self.current.id)

    def _take_one(self, one: Listed) -> None:
        """Uses what was read of one crossing; a new one comes first."""
        if self._listed(one.id) is None:
            self.crossings.insert(0, one)
        self._take([one if c.id == one.id else c for c in self.crossings])

    def _listed(self, id: str) -> Listed | None:
        return next((c for c in self.crossings if c.id == id), None)

    def _is_chosen(self, id: str) -> bool:
        return self.current is not None and self.current.id == id

    def _runs(self, id: str) -> bool:
        return self.now is not None and self.now.crossing.id == id

    def choose(self, id: str) -> None:
        """Chooses a crossing and shows it."""
        before = self.current.id if self.current else None
        self.current = self._listed(id)
        if before != id:
            self.steps.forget()
            self._sub, self._seen = "", None
            self._read()
        self.show()

    def _read(self) -> None:
        """Reads the chosen crossing's journal, and shows it."""
        if self.current is None or self._runs(self.current.id):
            return
        id = self.current.id

        def work() -> tuple[Listed, Seen]:
            crossing = self.opened.of(id)
            return read_listed(crossing), read_seen(crossing)

        def done(outcome: Any) -> None:
            if not isinstance(outcome, BaseException) and not self._runs(id):
                self._take_one(outcome[0])
            if not self._is_chosen(id) or self._runs(id):
                return
            if isinstance(outcome, BaseException):
                self._error = str(outcome)
            else:
                self._seen = outcome[1]
                self._read_lanes = outcome[1].lanes()
            self.show()

        Task(work, done, self)

    def rows(self) -> list[CrossingRow]:
        """The list: crossings that wait for a person, running and queued ones, finished ones."""
        waiting = self._waiting()
        paused = self.control.paused
        first = None if paused or self.now is None else self.now.ready_at()
        ready = ready_times(first, waiting)
        running = [self.row(self.running)] if self.running else []
        if running and first:
            running[0].ready = tr("ready {time}", time=clock(first))
        queue = [self.row(c) for c in waiting]
        for n, (row, at) in enumerate(zip(queue, ready, strict=True), 1):
            row.waits = n
            row.ready = tr("ready about {time}", time=clock(at)) if at else ""
        rest = [c for c in self.crossings if not self._runs(c.id) and c not in waiting]
        yours = [self.row(c) for c in rest if self._waits_for_you(c)]
        done = [self.row(c) for c in rest if not self._waits_for_you(c)]
        for row in yours:
            row.group = Group.YOU
        for row in done:
            row.group = Group.DONE
        return [*yours, *running, *queue, *done]

    def _waits_for_you(self, crossing: Listed) -> bool:
        """True for a crossing that stopped, or arrived and has steps left for a person."""
        return self._state(crossing) in UNFINISHED or crossing.waits

    def _waiting(self) -> list[Listed]:
        """The queue, in order, without the running one."""
        return in_turn(c for c in self.crossings if not self._runs(c.id))

    def row(self, crossing: Listed) -> CrossingRow:
        """A crossing for the list."""
        return CrossingRow(
            crossing.id,
            crossing.name,
            crossing.labels,
            crossing.source_drive,
            self._state(crossing),
            crossing.planned_bytes,
            self._runs(crossing.id),
            one_more=crossing.one_more,
        )

    def _state(self, crossing: Listed) -> State:
        """Its state: for the running one by its reports, for the chosen one as shown."""
        if self.now and self._runs(crossing.id):
            return self.now.state
        if self._seen and self._is_chosen(crossing.id):
            return self._seen.state
        return crossing.state

    # -- showing -----------------------------------------------------------------------------------

    def show(self) -> None:
        """Shows the chosen crossing, in the view and in the panel."""
        if not self._visible() or not self._loaded_once:
            return
        rows = self.rows()
        self.view.show_list(rows, self.current.id if self.current else None)
        if self.current is not None and self.current.id in self._acting:
            # Nothing is checked while a step is in progress.
            return
        if self.current is None:
            self.view.show_empty(
                tr("No crossing yet"),
                tr(
                    "Choose a library on the shelves, and put it on another one. Nothing is "
                    "ever moved: it is copied, read back, and only then can you delete the "
                    "original."
                ),
            )
            self.panel.show_nothing(
                tr("A crossing starts at the shelves."),
                [(tr("To the shelves"), self.to_shelves.emit)],
            )
            return
        if self.seen is None:
            if self._error:
                self._show_error()
            else:
                self.view.show_empty(tr("Reading its journal …"), "")
                self.panel.show_busy(shown(self.current.name), tr("Reading its journal."))
            return
        row = next(r for r in rows if r.id == self.current.id)
        if has_scales(row.state):
            self.steps.show(row)
        else:
            self.view.show_running(
                row, list(self._lanes.values()), self.frees(), whole_words(self.situation())
            )
        self.view.show_attention(self._mine.attention if self._mine else self.seen.attention)
        self.show_panel()

    def frees(self) -> str:
        """The text of the last station."""
        state = self._state(self.current) if self.current else None
        if self.steps.list is not None and state is not State.RELEASED:
            return tr("frees {size}", size=size(self.steps.list.frees))
        release = self.seen.release if self.seen and state is State.RELEASED else None
        return (
            trn("{n} file deleted", "{n} files deleted", release["files"])
            if release
            else tr("frees the space")
        )

    def situation(self) -> Situation:
        """The facts for the answers now."""
        assert self.current and self.seen
        if self._mine:
            return self._mine.situation()
        balance = self.steps.balance
        return self.seen.situation(bool(balance and balance.even), bool(balance and balance.busy))

    def _panel_again(self) -> None:
        if self._mine and self._sub == "" and self._visible():
            self.show_panel()
        self._beats += 1
        if self._visible() and self._beats % _LIST_BEATS == 0:
            self.view.show_list(self.rows(), self.current.id if self.current else None)
        self._tell_pulse()

    def _on_its_way(self) -> list[Coming]:
        """The running crossing, on each of its drives; a whole copy there is drawn normally."""
        if self.now is None:
            return []
        crossing, found = self.now.crossing, []
        for at, uuid in enumerate(crossing.to):
            lanes = [lane.drives[at] for lane in self.now.lanes.values() if at < len(lane.drives)]
            verified = sum(on.verified for on in lanes)
            done = min(verified / max(crossing.planned_bytes, 1), 1.0)
            words = tr("{percent} verified", percent=percent(done))
            found.append(Coming(uuid, crossing.name, crossing.planned_bytes, round(done, 3), words))
        return found

    def _tell_pulse(self) -> None:
        self.coming.emit(self._on_its_way())
        if self.now is None:
            self.pulse.emit(tr("No crossing running"))
            return
        at = clock(self.now.ready_at())
        if self.control.paused:
            words = tr("paused")
        elif at:
            words = tr("ready at {at}", at=at)
        else:
            words = tr("crossing")
        waiting = len(self._waiting())
        told = [shown(self.now.crossing.name), words]
        if waiting:
            told.append(trn("{n} more waits", "{n} more wait", waiting))
        self.pulse.emit(" · ".join(told))

    def show_panel(self) -> None:
        """Shows what belongs to the chosen crossing now."""
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
        c, s, now = self.current, self.situation(), self._mine
        assert c and self.seen
        files, total = self.seen.planned
        figures = {}
        for i, d in enumerate(s.drives):
            copy, equal = tr("Copied"), tr("Read back and equal")
            if len(s.drives) > 1:
                copy = tr("Copied on {label}", label=d.label)
                equal = tr("Read back and equal on {label}", label=d.label)
            copied = sum(lane.drives[i].copied for lane in self._lanes.values())
            figures[copy] = tr("{size} of {size_2}", size=size(copied), size_2=size(total))
            figures[equal] = size(total - d.unverified)
        figures[tr("Files")] = tr(
            "{count} of {count_2}",
            count=number(files - max(d.files_unverified for d in s.drives)),
            count_2=number(files),
        )
        if now:
            figures[tr("Speed")] = f"{size(now.bytes_a_second())}/s"
            figures[tr("Ready")] = clock(now.ready_at()) or tr("calculating…")
        actions = OnItsWayActions(
            pause=self.pause_or_go_on,
            stop=self.stop,
            give_up=lambda: self.screen("give_up"),
            go_on=self.go_on,
            skip=lambda: self.go_on(skip=True),
            shelves=self.to_shelves.emit,
        )
        running = OnItsWay(
            answers=safe_to(s),
            figures=figures,
            state=s.state,
            running=now is not None,
            paused=self.control.paused,
            hindered=[] if now else self.seen.hindered,
            offers=self._offers(c, s),
            followers=self.seen.followers_wait if s.state is not State.UNDONE else "",
        )
        self.page.show_running(running, actions)

    def _offers(self, crossing: Listed, s: Situation) -> list[tuple[str, Do]]:
        """Further actions for a crossing that is running."""
        seen = self.seen
        assert seen
        offers: list[tuple[str, Do]] = []
        if s.running:
            for d in s.whole:
                if d.number not in self._removed:
                    remove = partial(self._remove, d.number)
                    offers.append((tr("Remove {label} safely", label=elided(d.label, 20)), remove))
            return offers
        if s.state is State.UNDONE:
            return offers
        if self.now is not None and crossing.turn is not None:
            offers.append((tr("Move to front of queue"), self._first))
        for place in seen.sound_in:
            words = tr("Take the good files from {label}", label=elided(place.label, 20))
            offers.append((words, partial(self._take_good, place.path)))
        if seen.damaged:
            offers.append(
                (tr("Copy damaged files anyway; their originals stay"), self._take_damaged)
            )
        if len(seen.drives) > 1:
            for drive in seen.drives:
                if drive.state is not State.SETTLED:
                    words = tr("Continue without {label}", label=elided(drive.label, 20))
                    offers.append((words, partial(self.without, drive.number)))
        return offers

    def _remove(self, number: int) -> None:
        """Removes a drive with a whole copy, while the others continue."""
        assert self.current and self.seen
        id, running = self.current.id, self.now
        label = next(d.label for d in self.seen.drives if d.number == number)

        def done(outcome: Any) -> None:
            if isinstance(outcome, FascisError):
                self._removed.discard(number)
                if running is self.now and running is not None:
                    running.attention.append((b"", label, str(outcome), time.time()))
                    self.show()
            elif isinstance(outcome, BaseException):
                raise outcome
            self.changed.emit()

        self._removed.add(number)
        self.show_panel()
        Task(lambda: remove_safely(self.opened.of(id).destinations[number].drive()), done, self)

    def _first(self) -> None:
        self.do(
            tr("Noted"),
            tr("It crosses next."),
            lambda crossing: let_go_first(self.opened.all(), crossing),
        )

    def _take_good(self, copy: Path) -> None:
        """Restores damaged originals at the old place; then continues."""
        self.do(
            tr("Repair"),
            tr(
                "The good files are checked, written beside the damaged ones, read back, "
                "and put in their place. The damaged ones are kept in "
                ".fascis/before-repair."
            ),
            lambda crossing: repair_originals(crossing.workspace, crossing, copy, Control()),
            self.go_on,
        )

    def _take_damaged(self) -> None:
        self.do(
            tr("Noted"),
            tr("It crosses as it is; its original is never deleted."),
            Crossing.take_damaged,
            self.go_on,
        )

    def without(self, number: int) -> None:
        """Gives up one of two destinations."""
        assert self.seen
        label = next(d.label for d in self.seen.drives if d.number == number)
        self.do(
            tr("Going on without {label}", label=label),
            tr("What was begun there is removed; what is complete stays."),
            lambda crossing: crossing.go_without(crossing.destinations[number]),
        )

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
        unfinished = self._state(self.current) in UNFINISHED
        actions: list[tuple[str, Do]] = [(tr("Continue"), self.go_on)] if unfinished else []
        if unfinished and self.seen and self.now is None:
            actions += self._offers(self.current, self.situation())
        words = self._error
        if self._returns.awaited(self.current.id):
            words = f"{words} {tr('It continues by itself when the drive is back.')}"
        self.panel.show_error(
            tr("It stopped") if unfinished else tr("That was not done"),
            words,
            [*actions, (tr("Back"), self.back)],
        )

    # -- running -----------------------------------------------------------------------------------

    def enqueue(self, crossing: Crossing) -> None:
        """Runs a crossing that was started, or adds it to the queue behind the running one."""
        self.opened.add(crossing)
        id = crossing.id

        def done(one: Any) -> None:
            if isinstance(one, BaseException):
                self._error = str(one)
                self.show()
                return
            self._loaded_once = True
            self._take_one(one)
            self.choose(one.id)
            if self.now is None:
                self.run(one.id)
            else:
                self.do(
                    tr("Lined up"),
                    tr("It crosses when those before it are done."),
                    lambda last: line_up(
                        [c for c in self.opened.all() if not self._runs(c.id)], last
                    ),
                )

        Task(lambda: read_listed(self.opened.of(id)), done, self)

    def run(self, id: str, skip: bool = False, bring: bool = False, choose: bool = True) -> None:
        """Runs a crossing up to settled, or copies later changes, off the interface thread."""
        listed = self._listed(id)
        if self.now is not None or listed is None:
            return
        self._errors.pop(id, None)
        self._returns.forget(id)
        self._removed = set()
        self.now = now = Running(listed)
        if (choose and not self._is_chosen(id)) or bring:
            self.steps.forget()
        if choose:
            self.current, self._seen, self._sub = listed, None, ""

        def prepare() -> Seen:
            crossing = self.opened.of(id)
            now.state = crossing.state
            return read_seen(crossing)

        Task(prepare, lambda seen: self._begin(now, seen, skip, bring), self)
        self.changed.emit()
        self.show()
        self._tell_pulse()

    def _begin(self, now: Running, seen: Any, skip: bool, bring: bool) -> None:
        """The journal was read; now the work starts."""
        if isinstance(seen, BaseException):
            self._ran(now, seen)
            return
        id, name = now.crossing.id, shown(now.crossing.name)

        def take(event: Event) -> None:
            # Not from a thread that hangs, while another crossing runs by now.
            if now is self.now:
                self._coalescer.take(event)

        now.begin(seen)
        self._coalescer.start()
        self._often.start()
        if bring:
            self.steps.forget()
            now.state = State.COPYING

        def work() -> State:
            crossing = self.opened.of(id)
            with Awake(tr("{name} is crossing", name=name)) as awake:
                now.awake = awake.granted
                if bring:
                    return crossing.bring_along(now.control, take)
                return crossing.run(now.control, take, skip)

        Task(work, lambda outcome: self._ran(now, outcome), self)
        self.show()

    def _ran(self, now: Running, outcome: Any) -> None:
        if now is not self.now:
            # It had been given up as not answering, and has ended after all.
            self.stuck = False
            self._read()
            return
        self._coalescer.stop()
        self._often.stop()
        self.now = None
        id, trouble = now.crossing.id, ""
        if isinstance(outcome, FascisError) and not isinstance(outcome, Cancelled):
            trouble = str(outcome)
            if isinstance(outcome, DriveGone):
                self._returns.expect(now.crossing)
        elif isinstance(outcome, BaseException) and not isinstance(outcome, Cancelled):
            trouble = tr(
                "Fascis itself failed ({name}: {outcome}). What is verified is kept; the "
                "originals are untouched.",
                name=type(outcome).__name__,
                outcome=outcome,
            )
        self._errors[id] = trouble
        if not isinstance(outcome, Cancelled):
            state = outcome if isinstance(outcome, State) else now.state
            words = notice(shown(now.crossing.name), state, trouble)
            Task(lambda: self.notify(*words), lambda _: None, self)
        self._tell_pulse()
        self.changed.emit()
        self._read()
        self._look_at(id)

    def _look_at(self, id: str) -> None:
        """Reads a finished run for the list; then the next one in the queue runs."""

        def done(one: Any) -> None:
            if not isinstance(one, BaseException):
                self._take_one(one)
                self.show()
            if not self._closing:
                self._next()

        Task(lambda: read_listed(self.opened.of(id)), done, self)

    def _next(self) -> None:
        """Runs the next one in the queue; one that stopped does not prevent it."""
        waiting = in_turn(self.crossings)
        if waiting and self.now is None:
            self.run(waiting[0].id, choose=False)

    def drives_changed(self, connected: set[str]) -> None:
        """A drive was connected or removed: a crossing that stopped for it resumes."""
        ready = self._returns.look(connected)
        again = next((c for c in self.crossings if c.id in ready and c.state in UNFINISHED), None)
        if again is not None and self.now is None:
            self.run(again.id, choose=self._is_chosen(again.id))

    def _events(self, events: list[Event]) -> None:
        if self.now is None:
            return
        self.now.take(events)
        mine = self._mine
        if mine is None or not self._visible() or mine.seen is None:
            return
        if any(isinstance(e, Attention) for e in events):
            self.view.show_attention(mine.attention)
        if not has_scales(mine.state):
            whole = whole_words(mine.situation())
            self.view.show_running(
                self.row(mine.crossing), list(mine.lanes.values()), tr("frees the space"), whole
            )

    def pause_or_go_on(self) -> None:
        """P: pauses the work, or continues it."""
        if self.running:
            if self.control.paused:
                self.control.go_on()
            else:
                self.control.pause()
            self.show_panel()
            self._tell_pulse()

    def stop(self) -> None:
        """Stops; it can be resumed another day. A drive that does not answer is not waited for."""
        if self.now is None:
            return
        self.now.control.stop()
        QTimer.singleShot(_PATIENCE_MS, lambda now=self.now: self._leave(now))

    def _leave(self, now: Running) -> None:
        """Continues without work that waits for a drive that does not answer.

        It ends by itself when that drive is removed.
        """
        if self.now is not now:
            return
        self._coalescer.stop()
        self._often.stop()
        self.now, self.stuck = None, True
        self._errors[now.crossing.id] = tr(
            "It is stopped, but a drive does not answer. What is verified is kept. "
            "Remove that drive, or connect it again, then go on."
        )
        if self._is_chosen(now.crossing.id):
            self._seen, self._read_lanes = now.seen, now.lanes
        self._tell_pulse()
        self.show()
        self._next()

    def go_on(self, skip: bool = False) -> None:
        """Resumes the chosen crossing."""
        if self.current and self.current.state in UNFINISHED:
            self.run(self.current.id, skip)

    def go_on_in_order(self) -> None:
        """Resumes the chosen crossing, which was interrupted.

        Other interrupted ones follow it, in order.
        """
        first = self.current
        if first is None or self.now is not None:
            return
        others = [c.id for c in to_go_on(self.crossings) if c.id != first.id and c.turn is None]

        def line_up_all() -> list[Listed]:
            everything = self.opened.all()
            for id in reversed(others):
                let_go_first(everything, self.opened.of(id))
            return [read_listed(self.opened.of(id)) for id in others]

        def done(outcome: Any) -> None:
            if not isinstance(outcome, BaseException):
                for one in outcome:
                    self._take_one(one)
            self.show()

        self.run(first.id)
        if others:
            Task(line_up_all, done, self)

    def _give_up_screen(self) -> None:
        assert self.current
        copied = sum(x.copied for x in self._lanes.values())
        drives = listed(self.current.labels)
        self.page.show_give_up(copied, drives, self.back, self._give_up)

    def _give_up(self) -> None:
        assert self.current
        if self._runs(self.current.id):
            self.control.stop()
            QTimer.singleShot(100, self._give_up)
            return
        self.do(
            tr("Giving up"), tr("Removing what was copied; nothing else is changed."), Crossing.undo
        )

    def do(
        self,
        title: str,
        words: str,
        work: Callable[[Crossing], Any],
        then: Callable[[], object] | None = None,
    ) -> None:
        """One step with the chosen crossing, off the interface thread.

        Then everything is read again, and ``then`` is called if it succeeded.
        """
        assert self.current
        id = self.current.id
        self._sub, self._error = "", ""
        self._acting.add(id)
        self.steps.forget()
        self.panel.show_busy(title, words)

        def step() -> Listed:
            crossing = self.opened.of(id)
            work(crossing)
            return read_listed(crossing)

        Task(step, lambda outcome: self._did(id, outcome, then), self)

    def _did(self, id: str, outcome: Any, then: Callable[[], object] | None) -> None:
        if isinstance(outcome, FascisError):
            self._error = str(outcome)
        elif isinstance(outcome, BaseException):
            self._error = tr(
                "Fascis itself failed ({name}: {outcome}).",
                name=type(outcome).__name__,
                outcome=outcome,
            )
        else:
            self._take_one(outcome)
        self._acting.discard(id)
        self.steps.forget()
        self.changed.emit()
        if then and not isinstance(outcome, BaseException):
            then()
        else:
            self._read()
            self.show()

    def again(self, error: str = "") -> None:
        """Reads and shows the chosen crossing again, or shows the error."""
        if error:
            self._error = error
            self.show_panel()
        else:
            self._read()

    def close(self) -> None:
        """Stops the running crossing, and waits a little for it to record its progress."""
        self._closing = True
        if self.now is None:
            return
        self.now.control.stop()
        until = time.monotonic() + 5
        while self.now is not None and time.monotonic() < until:
            with suppress(RuntimeError):
                QGuiApplication.processEvents()
            time.sleep(0.01)
        self.stuck = self.now is not None
