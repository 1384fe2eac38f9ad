"""One destination of a crossing, from its first byte to *settled*.

It is fast or slow, and fails and continues independently.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import ExitStack, closing, contextmanager, suppress
from pathlib import Path
from typing import TypeVar

from fascis.crossing.arrival.arriving import Arriving
from fascis.crossing.arrival.bring_along import move_in, take_back
from fascis.crossing.arrival.landing.existing_folder import InExistingFolder
from fascis.crossing.arrival.landing.landing import Landing
from fascis.crossing.arrival.landing.new_folder import InNewFolder, open_copy
from fascis.crossing.arrival.landing.updated_copy import UpdatedCopy
from fascis.crossing.arrival.open_check import Opened, open_documents, see_samples
from fascis.crossing.arrival.refreshing import refresh_leads
from fascis.crossing.arrival.rewriting import Rewriting, documents_of
from fascis.crossing.arrival.settle import settle
from fascis.crossing.copying.again import prove
from fascis.crossing.copying.engine import Amending, Engine, Manner
from fascis.crossing.copying.file import remove_staged
from fascis.crossing.copying.proof import Proof
from fascis.crossing.copying.sides import Ends, Side
from fascis.crossing.copying.stood import Stood
from fascis.crossing.copying.throughput import Speeds
from fascis.crossing.copying.trusted import trust
from fascis.crossing.journal.copies import Copies, Item, arrives_at
from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.which import Which
from fascis.crossing.model.events import Entered, Report
from fascis.crossing.model.states import HINDRANCES, CopyState, State
from fascis.crossing.places.clearing import beside_name
from fascis.crossing.places.loose import Sources
from fascis.crossing.places.places import Places, fidelity, hold, open_destination
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.drives.model import Drive
from fascis.drives.system.udisks import mount_again
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.disk.beneath import open_folder
from fascis.files.disk.kernel import boot_id, mount_identity
from fascis.files.disk.medium import Medium, read_small
from fascis.files.disk.writer import write_whole
from fascis.files.errors import Cancelled, Damaged, EnvironmentTrouble, FascisError, Refused
from fascis.files.names import join
from fascis.library.identity import Home, format_identity, parse_identity
from fascis.library.own import IDENTITY, OWN
from fascis.library.register import Register
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

_MOST_NOTED = 1000  # files, one by one
# If the writing speed is this close to that of the originals' drive, it says little about the
# destination.
_HELD_BACK = 0.8
T = TypeVar("T")
Receipts = Callable[[], tuple[bytes, bytes]]


class Destination:
    """One destination, by its number in the plan."""

    def __init__(self, workspace: Workspace, journal: Journal, number: int = 0) -> None:
        self.workspace, self.journal, self.number = workspace, journal, number
        self.places = Places(journal.header, number)
        self.copies = Copies(journal, number)
        # True if the person continues without it; stored here, so that a window never waits for it.
        self.given_up = False
        self.look()

    def look(self) -> None:
        """Reads again whether it was given up: another window may have done that."""
        self.given_up = self.state is State.UNDONE

    @property
    def state(self) -> State:
        """Its progress: up to *settled*, or *undone* if it was given up."""
        return self.copies.state

    @property
    def label(self) -> str:
        """The name of its drive."""
        return self.places.label

    def drive(self) -> Drive:
        """Its drive, as it is now."""
        drive = self.workspace.drives.at(self.places.destination, measured=False)
        said = self.places.answers
        return drive.with_answers(said) if said else drive

    def open(self) -> Medium:
        """The library that arrived, proven by drive and token.

        See :func:`~fascis.crossing.arrival.landing.new_folder.open_copy`.
        """
        return open_copy(self.workspace, self.places, self.copies)

    def at(self, work: Callable[[Medium], T]) -> T:
        """Does something with the opened destination.

        It is proven each time to be the right drive.
        """
        medium = open_destination(self.workspace, self.places)
        try:
            return work(medium)
        finally:
            medium.close()

    def landing(self, destination: Medium) -> Landing:
        """How the library gets to its path on the opened destination."""
        keeps = fidelity(self.drive())
        goal = self.places.goal
        kind: type[InNewFolder] = InNewFolder
        if goal.stands:
            kind = UpdatedCopy if goal.updates else InExistingFolder
        return kind(self.workspace, self.copies, self.places, destination, keeps)

    # -- up to settled -----------------------------------------------------------------------------

    def run(
        self,
        source: Sources,
        home: Home,
        receipts: Receipts,
        control: Control,
        report: Report,
        skip: bool,
    ) -> State:
        """Copies, verifies and settles; returns the state reached: settled, waiting or failed.

        Args:
            source: the originals, opened and proven, and access to loose media.
            home: what the identity file will say.
            receipts: returns the receipt as JSON and HTML.

        Raises:
            EnvironmentTrouble: the drive failed; what is verified is kept, and it goes on from
                there.
            Refused: a place is not what it was.
            Cancelled: by the control.
        """
        try:
            with self._held():
                return self._run(source, home, receipts, control, report, skip)
        except (Cancelled, Refused):
            self.copies.end_session()
            raise
        except EnvironmentTrouble as error:
            if error.place and self.label not in str(error):  # Which of the drives failed.
                sentence = tr(
                    "{label}: {error} What is verified on it is kept.",
                    label=self.label,
                    error=error,
                )
                raise type(error)(sentence, error.place, error.errno) from error
            raise

    @contextmanager
    def _held(self) -> Iterator[None]:
        """Locks the library that this becomes part of against other crossings."""
        with ExitStack() as stack:
            if self.places.goal.stands:
                medium = stack.enter_context(closing(open_destination(self.workspace, self.places)))
                hold(medium, self.places.target)
            yield

    def _run(
        self,
        source: Sources,
        home: Home,
        receipts: Receipts,
        control: Control,
        report: Report,
        skip: bool,
    ) -> State:
        self.at(self._begin_session)
        verified = self.at(lambda d: self._copy_all(source, d, control, report, skip))
        if verified and not self.copies.proven() and self._mounted_again():
            wrong = self.at(lambda d: self._prove_staged(d, control))
            # Copied again, and then only compared: the drive is not mounted again and again.
            if wrong:
                verified = self.at(lambda d: self._copy_all(source, d, control, report, False))
        if verified:
            self._enter(State.VERIFYING, report)
            self.at(lambda d: self._settle(source, d, home, receipts))
            self._open_there()
            self._enter(State.SETTLED, report)
        self.copies.end_session()
        return self.state

    def _enter(self, state: State, report: Report) -> None:
        self.copies.enter(state)
        report(Entered(state, self.number))

    def _begin_session(self, destination: Medium) -> None:
        self.copies.begin_session(boot_id(), mount_identity(destination.handle))

    def _mounted_again(self) -> bool:
        drive = self.drive()
        if mount_again(drive.device, drive.mount) is None:
            return False
        # Everything was flushed before: this is a clean end.
        self.copies.end_session()
        self.at(self._begin_session)
        return True

    def _prove_staged(self, destination: Medium, control: Control) -> int:
        """Reads again what was only compared; forgets wrong copies, so that they are made again.

        Returns how many.
        """
        if self.copies.amending:
            return 0  # A release reads it again.
        if self.landing(destination).has_landed():
            # It is already being moved to its path; a release reads it again.
            return 0
        root, crossing = self.places.staged_library, self.places.crossing

        def place_of(item: Item) -> bytes:
            above = self.places.name if item.stood else root
            return join(above, arrives_at(item, crossing))

        wrong = prove(self.copies, destination, self.drive(), place_of, control)
        for item in wrong:
            if not item.stood:
                remove_staged(destination, place_of(item))
        self.copies.forget_some(i.id for i in wrong)
        return len(wrong)

    def _copy_all(
        self, source: Sources, destination: Medium, control: Control, report: Report, skip: bool
    ) -> bool:
        """Copies and verifies; True if every file is verified, or skipped by choice."""
        entries = frozenset(self.copies.amending)
        arriving = self._stage(destination, bool(entries))
        if skip:
            self.copies.skip_hindered()
        self.copies.retry_hindered()
        self._enter(State.COPYING, report)
        if entries or not arriving:
            drive = self.drive()
            if self.places.goal.updates and not self.places.header.restores:
                trust(self.copies, destination)
            elif not entries:
                Stood(
                    self.copies, source, destination, drive, self.places.name, control, report
                ).run()
            with closing(Proof(drive)) as proof:
                ends = Ends(
                    Side(source.library, self.places.header.source_drive.label),
                    Side(destination, drive.label),
                    self.places.staged_library,
                    fidelity(drive),
                    source.loose,
                )
                amending = Amending(entries, self.places.name) if entries else None
                manner = Manner(self.workspace.clock(), amending, drive.takes_turns)
                engine = Engine(self.copies, ends, proof, control, report, manner)
                try:
                    engine.run()
                finally:
                    self._remember_speed(drive, engine.speeds)
        for states, reached in (([CopyState.MISMATCH], State.FAILED), (HINDRANCES, State.WAITING)):
            if self.copies.count_copies(states):
                self._enter(reached, report)
                return False
        return True

    def _remember_speed(self, drive: Drive, speeds: Speeds) -> None:
        """Stores the drive's speed in the register, unless the originals' drive was the limit."""
        figures, register = speeds.figures(), self.workspace.register
        if figures is None:
            return
        # Problems of the register are reported where it is needed; the crossing does not need it.
        with suppress(Damaged, EnvironmentTrouble):
            self._put_speed(drive, *figures, register)

    def _put_speed(self, drive: Drive, write: float, read: float, register: Register) -> None:
        origin = {d.uuid: d.read_mb_s for d in register.drives()}.get(
            self.places.header.source_drive.uuid
        )
        if not origin or write < _HELD_BACK * origin:
            register.put_speed(drive.uuid, write, read)

    def _stage(self, destination: Medium, amending: bool) -> bool:
        """Makes the staging folder, or proves the existing one.

        True if the library is arriving or has arrived.
        """
        landing = self.landing(destination)
        if amending:
            landing.begin()
            return True
        if landing.has_landed():
            if not self.copies.count_copies([CopyState.COPIED]):
                return True
            landing.begin()
            landing.withdraw()
            return False
        if not landing.is_begun():
            # The staging folder is gone, with everything in it.
            self.copies.forget_copies()
        landing.begin()
        return False

    def _settle(self, source: Sources, destination: Medium, home: Home, receipts: Receipts) -> None:
        self._complete()
        refresh_leads(self.workspace, self.copies, self.places)
        drive = self.drive()
        rewriting = Rewriting(self.copies, self.places, drive, self.workspace.private)
        arriving = Arriving(
            self.copies,
            self.places,
            destination,
            self.landing(destination),
            fidelity(drive),
            self.workspace.clock,
        )
        if self.copies.amending:
            move_in(arriving, source.library, rewriting)
            return
        settle(arriving, source.library, home, receipts, rewriting)
        self.copies.put("settled_at", self.workspace.clock())
        library, register = self.places.header.library_id, self.workspace.register
        if self.places.goal.joins:
            self._know_what_joined()
            return
        if self.places.goal.updates and not self.places.header.restores:
            # Files that it did not change are trusted, not verified.
            register.put_state(library, self.places.target, drive.uuid, "equal")
            return
        register.put_copy(library, drive, self.places.target, self.places.crossing)
        files, _ = self.copies.verified()
        proven = self.copies.proven()
        register.put_verified(library, self.places.target, drive.uuid, proven, files, 0)
        register.put_state(library, self.places.target, drive.uuid, "equal")

    def _know_what_joined(self) -> None:
        """Documents that became part of an unknown folder still need what they refer to.

        From now on the register knows their folder as a library. Otherwise the files they use,
        wherever they lie, would look as if nothing needed them. The folder gets no identity and is
        not changed.
        """
        goal, register = self.places.goal, self.workspace.register
        known = any(library.id == goal.library for library in register.libraries())
        if (goal.library and known) or not any(documents_of(self.copies)):
            return
        folder = self.places.told
        try:
            remember(self.workspace, survey_library(self.workspace, folder))
        except (FascisError, OSError):
            # It is not known what it needs: then everything that it may need stays.
            header = self.places.header
            register.put_library(folder, self.places.drive.uuid, folder.name, header.kind)

    def _open_there(self) -> None:
        """Opens every document at its new path, and decodes a sample of every strand.

        The result is stored for the scales and the receipt.
        """
        with closing(self.open()) as library:
            opened = open_documents(
                self.workspace, self.copies, self.places, library, self.drive().rules
            )
            see_samples(self.copies, library, opened)
        self.copies.put("opened", opened.as_json())
        for wrong in opened.wrong:
            self.note(b"", tr("it no longer leads to the same file ({wrong})", wrong=wrong))

    def opened(self) -> Opened | None:
        """The result of opening the documents when the library settled.

        None before that, or for an older crossing.
        """
        kept = self.copies.value("opened")
        return Opened(**kept) if kept else None

    def _complete(self) -> None:
        """A last check: every item of the plan is verified, or skipped by choice."""
        rest = self.copies.sums(Which.HOLDING_UP)[0]
        if rest:
            raise Refused(
                Code.WRONG_STATE,
                trn(
                    "{n} file is not verified, so the crossing cannot be completed.",
                    "{n} files are not verified, so the crossing cannot be completed.",
                    rest,
                ),
            )

    # -- after it has settled ----------------------------------------------------------------------

    def write_home(self, home: Home) -> None:
        """Writes the new home into the copy's identity file.

        If that fails, it is reported. Files that became part of another library do not decide where
        that library is at home.
        """
        if self.places.goal.joins:
            return
        try:
            with closing(self.open()) as copy:
                identity = parse_identity(read_small(copy, IDENTITY), self.places.target)
                if identity.home != home:
                    content = format_identity(identity.model_copy(update={"home": home}))
                    _write_into(copy, OWN, {b"identity.json": content})
        except (
            OSError,
            FascisError,
        ) as error:  # The register decides; the file is updated at the next crossing.
            self.note(
                IDENTITY,
                tr(
                    "it still names the old home ({error}); Fascis's own register names the "
                    "new one",
                    error=error,
                ),
            )

    def write_receipt(self, receipts: Receipts) -> None:
        """Writes the present receipt into the copy.

        If that fails, it is reported, and the journal still has everything. A folder that is not a
        library gets no receipt.
        """
        if self.places.goal.stands and not self.places.goal.library:
            return
        name = self.places.crossing.encode()
        try:
            with closing(self.open()) as copy:
                as_json, as_html = receipts()
                _write_into(
                    copy, OWN + b"/receipts", {name + b".json": as_json, name + b".html": as_html}
                )
        except (OSError, FascisError) as error:
            place = OWN + b"/receipts/" + name + b".json"
            self.note(
                place,
                tr(
                    "the receipt in the copy is not the newest ({error}); the one in Receipts is",
                    error=error,
                ),
            )

    def note(self, place: bytes, meaning: str) -> None:
        """Records a problem with the copy, once."""
        if not any(
            (p, d, m) == (place, self.label, meaning) for p, d, m, _ in self.journal.attentions()
        ):
            self.journal.note(place, self.label, meaning, self.workspace.clock())

    def prove(self, control: Control) -> bool:
        """Reads the copy again if it was only compared; True if all of it is proven.

        Files that differ from what was verified are recorded: a release checks them like all
        others, and keeps their originals.

        Raises:
            EnvironmentTrouble: its drive is away or failed.
        """
        if self.copies.proven():
            return True
        crossing = self.places.crossing

        def place_of(item: Item) -> bytes:
            return arrives_at(item, crossing)

        with closing(self.open()) as copy:
            wrong = prove(self.copies, copy, self.drive(), place_of, control)
            if self._connected_again(copy):
                self.copies.put("compared_at", self.workspace.clock())
        # Everything is proven.
        self.copies.record_verified([(i.id, True) for i in wrong])
        for item in wrong[:_MOST_NOTED]:
            self.note(
                item.place, tr("it was read again and is not what was verified; its original stays")
            )
        return self.copies.proven()

    def _connected_again(self, copy: Medium) -> bool:
        """True if the drive was mounted again, or the machine started, since the copy was made.

        Nothing of the copy is in memory then.
        """
        session = self.copies.value("session", {})
        return (session.get("boot"), session.get("mount")) != (
            boot_id(),
            mount_identity(copy.handle),
        )

    @property
    def only_compared(self) -> bool:
        """True if the copy was read after reconnecting the drive and was equal, but not proven."""
        return bool(self.copies.value("compared_at")) and not self.copies.proven()

    # -- giving up ---------------------------------------------------------------------------------

    def take_back(self) -> None:
        """Gives up copying later changes; the copy stays as it was."""
        if self.copies.amending:
            self.at(lambda d: take_back(self.copies, self.places, d, self.landing(d)))
            self.copies.put("amending", {})

    @property
    def whole(self) -> bool:
        """True if the library is at its path as a whole.

        Such a copy is never cleared, whatever happens later.
        """
        return self.state is State.SETTLED or bool(self.copies.value("settled_at"))

    def clear(self) -> Path | None:
        """Clears files that were copied and have not settled.

        Returns the folder with other people's files, if there were any.

        Raises:
            EnvironmentTrouble: its drive is away, or it could not be cleared.
        """
        if self.state is State.SETTLED:
            return None
        try:
            return self.at(self._clear)
        except OSError as error:
            raise EnvironmentTrouble(
                tr("What was copied could not be cleared: {error}", error=error)
            ) from error

    def _clear(self, destination: Medium) -> Path | None:
        landing = self.landing(destination)
        if landing.has_landed() and not self.whole:
            # Interrupted on the way to its name: moved back first.
            landing.begin()
            landing.withdraw()
        landing.clear()
        beside = beside_name(self.places)
        if destination.exists(beside):
            return self.places.destination / os.fsdecode(beside)
        return None


def _write_into(copy: Medium, folder: bytes, files: dict[bytes, bytes]) -> None:
    fd = open_folder(copy.handle, folder)
    try:
        for name, content in files.items():
            write_whole(fd, name, content)
    finally:
        os.close(fd)
