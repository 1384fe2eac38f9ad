"""A crossing from its plan to its release: what is possible in which state.

Each step can be resumed. Window and command line use only this class. The steps after verification
are up to the person: nothing here deletes on its own.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from fascis.crossing.arrival.bring_along import amendment
from fascis.crossing.arrival.destination import Destination
from fascis.crossing.journal.copies import LISTED_OTHERWISE, Copies
from fascis.crossing.journal.header import PartFacts
from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.which import Which
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.events import Entered, Report, silent
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.notices import HINDRANCE, Notice
from fascis.crossing.model.policy import Act, Facts, acts, waits_for_person, why_not_release
from fascis.crossing.model.states import (
    ARRIVED,
    HINDRANCES,
    UNFINISHED,
    CopyState,
    State,
    check_transition,
)
from fascis.crossing.places.changes import Differences, compare
from fascis.crossing.places.loose import LooseMedia, Sources
from fascis.crossing.places.places import Places, open_source
from fascis.crossing.plan.plan import Plan
from fascis.crossing.receipts.receipt import receipt_html, receipt_json, receipt_of
from fascis.crossing.release.course import (
    lost_there,
    needed_now,
    not_worked_in,
    nothing_needed,
    of_this,
    release,
)
from fascis.crossing.release.followers import (
    crossing_acts,
    give_back_cut_off,
    lead_followers,
    take_back,
)
from fascis.crossing.release.part_aside import moves, park_part, unpark_part, what_goes
from fascis.crossing.release.set_aside import park, unpark
from fascis.crossing.scope.parts import is_in_part
from fascis.crossing.start.begin import begin
from fascis.crossing.start.record import is_known, write_known
from fascis.files.codes import Code, Stays
from fascis.files.control import Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import Cancelled, DriveGone, FascisError, Refused
from fascis.files.names import place_text, shown
from fascis.library.identity import Home
from fascis.library.own import OWN
from fascis.library.register import KnownLibrary
from fascis.library.roles import Role, RoleRule
from fascis.words.figures import listed
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace


class Crossing:
    """One crossing, identified by its journal."""

    def __init__(self, workspace: Workspace, journal: Journal) -> None:
        self.workspace = workspace
        workspace.use_readings()
        self.journal = journal
        self.destinations = [
            Destination(workspace, journal, n) for n in range(len(journal.header.destinations))
        ]

    @classmethod
    def start(
        cls, workspace: Workspace, plan: Plan, decided: bool = False, consent: bool = False
    ) -> Crossing:
        """Writes a plan into a new journal, see :func:`fascis.crossing.start.begin.begin`."""
        return cls(workspace, begin(workspace, plan, decided, consent))

    def close(self) -> None:
        """Closes the journal."""
        self.journal.close()

    @property
    def id(self) -> str:
        """The crossing's id."""
        return self.places.crossing

    @property
    def state(self) -> State:
        """Its present state."""
        return self.journal.state

    @property
    def demanded(self) -> list[Destination]:
        """The destinations that were not given up; the first becomes home."""
        return [d for d in self.destinations if not d.given_up] or self.destinations[:1]

    @property
    def home(self) -> Destination:
        """The destination that becomes home, or is home."""
        return self.demanded[0]

    @property
    def places(self) -> Places:
        """The old place and the new home."""
        return self.home.places

    @property
    def copies(self) -> Copies:
        """The copies in the new home."""
        return self.home.copies

    @property
    def after(self) -> After:
        """What the plan decides about home and originals."""
        return self.places.header.after

    @property
    def wanted_after(self) -> After:
        """What was decided last about home and originals."""
        return After(self.journal.value("after", self.after.value))

    def choose_after(self, after: After) -> None:
        """Decides again about home and originals, at the scales.

        The plan itself does not change.
        """
        self.journal.put("after", after.value)

    @property
    def part(self) -> PartFacts | None:
        """The projects and folders that are copied, if not the whole library."""
        return self.places.header.part

    @property
    def undecided_because(self) -> str:
        """Why it does not continue by itself although it has not arrived.

        Set if a person must decide or do something; otherwise empty.
        """
        if self.state in (State.WAITING, State.FAILED):
            return tr("it waits for a decision")
        if self.state not in UNFINISHED or self.turn is not None:
            return ""
        return str(self.journal.value("refused", ""))

    @property
    def must_look(self) -> bool:
        """True if a person must open the library at its new home before anything is deleted."""
        return bool(self.places.header.references.get("not_understood"))

    @property
    def planned_at(self) -> float:
        """When it was planned, in seconds since 1970."""
        return float(self.journal.header.planned_at)

    @property
    def turn(self) -> float | None:
        """Its turn in the queue, lowest first; None if it is not in the queue."""
        turn: float | None = self.journal.value("turn")
        return turn if self.state in UNFINISHED else None

    def line_up(self, turn: float | None) -> None:
        """Puts it into the queue, or takes it out."""
        self.journal.put("turn", turn)

    def hindrances(self) -> Iterator[tuple[bytes, Notice]]:
        """``(place, why)`` of files that could not be copied."""
        told: set[tuple[bytes, Notice]] = set()
        for destination in self.demanded:
            for item in destination.copies.in_states((*HINDRANCES, CopyState.MISMATCH)):
                assert item.copy
                why = HINDRANCE[item.copy]
                if why is Notice.DAMAGED and item.known == LISTED_OTHERWISE:
                    why = Notice.LIST_MISMATCH
                if (item.place, why) not in told:
                    yield item.place, why
                    if len(self.demanded) > 1:
                        told.add((item.place, why))

    @property
    def verified(self) -> tuple[int, int]:
        """``(files, bytes)`` read back and equal on every required destination."""
        return min(d.copies.verified() for d in self.demanded)

    @property
    def proven(self) -> bool:
        """True if every copy on every required destination was read from the drive itself."""
        return all(d.copies.proven() for d in self.demanded)

    # -- up to settled -----------------------------------------------------------------------------

    def run(
        self, control: Control | None = None, report: Report = silent, skip_unreadable: bool = False
    ) -> State:
        """Copies, verifies and settles on all destinations at once.

        Returns the state reached: settled, waiting or failed. A destination that fails does not
        stop another.

        Raises:
            EnvironmentTrouble: a drive failed; what is verified is kept, and ``run`` goes on from
                there.
            Refused: another crossing holds the library, or a place is not what it was.
            Cancelled: by the control.
        """
        control = control or Control()
        if self.state not in UNFINISHED:
            return self.state
        if self.is_taking_back:
            self.undo()
            return self.state
        for destination in self.destinations:
            destination.look()
        if self.turn is not None:
            # Its turn has come; if it stops, the next one still runs.
            self.line_up(None)
        begun = time.monotonic()
        source = open_source(self.workspace, self.places)
        try:
            if self.state is State.PLANNED and not is_known(self.journal):
                # Its start was interrupted.
                self.journal.keep_room()
                write_known(self.workspace, self.journal, self.places.source)
            error = self._run(source, control, report, skip_unreadable)
        finally:
            source.close()
            self.journal.put(
                "seconds", self.journal.value("seconds", 0.0) + time.monotonic() - begun
            )
        self._conclude_run()
        self.journal.put("refused", str(error) if isinstance(error, Refused) else "")
        if error is not None:
            raise error
        report(Entered(self.state))
        return self.state

    def _run(
        self, source: Medium, control: Control, report: Report, skip: bool
    ) -> BaseException | None:
        """Runs every destination that has not settled; returns the first error."""
        todo = [d for d in self.demanded if d.state is not State.SETTLED]
        if todo:
            self.journal.enter(State.COPYING)
        home = self._home()
        sources = Sources(source, LooseMedia(self.workspace))

        def one(destination: Destination) -> FascisError | None:
            try:
                destination.run(sources, home, self._receipts, control, report, skip)
            except FascisError as error:
                # Only one of them can be raised.
                if len(todo) > 1 and not isinstance(error, Cancelled):
                    destination.note(destination.places.staging, str(error))
                return error
            return None

        with closing(sources.loose), ThreadPoolExecutor(max(len(todo), 1), "destination") as pool:
            errors = [e for e in pool.map(one, todo) if e]
        return next(
            (e for e in errors if not isinstance(e, Cancelled)), errors[0] if errors else None
        )

    def _conclude_run(self) -> None:
        """Sets the crossing's state by the states of its destinations."""
        states = {d.state for d in self.demanded}
        if states == {State.SETTLED}:
            if self.state is not State.SETTLED:
                self.journal.enter(State.VERIFYING)
                self.journal.enter(State.SETTLED, settled_at=self.workspace.clock())
                if self.part and self.after is After.COPY:
                    self._put_home(
                        self.places.target, self.places.home_there, self.places.header.name
                    )
                self.rewrite_receipt()
        elif states in ({State.FAILED}, {State.VERIFYING}):
            self.journal.enter(states.pop())
        elif states & {State.SETTLED, State.WAITING, State.FAILED}:
            self.journal.enter(State.WAITING)

    def _home(self) -> Home:
        # A part is a library of its own, wherever the rest is at home.
        stays = self.after is After.COPY and not self.part
        return self.places.home_here if stays else self.places.home_there

    def _receipts(self) -> tuple[bytes, bytes]:
        record = receipt_of(self.journal)
        return receipt_json(record), receipt_html(record)

    def rewrite_receipt(self) -> None:
        """Writes the present receipt into every copy."""
        for destination in self.demanded:
            destination.write_receipt(self._receipts)

    def go_without(self, destination: Destination) -> None:
        """Gives up one of two destinations and clears what was started there, if it is connected.

        A whole copy there stays.

        Raises:
            Refused: it is the only one, it is home already, or the originals are gone.
            EnvironmentTrouble: what was copied could not be cleared.
        """
        if self.state in (State.RELEASED, State.UNDONE):
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "State of the crossing: {state}. It is too late to give it up.",
                    state=self.state.words,
                ),
            )
        if [d.number for d in self.demanded] == [destination.number]:
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "{label} is the only destination; give up the crossing instead.",
                    label=destination.label,
                ),
            )
        if self.state in (State.SWITCHED, State.PARKED) and destination.number == self.home.number:
            raise Refused(
                Code.WRONG_STATE,
                tr("{label} is home. Undo the switch first.", label=destination.label),
            )
        try:
            destination.take_back()
            destination.clear()
        except DriveGone:
            destination.note(
                destination.places.staging,
                tr(
                    "the part of the copy there could not be removed, because the "
                    "drive is away; it is in this folder"
                ),
            )
        destination.copies.enter(State.UNDONE)
        destination.look()
        if self.state in UNFINISHED:
            self._conclude_run()

    # -- the steps after verification --------------------------------------------------------------

    def looked(self) -> None:
        """Records that the person has looked at the copy at its new path."""
        self.journal.put("looked_at", self.workspace.clock())

    def look_again(self, control: Control | None = None) -> Differences:
        """Surveys the originals again and compares; writes nothing into them."""
        with closing(open_source(self.workspace, self.places, lock=False)) as source:
            return self._compare(source, control or Control())

    def _compare(self, source: Medium, control: Control) -> Differences:
        return compare(source, [d.copies for d in self.demanded], control.checkpoint)

    def bring_along(self, control: Control | None = None, report: Report = silent) -> State:
        """Copies, verifies and settles files that changed at the old place.

        Returns the state reached, like :meth:`run`.

        Raises:
            Refused: the library has not settled, or a file was changed at both places.
            EnvironmentTrouble: a drive failed; ``run`` goes on from there.
        """
        if self.state is State.SETTLED:
            header = self.places.header
            for destination in self.demanded:
                destination.open().close()
            with closing(open_source(self.workspace, self.places)) as source:
                found = self.goes_along(self._compare(source, control or Control()))
                if not found.newer:
                    return self.state
                rule = RoleRule((header.identity or {}).get("roles"))
                leave_out = frozenset(map(Role, header.leave_out))
                rules = [d.drive().rules for d in self.demanded]
                parts = amendment(self.copies, source, found, rule, leave_out, rules)
            self.journal.amend(*parts, [d.number for d in self.demanded])
        return self.run(control, report)

    def leave_newer(self, newer: list[bytes]) -> None:
        """Decides that files that changed at the old place stay there.

        They are not copied and never deleted.
        """
        before = self.journal.value("left_newer", [])
        self.journal.put("left_newer", sorted({*before, *(place_text(p) for p in newer)}))

    def take_damaged(self) -> None:
        """Decides that damaged files are copied as they are.

        Their originals are never deleted.
        """
        self.journal.put("take_damaged", True)

    def undecided(self, control: Control | None = None) -> list[bytes]:
        """Files that changed at the old place and are neither copied nor left by decision."""
        return self._undecided(self.look_again(control))

    def _undecided(self, found: Differences) -> list[bytes]:
        left = set(self.journal.value("left_newer", []))
        newer = self.goes_along(found).newer
        # Files kept by a repair are not a person's work; they stay, like all unknown files.
        return [p for p in newer if place_text(p) not in left and not p.startswith(OWN + b"/")]

    def goes_along(self, found: Differences) -> Differences:
        """The differences, without files that were never to be copied.

        Left out, skipped, special.
        """

        def copied(place: bytes) -> bool:
            item = self.copies.at(place)
            return (
                item is not None and item.fate is Fate.COPY and item.copy is not CopyState.SKIPPED
            )

        appeared = [p for p in found.appeared if is_in_part(p, self.part)]
        return replace(found, changed=[p for p in found.changed if copied(p)], appeared=appeared)

    def switch(self, control: Control | None = None) -> None:
        """Makes the new place the library's home. :meth:`undo` reverses this.

        Raises:
            Cancelled: by the control, before anything is changed.
            Refused: something became newer at the old place, and it is not decided what becomes of
                it.
        """
        check_transition(self.state, State.SWITCHED)
        self._check_lets(Act.SWITCH)
        self._check_not_taking_back()
        if newer := self.undecided(control):
            raise Refused(
                Code.CHANGED_SINCE_SURVEY,
                trn(
                    "{n} file changed at the old place since: {first}. Copy it too, or leave it "
                    "there; home has not changed.",
                    "{n} files changed at the old place since, {first} first. Copy them too, or "
                    "leave them there; home has not changed.",
                    len(newer),
                    first=shown(newer[0]),
                ),
            )
        self.home.open().close()
        self.check_balance()
        if self.places.header.follows:
            self._lead_followers(control or Control())
        clock = self.workspace.clock
        stands = self.places.goal.joins
        if (
            not stands
            and self.journal.value("home_before") is None
            and (known := self._known_home())
        ):
            self.journal.put(
                "home_before", {"root": str(known.root), "drive": known.drive, "name": known.name}
            )
        act = self.journal.open_act("switch") or self.journal.intend(
            "switch", tr("home is {home}", home=shown(str(self.places.told))), clock()
        )
        self._put_home(self.places.target, self.places.home_there, self.places.header.name)
        self.journal.enter(State.SWITCHED)
        self._remember_originals()
        self.journal.conclude(act, "done", clock())
        self.rewrite_receipt()

    def _remember_originals(self) -> None:
        """Stores in the register where the originals of a library are while home is elsewhere."""
        places, register = self.places, self.workspace.register
        if self.part or places.goal.joins or places.header.document:
            return
        id, drive = places.header.library_id, places.header.source_drive.uuid
        for root in (places.old_root, places.parked_path):
            register.forget_originals(id, root)
        if self.state in (State.PARKED, State.RELEASED):
            register.forget_copy(id, places.old_root)
        if self.state is State.SWITCHED:
            register.put_originals(id, places.old_root, drive, "originals")
        elif self.state is State.PARKED:
            register.put_originals(id, places.parked_path, drive, "aside")

    def check_balance(self) -> None:
        """Refuses to continue while a reference leads to other content than before.

        Raises:
            Refused: one does.
        """
        for destination in self.demanded:
            opened = destination.opened()
            if opened and opened.wrong:
                raise Refused(
                    Code.OUT_OF_BALANCE,
                    trn(
                        "{n} reference leads to other content at the new place than before, or "
                        "to none: {wrong}. Home has not changed, and no original was touched. "
                        "Take the crossing back, or correct that document there.",
                        "{n} references lead to other content at the new place than before, or "
                        "to none: {wrong}. Home has not changed, and no original was touched. "
                        "Take the crossing back, or correct that document there.",
                        len(opened.wrong),
                        wrong=opened.wrong[0],
                    ),
                )

    def _known_home(self) -> KnownLibrary | None:
        """The home of this library in the register."""
        id = self.places.header.library_id
        return next((x for x in self.workspace.register.libraries() if x.id == id), None)

    def _put_home(self, root: Path, home: Home, name: str) -> None:
        header = self.places.header
        if self.places.goal.joins:
            # It is part of an existing library, which has its own home.
            return
        self.workspace.register.put_library(
            root, home.drive, shown(name), header.kind, header.library_id
        )
        for destination in self.demanded:
            destination.write_home(home)

    def _lead_followers(self, control: Control) -> list[Path]:
        """Updates documents that stay, but never to a file that differs from its original."""
        differs = set(self.look_again(control).newer).union(*lost_there(self.demanded, control))
        return lead_followers(self.workspace, self.places, self.copies, control, differs)

    def lead_others(self, control: Control | None = None) -> list[Path]:
        """Updates documents of other libraries that use these originals; returns which.

        Nothing needs these originals then. Undone together with the switch.

        Raises:
            Refused: a document cannot be led there, or one is held; none was changed.
            EnvironmentTrouble: a drive failed; what was changed was taken back.
        """
        if self.state is not State.SWITCHED:
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "State of the crossing: {state}. Other libraries can use the new place once "
                    "home is there, and before the originals are set aside. Nothing was "
                    "changed.",
                    state=self.state.words,
                ),
            )
        self._check_not_taking_back()
        self.home.open().close()
        self.check_balance()
        led = self._lead_followers(control or Control())
        self.rewrite_receipt()
        if not led:
            self._say_why_none_was_led(control or Control())
        return led

    def _say_why_none_was_led(self, control: Control) -> None:
        if not self.part and not self.places.header.document:
            try:
                nothing_needed(self.workspace, self.demanded, control)
            except Refused as needed:
                raise Refused(
                    Code.WOULD_BREAK,
                    tr(
                        "An original that another library uses, or its copy, was changed since it "
                        "was copied. That library keeps using the original, and no document was "
                        "changed. {needed}",
                        needed=needed,
                    ),
                ) from needed

    def park(self) -> Path:
        """Sets the originals aside, which frees no space; returns where they are then.

        Raises:
            Refused: something is newer at the old place, a program writes there, or it cannot be
                done in one rename.
        """
        if self.state is State.PARKED:
            return self.places.parked_path
        check_transition(self.state, State.PARKED)
        self._check_not_taking_back()
        self._check_home_is_elsewhere()
        self.home.open().close()
        self.check_balance()
        if self.part:
            return self._park_part()
        if not self.places.header.document:
            nothing_needed(self.workspace, self.demanded, Control())
        with closing(open_source(self.workspace, self.places)) as source:
            # Checked again while the originals are locked.
            check_transition(self.state, State.PARKED)
            found = self._compare(source, Control())
            not_worked_in(found)
            newer = self._undecided(found)
            if newer and self.places.origin() != self.places.parked_path:
                raise Refused(
                    Code.CHANGED_SINCE_SURVEY,
                    trn(
                        "{n} file is newer at the old place: {first}. Nothing was set aside.",
                        "{n} files are newer at the old place, {first} first. Nothing was set "
                        "aside.",
                        len(newer),
                        first=shown(newer[0]),
                    ),
                )
            park(self.workspace, self.journal, self.places)
        on = self.workspace.clock()
        self.journal.enter(State.PARKED, parked_at=str(self.places.parked_path), parked_on=on)
        self._remember_originals()
        self.rewrite_receipt()
        return self.places.parked_path

    def _park_part(self) -> Path:
        """Sets aside what would be deleted of a part; files that others need stay."""
        control = Control()
        give_back_cut_off(self.workspace)
        lost = {place for one in lost_there(self.demanded, control) for place in one}
        with closing(open_source(self.workspace, self.places)) as source:
            check_transition(self.state, State.PARKED)
            found = self._compare(source, control)
            not_worked_in(of_this(found, self.copies))
            # After an interruption it continues with the same files. Newer files there stay.
            what = list(self.journal.aside()) or self._goes_of_part(
                source, {*lost, *found.newer}, control
            )
            if what:
                park_part(self.workspace, self.journal, self.places, what)
        # If others need all of it, nothing is set aside.
        where = str(self.places.parked_path) if what else None
        self.journal.enter(State.PARKED, parked_at=where, parked_on=self.workspace.clock())
        self.rewrite_receipt()
        return self.places.parked_path

    def _goes_of_part(self, source: Medium, stays: set[bytes], control: Control) -> list[bytes]:
        needed = needed_now(self.workspace, self.places, self.copies, stays, control)
        top = os.path.realpath(os.fsencode(self.places.origin())).rstrip(b"/") + b"/"
        stays |= {path[len(top) :] for path in needed if path.startswith(top)}
        goes = {i.place: i for i in what_goes([d.copies for d in self.demanded], stays)}
        return moves(source, self.copies, goes)

    def put_back(self) -> None:
        """Moves the originals back from where they were set aside; does nothing if they are back.

        Raises:
            Refused: they are not set aside, or something else has their old name by now.
        """
        if self.state is State.SWITCHED:
            return
        self._check_lets(Act.PUT_BACK)
        self._unpark()
        self.journal.enter(State.SWITCHED, parked_at=None)
        self._remember_originals()
        self.rewrite_receipt()

    def _unpark(self) -> None:
        """Moves a library's originals back."""
        if not self.part:
            unpark(self.workspace, self.journal, self.places)
            return
        with closing(open_source(self.workspace, self.places)):
            self._unpark_part()

    def _unpark_part(self) -> None:
        """Moves a part's originals back; its library is locked."""
        copies = [d.copies for d in self.demanded]
        unpark_part(self.workspace, self.places, copies)

    def _check_lets(self, act: Act) -> None:
        """Refuses what the policy does not allow in this state."""
        if act not in acts(self.state):
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "State of the crossing: {state}. That cannot be done now. Nothing changed.",
                    state=self.state.words,
                ),
            )

    def prove(self, control: Control | None = None) -> bool:
        """Reads every copy again that was only compared; True if all of them are proven.

        Raises:
            EnvironmentTrouble: its drive is away or failed.
        """
        for destination in self.demanded:
            destination.prove(control or Control())
        return self.proven

    def accept_comparison(self) -> None:
        """The person confirms that a comparison is enough for a drive that cannot prove more."""
        self.journal.put("accepts_comparison", self.workspace.clock())

    @property
    def comparison_accepted(self) -> bool:
        """True if that was confirmed."""
        return bool(self.journal.value("accepts_comparison"))

    def release(
        self,
        control: Control | None = None,
        report: Report = silent,
        compared: bool = False,
        also_stays: Mapping[bytes, Stays] | None = None,
    ) -> dict[str, Any]:
        """Deletes the originals whose copies are verified; returns the record of it.

        Only with the person's explicit confirmation.

        Args:
            compared: the person confirmed that a comparison is enough if no more is possible, see
                :meth:`accept_comparison`.
            also_stays: for one part of a split, originals that stay because another part needs
                them; without it, a single part cannot be released.

        Raises:
            Refused: the copy is not proven or not what was verified; nothing was deleted.
            EnvironmentTrouble: a drive failed; resume goes on.
        """
        control = control or Control()
        split = self.places.header.split
        if split and also_stays is None:
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "This is one of {of} parts of a split: their originals are deleted "
                    "together (fascis release {id}). No original was deleted.",
                    of=split.of,
                    id=split.id,
                ),
            )
        if self.state is not State.RELEASED:
            check_transition(self.state, State.RELEASED)
        self._check_not_taking_back()
        self._check_home_is_elsewhere()
        self.check_balance()
        if why_not_release(self._facts(even=True)) is Code.NOT_LOOKED:
            raise Refused(
                Code.NOT_LOOKED,
                tr(
                    "Documents of this library are not understood; what they refer to is not "
                    "known. Open it from its new home and look first. No original was "
                    "deleted."
                ),
            )
        proven = self.prove(control)
        all_compared = all(d.only_compared or d.copies.proven() for d in self.demanded)
        if not proven and all_compared and compared:
            self.accept_comparison()
        if not proven and not (all_compared and self.comparison_accepted):
            label = next(d.label for d in self.demanded if not d.copies.proven())
            if all_compared:
                raise Refused(
                    Code.ONLY_COMPARED,
                    tr(
                        "The copy on {label} was read once more after the drive was connected "
                        "again, and is equal. This drive's driver never shows whether what is "
                        "read comes from the drive itself, so a comparison is all that is "
                        "possible here. The originals are deleted only with your explicit "
                        "confirmation that it is enough: --compared. No original was deleted.",
                        label=label,
                    ),
                )
            raise Refused(
                Code.NOT_PROVEN,
                tr(
                    "The copy on {label} was read back, perhaps from memory: this drive's "
                    "driver does not prove that what is read comes from the drive. Remove "
                    "{label} safely, connect it again, then release: it is read once more "
                    "then. No original was deleted.",
                    label=label,
                ),
            )
        if self.part and self.journal.aside():
            # Each is checked and deleted at its old path.
            self._unpark()
            if self.state is State.PARKED:
                self.journal.enter(State.SWITCHED, parked_at=None)
        stays = also_stays or {}
        record = release(self.workspace, self.journal, self.demanded, control, report, stays)
        self.journal.enter(State.RELEASED, release=record, parked_at=record["stays_at"])
        self._remember_originals()
        self.journal.free_room()
        if self.places.goal.joins and not self.part:
            self._remember_where_it_joined()
        self.rewrite_receipt()
        report(Entered(State.RELEASED))
        return record

    def _remember_where_it_joined(self) -> None:
        """A library that became part of another one is no longer a library of its own.

        Except if the other one is unknown here, or if copies are left: these still need what they
        refer to, and are found by its id.
        """
        places, register = self.places, self.workspace.register
        header, known = places.header, {x.id for x in register.libraries()}
        left = [c for c in register.copies(header.whole) if c.root != places.old_root]
        if places.goal.library in known and not left:
            register.forget_library(header.whole)
            return
        landed = register.library_at(places.told)
        if landed is not None and landed.id != header.whole:
            register.forget_library(landed.id)
        drive = places.home_there.drive
        register.put_library(places.told, drive, shown(header.name), header.kind, header.whole)

    def _facts(self, even: bool) -> Facts:
        """What decides about a release, as if all copies were proven; that is handled last."""
        looked = bool(self.journal.value("looked_at"))
        return Facts(self.state, self.wanted_after, looked, self.must_look, even=even)

    @property
    def is_taking_back(self) -> bool:
        """True if an undo was started and interrupted.

        It is finished before anything else.
        """
        return self.journal.open_act("undo") is not None

    def _check_not_taking_back(self) -> None:
        if self.is_taking_back:
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "Taking this crossing back was begun and cut off; that is finished "
                    "first: fascis undo. Nothing was deleted."
                ),
            )

    def _check_home_is_elsewhere(self) -> None:
        """Leaves originals alone that are home again after a later crossing brought them back.

        Raises:
            Refused: they are.
        """
        known = None if self.part else self._known_home()
        if known and os.path.realpath(known.root) == os.path.realpath(self.places.origin()):
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "{root} is home again: these are no originals to be set aside or deleted "
                    "any more. Nothing was touched.",
                    root=shown(str(known.root)),
                ),
            )

    def undo(self) -> str:
        """Returns home to the old place, or gives up an unfinished crossing; reports the result.

        Never deletes a whole copy.

        Raises:
            Refused: the originals are not there, deleting them was begun, or another act holds
                them. Nothing was changed.
            EnvironmentTrouble: a drive is away or failed; called again, it goes on.
        """
        check_transition(self.state, State.UNDONE)
        try:
            said = self._undo()
        except Refused as refusal:
            if (act := self.journal.open_act("undo")) is not None:
                self.journal.conclude(
                    act, tr("refused: {why}", why=refusal), self.workspace.clock()
                )
            raise
        if (act := self.journal.open_act("undo")) is not None:
            self.journal.conclude(act, "done", self.workspace.clock())
        self.journal.free_room()
        return said

    def _undo(self) -> str:
        state, demanded = self.state, self.demanded
        old, new = (
            shown(str(self.places.source)),
            listed([shown(str(d.places.told)) for d in demanded]),
        )
        if any(d.copies.amending for d in demanded):
            self._intend_undo()
            for destination in demanded:
                destination.take_back()
            self.journal.enter(State.UNDONE, parked_at=None)
            return tr(
                "Home is {old}, as it was. The copy at {new} stays; what was being "
                "brought along is cleared.",
                old=old,
                new=new,
            )
        if state in UNFINISHED:
            said = self._give_up(old)
            self.journal.enter(State.UNDONE, parked_at=None)
            return said
        self._check_old_place()
        with closing(open_source(self.workspace, self.places)) as source:
            # Checked again while the originals are locked: nothing else is under way.
            check_transition(self.state, State.UNDONE)
            self._check_old_place()
            if self.part and self.journal.aside():
                self._intend_undo()
                self._unpark_part()
            gone = len(of_this(self._compare(source, Control()), self.copies).gone)
            self._intend_undo()
            # If others were updated later, or that was interrupted, their acts show it.
            if (
                self.places.header.follows
                or crossing_acts(self.workspace, self.places).of_crossing()
            ):
                take_back(self.workspace, self.places, self.copies, self.places.origin())
            if state is State.PARKED and not self.part:
                unpark(self.workspace, self.journal, self.places)
            self._give_home_back()
            self.journal.enter(State.UNDONE, parked_at=None)
        self._remember_originals()
        self.rewrite_receipt()
        if not gone:
            how = "complete"
        else:
            how = trn(
                "but for {n} file that somebody took away there",
                "but for {n} files that somebody took away there",
                gone,
            )
        return tr(
            "Home is {old} again, {how}. The copy at {new} stays; nothing of it was deleted.",
            old=old,
            how=how,
            new=new,
        )

    def _intend_undo(self) -> None:
        if not self.is_taking_back:
            self.journal.intend("undo", shown(str(self.places.source)), self.workspace.clock())

    def _check_old_place(self) -> None:
        """Checks on the drive that the originals are there and that deleting has not started.

        Raises:
            Refused: it is not so.
        """
        old, label = shown(str(self.places.source)), listed([d.label for d in self.demanded])
        if self.places.standing() is None:
            raise Refused(
                Code.WRONG_STATE,
                tr(
                    "The originals are no longer at {old}. Home stays on {label}.",
                    old=old,
                    label=label,
                ),
            )
        deleted = self.copies.sums(Which.DELETED)[0]
        if deleted or self.journal.open_act("release") is not None:
            raise Refused(
                Code.WRONG_STATE,
                trn(
                    "Deleting the originals was begun: {n} file is gone from {old}, so home "
                    "cannot be given back complete. It stays on {label}, whole and verified.",
                    "Deleting the originals was begun: {n} files are gone from {old}, so "
                    "home cannot be given back complete. It stays on {label}, whole and "
                    "verified.",
                    deleted,
                    old=old,
                    label=label,
                ),
            )

    def _give_home_back(self) -> None:
        """Home is where it was before the switch.

        A part, which had no home of its own, is removed from the register.
        """
        header = self.places.header
        if self.places.goal.joins:
            return
        if self.part:
            self.workspace.register.forget_library(header.library_id)
            return
        before = self.journal.value("home_before")
        self._put_home(self.places.old_root, self.places.home_here, header.called or header.name)
        if before and Path(before["root"]) != self.places.old_root:
            root, drive = Path(before["root"]), before["drive"]
            self.workspace.register.put_library(
                root, drive, before["name"], header.kind, header.library_id
            )

    def _give_up(self, old: str) -> str:
        if os.path.lexists(self.places.source):
            source = open_source(self.workspace, self.places)
        else:
            source = None
        try:
            # Checked again while the originals are locked.
            check_transition(self.state, State.UNDONE)
            self._intend_undo()
            theirs = [beside for d in self.demanded if (beside := d.clear())]
        finally:
            if source:
                source.close()
        said = tr(
            "Given up. What was copied is cleared; the library is at {old} as it was.", old=old
        )
        sentences = [said]
        if theirs:
            sentences.append(
                tr(
                    "Files that somebody added or changed there meanwhile are kept, in {theirs}.",
                    theirs=shown(str(theirs[0])),
                )
            )
        if whole := [shown(str(d.places.told)) for d in self.demanded if d.whole]:
            sentences.append(tr("The complete copy at {whole} is kept.", whole=whole[0]))
        return " ".join(sentences)

    # -- going on as the plan says -----------------------------------------------------------------

    def advance(
        self, consent: bool, control: Control | None = None, report: Report = silent
    ) -> State:
        """Continues from settled as far as the plan says; a release only with consent."""
        if self.is_taking_back:
            self.undo()
            return self.state
        after = self.wanted_after
        if self.state is State.SETTLED and after is not After.COPY:
            self.switch(control)
            report(Entered(self.state))
        if self.state is State.SWITCHED and after is After.PARK:
            self.park()
            report(Entered(self.state))
        may_go = why_not_release(self._facts(even=True)) is None
        if consent and after is After.RELEASE and may_go and self.state is not State.RELEASED:
            self.release(control, report)
        return self.state

    @property
    def finished(self) -> bool:
        """True if the plan has nothing left to do by itself."""
        if self.state in (State.RELEASED, State.UNDONE):
            return True
        return self.state in ARRIVED and not self.wants_more and not self.is_taking_back

    @property
    def wants_more(self) -> bool:
        """True if the plan goes further than the present state."""
        after = self.wanted_after
        if after is After.RELEASE and not self.places.header.consent:
            # Nothing is deleted without the person's confirmation.
            after = After.KEEP
        return waits_for_person(self.state, after)
