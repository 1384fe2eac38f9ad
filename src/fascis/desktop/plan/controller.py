"""The shelves: refreshing, choosing, trying shelves, planning, starting."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec import Struct
from PyQt6.QtCore import QObject, pyqtSignal

from fascis.copies.bringing_back import ways_back
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.plan import Plan
from fascis.crossing.plan.sentence import Choice
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.crossing.status.old_place import Begun, begun_again, copied_bytes, set_aside
from fascis.crossing.status.queue import all_crossings
from fascis.desktop.copies.controller import Afterwards
from fascis.desktop.kit.notes import Notes
from fascis.desktop.kit.panel import SidePanel
from fascis.desktop.kit.tasks import Task
from fascis.desktop.learning.controller import Learning
from fascis.desktop.plan.adding import Adding
from fascis.desktop.plan.choosing import Target
from fascis.desktop.plan.drafting import Drafting
from fascis.desktop.shelves.drawing import Preview
from fascis.desktop.shelves.page import LibraryActions, LibraryPage, OnDisplay
from fascis.desktop.shelves.view import ShelvesView
from fascis.drives.model import Drive
from fascis.files.codes import Scope, Severity
from fascis.files.errors import FascisError
from fascis.files.names import shown
from fascis.library.known.places import KnownPlaces, known_places
from fascis.library.known.recognising import Recognition
from fascis.library.known.shelves import OnShelf, Shelf, folders_in, read_shelves
from fascis.library.standing import Standing
from fascis.words.figures import clock, moment, percent, size
from fascis.words.speech import tr
from fascis.workspace import Workspace


def preview_of(plan: Plan, drive: Drive) -> Preview:
    """What a shelf would become, in two lines.

    By the facts about this drive; what the library lacks is the same everywhere. Pure.
    """
    takes = plan.goals[0].room
    worst = [p for p in plan.problems if p.severity is Severity.STOPS]
    asks = [
        p
        for p in plan.problems
        if p.severity is Severity.DECISION and p.code.scope is Scope.DESTINATION
    ]
    if worst:
        worst.sort(key=lambda p: p.code.scope is not Scope.DESTINATION)
        return Preview(drive.uuid, tr("Cannot take it."), _brief(worst), takes, False)
    ready = clock(time.time() + plan.estimate.seconds)
    after = 1 - (drive.free - takes) / max(drive.capacity, 1)
    if asks:
        return Preview(
            drive.uuid,
            tr("Needs a decision. Ready at {ready}.", ready=ready),
            _brief(asks),
            takes,
            True,
        )
    if drive.rules.certain or drive.rules.asked:
        fine = tr("every name and size is fine there")
    else:
        fine = tr("names and sizes are fine by its rules")
    return Preview(
        drive.uuid,
        tr("Fits. {percent} full after. Ready at {ready}.", percent=percent(after), ready=ready),
        tr("{size} to copy; {fine}", size=size(plan.totals.bytes), fine=fine),
        takes,
        True,
    )


def _brief(problems: list[Problem]) -> str:
    """Several problems in a line or two."""
    if all(p.brief for p in problems):
        return "; ".join(p.brief for p in problems[:3])
    return problems[0].sentence


def source_preview(plan: Plan, drive: Drive) -> Preview:
    """What happens to the original shelf when the originals are deleted. Pure."""
    after = max(0.0, drive.full - plan.frees / max(drive.capacity, 1))
    return Preview(
        drive.uuid,
        tr("{percent} full after.", percent=percent(after)),
        tr("once the originals are deleted"),
        0,
        False,
    )


class _Looked(Struct, frozen=True):
    """The result of reading drives and libraries."""

    shelves: list[Shelf]
    begun: list[Begun]
    places: list[KnownPlaces]
    ways: dict[str, Path]


class Planning(QObject):
    """Connects the shelves and the side panel with the core."""

    started = pyqtSignal(object)  # Crossing
    see_crossing = pyqtSignal()
    refreshed = pyqtSignal()
    # Libraries should be searched for; the demo should be opened.
    look_asked = pyqtSignal()
    demo_asked = pyqtSignal()
    see_relink = pyqtSignal(object)  # The library's folder.
    # A recognised, unknown library, or another folder of a known one, was chosen.
    another = pyqtSignal(object)

    def __init__(
        self,
        workspace: Workspace,
        view: ShelvesView,
        panel: SidePanel,
        busy: Callable[[], str],
        parent: QObject,
    ) -> None:
        super().__init__(parent)
        self.workspace, self.view, self.panel = workspace, view, panel
        self.shelves: list[Shelf] = []
        self._held_up = self._looks = self._seen_look = 0
        self._wanted: Path | None = None
        self.recognition = Recognition(workspace.drives)
        self.notes = Notes()
        self.begun: list[Begun] = []
        # True while the panel shows something that a refresh of the drives must not replace.
        self.tells = False
        # True while the panel shows something that is not about the shelves.
        self.held: Callable[[], bool] = lambda: False
        view.touched.connect(self._touched)
        view.chosen.connect(self._chosen)
        view.picked_up.connect(self._picked_up)
        self.drafting = Drafting(workspace, panel, self._targets, busy, self)
        self.drafting.started.connect(self.started)
        self.drafting.left.connect(self.show_chosen)
        self.drafting.failed.connect(self._says)
        self.drafting.read_asked.connect(self._read)
        self.drafting.see_relink.connect(self.see_relink)
        self.adding = Adding(workspace, view, panel, self)
        self.adding.begun.connect(self._begin_adding)
        self.adding.added.connect(self._added)
        self.adding.left.connect(self.show_chosen)
        view.put_down.connect(lambda standing, drive: self.begin_plan(standing, drive.mount))
        view.part_put_down.connect(self.drafting.put_part)
        view.held_over.connect(self._show_folders)
        self._library_page = LibraryPage(panel)
        self.afterwards = Afterwards(workspace, panel, self.show_chosen, self._one_more, self)
        self.afterwards.changed.connect(self.refresh)
        self.afterwards.started.connect(self.started)
        self.learning = Learning(workspace, panel, self._leave_learning, self)
        self.learning.confirmed.connect(self._understood)
        self.learning.proposed.connect(self._show_proposed)

    # -- looking -----------------------------------------------------------------------------------

    def refresh(self) -> None:
        """Reads drives and libraries again, outside the interface thread.

        Of several refreshes at once, the last counts.
        """
        self._looks += 1
        look = self._looks

        def work() -> _Looked:
            found, _ = all_crossings(self.workspace)
            try:
                parked, begun = set_aside(found), begun_again(found)
                copied = copied_bytes(found)
                places = known_places(self.workspace)
                ways = ways_back(found, places)
            finally:
                for c in found:
                    c.close()
            shelves = read_shelves(self.workspace, parked, self.recognition, places, copied)
            return _Looked(shelves, begun, places, ways)

        Task(work, lambda outcome: self._refreshed(look, outcome), self)

    def _refreshed(self, look: int, outcome: Any) -> None:
        if look < self._seen_look:
            return  # A later one has been shown.
        self._seen_look = look
        if isinstance(outcome, BaseException):
            self._not_seen(outcome)
            return
        before, self.shelves, self.begun = self.shelves, outcome.shelves, outcome.begun
        self.afterwards.places, self.afterwards.ways = outcome.places, outcome.ways
        self.notes.look(before, self.shelves, self.begun)
        self.view.show_notes(self.notes.shown())
        self.view.show_shelves(self.shelves, self._wanted)
        if any(s.root == self._wanted for shelf in self.shelves for s in shelf.standings):
            # A refresh that started before it was added does not have it yet.
            self._wanted = None
        self.refreshed.emit()
        self._search_deeper()

    def _not_seen(self, error: BaseException) -> None:
        title = tr("The shelves cannot be shown")
        self.view.say_empty(title)
        back = [(tr("Back to the shelves"), self.show_chosen)] if self.shelves else []
        self._error(title, error, [(tr("Look again"), self._look_again), *back])

    def _look_again(self) -> None:
        self.view.say_empty(tr("Looking at the drives …"))
        self.tells = False
        self.refresh()

    def _search_deeper(self) -> None:
        """Searches deeper in newly connected drives; the result appears on the shelf."""
        new = self.recognition.unsearched([s.drive for s in self.shelves])

        def work() -> bool:
            before = {s.root for shelf in self.shelves for s in shelf.standings}
            for drive in new:
                self.recognition.search(drive)
            return any(r.root not in before for d in new for r in self.recognition.on(d))

        def done(outcome: Any) -> None:
            if isinstance(outcome, BaseException) and not isinstance(
                outcome, (FascisError, OSError)
            ):
                raise outcome
            # A drive that was removed meanwhile is searched when it is back.
            if outcome is True:
                self.refresh()

        if new:
            Task(work, done, self)

    def _drive(self, uuid: str) -> Drive | None:
        return next((s.drive for s in self.shelves if s.drive.uuid == uuid), None)

    def shelf_of(self, uuid: str) -> Shelf | None:
        """The shelf of a drive."""
        return next((s for s in self.shelves if s.drive.uuid == uuid), None)

    def _touched(self) -> None:
        """A person chose another block or drive: the panel's earlier subject is left."""
        self.tells = False
        self.drafting.leave()
        self.afterwards.close()
        self.learning.close()

    def _chosen(self, standing: OnShelf | None) -> None:
        held = self.tells or self.held() or self.afterwards.open or self.learning.open
        # A question stays until it is answered, whatever is looked at again meanwhile.
        held = held or (standing is not None and self._library_page.asks_about(standing))
        if self.drafting.draft is None and not held and self.view.isVisible():
            self.show_library(standing)

    def show_library(self, standing: OnShelf | None) -> None:
        """Shows the chosen library in the panel."""
        if standing is None:
            self.panel.show_nothing(
                tr(
                    "Fascis can look for the folders that hold your work, or you name one. "
                    "Looking writes nothing there."
                ),
                [
                    (tr("Look for libraries on this machine"), self.look_asked.emit),
                    (tr("Add a folder…"), self.adding.ask_library),
                    (tr("Try it with the demo"), self.demo_asked.emit),
                ],
            )
            return
        if standing.says is not None:
            self.another.emit(standing)
            return
        drive = self._drive(standing.drive)
        away = self._away_words(standing)
        best = None if away else self._best(standing)
        full = None
        if drive and standing.summary and standing.home and drive.connected:
            full = (drive.full, max(0.0, drive.full - standing.size / max(drive.capacity, 1)))
        at_home = standing.home and drive is not None and drive.connected
        shelf = self.shelf_of(standing.drive)
        actions = LibraryActions(
            plan=lambda: self.begin_plan(standing, best.mount) if best and not away else None,
            parts=lambda: self._begin_parts(standing, best) if best and not away else None,
            survey=lambda: self.add_library(standing.root),
            forget=lambda: self._forget(standing),
            crossing=self.see_crossing.emit,
            strands=(lambda: self.open_strands(standing)) if at_home and best else None,
            relink=(lambda: self.see_relink.emit(standing.root)) if at_home else None,
            read=(lambda: self.learning.look(standing.root)) if at_home else None,
            readable=self.learning.asks.get(standing.root, 0),
            copies=self.afterwards.actions(standing, best is not None and not away),
        )
        library = OnDisplay(
            standing,
            drive.label if drive else tr("a drive that is away"),
            self.afterwards.known(standing),
            full,
            best.label if best else None,
            [b.sentence for b in self.begun if b.library == standing.library],
            away,
            shelf is not None and shelf.group == "connected",
        )
        self._library_page.show_library(library, actions)

    def _away_words(self, standing: OnShelf) -> str:
        """Says that a library's drive is away, and when it was last seen.

        Empty for a connected one.
        """
        shelf = self.shelf_of(standing.drive)
        if shelf is None or shelf.drive.connected:
            return ""
        when = moment(shelf.seen_at) if shelf.seen_at else tr("some time ago")
        return tr(
            "{label} is away, last seen {when}. Connect it to look at this library or to copy it.",
            label=shown(shelf.drive.label),
            when=when,
        )

    def _best(self, standing: OnShelf) -> Drive | None:
        drives = [
            s.drive
            for s in self.shelves
            if s.group == "connected"
            and s.drive.connected
            and s.drive.uuid != standing.drive
            and not (s.drive.read_only or s.drive.ambiguous or s.drive.errors)
        ]
        fitting = [d for d in drives if d.free > standing.size * 1.02]
        return max(fitting, key=lambda d: (d.rules.links, d.free), default=None)

    def _forget(self, standing: OnShelf) -> None:
        def done(outcome: Any) -> None:
            if isinstance(outcome, BaseException):
                back = (tr("Back to the shelves"), self.show_chosen)
                self._error(tr("It could not be taken off the shelf"), outcome, [back])
            else:
                self.refresh()

        Task(lambda: self.workspace.register.forget_library(standing.id), done, self)

    # -- adding, and reading documents -------------------------------------------------------------

    def add_library(self, root: Path) -> None:
        """Surveys a folder and puts it on its shelf; an open plan is left."""
        self.adding.add_library(root)

    def _begin_adding(self) -> None:
        """A survey is running, or failed: the panel shows it."""
        self.drafting.leave()
        self.tells = True

    def _added(self, surveyed: Surveyed) -> None:
        self.was_added(surveyed.root)
        self.learning.propose(surveyed)

    def read_document(self, document: Path) -> None:
        """Finds where a document of the planned library keeps its paths."""
        if self.drafting.draft is not None:
            self.learning.read(self.drafting.draft.standing.root, document)

    def _read(self, root: Path, place: bytes) -> None:
        """A document of the plan that is not understood should be read."""
        self.learning.read(root, Path(os.fsdecode(os.path.join(bytes(root), place))))

    def _leave_learning(self) -> None:
        if self.drafting.draft is not None:
            self.drafting.show_plan()
        else:
            self.show_chosen()

    def _understood(self, root: Path) -> None:
        """More documents of a library are understood now: it is surveyed again."""
        if self.drafting.draft is not None and self.drafting.draft.standing.root == root:
            self.library_changed(root)
        else:
            self.add_library(root)

    def _show_proposed(self, root: Path) -> None:
        """The possible readings of a library are known now: its page shows them, if visible."""
        chosen = self.view.selected
        if chosen is not None and chosen.root == root:
            self._chosen(chosen)

    def was_added(self, root: Path) -> None:
        """A new library is on its shelf: it is chosen when it is visible there."""
        self._wanted, self.tells = root, False
        self.refresh()

    # -- trying shelves ----------------------------------------------------------------------------

    def _picked_up(self, standing: OnShelf) -> None:
        self._held_up += 1
        turn = self._held_up
        drives = [s.drive for s in self.shelves if s.drive.connected]

        def work() -> tuple[Surveyed, list[Preview]]:
            surveyed = survey_library(self.workspace, standing.root)
            previews = []
            for drive in drives:
                if drive.uuid != standing.drive:
                    previews.append(
                        preview_of(
                            make_plan(self.workspace, surveyed, drive.mount, Choices()), drive
                        )
                    )
            own = next((d for d in drives if d.uuid == standing.drive), None)
            if own and drives:
                previews.append(
                    source_preview(
                        make_plan(self.workspace, surveyed, own.mount, Choices(name="x")), own
                    )
                )
            return surveyed, previews

        Task(work, lambda outcome: self._previewed(turn, outcome), self)

    def _previewed(self, turn: int, outcome: Any) -> None:
        if (
            turn == self._held_up
            and self.view.picked is not None
            and not isinstance(outcome, BaseException)
        ):
            self.view.show_previews(outcome[1])

    # -- the plan ----------------------------------------------------------------------------------

    def begin_plan(
        self,
        standing: OnShelf,
        destination: Path,
        opened: Choice | None = None,
        choices: Choices | None = None,
    ) -> None:
        """Plans a crossing of a library into a folder and shows the plan."""
        self.tells = False
        self.drafting.begin(standing, destination, opened, choices)

    def _begin_parts(self, standing: OnShelf, best: Drive) -> None:
        """The same, with the choice of its parts open."""
        self.begin_plan(standing, best.mount, Choice.WHAT)

    def _one_more(self, standing: OnShelf) -> None:
        """Plans one more copy: home and originals stay as they are."""
        best = self._best(standing)
        if best is not None:
            self.begin_plan(standing, best.mount, choices=Choices(after=After.COPY))

    def open_strands(self, standing: OnShelf) -> None:
        """Opens a library: its strands, with a plan for the most suitable drive."""
        best = self._best(standing)
        if best is not None:
            draft = self.drafting.draft
            if draft is None or draft.standing.id != standing.id:
                self.begin_plan(standing, best.mount)
            self.drafting.see_strands.emit()

    def known_of(self, root: Path) -> tuple[Surveyed | None, int]:
        """The survey of the open plan, if it is for this library.

        And how many files it had lost when last surveyed.
        """
        standing = self._home_at(root)
        lost = standing.summary.standing if standing and standing.summary else {}
        files = sum(lost.get(s, (0, 0))[0] for s in (Standing.MISSING, Standing.AWAY))
        return self.drafting.known_survey(root), files

    def _home_at(self, root: Path) -> OnShelf | None:
        every = (s for shelf in self.shelves for s in shelf.standings)
        return next((s for s in every if s.root == root and s.home), None)

    def library_changed(self, root: Path) -> None:
        """A library's documents were rewritten: it is surveyed again, and its plan made again."""
        self.refresh()
        self.drafting.library_changed(root)

    def plan_with(self, root: Path, ties: dict[bytes, bytes]) -> bool:
        """Plans a crossing whose copy refers to found files.

        False if there is no drive for one.
        """
        draft = self.drafting.draft
        if draft is None or draft.standing.root != root:
            standing = self._home_at(root)
            best = self._best(standing) if standing else None
            if standing is None or best is None:
                self.panel.show_error(
                    tr("There is no drive to plan a crossing to"),
                    tr(
                        "Connect a drive that is large enough, or relink the library here. "
                        "Nothing was changed."
                    ),
                    [(tr("Back to the shelves"), self.show_chosen)],
                )
                return False
            self.begin_plan(standing, best.mount)
        self.drafting.with_ties(ties)
        return True

    def _targets(self, plan: Plan) -> list[Target]:
        """Possible drives for the plan, with the chosen ones."""
        mine = plan.source_drive.uuid if plan.source_drive else ""
        found = [
            Target(s.drive.label, s.drive.mount, s.drive.free)
            for s in self.shelves
            if s.group == "connected" and s.drive.connected and not s.drive.read_only
        ]
        uuids = {s.drive.mount: s.drive.uuid for s in self.shelves}
        found = [t for t in found if uuids[t.folder] != mine]
        for goal in plan.goals[1:]:
            if goal.path not in [t.folder for t in found]:
                name = goal.drive.label if goal.drive else shown(str(goal.path))
                found.append(Target(name, goal.path, goal.drive.free if goal.drive else 0))
        return found

    def _show_folders(self, folder: Path) -> None:
        """Shows the folders in a folder over which a part is dragged."""

        def done(found: Any) -> None:
            if not isinstance(found, BaseException):
                self.view.show_folders(folder, found)

        Task(lambda: folders_in(folder), done, self)

    # -- the panel ---------------------------------------------------------------------------------

    def show_chosen(self) -> None:
        """Shows the chosen drive, or the chosen library."""
        self.tells = False
        if self.view.drive is not None:
            self.view.drive_chosen.emit(self.view.drive)
        else:
            self.show_library(self.view.selected)

    def _says(self) -> None:
        self.tells = True

    def _error(
        self, title: str, error: BaseException, actions: list[tuple[str, Callable[[], None]]]
    ) -> None:
        if not isinstance(error, FascisError):
            raise error
        self.drafting.leave()
        self.tells = True
        self.panel.show_error(title, str(error), actions)
