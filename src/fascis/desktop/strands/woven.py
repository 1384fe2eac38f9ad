"""A library in woven columns.

Every file with its strand, its users, and the plan for it. Made in a task.
"""

from __future__ import annotations

import os
from array import array
from collections.abc import Callable
from pathlib import Path

import numpy as np
from msgspec import Struct, field

from fascis.crossing.model.fates import Fate
from fascis.crossing.plan.plan import Plan
from fascis.crossing.scope.named_parts import NamedPart, named_parts
from fascis.crossing.scope.selection import StrandKey
from fascis.crossing.scope.surveyed import Surveyed
from fascis.drives.connected import Drives
from fascis.files.errors import FascisError
from fascis.files.names import parent, shown
from fascis.library.references.projects import project_of, project_place
from fascis.library.references.strands import tops_of
from fascis.library.roles import ROLES
from fascis.library.standing import STANDINGS, Standing
from fascis.library.survey import strand_folder
from fascis.words.speech import tr

INSIDE, NOT_FOUND = tr("in its folder"), tr("not found")
NOBODY = tr("nothing")


class WovenStrand(Struct):
    """One strand, with its group in the view, and how much of it is copied.

    ``unread`` counts its documents that are not understood.
    """

    key: StrandKey
    group: str
    files: int = 0
    bytes: int = 0
    along_files: int = 0
    along_bytes: int = 0
    unread: int = 0

    @property
    def name(self) -> str:
        """Its name: its folder; outside, only the last part of that."""
        folder = self.key[0]
        inner = folder if self.key[2].inside else folder.rpartition(b"/")[2]
        return shown(inner) or tr("its own folder")


class Woven(Struct):
    """All files in columns: row ``i`` is the same file in each.

    Attributes:
        row: the survey's row, or ``-1 - n`` for the file outside number n.
        along: 1 for a file that is copied.
        strand: index into ``strands``.
        users: index into ``projects``, the projects that use it.
        unread: True for a document that is not understood.
        parts: parts that can be ticked, by name.
        ticked: the ticked ones; empty if everything is copied.
    """

    surveyed: Surveyed
    row: np.ndarray
    size: np.ndarray
    standing: np.ndarray
    role: np.ndarray
    along: np.ndarray
    strand: np.ndarray
    users: np.ndarray
    strands: list[WovenStrand]
    projects: list[tuple[str, ...]]
    places: dict[bytes, bytes]
    drives: dict[bytes, str]
    unread: np.ndarray = field(default_factory=lambda: np.empty(0, bool))
    parts: dict[str, NamedPart] = field(default_factory=dict)
    ticked: frozenset[str] = frozenset()
    _lower: list[str] = field(default_factory=list)

    def __len__(self) -> int:
        return len(self.row)

    @property
    def by_folder(self) -> bool:
        """True if folders of a catalog are ticked, not projects."""
        return any(part.folder for part in self.parts.values())

    def part_of_strand(self, strand: WovenStrand) -> str:
        """The name of the part that contains a strand's folder; empty if none does."""
        folder = strand.key[0]
        for part in self.parts.values():
            if folder == part.place or folder.startswith(part.place + b"/"):
                return part.words
        return ""

    def place(self, i: int) -> bytes:
        """Its place in the library, or its path."""
        row = int(self.row[i])
        if row < 0:
            return self.surveyed.uses.outside[-1 - row].path
        survey = self.surveyed.survey
        folder = self._folder(row)
        return (folder + b"/" if folder else b"") + survey.name(row)

    def _folder(self, row: int) -> bytes:
        folders = self.surveyed.survey.folders
        low, high = 0, len(folders) - 1
        while low < high:
            middle = (low + high) // 2
            if folders[middle].end <= row:
                low = middle + 1
            else:
                high = middle
        return folders[low].place

    def path(self, i: int) -> Path:
        """The file's path on this machine."""
        place = self.place(i)
        return Path(os.fsdecode(place if self.row[i] < 0 else self.surveyed.below + place))

    def used_by(self, i: int) -> str:
        """The projects that use it, in words; not known without documents."""
        if not self.surveyed.uses.documents:
            return tr("not known")
        return ", ".join(shown(p) for p in self.projects[int(self.users[i])]) or NOBODY

    def where(self, i: int) -> str:
        """Its location in words: its folder; outside with its drive."""
        folder = parent(self.place(i))
        standing = STANDINGS[int(self.standing[i])]
        if standing.inside:
            return shown(folder) or tr("its own folder")
        folder = folder.removeprefix(self.surveyed.below)
        if standing is Standing.MISSING:
            return tr("was in {folder}", folder=shown(b"/".join(folder.split(b"/")[-2:])))
        return (
            f"{self.drives.get(parent(self.place(i)), tr('elsewhere'))} · "
            f"{shown(folder.rpartition(b'/')[2])}"
        )

    def goes_to(self, i: int) -> str:
        """What the plan does with it, in words."""
        standing = STANDINGS[int(self.standing[i])]
        if standing in (Standing.MISSING, Standing.AWAY):
            return tr("nothing to copy")
        if not self.along[i]:
            return tr("not copied") if ROLES[int(self.role[i])].remakeable else tr("stays")
        place = self.place(i)
        there = self.places.get(place, place) if standing is Standing.LOOSE else place
        return shown(parent(there)) or tr("its own folder")

    def lower(self) -> list[str]:
        """Places in lower case, for searching; made once."""
        if not self._lower:
            self._lower = [shown(self.place(i)).lower() for i in range(len(self))]
        return self._lower

    def counts(self) -> dict[Standing, tuple[int, int]]:
        """``(files, bytes)`` of each standing."""
        files = np.bincount(self.standing, minlength=len(STANDINGS))
        sizes = np.bincount(self.standing, weights=self.size, minlength=len(STANDINGS))
        return {s: (int(files[i]), int(sizes[i])) for i, s in enumerate(STANDINGS)}

    def totals_by(self, right: Callable[[int], int], kinds: int) -> np.ndarray:
        """Bytes and files, with the copied ones, by strand and ``right``'s row numbers."""
        rights = np.array([right(u) for u in range(len(self.projects))], np.int64)[self.users]
        flat = self.strand.astype(np.int64) * kinds + rights
        n = len(self.strands) * kinds
        along = self.along.astype(np.float64)
        columns = (self.size.astype(np.float64), np.ones(len(self)), self.size * along, along)
        return np.stack(
            [np.bincount(flat, weights=c, minlength=n).reshape(-1, kinds) for c in columns], axis=-1
        )


def _chosen(column: bytes | array[int], kind: type[np.generic], rows: np.ndarray) -> np.ndarray:
    """Some rows of a column; empty for an empty one, which numpy cannot read."""
    if not len(rows):
        return np.empty(0, kind)
    chosen: np.ndarray = np.frombuffer(column, kind)[rows]
    return chosen


def weave(surveyed: Surveyed, plan: Plan | None, drives: Drives) -> Woven:
    """Puts a library into columns.

    Takes about a second for 300,000 files: never in the interface thread.
    """
    survey, uses = surveyed.survey, surveyed.uses
    inside = np.fromiter((row for row, _ in survey.files()), np.int64)
    count = len(uses.outside)
    row = np.concatenate([inside, -1 - np.arange(count, dtype=np.int64)])
    outside_size = np.fromiter((o.size for o in uses.outside), np.int64, count)
    size = np.concatenate([_chosen(survey.size, np.uint64, inside).astype(np.int64), outside_size])
    outside_standing = (STANDINGS.index(o.standing) for o in uses.outside)
    standing = np.concatenate(
        [
            _chosen(bytes(uses.standing), np.uint8, inside),
            np.fromiter(outside_standing, np.uint8, count),
        ]
    )
    outside_role = (ROLES.index(o.role) for o in uses.outside)
    role = np.concatenate(
        [_chosen(survey.role, np.uint8, inside), np.fromiter(outside_role, np.uint8, count)]
    )
    places = dict(plan.gathering.aliases) if plan else {}
    fates = np.zeros(len(inside), np.uint8)
    if plan:
        fates = _chosen(plan.fates, np.uint8, inside)
    along = np.concatenate(
        [fates == Fate.COPY, np.fromiter((o.path in places for o in uses.outside), bool, count)]
    )
    strand, strands, names = _strands(surveyed, drives, row, standing, role)
    closed = {place for place, _ in uses.not_understood}
    unread = np.zeros(len(row), bool)
    if closed:
        places_inside = (place in closed for _, place in survey.files())
        unread[: len(inside)] = np.fromiter(places_inside, bool, len(inside))
        unread[len(inside) :] = [o.path in closed for o in uses.outside]
    for i, s in enumerate(strands):
        mine = strand == i
        s.unread = int((mine & unread).sum())
        s.files, s.bytes = int(mine.sum()), int(size[mine].sum())
        s.along_files, s.along_bytes = int((mine & along).sum()), int(size[mine & along].sum())
    parts = named_parts(surveyed)
    users, projects = _users(surveyed, row, parts)
    return Woven(
        surveyed,
        row,
        size,
        standing,
        role,
        along,
        strand,
        users,
        strands,
        projects,
        places,
        names,
        unread,
        {part.words: part for part in parts},
        plan.choices.only if plan else frozenset(),
    )


def _strands(
    surveyed: Surveyed, drives: Drives, row: np.ndarray, standing: np.ndarray, role: np.ndarray
) -> tuple[np.ndarray, list[WovenStrand], dict[bytes, str]]:
    """Each file's strand, the strands, and the drive of each folder outside."""
    survey, uses = surveyed.survey, surveyed.uses
    tops = tops_of(uses)
    names: dict[bytes, str] = {}
    known: dict[tuple[bytes, int, int], int] = {}
    found: list[WovenStrand] = []
    out = np.empty(len(row), np.int32)
    folders = iter(survey.folders)
    folder = next(folders, None)
    top = b""
    for i, r in enumerate(row.tolist()):
        if r >= 0:
            while folder is not None and r >= folder.end:
                folder = next(folders, None)
                top = strand_folder(folder.place) if folder else b""
        else:
            top = tops[parent(uses.outside[-1 - r].path)]
        key = (top, int(role[i]), int(standing[i]))
        if (number := known.get(key)) is None:
            number = known[key] = len(found)
            group = _group(surveyed, drives, r, names)
            found.append(WovenStrand((top, ROLES[key[1]], STANDINGS[key[2]]), group))
        elif r < 0:
            _group(surveyed, drives, r, names)
        out[i] = number
    return out, found, names


def _group(surveyed: Surveyed, drives: Drives, row: int, names: dict[bytes, str]) -> str:
    """The group of a file in the view."""
    if row >= 0:
        return INSIDE
    o = surveyed.uses.outside[-1 - row]
    if o.standing is Standing.MISSING:
        return NOT_FOUND
    folder = parent(o.path)
    if folder not in names:
        names[folder] = _drive_of(drives, Path(os.fsdecode(folder or b"/")), o.standing)
    return (
        tr("outside, on {names}", names=names[folder])
        if o.standing is Standing.LOOSE
        else tr("{names}, away", names=names[folder])
    )


def _drive_of(drives: Drives, folder: Path, standing: Standing) -> str:
    if standing is Standing.AWAY:
        away = [
            d
            for d in drives.connected(measured=False)
            if not d.connected and folder.is_relative_to(d.mount)
        ]
        if away:
            return shown(away[0].label)
        return shown(folder.parts[3] if len(folder.parts) > 3 else folder.name)
    try:
        return shown(drives.at(folder, measured=False).label)
    except FascisError:
        return tr("another drive")


def _users(
    surveyed: Surveyed, row: np.ndarray, parts: list[NamedPart]
) -> tuple[np.ndarray, list[tuple[str, ...]]]:
    """For each file the number of its set of projects, and the sets."""
    uses = surveyed.uses
    words = {part.place: part.words for part in parts if not part.folder}
    names = [
        words.get(project_place(d), project_of(d)) if d.place else project_of(d)
        for d in uses.documents
    ]
    own = {d.place: n for n, d in enumerate(uses.documents) if d.place and d.kind.works}
    # A document belongs to its own project.
    mine = {row: own[place] for row, place in surveyed.survey.files() if place in own}
    projects: dict[tuple[str, ...], int] = {(): 0}
    by_numbers: dict[tuple[int, ...], int] = {(): 0}
    out = np.zeros(len(row), np.int32)
    for i, r in enumerate(row.tolist()):
        numbers = uses.used_by.get(r, ()) if r >= 0 else tuple(sorted(uses.outside[-1 - r].used_by))
        if r in mine:
            numbers = tuple(sorted({*numbers, mine[r]}))
        if (known := by_numbers.get(numbers)) is None:
            key = tuple(sorted({names[n] for n in numbers}))
            known = by_numbers[numbers] = projects.setdefault(key, len(projects))
        out[i] = known
    return out, list(projects)
