"""What the destinations can hold of a library: names, sizes, links, permissions and times.

Each clash with what can be done.

Pure: reads the plan's columns, and nothing else.
"""

from __future__ import annotations

import stat
from array import array
from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import numpy.typing as npt

from fascis.crossing.fit.names import GOES, Apart
from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.gathering import Gathering
from fascis.drives.model import Drive
from fascis.files.codes import Code, Severity
from fascis.files.names import fsname, join, shown
from fascis.files.times import EXACT, whole
from fascis.library.survey import Survey
from fascis.words.figures import counted, size

MOST = 1000  # files that a problem names
_APART = (
    "They get other names in the copy, and documents follow; or leave them out, or choose another "
    "drive."
)
# Bytes of one file: zeros are hashed at some 2 GB a second.
MOST_HOLES = 8 << 40
# Bytes that a file may take less than its size without having a hole.
_SLACK = 4096


@dataclass(slots=True)
class Clashes:
    """Files that some destination cannot hold as they are.

    Rows of the survey, and loose files by their path; bytes of all.
    """

    rows: set[int] = field(default_factory=set)
    paths: set[bytes] = field(default_factory=set)
    bytes: int = 0

    def __len__(self) -> int:
        return len(self.rows) + len(self.paths)


class Columns:
    """A survey's columns and a plan's fates as arrays: what goes along, by row."""

    def __init__(self, found: Survey, fates: Sequence[int]) -> None:
        self.found = found
        kinds = _column(found.mode, f"u{found.mode.itemsize}")
        fate = np.frombuffer(memoryview(bytes(fates)), np.uint8)
        self.goes = np.isin(fate, [int(f) for f in GOES])
        self.mode = kinds
        self.files = self.goes & ((kinds & 0o170000) == stat.S_IFREG)
        self.links = self.goes & ((kinds & 0o170000) == stat.S_IFLNK)
        self.size = _column(found.size, np.uint64)
        self.allocated = _column(found.allocated, np.uint64)
        self.mtime = _column(found.mtime_ns, np.int64)
        self.names = _column(found.link_count, f"u{found.link_count.itemsize}")

    def places(self, rows: npt.NDArray[np.bool_]) -> list[bytes]:
        """Places of the first of these rows."""
        found, out = self.found, []
        wanted = np.flatnonzero(rows)[:MOST]
        starts = [f.first for f in found.folders]
        for row in wanted.tolist():
            at = int(np.searchsorted(starts, row, "right")) - 1
            # Folders without entries begin where the next one does.
            while found.folders[at].end <= row:
                at -= 1
            out.append(join(found.folders[at].place, found.name(row)))
        return out

    def hollow(self) -> npt.NDArray[np.bool_]:
        """Rows of files whose holes are so large that checking them would take hours."""
        rows: npt.NDArray[np.bool_] = self.files & (self._holes() > MOST_HOLES)
        return rows

    def hole_bytes(self) -> int:
        """Bytes of all holes: they are no work to copy, and some to check."""
        return sum(self._holes()[self.files].tolist())

    def _holes(self) -> npt.NDArray[Any]:
        holes: npt.NDArray[Any] = self.size - np.minimum(self.size, self.allocated)
        return holes

    def too_large(self, limit: int | None) -> npt.NDArray[np.bool_]:
        """Rows of files over a limit in bytes."""
        if limit is None:
            return np.zeros(len(self.files), bool)
        large: npt.NDArray[np.bool_] = self.files & (self.size > limit)
        return large


def _column(values: array[int], kind: npt.DTypeLike) -> npt.NDArray[Any]:
    return np.frombuffer(values, kind) if len(values) else np.empty(0, kind)


def clashes(
    drives: Sequence[Drive], columns: Columns, gathering: Gathering, apart: Apart
) -> Clashes:
    """Which files would have to be renamed, cannot be, or are too large, on some destination."""
    limit = min(
        (d.rules.largest_file for d in drives if d.rules.largest_file is not None), default=None
    )
    found = Clashes(set(np.flatnonzero(columns.too_large(limit) | columns.hollow()).tolist()))
    named = {*apart.refused, *apart.doubled, *apart.cannot} - set(apart.folders)
    if named:
        found.rows |= {row for row, _, place in columns.found.rows() if place in named}
    loose = [
        o
        for place, o in gathering.items
        if place in named or (limit is not None and o.size > limit)
    ]
    found.paths = {o.path for o in loose}
    found.bytes = sum(columns.found.size[row] for row in found.rows) + sum(o.size for o in loose)
    return found


def name_problems(drives: Sequence[Drive], apart: Apart) -> Iterator[Problem]:
    """What is called otherwise in the copy, and what cannot be."""
    if apart.refused:
        place, why = next(iter(apart.refused.items()))
        there = shown(apart.there(place) if place in apart.files else apart.folder(place))
        yield Problem(
            Code.NAME_NOT_POSSIBLE,
            f"{_refusing(drives, apart.refused)} cannot hold "
            f"{counted(len(apart.refused), 'name')}: {shown(place)} {why}; it would be "
            f"{shown(there.rpartition('/')[2])} there.",
            _APART,
            tuple(apart.refused)[:MOST],
            f"{counted(len(apart.refused), 'name')} it cannot hold",
        )
    if apart.doubled:
        place = apart.doubled[0]
        there = shown(apart.there(place) if place in apart.files else apart.folder(place))
        yield Problem(
            Code.NAMES_BECOME_ONE,
            f"{counted(len(apart.doubled), 'name differs', 'names differ')} from another only in "
            f"upper and lower case, which {_folding(drives)} takes for one: {shown(place)} would "
            f"be {shown(there.rpartition('/')[2])} there.",
            _APART,
            tuple(apart.doubled)[:MOST],
            f"{counted(len(apart.doubled), 'name differs', 'names differ')} only in case",
        )
    if apart.cannot:
        place, why = next(iter(apart.cannot.items()))
        yield Problem(
            Code.NAME_NOT_POSSIBLE,
            f"{counted(len(apart.cannot), 'file')} would have to be called otherwise there and "
            f"cannot be: {shown(place)}, {why}.",
            "Choose a drive with another file system, or leave them out.",
            tuple(apart.cannot)[:MOST],
            f"{counted(len(apart.cannot), 'file')} cannot be called otherwise",
            severity_here=Severity.STOPS,
        )
    if apart.returned:
        yield Problem(
            Code.NAMES_GIVEN_BACK,
            f"{counted(len(apart.returned), 'name')} that an earlier drive could not hold"
            f" {'is' if len(apart.returned) == 1 else 'are'} as before again.",
            "",
            tuple(apart.returned)[:MOST],
        )


def _refusing(drives: Sequence[Drive], refused: Collection[bytes]) -> str:
    names = [n.rpartition(b"/")[2] for n in refused]
    return next(
        (d.rules.name for d in drives if any(d.rules.refuses_name(n) for n in names)),
        drives[0].rules.name,
    )


def _folding(drives: Sequence[Drive]) -> str:
    return next((d.rules.name for d in drives if d.rules.folds_case), drives[0].rules.name)


def left_problem(left: Clashes) -> Iterator[Problem]:
    """What stays by choice because a destination cannot hold it as it is."""
    if left:
        yield Problem(
            Code.NOT_HOLDABLE,
            f"{counted(len(left), 'file stays', 'files stay')} at the old place, because the new "
            f"drive cannot hold {'it' if len(left) == 1 else 'them'} as named or as large; "
            f"{'its original is' if len(left) == 1 else 'their originals are'} never deleted.",
        )


def holding_problems(
    drive: Drive,
    name: str,
    columns: Columns,
    gathering: Gathering,
    attributed: Callable[[], dict[bytes, int]],
) -> Iterator[Problem]:
    """Problems of what a destination's file system can hold, but for names of files.

    Those are left to :func:`name_problems`.

    Args:
        attributed: gives the places of files with ``user.*`` attributes, and the bytes of these.
    """
    rules, c = drive.rules, columns
    if why := rules.refuses_name(fsname(name)):
        sentence = f"{rules.name} cannot hold the name {shown(name)}: it {why}."
        yield Problem(Code.NAME_NOT_USABLE, sentence, "Choose another name there.")
    if not (rules.certain or rules.asked):
        yield Problem(
            Code.RULES_ASSUMED,
            f"What {shown(drive.label)} can hold is assumed by the rules of {_file_system(drive)};"
            " it is asked itself when the crossing starts.",
        )
    large = c.places(c.too_large(rules.largest_file))
    large += [
        p
        for p, o in gathering.items
        if rules.largest_file is not None and o.size > rules.largest_file
    ]
    if large and rules.largest_file:
        yield Problem(
            Code.FILE_TOO_LARGE,
            f"{counted(len(large), 'file is', 'files are')} over {size(rules.largest_file)}, more "
            f"than {rules.name} can hold.",
            "Choose a drive with another file system, or leave them out.",
            tuple(large[:MOST]),
            f"{counted(len(large), 'file is', 'files are')} over {size(rules.largest_file)}",
        )
    if hollow := c.places(c.hollow()):
        yield Problem(
            Code.FILE_TOO_LARGE,
            f"{counted(len(hollow), 'file says that it has', 'files say that they have')} more "
            f"than {size(MOST_HOLES)} in which nothing is written. To check that would take hours.",
            "Leave them out, if they are meant to be so at all.",
            tuple(hollow),
            f"{counted(len(hollow), 'file')} of emptiness",
        )
    yield from _not_kept(drive, columns)
    if not rules.attributes and (places := attributed()):
        yield Problem(
            Code.ATTRIBUTES_NOT_KEPT,
            f"{rules.name} keeps no extended attributes; "
            f"{counted(len(places), 'file has', 'files have')} some.",
            "",
            tuple(places)[:MOST],
        )
    limit = rules.attribute_bytes
    if (
        rules.attributes
        and limit
        and (over := [p for p, length in attributed().items() if length > limit])
    ):
        yield Problem(
            Code.ATTRIBUTES_NOT_KEPT,
            f"{counted(len(over), 'file has', 'files have')} more extended attributes than "
            f"{rules.name} can hold ({size(limit)} a file): what does not fit is not kept, and "
            "told then.",
            "",
            tuple(over[:MOST]),
        )
    yield from _times(drive, columns, gathering)


def _file_system(drive: Drive) -> str:
    if drive.rules.known:
        return drive.rules.name
    return f"a file system that is not known here ({drive.filesystem}), the narrowest"


def _not_kept(drive: Drive, c: Columns) -> Iterator[Problem]:
    rules = drive.rules
    if not rules.links and (links := int(c.links.sum())):
        yield Problem(
            Code.LINKS_NOT_KEPT,
            f"{rules.name} has no links; {counted(links, 'link')} will stay at the old place.",
            "Choose a drive with another file system, or go on without them.",
            tuple(c.places(c.links)),
            f"{counted(links, 'link')} will stay",
        )
    if not rules.links and (hard := int((c.files & (c.names > 1)).sum())):
        yield Problem(
            Code.HARD_LINKS_NOT_KEPT,
            f"{counted(hard, 'name')} of files with several names become files of their own there.",
        )
    if not rules.modes and bool((c.files & ((c.mode & 0o111) != 0)).any()):
        yield Problem(Code.PERMISSIONS_NOT_KEPT, f"{rules.name} keeps no permissions.")
    sparse = int((c.files & (c.allocated + _SLACK < c.size)).sum())
    if sparse and not rules.holes:
        yield Problem(
            Code.HOLES_NOT_KEPT,
            f"{counted(sparse, 'sparse file takes', 'sparse files take')} their full size on "
            f"{rules.name}.",
        )


def _times(drive: Drive, c: Columns, gathering: Gathering) -> Iterator[Problem]:
    rules = drive.rules
    if rules.granularity_ns > 1_000_000_000:
        sentence = f"{rules.name} keeps times in steps of {rules.granularity_ns // 10**9} s."
        yield Problem(Code.TIMES_COARSER, sentence)
    far = np.abs(c.mtime) >= EXACT
    seconds = np.where(far, c.mtime - np.sign(c.mtime) * EXACT, c.mtime // 10**9)
    outside = np.zeros(len(c.files), bool)
    if rules.earliest is not None:
        outside |= c.files & (seconds < rules.earliest)
    if rules.latest is not None:
        outside |= c.files & (seconds > rules.latest)
    places = c.places(outside) + [
        p for p, o in gathering.items if not rules.keeps_time(whole(o.mtime_ns))
    ]
    if places:
        yield Problem(
            Code.TIMES_NOT_KEPT,
            f"{counted(int(outside.sum()) or len(places), 'file has a date', 'files have dates')} "
            f"that {rules.name} cannot hold: {shown(places[0])} first. The nearest that it can "
            "hold is kept there.",
            "",
            tuple(places[:MOST]),
        )
