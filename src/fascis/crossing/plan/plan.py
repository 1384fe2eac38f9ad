"""The plan: what a crossing would do.

It can be shown and compared; making it writes nothing.
"""

from __future__ import annotations

import heapq
import secrets
from array import array
from collections.abc import Collection
from itertools import islice
from pathlib import Path
from typing import Any

from msgspec import Struct, field

from fascis.crossing.fit.estimate import Estimate
from fascis.crossing.fit.names import Apart
from fascis.crossing.journal.header import SplitFacts, UpdateFacts
from fascis.crossing.model.landing import Landing
from fascis.crossing.model.problems import Problem, needs_decision, stops
from fascis.crossing.plan.choices import Afterwards, Choices, Followers, Scope
from fascis.crossing.plan.fitting import Totals
from fascis.crossing.scope.gathering import Gathering, below
from fascis.crossing.scope.parts import Part
from fascis.drives.model import Drive
from fascis.files.codes import Severity
from fascis.files.hash_lists import HashList
from fascis.files.names import join, listed, place_text
from fascis.library.identity import Identity
from fascis.library.references.uses import Uses
from fascis.library.roles import ROLES, Role
from fascis.library.standing import Standing
from fascis.library.survey import Kind, Survey


class Goal(Struct, frozen=True):
    """One destination of a plan.

    The landing, its drive if known, the bytes it needs there, and the time that takes.
    """

    landing: Landing
    drive: Drive | None
    room: int
    estimate: Estimate

    @property
    def path(self) -> Path:
        """The folder that contains the library's own folder."""
        return self.landing.folder


class Update(Struct, frozen=True):
    """What an update changes in a copy; places are those of the copy.

    Attributes:
        facts: the numbers of files.
        moves: new place → the present place of the same content in the copy.
        earlier: files that are replaced or removed, and kept in ``.fascis/earlier/``.
    """

    facts: UpdateFacts
    moves: dict[bytes, bytes]
    earlier: tuple[bytes, ...]


class Plan(Struct):
    """A crossing before it starts: a scope, a landing on each destination, followers, afterwards.

    ``survey`` holds the items in columns, ``fates`` the fate of each. ``totals`` counts copied
    files, including those in ``gathering``. ``apart`` has names that differ in the copy,
    ``clashing`` the files, and their bytes, that a destination cannot store as they are.
    ``asked_for`` is the destination folder as given; ``also`` are documents and libraries checked
    besides the known ones, ``of_catalog`` the catalog to which the folder belongs. ``split`` is the
    split of which it is a part. ``largest`` names the largest files of each role that can be made
    again and is left out. ``part`` is what is copied if not the whole library, ``folders_out`` the
    folders outside it. ``shared`` are originals that stay because others need them: absolute path →
    who. ``frees`` is the room, in bytes, of exactly what deleting the originals would delete.
    ``left_out_used`` counts files left out although documents use them: those that cannot be made
    again, and those that can. ``lists`` are other hash lists to compare originals with. ``update``
    is what changes in a copy that is updated. ``restores``: documents of a library that comes back
    get their earlier bytes; ``elsewhere`` has their new paths outside: place → path.
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
    followers: Followers
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
    asked_for: Path = Path()
    also: tuple[bytes, ...] = ()
    of_catalog: str = ""
    split: SplitFacts | None = None
    part: Part | None = None
    folders_out: frozenset[bytes] = frozenset()
    shared: dict[bytes, list[str]] = field(default_factory=dict)
    frees: int = 0
    left_out_used: tuple[int, int] = (0, 0)
    lists: tuple[HashList, ...] = ()
    update: Update | None = None
    restores: bool = False
    elsewhere: dict[bytes, bytes] = field(default_factory=dict)

    @property
    def destination(self) -> Path:
        """The folder that will contain the home's own folder."""
        return self.goals[0].path

    @property
    def destination_drive(self) -> Drive | None:
        """The drive that becomes home."""
        return self.goals[0].drive

    @property
    def scope(self) -> Scope:
        """What is copied."""
        return self.choices.scope

    @property
    def afterwards(self) -> Afterwards:
        """What happens afterwards."""
        return self.choices.afterwards

    @property
    def estimate(self) -> Estimate:
        """The time until home is whole."""
        return self.goals[0].estimate

    @property
    def target(self) -> Path:
        """Where a person finds the copy: the library's own folder at its new path."""
        return self.goals[0].landing.told

    @property
    def targets(self) -> list[Path]:
        """The same on every destination."""
        return [g.landing.told for g in self.goals]

    def references(self) -> dict[str, int]:
        """The number of files its documents use, by standing, and of documents not understood."""
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

    def followers_told(self) -> list[dict[str, Any]]:
        """Documents that are updated to the new place, as in the journal and the command line."""
        return [
            {"path": f.told, "format": f.format, "references": f.references}
            for f in self.followers.documents
        ]

    def kept_for_others(self) -> list[dict[str, Any]]:
        """Originals that stay because others need them, as JSON.

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
        """The number of files left out that documents use, with those that can be made again."""
        return self.left_out_used[0] + self.left_out_used[1]

    @property
    def lacks_used(self) -> bool:
        """True if a file is left out that documents use and that cannot be made again."""
        return self.left_out_used[0] > 0

    @property
    def stopped(self) -> bool:
        """True if a problem stops it."""
        return stops(self.problems)

    @property
    def asks(self) -> bool:
        """True if a problem needs a decision."""
        return needs_decision(self.problems)


def new_crossing_id() -> str:
    """A crossing's id: 16 hex digits, random, because clocks can be set back."""
    return secrets.token_hex(8)


def landmarks(found: Survey, most: int = 8) -> list[tuple[str, str, int, int]]:
    """Some of the library's files, spread over it.

    ``(path, encoding, size, mtime_ns)``, by which its folder is recognised.
    """
    step = max(1, found.kinds().count(Kind.FILE) // most)
    chosen = islice(islice(found.files(), 0, None, step), most)
    return [(*listed(place), found.size[row], found.mtime_ns[row]) for row, place in chosen]


def still_holds(shown_plan: Plan, fresh: Plan) -> bool:
    """True if a plan made now equals the one that the person has seen.

    The library is compared (names, sizes, times, inodes), and problems that stop or need a
    decision; free space may differ.
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
