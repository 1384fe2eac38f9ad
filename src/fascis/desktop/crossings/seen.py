"""What the window knows about one crossing.

Read from its journal at once, outside the interface thread.
"""

from __future__ import annotations

from itertools import islice
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from fascis.copies.repairing import sound_copies
from fascis.crossing.arrival.destination import Destination
from fascis.crossing.arrival.rewriting import documents_of
from fascis.crossing.crossing import Crossing
from fascis.crossing.journal.copies import StrandProgress
from fascis.crossing.journal.journal import LED
from fascis.crossing.journal.which import Which
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.notices import hindrance_sentence
from fascis.crossing.model.policy import waits_for_person
from fascis.crossing.model.states import ARRIVED, UNFINISHED, CopyState, State
from fascis.crossing.status.in_use import drives_of
from fascis.desktop.crossings.answers import DriveNow, Situation
from fascis.desktop.crossings.stations import Lane, LaneOn
from fascis.files.names import shown
from fascis.library.known.places import Place
from fascis.words.speech import trn

# Paths offered for opening.
MOST_DOCUMENTS = 6
# Sentences that are shown; the count includes all.
MOST_HINDERED = 200


class SeenDrive(Struct):
    """One destination in one reading of a journal. Sizes in bytes, times in seconds since 1970."""

    number: int
    label: str
    state: State
    going: tuple[int, int]
    verified: tuple[int, int]
    proven: bool
    settled_at: float | None
    strands: list[StrandProgress]

    def now(self) -> DriveNow:
        """Its progress while nothing runs."""
        left, files = self.going[1] - self.verified[1], self.going[0] - self.verified[0]
        whole_at = self.settled_at if self.state is State.SETTLED else None
        return DriveNow(
            self.label, max(0, left), max(0, files), None, whole_at, self.proven, self.number
        )


class Seen(Struct):
    """One reading of a journal.

    Sizes in bytes, times in seconds since 1970; ``release`` is the record of a release.
    """

    id: str
    state: State
    source_drive: str
    name: str
    after: After
    planned: tuple[int, int]
    drives: list[SeenDrive]
    looked: bool
    settled_at: float | None
    parked_at: str | None
    release: dict[str, Any] | None
    attention: list[tuple[bytes, str, str, float]]
    hindered: list[str]
    damaged: int
    discarded: tuple[int, int]
    documents: list[str]
    references: dict[str, int]
    only_compared: bool = False
    part: bool = False
    followers: list[str] = field(default_factory=list)
    led: bool = False
    # One of the parts of a split, whose originals are deleted together.
    in_split: bool = False
    # Copies with an intact version of a damaged original.
    sound_in: list[Place] = field(default_factory=list)
    # It brings an existing copy up to date.
    updates: bool = False

    @property
    def drive(self) -> str:
        """The home's drive."""
        return self.drives[0].label

    @property
    def labels(self) -> list[str]:
        """The drives by name, home first."""
        return [d.label for d in self.drives]

    @property
    def verified(self) -> tuple[int, int]:
        """``(files, bytes)`` read back and equal everywhere."""
        return min(d.verified for d in self.drives)

    @property
    def going(self) -> tuple[int, int]:
        """``(files, bytes)`` to be copied."""
        return self.drives[0].going

    @property
    def proven(self) -> bool:
        """True if every copy was read from its drive itself."""
        return all(d.proven for d in self.drives)

    @property
    def followers_named(self) -> str:
        """Documents that stay and follow: the first ones by name."""
        return ", ".join(self.followers[:2]) + (" …" if len(self.followers) > 2 else "")

    @property
    def followers_wait(self) -> str:
        """Where these lead until home moves to the new place; empty if there are none."""
        if not self.followers or self.led:
            return ""
        return trn(
            "{followers_named} leads to the old place until home goes to {drive}.",
            "{followers_named} lead to the old place until home goes to {drive}.",
            len(self.followers),
            followers_named=self.followers_named,
            drive=self.drive,
        )

    def situation(self, even: bool, busy: bool = False) -> Situation:
        """The facts for the answers while nothing runs."""
        return Situation(
            self.state, False, tuple(d.now() for d in self.drives), self.looked, even, busy=busy
        )

    def lanes(self) -> dict[int, Lane]:
        """A bar for each strand, on every drive."""
        made = {s.id: Lane(s.id, s.folder, s.role, s.bytes, []) for s in self.drives[0].strands}
        for drive in self.drives:
            for s in drive.strands:
                made[s.id].drives.append(LaneOn(s.copied_bytes, s.verified_bytes))
        return made


class Listed(Struct):
    """A crossing as it was last read for the list. Bytes, seconds, and seconds since 1970.

    Attributes:
        target: the path of the new library.
        drives: the UUIDs of all its drives.
        to: the UUIDs of its destinations.
        one_more: home stays, so it ends when the copy is whole.
        waits: it arrived, and steps of its plan are left for a person.
        ended_whole: it was undone after it had arrived.
    """

    id: str
    name: str
    source_drive: str
    labels: list[str]
    planned_bytes: int
    planned_at: float
    estimate: float
    target: Path
    drives: frozenset[str]
    state: State
    turn: float | None
    wants_more: bool
    verified_bytes: int = 0
    ended_whole: bool = False
    to: tuple[str, ...] = ()
    one_more: bool = False
    waits: bool = False

    @property
    def arrived(self) -> bool:
        """True if there is, or was, a verified copy: then there is a receipt."""
        return self.state in ARRIVED or self.ended_whole


def read_listed(crossing: Crossing) -> Listed:
    """Reads a crossing for the list; fast, except for the bytes of an interrupted one."""
    header, state = crossing.places.header, crossing.state
    settled = bool(crossing.journal.value("settled_at"))
    return Listed(
        crossing.id,
        header.name,
        header.source_drive.label,
        [d.label for d in crossing.demanded],
        crossing.journal.planned()[1],
        crossing.planned_at,
        float(header.estimate),
        crossing.places.told,
        frozenset(drives_of(crossing)),
        state,
        crossing.turn,
        crossing.wants_more,
        crossing.verified[1] if state in UNFINISHED else 0,
        state is State.UNDONE and settled,
        tuple(d.places.drive.uuid for d in crossing.demanded),
        crossing.wanted_after is After.COPY,
        waits_for_person(state, crossing.wanted_after),
    )


def read_seen(crossing: Crossing) -> Seen:
    """Reads a crossing's journal; takes a second or two with a million files."""
    header, journal = crossing.places.header, crossing.journal
    return Seen(
        crossing.id,
        crossing.state,
        header.source_drive.label,
        header.name,
        crossing.wanted_after,
        journal.planned(),
        [_drive(d, crossing.comparison_accepted) for d in crossing.demanded],
        bool(journal.value("looked_at")),
        journal.value("settled_at"),
        journal.value("parked_at"),
        journal.value("release"),
        journal.attentions(),
        [hindrance_sentence(p, s) for p, s in islice(crossing.hindrances(), MOST_HINDERED)],
        max(d.copies.count_copies([CopyState.DAMAGED]) for d in crossing.demanded),
        crossing.copies.sums(Which.DISCARDED),
        [shown(i.place) for i in islice(documents_of(crossing.copies), MOST_DOCUMENTS)],
        header.references,
        not crossing.comparison_accepted
        and all(d.only_compared or d.copies.proven() for d in crossing.demanded)
        and any(d.only_compared for d in crossing.demanded),
        crossing.part is not None,
        # Those of the library itself first.
        sorted((f["path"] for f in journal.followers()), key=lambda path: path.startswith("/")),
        bool(journal.value(LED)),
        header.split is not None,
        _sound_in(crossing),
        header.trusts,
    )


def _sound_in(crossing: Crossing) -> list[Place]:
    """Copies with an intact version of a damaged original; searched for only while this is open."""
    waits = crossing.state is State.WAITING
    return sound_copies(crossing.workspace, crossing) if waits else []


def _drive(destination: Destination, accepted: bool) -> SeenDrive:
    copies = destination.copies
    return SeenDrive(
        destination.number,
        destination.label,
        destination.state,
        copies.going(),
        copies.verified(),
        copies.proven() or (accepted and destination.only_compared),
        copies.value("settled_at"),
        copies.strands(),
    )
