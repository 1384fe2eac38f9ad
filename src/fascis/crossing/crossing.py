"""A crossing from its plan to its release: what may be done in which state, each step resumable.

The faces speak to this class alone. Steps after verification are the person's: nothing here deletes by itself.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing, contextmanager
from dataclasses import replace
from pathlib import Path
from types import MappingProxyType
from typing import Any, TypeVar

from fascis.crossing.along import amendment, move_in, take_back
from fascis.crossing.copying import Buffers, remove_staged
from fascis.crossing.engine import Engine, Side
from fascis.crossing.events import Control, Entered, Report, silent
from fascis.crossing.journal import HINDRANCES, CopyState, Fate, Journal, arrives_at, inode_key, read_header
from fascis.crossing.park import park, unpark
from fascis.crossing.places import (
    TOKEN_FILE,
    Places,
    begin_staging,
    fidelity,
    has_arrived,
    is_arriving,
    open_copy,
    open_destination,
    open_source,
)
from fascis.crossing.plan import After, Plan, landmarks
from fascis.crossing.proof import Proof
from fascis.crossing.prove import prove
from fascis.crossing.receipt import receipt_html, receipt_json, receipt_of
from fascis.crossing.release import Release, left_behind
from fascis.crossing.settle import clear_staging, settle, withdraw
from fascis.crossing.space import free_now, settle_down, shortfall
from fascis.crossing.states import ARRIVED, UNFINISHED, State, check_transition
from fascis.crossing.still import Differences, compare, worked_in
from fascis.drives.model import Drive
from fascis.drives.udisks import mount_again
from fascis.files.errors import Cancelled, Damaged, EnvironmentTrouble, FascisError, Refused
from fascis.files.kernel import boot_id, mount_identity
from fascis.files.medium import Medium, read_small
from fascis.files.names import join, parent, place_text, shown
from fascis.files.walk import open_folder
from fascis.files.writer import write_whole
from fascis.library.identity import IDENTITY, OWN, Home, format_identity, parse_identity
from fascis.library.roles import Role, RoleRule
from fascis.workspace import Workspace

T = TypeVar("T")


def _drive_facts(drive: Drive) -> dict[str, Any]:
    return {
        "uuid": drive.uuid,
        "label": drive.label,
        "filesystem": drive.filesystem,
        "stand_in": drive.stand_in,
        "mount": str(drive.mount),
    }


class Crossing:
    """One crossing, known by its journal."""

    def __init__(self, workspace: Workspace, journal: Journal) -> None:
        self.workspace = workspace
        self.journal = journal
        self.places = Places(journal.header)

    # -- beginning and finding ------------------------------------------------------------------------------------

    @classmethod
    def start(cls, workspace: Workspace, plan: Plan, decided: bool = False, consent: bool = False) -> Crossing:
        """Writes a plan into a new journal.

        Args:
            decided: the person accepted what needs a decision.
            consent: the person consented to a release at the start.

        Raises:
            Refused: a problem stops it, or needs a decision that was not taken; nothing was written.
        """
        worst = next((p for p in plan.problems if p.severity == "stops"), None)
        if worst is None and plan.asks and not decided:
            worst = next(p for p in plan.problems if p.severity == "decision")
        if worst is not None:
            raise Refused(worst.code, worst.sentence)
        source_drive, drive = plan.source_drive, plan.destination_drive
        assert source_drive and drive
        library_id = workspace.register.put_library(
            plan.source, source_drive.uuid, shown(plan.name), plan.kind, plan.library_id or None
        )
        workspace.register.put_drives([source_drive, drive])
        header = {
            "crossing": plan.crossing,
            "token": plan.token,
            "library_id": library_id,
            "name": plan.name,
            "kind": plan.kind,
            "source": str(plan.source),
            "source_drive": _drive_facts(source_drive),
            "root_inode": inode_key(plan.survey.root_inode),
            "stable_inodes": source_drive.rules.stable_inodes,
            "landmarks": landmarks(plan.survey),
            "destination": str(plan.destination),
            "destination_drive": _drive_facts(drive),
            "after": plan.choices.after.value,
            "leave_out": sorted(r.value for r in plan.choices.leave_out),
            "planned_at": workspace.clock(),
            "estimate": plan.estimate.seconds,
            "consent": consent,
            "identity": plan.identity.model_dump(mode="json", by_alias=True) if plan.identity else None,
            "decisions": [p.sentence for p in plan.problems if p.severity == "decision"],
        }
        path = workspace.crossings / f"{plan.crossing}.sqlite"
        journal = Journal.create(path, workspace.step)
        journal.write_plan(header, plan.survey, plan.choices.leave_out, drive.rules.links)
        try:
            journal.keep_room()
        except EnvironmentTrouble as error:
            journal.enter(State.UNDONE)
            journal.close()
            raise Refused(
                "no-room-for-journal",
                f"{error} The journal of so many files needs room on the drive it is kept on; nothing was copied.",
            ) from error
        return cls(workspace, journal)

    @classmethod
    def open(cls, workspace: Workspace, id: str) -> Crossing:
        """Opens a known crossing by an id or a unique beginning of one.

        Raises:
            Refused: there is none such, or several.
            Damaged: its journal is damaged.
        """
        found = [p for p in journals(workspace) if p.stem.startswith(id)]
        if len(found) != 1:
            what = "no crossing" if not found else f"{len(found)} crossings"
            raise Refused("wrong-state", f"There is {what} whose id begins with {shown(id)}.")
        return cls(workspace, Journal.open(found[0], workspace.step))

    def close(self) -> None:
        """Closes the journal."""
        self.journal.close()

    @property
    def id(self) -> str:
        """The crossing's id."""
        return self.places.crossing

    @property
    def state(self) -> State:
        """Where it is."""
        return self.journal.state

    @property
    def after(self) -> After:
        """What the plan says becomes of home and originals."""
        return After(self.places.header["after"])

    def choose_after(self, after: After) -> None:
        """What becomes of home and originals, decided anew at the scales; the plan itself stays as it was."""
        self.journal.put("after", after.value)

    def hindrances(self) -> Iterator[tuple[bytes, CopyState]]:
        """``(place, state)`` of files that could not be copied."""
        marks = ",".join(str(int(s)) for s in (*HINDRANCES, CopyState.MISMATCH))
        for item in self.journal.items(f"c.state IN ({marks})"):
            assert item.copy
            yield item.place, item.copy

    # -- up to settled --------------------------------------------------------------------------------------------

    def run(self, control: Control | None = None, report: Report = silent, skip_unreadable: bool = False) -> State:
        """Copies, verifies and settles; gives the state reached: settled, waiting or failed.

        Raises:
            EnvironmentTrouble: a drive failed; what is verified is kept, and ``run`` goes on from there.
            Refused: another crossing holds the library, or a place is not what it was.
            Cancelled: by the control.
        """
        control = control or Control()
        if self.state not in UNFINISHED:
            return self.state
        begun = time.monotonic()
        source = open_source(self.workspace, self.places)
        try:
            self._at_destination(self._begin_session)
            verified = self._at_destination(lambda d: self._copy_all(source, d, control, report, skip_unreadable))
            if verified and not self.journal.proven() and self._mounted_again():
                wrong = self._at_destination(lambda d: self._prove_staged(d, control))
                if wrong:  # made anew, and then only compared: it is not mounted again and again
                    verified = self._at_destination(lambda d: self._copy_all(source, d, control, report, False))
            if verified:
                self.journal.enter(State.VERIFYING)
                self._at_destination(lambda d: self._settle(source, d, self._drive()))
            self.journal.end_session()
        except (Cancelled, Refused):
            self.journal.end_session()
            raise
        finally:
            source.close()
            self.journal.put("seconds", self.journal.value("seconds", 0.0) + time.monotonic() - begun)
        report(Entered(self.state))
        return self.state

    def _drive(self) -> Drive:
        return self.workspace.drives.at(self.places.destination)

    def _at_destination(self, work: Callable[[Medium], T]) -> T:
        """Does something with the destination open; each time it is proven to be the right drive."""
        destination = open_destination(self.workspace, self.places)
        try:
            return work(destination)
        finally:
            destination.close()

    def _begin_session(self, destination: Medium) -> None:
        self.journal.begin_session(boot_id(), mount_identity(destination.handle))

    def _mounted_again(self) -> bool:
        drive = self._drive()
        if mount_again(drive.device, drive.mount) is None:
            return False
        self.journal.end_session()  # all was flushed before: this end is a clean one
        self._at_destination(self._begin_session)
        return True

    def _prove_staged(self, destination: Medium, control: Control) -> int:
        """Reads again what was only compared; forgets what is wrong, so that it is copied anew. Gives how many."""
        if self.journal.amending:
            return 0  # a release reads it again
        if has_arrived(self.workspace, self.places) or is_arriving(destination, self.places):
            return 0  # it is on its way to its name already; a release reads it again
        root, crossing = self.places.staged_library, self.id
        wrong = prove(self.journal, destination, self._drive(), lambda i: join(root, arrives_at(i, crossing)), control)
        for item in wrong:
            remove_staged(destination, join(root, arrives_at(item, crossing)))
        self.journal.forget_some(i.id for i in wrong)
        return len(wrong)

    def _copy_all(self, source: Medium, destination: Medium, control: Control, report: Report, skip: bool) -> bool:
        """Copies and verifies; True when every file is verified, or skipped by choice."""
        drive = self._drive()
        arriving = has_arrived(self.workspace, self.places) or is_arriving(destination, self.places)
        amending = frozenset(self.journal.amending)
        if amending:
            begin_staging(destination, self.places, self.journal)
        elif not arriving:
            if not destination.exists(self.places.staging + b"/" + TOKEN_FILE):
                self.journal.forget_copies()  # the staging folder is gone, and what was in it
            begin_staging(destination, self.places, self.journal)
        elif self.journal.count_copies([CopyState.COPIED]):
            begin_staging(destination, self.places, self.journal)
            withdraw(self.journal, self.places, destination, self.workspace.clock)
            arriving = False
        if skip:
            self.journal.skip_hindered()
        self.journal.retry_hindered()
        self.journal.enter(State.COPYING)
        report(Entered(State.COPYING))
        if amending or not arriving:
            facts = self.places.header
            with closing(Proof(drive)) as proof:
                Engine(
                    self.journal,
                    Side(source, facts["source_drive"]["label"]),
                    Side(destination, drive.label),
                    self.places.staged_library,
                    fidelity(drive),
                    proof,
                    control,
                    report,
                    self.workspace.clock(),
                    (amending, self.places.name) if amending else None,
                ).run()
        if self.journal.count_copies([CopyState.MISMATCH]):
            self.journal.enter(State.FAILED)
            return False
        if self.journal.count_copies(HINDRANCES):
            self.journal.enter(State.WAITING)
            return False
        return True

    def _settle(self, source: Medium, destination: Medium, drive: Drive) -> None:
        self._complete()
        if self.journal.amending:
            move_in(self.journal, self.places, source, destination, drive.rules.stable_inodes, self.workspace.clock)
            self.journal.enter(State.SETTLED)
            self._rewrite_receipt()
            return
        home = self._home(self.places.target, drive)
        if self.after is After.COPY:
            home = self._home(self.places.source, self.workspace.drives.at(self.places.source))
        owner = fidelity(drive).owner
        settle(
            self.journal,
            self.places,
            source,
            Side(destination, drive.label),
            home,
            owner,
            self.workspace.clock,
            self._receipts,
        )
        self.journal.enter(State.SETTLED, settled_at=self.workspace.clock())
        self.workspace.register.put_copy(self.places.header["library_id"], drive, self.places.target, self.id)
        self._rewrite_receipt()

    def _complete(self) -> None:
        """A last guard: every item of the plan is verified, or skipped by choice."""
        rest = self.journal.sums("e.fate IN (0,4) AND (c.state IS NULL OR c.state NOT IN (2,7))")[0]
        if rest:
            raise Refused("wrong-state", f"{rest} file(s) are not verified; the crossing does not settle.")

    def _home(self, path: Path, drive: Drive) -> Home:
        try:
            inside = path.relative_to(drive.mount)
        except ValueError:
            inside = path
        return Home(drive=drive.uuid, path=shown(str(inside)))

    def _receipts(self) -> tuple[bytes, bytes]:
        record = receipt_of(self.journal)
        return receipt_json(record), receipt_html(record)

    def _rewrite_receipt(self) -> None:
        """Writes the receipt anew into the copy; where that cannot be done, it is told, and the journal still has it all."""
        place = OWN + b"/receipts/" + self.id.encode() + b".json"
        try:
            copy = open_copy(self.workspace, self.places, self.journal)
            try:
                fd = open_folder(copy.handle, OWN + b"/receipts")
                try:
                    as_json, as_html = self._receipts()
                    write_whole(fd, self.id.encode() + b".json", as_json)
                    write_whole(fd, self.id.encode() + b".html", as_html)
                finally:
                    os.close(fd)
            finally:
                copy.close()
        except (OSError, FascisError) as error:
            self._note(place, f"the receipt in the copy is not the newest ({error}); the one in Receipts is")

    def _note(self, place: bytes, meaning: str) -> None:
        """Keeps what needed attention in the copy, once."""
        if not any(p == place and m == meaning for p, _, m, _ in self.journal.attentions()):
            label = self.places.header["destination_drive"]["label"]
            self.journal.note(place, label, meaning, self.workspace.clock())

    # -- the steps after verification -----------------------------------------------------------------------------

    def looked(self) -> None:
        """The person has looked at the copy in its new place."""
        self.journal.put("looked_at", self.workspace.clock())

    def look_again(self, control: Control | None = None) -> Differences:
        """Surveys the originals again and compares; writes nothing into them."""
        source = open_source(self.workspace, self.places, lock=False)
        try:
            return compare(source, self.journal, (control or Control()).checkpoint)
        finally:
            source.close()

    def bring_along(self, control: Control | None = None, report: Report = silent) -> State:
        """Copies, verifies and settles what became newer at the old place; gives the state reached, as :meth:`run`.

        Raises:
            Refused: the library has not settled, or a file was changed at both places.
            EnvironmentTrouble: a drive failed; ``run`` goes on from there.
        """
        if self.state is State.SETTLED:
            open_copy(self.workspace, self.places, self.journal).close()
            header = self.places.header
            source = open_source(self.workspace, self.places)
            try:
                found = self.goes_along(compare(source, self.journal, (control or Control()).checkpoint))
                if not found.newer:
                    return self.state
                rule = RoleRule((header.get("identity") or {}).get("roles"))
                leave_out = frozenset(map(Role, header["leave_out"]))
                parts = amendment(self.journal, source, found, rule, leave_out, self._drive().rules)
            finally:
                source.close()
            self.journal.amend(*parts)
        return self.run(control, report)

    def leave_newer(self, newer: list[bytes]) -> None:
        """The decision that what is newer at the old place stays there; it is never deleted, and not copied."""
        self.journal.put("left_newer", sorted(place_text(p) for p in newer))

    def undecided(self, control: Control | None = None) -> list[bytes]:
        """What is newer at the old place, and neither brought along nor left by decision."""
        left = set(self.journal.value("left_newer", []))
        return [p for p in self.goes_along(self.look_again(control)).newer if place_text(p) not in left]

    def goes_along(self, found: Differences) -> Differences:
        """The differences without changes of what was never to be copied: left out, skipped, special."""

        def copied(place: bytes) -> bool:
            item = next((i for i in self.journal.in_folder(parent(place)) if i.place == place), None)
            return item is not None and item.fate is Fate.COPY and item.copy is not CopyState.SKIPPED

        return replace(found, changed=[p for p in found.changed if copied(p)])

    def switch(self) -> None:
        """Makes the new place the library's home. Reversible by :meth:`undo`.

        Raises:
            Refused: something became newer at the old place, and it is not decided what becomes of it.
        """
        check_transition(self.state, State.SWITCHED)
        if newer := self.undecided():
            raise Refused(
                "changed-since-survey",
                f"{len(newer)} file(s) became newer at the old place, {shown(newer[0])} first. Bring them along, or leave"
                " them there; home has not changed.",
            )
        open_copy(self.workspace, self.places, self.journal).close()
        clock, header = self.workspace.clock, self.places.header
        act = self.journal.open_act("switch") or self.journal.intend(
            "switch", f"home is {shown(str(self.places.target))}", clock()
        )
        self._put_home(self.places.target, header["destination_drive"]["uuid"])
        self.journal.enter(State.SWITCHED)
        self.journal.conclude(act, "done", clock())
        self._rewrite_receipt()

    def _put_home(self, root: Path, uuid: str) -> None:
        header = self.places.header
        self.workspace.register.put_library(root, uuid, shown(header["name"]), header["kind"], header["library_id"])
        try:
            drive = self.workspace.drives.at(root)
            copy = open_copy(self.workspace, self.places, self.journal)
            try:
                identity = parse_identity(read_small(copy, IDENTITY), self.places.target)
                home = self._home(root, drive)
                if identity.home != home:
                    fd = open_folder(copy.handle, OWN)
                    try:
                        write_whole(fd, b"identity.json", format_identity(identity.model_copy(update={"home": home})))
                    finally:
                        os.close(fd)
            finally:
                copy.close()
        except (OSError, FascisError) as error:  # the register decides; the file follows at the next crossing
            self._note(IDENTITY, f"it still names the old home ({error}); Fascis's own register names the new one")

    def park(self) -> Path:
        """Sets the originals aside; frees nothing. Gives where they are then.

        Raises:
            Refused: something is newer at the old place, a program writes there, or it cannot be done in one rename.
        """
        if self.state is State.PARKED:
            return self.places.parked_path
        check_transition(self.state, State.PARKED)
        open_copy(self.workspace, self.places, self.journal).close()
        source = open_source(self.workspace, self.places)
        try:
            found = compare(source, self.journal)
            self._not_worked_in(found)
            newer = found.newer
            if newer and self.places.origin() != self.places.parked_path:
                raise Refused(
                    "changed-since-survey",
                    f"{len(newer)} file(s) are newer at the old place, {shown(newer[0])} first. Nothing was set aside.",
                )
            park(self.workspace, self.journal, self.places)
        finally:
            source.close()
        self.journal.enter(State.PARKED, parked_at=str(self.places.parked_path))
        self._rewrite_receipt()
        return self.places.parked_path

    def put_back(self) -> None:
        """Takes the originals back from where they were set aside."""
        if self.state is State.PARKED:
            unpark(self.workspace, self.journal, self.places)
            self.journal.enter(State.SWITCHED, parked_at=None)
            self._rewrite_receipt()

    def prove(self, control: Control | None = None) -> bool:
        """Reads the copy again where it was only compared; True when all of it is proven.

        Raises:
            Refused: a copy is not what was verified; the originals stay.
            EnvironmentTrouble: its drive is away or failed.
        """
        if self.journal.proven():
            return True
        copy = open_copy(self.workspace, self.places, self.journal)
        try:
            wrong = prove(self.journal, copy, self._drive(), lambda i: arrives_at(i, self.id), control or Control())
        finally:
            copy.close()
        if wrong:
            raise Refused(
                "copy-changed",
                f"{len(wrong)} file(s) of the copy are not what was verified, {shown(wrong[0].place)} first. The originals stay.",
            )
        return self.journal.proven()

    def release(self, control: Control | None = None, report: Report = silent) -> dict[str, Any]:
        """Deletes the originals whose copies are verified; gives the record of it. Only by the person's explicit word.

        Raises:
            Refused: the copy is not proven or not what was verified; nothing was deleted.
            EnvironmentTrouble: a drive failed; resume goes on.
        """
        control = control or Control()
        if self.state is not State.RELEASED:
            check_transition(self.state, State.RELEASED)
        if not self.prove(control):
            label = self.places.header["destination_drive"]["label"]
            raise Refused(
                "not-proven",
                f"The copy on {label} was read back, perhaps from memory: this drive's driver does not prove"
                f" that what is read comes from the drive. Remove {label} safely, connect it again, then release: it is"
                " read once more then. No original was deleted.",
            )
        record: dict[str, Any] | None = self.journal.value("release")
        if record is None or self.places.standing() is not None:
            copy = open_copy(self.workspace, self.places, self.journal)
            try:
                source = open_source(self.workspace, self.places)
                try:
                    record = self._release(source, copy, control, report)
                finally:
                    source.close()
            finally:
                copy.close()
            self.journal.put("release", record)
            self._clear_top(record)
        self.journal.enter(State.RELEASED, release=record, parked_at=record["stays_at"])
        self.journal.free_room()
        self._rewrite_receipt()
        report(Entered(State.RELEASED))
        return record

    def _release(self, source: Medium, copy: Medium, control: Control, report: Report) -> dict[str, Any]:
        drive = self.workspace.drives.at(self.places.origin())
        with Buffers() as buffers:
            differences = compare(source, self.journal, control.checkpoint)
            self._not_worked_in(differences)
            work = Release(
                self.journal,
                source,
                copy,
                self.id,
                drive.rules,
                self._drive().rules,
                differences,
                buffers,
                control,
                report,
                self.workspace.step,
            )
            work.check_copies()
            if self.state is State.SWITCHED:
                self._park_if_possible()
            before = self.journal.value("free_before")
            if before is None:
                before = free_now(source)
                self.journal.put("free_before", before)
            act = self.journal.open_act("release") or self.journal.intend(
                "release", shown(str(self.places.origin())), self.workspace.clock()
            )
            work.run()
        after = settle_down(source, before, work.deleted.allocated, drive)
        files, size = self.journal.sums("e.fate=0 AND e.origin=2 AND e.why IS NULL")
        record = {
            "files": files,
            "bytes": size,
            "free_before": before,
            "free_after": after,
            "reasons": shortfall(work.deleted, before, after, drive),
            "left_behind": [
                {"path": place_text(p), "why": w} for p, w in left_behind(self.journal, source, differences)
            ],
            "at": self.workspace.clock(),
            "stays_at": None,
        }
        self.journal.conclude(act, f"{files} files, {size} bytes", self.workspace.clock())
        return record

    @staticmethod
    def _not_worked_in(found: Differences) -> None:
        """After the switch: where somebody works at the old place, its media must not be taken from under the work."""
        if places := worked_in(found):
            raise Refused(
                "worked-in-since",
                f"{shown(places[0])} was worked in at the old place after home went to the new one. Nothing was set aside"
                " or deleted: bring that work over by hand, or take back the switch.",
            )

    def _park_if_possible(self) -> None:
        try:
            park(self.workspace, self.journal, self.places)
        except Refused:
            return  # a mount point, say: each file is checked right before it goes all the same

    def _clear_top(self, record: dict[str, Any]) -> None:
        """Removes the empty top folder; where something stays, it goes back under its old name."""
        origin = self.places.standing()
        if origin is None:
            return
        try:
            parent = self.workspace.drives.open(origin.parent)
        except EnvironmentTrouble:
            record["stays_at"] = str(origin)  # it cannot be put back now; where it is, is told
            return
        try:
            parent.remove_folder(os.fsencode(origin.name))
        except OSError:
            try:
                unpark(self.workspace, self.journal, self.places)
            except FascisError:
                record["stays_at"] = str(origin)
        finally:
            parent.close()

    def undo(self) -> str:
        """Gives home back, or gives an unfinished crossing up; says what stands where. Never deletes a whole copy."""
        state = self.state
        check_transition(state, State.UNDONE)
        old, new = shown(str(self.places.source)), shown(str(self.places.target))
        if self.journal.amending:
            self._at_destination(lambda d: take_back(self.journal, self.places, d))
            self.journal.put("amending", {})
            said = (
                f"Home is {old}, complete. The copy at {new} stays as it was; what was being brought along is cleared."
            )
        elif state in UNFINISHED:
            self._give_up()
            said = f"Given up. What was copied is cleared; the library is at {old} as it was."
        else:
            if state is State.PARKED:
                unpark(self.workspace, self.journal, self.places)
            self._put_home(self.places.source, self.places.header["source_drive"]["uuid"])
            said = f"Home is {old} again, complete. The copy at {new} stays; nothing of it was deleted."
        self.journal.enter(State.UNDONE, parked_at=None)
        self.journal.free_room()
        if state not in UNFINISHED:
            self._rewrite_receipt()
        return said

    def _give_up(self) -> None:
        source = open_source(self.workspace, self.places) if os.path.lexists(self.places.source) else None
        try:
            destination = open_destination(self.workspace, self.places)
            try:
                clear_staging(destination, self.places)
            except OSError as error:
                raise EnvironmentTrouble(f"What was copied could not be cleared: {error}") from error
            finally:
                destination.close()
        finally:
            if source:
                source.close()

    # -- going on as the plan says --------------------------------------------------------------------------------

    def advance(self, consent: bool, control: Control | None = None, report: Report = silent) -> State:
        """Goes on from settled as far as the plan says; a release only with consent."""
        after = After(self.journal.value("after", self.after.value))
        if self.state is State.SETTLED and after is not After.COPY:
            self.switch()
            report(Entered(self.state))
        if self.state is State.SWITCHED and after is After.PARK:
            self.park()
            report(Entered(self.state))
        if self.state in (State.SWITCHED, State.PARKED) and after is After.RELEASE and consent:
            self.release(control, report)
        return self.state

    @property
    def finished(self) -> bool:
        """True when the plan has nothing left to do by itself."""
        return self.state in (State.RELEASED, State.UNDONE) or (self.state in ARRIVED and not self.wants_more)

    @property
    def wants_more(self) -> bool:
        """True when the plan goes further than where it is."""
        after = After(self.journal.value("after", self.after.value))
        reached = {State.SETTLED: 0, State.SWITCHED: 1, State.PARKED: 2, State.RELEASED: 3}.get(self.state, 9)
        wanted = {
            After.COPY: 0,
            After.KEEP: 1,
            After.PARK: 2,
            After.RELEASE: 3 if self.places.header["consent"] else 1,
        }[after]
        return reached < wanted


def journals(workspace: Workspace) -> list[Path]:
    """The journals, newest first."""
    if not workspace.crossings.is_dir():
        return []
    found = [p for p in workspace.crossings.iterdir() if p.suffix == ".sqlite"]
    return sorted(found, key=lambda p: ((read_header(p) or {}).get("planned_at", 0.0), p.name), reverse=True)


@contextmanager
def opened(workspace: Workspace, id: str) -> Iterator[Crossing]:
    """A crossing that is closed afterwards."""
    crossing = Crossing.open(workspace, id)
    try:
        yield crossing
    finally:
        crossing.close()


def all_crossings(
    workspace: Workspace, held: Mapping[str, Crossing] = MappingProxyType({})
) -> tuple[list[Crossing], list[Damaged]]:
    """All crossings, newest first, and the journals that cannot be read. The caller closes them.

    Args:
        held: crossings that are open already, by id; they are given as they are.
    """
    found, damaged = [], []
    for path in journals(workspace):
        if (known := held.get(path.stem)) is not None:
            found.append(known)
            continue
        try:
            journal = Journal.open(path, workspace.step)
        except Damaged as error:
            damaged.append(error)
            continue
        if journal.header:
            found.append(Crossing(workspace, journal))
        else:
            journal.close()  # cut off before the plan was written: nothing was done
    return found, damaged


def unfinished(workspace: Workspace) -> list[str]:
    """Ids of crossings that can go on, newest first."""
    found, _ = all_crossings(workspace)
    ids = [c.id for c in found if not c.finished and c.state not in (State.REFUSED,)]
    for c in found:
        c.close()
    return ids
