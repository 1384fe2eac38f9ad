"""The plan: what a crossing would do.

It can be shown and compared; making it writes nothing anywhere.
"""

from __future__ import annotations

import heapq
import os
import secrets
from array import array
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, field
from itertools import islice
from pathlib import Path
from typing import Any

from fascis.crossing.fit.estimate import Estimate, estimate
from fascis.crossing.fit.limits import (
    Clashes,
    Columns,
    clashes,
    holding_problems,
    left_problem,
    name_problems,
)
from fascis.crossing.fit.names import Apart, keep_apart
from fascis.crossing.fit.obstacles import (
    Surroundings,
    look_around,
    look_at_drives,
    parking_problems,
)
from fascis.crossing.fit.room import Freeing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.fates import Fate, Fates
from fascis.crossing.model.problems import Problem, needs_decision, stops
from fascis.crossing.scope.gathering import Gathering, below, gather
from fascis.crossing.scope.needed import kept_for_others, sidecars_of_what_stays
from fascis.crossing.scope.parts import Part, part_name
from fascis.crossing.scope.selection import (
    Selection,
    StrandKey,
    left_out_problems,
    left_out_used,
    select,
    shared_problems,
    use_problems,
)
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.documents.registry import is_companion
from fascis.drives.model import Drive
from fascis.files.codes import Code, Severity
from fascis.files.names import fsname, join, listed, place_text, shown
from fascis.files.sizes import counted
from fascis.library.identity import OWN, Identity
from fascis.library.roles import ROLES, Role
from fascis.library.standing import Standing
from fascis.library.survey import Kind, Survey
from fascis.library.uses import Outside, Uses
from fascis.workspace import Workspace

__all__ = ["After", "Choices", "Plan", "Surveyed", "make_plan", "survey_library"]


@dataclass(frozen=True, slots=True)
class Choices:
    """What the person chose.

    The name there ("" for the library's own), what is left out, and what comes after.

    Attributes:
        leave_out: roles that are left out.
        discard: roles that are left out and go with the originals.
        gather: loose media goes along.
        leave_unused: what nothing uses is left out.
        without: strands left out, as ``(folder, role, standing)``.
        only: projects, or folders, that go along with what they use; none for everything.
        loose_too: with the originals, loose ones go that nothing else uses.
        leave_clashing: files that a destination cannot hold as they are named, or as large as they
            are, are left out.
    """

    name: str = ""
    leave_out: frozenset[Role] = frozenset()
    after: After = After.KEEP
    discard: frozenset[Role] = frozenset()
    gather: bool = True
    leave_unused: bool = False
    without: frozenset[StrandKey] = frozenset()
    only: frozenset[str] = frozenset()
    loose_too: bool = False
    leave_clashing: bool = False


@dataclass(frozen=True, slots=True)
class Totals:
    """Sums over regular files, Fascis's own left out.

    Bytes are apparent sizes, ``allocated`` what they take.
    """

    files: int = 0
    bytes: int = 0
    allocated: int = 0


@dataclass(frozen=True, slots=True)
class Goal:
    """One destination of a plan.

    The folder, its drive where known, the bytes it takes there, and how long that takes.
    """

    path: Path
    drive: Drive | None
    room: int
    estimate: Estimate


@dataclass(slots=True)
class Plan:
    """A crossing before it starts.

    ``survey`` holds the items in columns, ``fates`` what becomes of each.

    ``totals`` counts what goes along, ``gathering`` being part of it; ``apart`` is what is called
    otherwise in
    the copy, ``clashing`` files, and bytes of them, that a destination cannot hold as they are.
    ``largest`` names the largest files of each remakeable
    role that is left out. ``part`` is what crosses where that is not the whole library,
    ``folders_out`` the folders that are not in it.
    ``shared`` are originals that stay because others need them: absolute path → who. ``frees`` is
    the room, in bytes, of exactly what
    deleting the originals would delete by this plan. ``left_out_used`` counts files that are left
    out though documents use them: those
    that cannot be made again, and those that can.
    """

    crossing: str
    token: str
    library_id: str
    name: str
    kind: str
    source: Path
    source_drive: Drive | None
    goals: list[Goal]
    choices: Choices
    survey: Survey
    uses: Uses
    fates: array[int]
    gathering: Gathering
    apart: Apart
    clashing: tuple[int, int]
    identity: Identity | None
    document: bytes
    totals: Totals
    left_out: Totals
    discarded: Totals
    problems: list[Problem] = field(default_factory=list)
    largest: dict[Role, list[bytes]] = field(default_factory=dict)
    part: Part | None = None
    folders_out: frozenset[bytes] = frozenset()
    shared: dict[bytes, list[str]] = field(default_factory=dict)
    frees: int = 0
    left_out_used: tuple[int, int] = (0, 0)

    @property
    def destination(self) -> Path:
        """The folder that the home's own folder will stand in."""
        return self.goals[0].path

    @property
    def destination_drive(self) -> Drive | None:
        """The drive that is to be home."""
        return self.goals[0].drive

    @property
    def estimate(self) -> Estimate:
        """How long it takes to the home."""
        return self.goals[0].estimate

    @property
    def target(self) -> Path:
        """The library's own folder in its new place."""
        return self.destination / self.name

    @property
    def targets(self) -> list[Path]:
        """The library's own folder on every destination."""
        return [g.path / self.name for g in self.goals]

    def references(self) -> dict[str, int]:
        """How many files its documents use, by standing, and how many are not understood."""
        counts = {
            s.value: len(self.uses.of(s)) for s in (Standing.LOOSE, Standing.AWAY, Standing.MISSING)
        }
        return {
            **counts,
            "gathered": len(self.gathering.items),
            "not_understood": len(self.uses.not_understood),
            "unreadable": sum(bool(d.trouble) for d in self.uses.documents),
        }

    @property
    def below(self) -> bytes:
        """The real path of the library's folder, with a slash at its end."""
        return below(self.source)

    def sizes_of(self, paths: Collection[bytes]) -> dict[bytes, int]:
        """The lengths of some originals, by their absolute paths."""
        found = {o.path: o.size for o in self.uses.outside if o.path in paths}
        if len(found) < len(paths):
            top = self.below
            found |= {
                top + p: self.survey.size[row]
                for row, _, p in self.survey.rows()
                if top + p in paths
            }
        return found

    def kept_for_others(self) -> list[dict[str, Any]]:
        """Originals that stay because others need them, as JSON says it.

        ``path``, ``bytes``, ``used_by``.
        """
        sizes, below = self.sizes_of(self.shared), self.below
        return [
            {
                "path": place_text(path.removeprefix(below)),
                "bytes": sizes.get(path, 0),
                "used_by": who,
            }
            for path, who in sorted(self.shared.items())
        ]

    @property
    def lacks(self) -> int:
        """How many files are left out that documents use, those that can be made again too."""
        return self.left_out_used[0] + self.left_out_used[1]

    @property
    def lacks_used(self) -> bool:
        """True when something is left out that documents use and that cannot be made again."""
        return self.left_out_used[0] > 0

    @property
    def stopped(self) -> bool:
        """True when a problem stops it."""
        return stops(self.problems)

    @property
    def asks(self) -> bool:
        """True when a problem needs a decision."""
        return needs_decision(self.problems)


def new_crossing_id() -> str:
    """A crossing's id: 16 hex digits, random, since clocks can be set back."""
    return secrets.token_hex(8)


def make_plan(
    workspace: Workspace,
    surveyed: Surveyed,
    destination: Path,
    choices: Choices,
    also: Path | None = None,
    ask: bool = False,
) -> Plan:
    """Plans a crossing into the folder ``destination``, and ``also`` into a second one.

    Writes nothing.

    Args:
        ask: the destinations are asked what they can hold: probe files are made there, and removed
            again.
    """
    source, found, identity = surveyed.source, surveyed.survey, surveyed.identity
    known = None if identity else _known_id(workspace, surveyed.root)
    name = choices.name or _own_name(surveyed, choices.only)
    problems = list(surveyed.problems)
    if not _plain(name):
        problems.append(
            Problem(
                Code.NAME_NOT_USABLE,
                f"{shown(name) or 'An empty name'} cannot be the name of a folder.",
                "Choose another name.",
            )
        )
        name = source.name or "library"
    problems += _own_folder_problems(found)
    paths = [destination, *([also] if also else [])]
    selection = select(surveyed, choices.leave_unused, choices.without, choices.only)
    problems += selection.problems
    around = look_at_drives(workspace, source, paths, ask)
    fitted = _fitted(surveyed, choices, selection, around)
    fates, gathering, apart = fitted.fates, fitted.gathering, fitted.apart
    look_around(around, source, paths, name, found, identity)
    columns = Columns(found, fates)
    fitting = [d for d, usable in zip(around.drives, around.usable, strict=True) if d and usable]
    for drive in fitting:
        around.take(holding_problems(drive, name, columns, gathering, surveyed.attributed))
    around.take(name_problems(fitting, apart) if fitting else ())
    around.take(left_problem(fitted.left))
    problems += around.problems
    problems += use_problems(surveyed, choices.gather, gathering)
    left_used = left_out_used(surveyed, fates, gathering)
    problems += left_out_problems(left_used)
    going = _Going(surveyed, choices, fates, gathering)
    shared = going.shared(workspace)
    problems += shared_problems(shared, surveyed.below, choices.after, going.bounds)
    totals, left, discarded = _totals(found, fates, gathering)
    rooms = [room_on(found, fates, gathering, d) for d in around.drives]
    problems += around.room_problems(rooms, len(found) + len(gathering.items))
    problems += parking_problems(
        source,
        choices.after,
        around.source_drive,
        bool(surveyed.document),
        selection.part is not None,
    )
    problems += _discard_problems(choices, found, fates)
    speeds = (
        {d.uuid: d for d in workspace.register.drives()} if workspace.register.path.exists() else {}
    )
    return Plan(
        crossing=new_crossing_id(),
        token=secrets.token_hex(16),
        library_id=(identity.library_id if identity else known or ""),
        name=name,
        kind=surveyed.kind,
        source=source,
        source_drive=around.source_drive,
        goals=[
            Goal(
                p,
                d,
                room,
                estimate(room, totals.files, around.source_drive, d, speeds, columns.hole_bytes()),
            )
            for p, d, room in zip(paths, around.drives, rooms, strict=True)
        ],
        choices=choices,
        survey=found,
        uses=surveyed.uses,
        fates=fates,
        gathering=gathering,
        apart=apart,
        clashing=fitted.clashing,
        identity=identity,
        document=surveyed.document,
        totals=totals,
        left_out=left,
        discarded=discarded,
        problems=problems,
        largest={r: largest(found, r) for r in choices.leave_out | choices.discard if r.remakeable},
        part=selection.part,
        folders_out=frozenset(selection.folders_out.difference(gathering.folders())),
        shared=shared,
        frees=going.frees(shared),
        left_out_used=(len(left_used.files), len(left_used.remakeable)),
    )


def _own_name(surveyed: Surveyed, only: frozenset[str]) -> str:
    """What the library is called there when nothing else was said: a part by its own name."""
    if only and (name := part_name(surveyed, sorted(only))):
        return name
    if surveyed.document:
        return surveyed.root.stem
    identity = surveyed.identity
    return identity.name if identity and _plain(identity.name) else surveyed.root.name


class _Going:
    """What deleting the originals would delete by a plan, and what stays as others need it."""

    def __init__(
        self, surveyed: Surveyed, choices: Choices, fates: array[int], gathering: Gathering
    ) -> None:
        self._surveyed, self._choices, self._fates = surveyed, choices, fates
        self._loose = {o.path: o for _, o in gathering.items} if choices.loose_too else {}
        self._rows: dict[bytes, int] = {}
        self._names: dict[bytes, list[bytes]] = {}
        self.bounds = ""

    def shared(self, workspace: Workspace) -> dict[bytes, list[str]]:
        """Absolute path → who needs it, of all that would go and stays for that."""
        if self._choices.after is After.COPY:
            return {}
        needed = self._surveyed.needed(workspace, self._choices.loose_too)
        self.bounds = needed.bounds
        below, rows = self._surveyed.below, self._surveyed.survey.rows()
        sidecars = [below + place for _, _, place in rows if is_companion(place)] + [
            p for p in self._loose if is_companion(p)
        ]
        if needed.by or sidecars:
            self._rows = {place: row for row, _, place in self._surveyed.survey.rows()}
        kept = kept_for_others(needed, self._goes, self._names_in)
        kept |= sidecars_of_what_stays(sidecars, self._goes, kept)
        if needed.unknown:
            kept |= {path: sorted(needed.unknown) for path in self._loose if path not in kept}
        return kept

    def _goes(self, path: bytes) -> bool:
        below = self._surveyed.below
        if not path.startswith(below):
            return path in self._loose
        row = self._rows.get(path[len(below) :])
        if self._choices.after is After.PARK:
            return row is not None  # set aside is the whole folder, with what is left out
        return row is not None and self._fates[row] in (Fate.COPY, Fate.DISCARD, Fate.OWN)

    def _names_in(self, folder: bytes) -> list[bytes]:
        if not self._names:
            for path in (*(self._surveyed.below + place for place in self._rows), *self._loose):
                above, _, name = path.rpartition(b"/")
                self._names.setdefault(above, []).append(name)
        return self._names.get(folder, [])

    def frees(self, shared: Mapping[bytes, object]) -> int:
        """The room of all that goes, in bytes; nothing where the old place stays home."""
        if self._choices.after is After.COPY:
            return 0
        found, below, freeing = self._surveyed.survey, self._surveyed.below, Freeing()
        for row, _, place in found.rows():
            if (
                self._fates[row] not in (Fate.COPY, Fate.DISCARD, Fate.OWN)
                or found.kind(row) is not Kind.FILE
            ):
                continue
            if not shared or below + place not in shared:
                inode = (found.root_device, found.inode[row])
                freeing.add(found.size[row], found.allocated[row], inode, found.link_count[row])
        for path, o in self._loose.items():
            if path not in shared:
                freeing.add(o.size, o.allocated, (o.device, o.inode), o.links)
        return freeing.room


@dataclass(frozen=True, slots=True)
class _Fitted:
    """What becomes of every file, so that the destinations can hold it.

    ``left`` stays for that reason.
    """

    fates: array[int]
    gathering: Gathering
    apart: Apart
    left: Clashes
    clashing: tuple[int, int]


def _fitted(
    surveyed: Surveyed, choices: Choices, selection: Selection, around: Surroundings
) -> _Fitted:
    """Fits a library to its destinations.

    Names that cannot be held are kept apart, or their files left out by choice.
    """
    found, drives = surveyed.survey, [d for d in around.drives if d]
    links = len(drives) < len(around.drives) or any(d.rules.links for d in drives)

    def fit() -> tuple[array[int], Gathering, Apart]:
        fates = Fates(choices.leave_out, choices.discard, links, selection.rows_out).of(found)
        gathering = _gathering(surveyed, choices, selection, fates)
        rules = [d.rules for d in drives]
        return (
            fates,
            gathering,
            keep_apart(found, surveyed.uses, fates, gathering, rules, surveyed.before),
        )

    fates, gathering, apart = fit()
    clashing = clashes(drives, Columns(found, fates), gathering, apart) if drives else Clashes()
    figures = len(clashing), clashing.bytes
    if not clashing or not choices.leave_clashing:
        return _Fitted(fates, gathering, apart, Clashes(), figures)
    selection.rows_out |= clashing.rows
    selection.paths_out |= clashing.paths
    return _Fitted(*fit(), clashing, figures)


def landmarks(found: Survey, most: int = 8) -> list[tuple[str, str, int, int]]:
    """Some of the library's files, spread over it.

    ``(path, encoding, size, mtime_ns)``, to know its folder by.
    """
    step = max(1, found.kinds().count(Kind.FILE) // most)
    chosen = islice(islice(found.files(), 0, None, step), most)
    return [(*listed(place), found.size[row], found.mtime_ns[row]) for row, place in chosen]


def still_holds(shown_plan: Plan, fresh: Plan) -> bool:
    """True when a plan made just now says what the one says that the person has seen.

    Compared are the library (names, sizes, times, inodes) and what stops or needs a decision; free
    space may differ.
    """
    one, other = shown_plan.survey, fresh.survey
    same = (
        (one.root_device, one.root_inode) == (other.root_device, other.root_inode)
        and one.folders == other.folders
        and (one.names, one.ends, one.size) == (other.names, other.ends, other.size)
        and (one.mtime_ns, one.ctime_ns, one.inode) == (other.mtime_ns, other.ctime_ns, other.inode)
    )
    loose = [
        [(p, o.path, o.size, o.mtime_ns) for p, o in plan.gathering.items]
        for plan in (shown_plan, fresh)
    ]
    same = same and loose[0] == loose[1] and shown_plan.uses.standing == fresh.uses.standing
    asked = [
        [(p.code, p.files) for p in plan.problems if p.severity is not Severity.NOTE]
        for plan in (shown_plan, fresh)
    ]
    return same and asked[0] == asked[1] and shown_plan.apart == fresh.apart


def largest(found: Survey, role: Role, most: int = 3) -> list[bytes]:
    """Places of the largest files of a role."""
    index = ROLES.index(role)
    rows = (
        (found.size[row], join(folder.place, found.name(row)))
        for folder in found.folders
        for row in range(folder.first, folder.end)
        if found.role[row] == index and found.kind(row) is Kind.FILE and not found.is_own(folder)
    )
    return [place for _, place in heapq.nlargest(most, rows)]


def _plain(name: str) -> bool:
    if name in ("", ".", "..") or name.casefold().startswith(
        ".fascis"
    ):  # these are names of our own
        return False
    held = fsname(name)
    return "/" not in name and "\0" not in name and len(held) <= 255 and os.fsdecode(held) == name


def _known_id(workspace: Workspace, source: Path) -> str | None:
    if not workspace.register.path.exists():
        return None  # a dry run writes nothing, not even an empty register
    known = workspace.register.library_at(source)
    return known.id if known else None


def _own_folder_problems(found: Survey) -> Iterator[Problem]:
    """Fascis keeps its records in a folder of the library.

    What has that name and is no folder would be in its way.
    """
    root = found.folders[0] if found.folders else None
    if root and any(found.name(row) == OWN for row in range(root.first, root.end)):
        yield Problem(
            Code.NAME_NOT_USABLE,
            f"In the library lies something called {shown(OWN)} that is no folder. Fascis keeps "
            "its records in a folder of that name.",
            "Give it another name first.",
            (OWN,),
        )


def _discard_problems(choices: Choices, found: Survey, fates: array[int]) -> Iterator[Problem]:
    wrong = [r for r in sorted(choices.discard) if not r.remakeable]
    if wrong:
        for role in wrong:
            yield Problem(
                Code.DISCARD_NOT_POSSIBLE,
                f"Files of the role {role.value} cannot be made again; they are never discarded.",
                "Only proxies, renders and previews can be discarded.",
                severity_here=Severity.STOPS,
            )
    elif choices.discard and choices.after is After.COPY:
        yield Problem(
            Code.DISCARD_NOT_POSSIBLE,
            "Nothing is discarded: the old place stays home and loses nothing.",
        )
    elif kept := _kept_from_discarding(choices, found, fates):
        yield Problem(
            Code.DISCARD_NOT_POSSIBLE,
            f"{counted(kept, 'file stays', 'files stay')} at the old place: that they can be made "
            "again stands only in the library's identity file, which anybody can edit.",
        )


def _kept_from_discarding(choices: Choices, found: Survey, fates: array[int]) -> int:
    """Files whose role is to be discarded, and that stay.

    Only the identity file gives them that role.
    """
    wanted = {ROLES.index(r) for r in choices.discard}
    return sum(
        found.role[row] in wanted and fates[row] == Fate.LEFT_OUT and found.kind(row) is Kind.FILE
        for row in range(len(found))
        if wanted
    )


def _gathering(
    surveyed: Surveyed, choices: Choices, selection: Selection, fates: array[int]
) -> Gathering:
    """What is gathered by these choices, and where; what is left out or stays is in it too."""
    found, uses = surveyed.survey, surveyed.uses
    out = choices.leave_out | choices.discard

    def goes(loose: Outside) -> bool:
        return choices.gather and loose.path not in selection.paths_out and loose.role not in out

    equals = surveyed.equal_files() if choices.gather and uses.of(Standing.LOOSE) else {}
    asked = {p.removeprefix(surveyed.below) for p in equals.values()}
    if asked:
        inside = {p for row, p in found.files() if p in asked and fates[row] == Fate.COPY}
    else:
        inside = set()
    return gather(found, uses, surveyed.source, goes, inside.__contains__, equals)


def _totals(
    found: Survey, fates: array[int], gathering: Gathering
) -> tuple[Totals, Totals, Totals]:
    """What goes along, what is left out and stays, and what is discarded with the originals."""
    sums = {int(fate): [0, 0, 0] for fate in (Fate.COPY, Fate.LEFT_OUT, Fate.DISCARD)}
    for row, (fate, kind) in enumerate(zip(fates, found.kinds(), strict=True)):
        if kind == Kind.FILE and fate in sums:
            there = sums[fate]
            there[0] += 1
            there[1] += found.size[row]
            there[2] += found.allocated[row]
    along = sums[Fate.COPY]
    for _, loose in gathering.items:
        along[0] += 1
        along[1] += loose.size
        along[2] += loose.allocated
    gone_along, left, discarded = (Totals(*s) for s in sums.values())
    return gone_along, left, discarded


_ALONG = frozenset((int(Fate.COPY), int(Fate.OWN)))


def room_on(found: Survey, fates: array[int], gathering: Gathering, drive: Drive | None) -> int:
    """Bytes that a library takes on a drive, in its own blocks.

    Documents twice, for they are kept as they were too.
    """
    room, twins = 0, set()
    block = max(drive.block if drive else 4096, 1)
    holes, links = (drive.rules.holes, drive.rules.links) if drive else (True, True)
    document = ROLES.index(Role.DOCUMENT)
    for row, (fate, kind) in enumerate(zip(fates, found.kinds(), strict=True)):
        if kind != Kind.FILE or fate not in _ALONG:
            continue
        if found.link_count[row] > 1 and links:
            if found.inode[row] in twins:
                continue
            twins.add(found.inode[row])
        size = found.size[row]
        if holes and found.allocated[row] < size:
            size = found.allocated[row]
        room += -(-size // block) * block * (2 if found.role[row] == document else 1)
    for _, loose in gathering.items:
        room += -(-loose.size // block) * block
    return room + (len(found.folders) + len(gathering.folders())) * block
