"""What the destinations can store of a library: names, sizes, links, permissions and times.

Each clash with its solutions. Pure: reads only the plan's columns.
"""

from __future__ import annotations

import stat
from array import array
from collections.abc import Callable, Collection, Iterator, Sequence
from typing import Any

import numpy as np
import numpy.typing as npt
from msgspec import Struct, field

from fascis.crossing.fit.names import GOES, Apart
from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.gathering import Gathering
from fascis.drives.model import Drive
from fascis.files.codes import Code, Severity
from fascis.files.names import fsname, join, shown
from fascis.files.times import EXACT, whole
from fascis.library.survey import Survey
from fascis.words.figures import size
from fascis.words.speech import tr, trn

MOST = 1000  # Files that a problem names.
_APART = tr(
    "They get other names in the copy, and the documents are updated; or leave them out, or "
    "choose another drive."
)
# Bytes of one file: zeros are hashed at some 2 GB a second.
MOST_HOLES = 8 << 40
# Bytes by which a file's blocks may be smaller than its size without a hole.
_SLACK = 4096


class Clashes(Struct):
    """Files that some destination cannot store as they are.

    Rows of the survey, and loose files by their path; bytes of all.
    """

    rows: set[int] = field(default_factory=set)
    paths: set[bytes] = field(default_factory=set)
    bytes: int = 0

    def __len__(self) -> int:
        return len(self.rows) + len(self.paths)


class Columns:
    """A survey's columns and a plan's fates as arrays: what is copied, by row."""

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
        """Bytes of all holes: nothing to copy, but something to check."""
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
    """Files that must be renamed, cannot be renamed, or are too large, on some destination."""
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
    """Files that get another name in the copy, and files that cannot."""
    if apart.refused:
        place, why = next(iter(apart.refused.items()))
        there = shown(apart.there(place) if place in apart.files else apart.folder(place))
        yield Problem(
            Code.NAME_NOT_POSSIBLE,
            trn(
                "{refusing} cannot hold {n} name: {place} {why}; it would be {rpartition} there.",
                "{refusing} cannot hold {n} names: {place} {why}; it would be {rpartition} there.",
                len(apart.refused),
                refusing=_refusing(drives, apart.refused),
                place=shown(place),
                why=why,
                rpartition=shown(there.rpartition("/")[2]),
            ),
            _APART,
            tuple(apart.refused)[:MOST],
            trn("{n} name it cannot hold", "{n} names it cannot hold", len(apart.refused)),
        )
    if apart.doubled:
        place = apart.doubled[0]
        there = shown(apart.there(place) if place in apart.files else apart.folder(place))
        yield Problem(
            Code.NAMES_BECOME_ONE,
            trn(
                "{n} name differs from another only in upper and lower case, which "
                "{folding} treats as the same name: {place} would be {rpartition} there.",
                "{n} names differ from another only in upper and lower case, which "
                "{folding} treats as the same name: {place} would be {rpartition} there.",
                len(apart.doubled),
                folding=_folding(drives),
                place=shown(place),
                rpartition=shown(there.rpartition("/")[2]),
            ),
            _APART,
            tuple(apart.doubled)[:MOST],
            trn(
                "{n} name differs only in case", "{n} names differ only in case", len(apart.doubled)
            ),
        )
    if apart.cannot:
        place, why = next(iter(apart.cannot.items()))
        yield Problem(
            Code.NAME_NOT_POSSIBLE,
            trn(
                "{n} file would need a different name there, which is not possible: {place}, "
                "{why}.",
                "{n} files would need a different name there, which is not possible: {place}, "
                "{why}.",
                len(apart.cannot),
                place=shown(place),
                why=why,
            ),
            tr("Choose a drive with another file system, or leave them out."),
            tuple(apart.cannot)[:MOST],
            trn(
                "{n} file cannot be given another name",
                "{n} files cannot be given another name",
                len(apart.cannot),
            ),
            severity_here=Severity.STOPS,
        )
    if apart.returned:
        yield Problem(
            Code.NAMES_GIVEN_BACK,
            trn(
                "{n} name that an earlier drive could not hold is as it was before.",
                "{n} names that an earlier drive could not hold are as they were before.",
                len(apart.returned),
            ),
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
    """Files left out by choice because a destination cannot store them as they are."""
    if left:
        yield Problem(
            Code.NOT_HOLDABLE,
            trn(
                "{n} file stays at the old place, because the new drive cannot hold its name or "
                "its size; its original is never deleted.",
                "{n} files stay at the old place, because the new drive cannot hold their names or "
                "sizes; their originals are never deleted.",
                len(left),
            ),
        )


def holding_problems(
    drive: Drive,
    name: str,
    columns: Columns,
    gathering: Gathering,
    attributed: Callable[[], dict[bytes, int]],
    source: Drive | None = None,
) -> Iterator[Problem]:
    """Problems of what a destination's file system can store, except names.

    :func:`name_problems` handles names.

    Args:
        attributed: returns the places of files with ``user.*`` attributes, and the bytes of these.
        source: the drive that the files are on, if it is known.
    """
    rules, c = drive.rules, columns
    if why := rules.refuses_name(fsname(name)):
        sentence = tr(
            "{name} cannot hold the name {name_2}: it {why}.",
            name=rules.name,
            name_2=shown(name),
            why=why,
        )
        yield Problem(Code.NAME_NOT_USABLE, sentence, tr("Choose another name there."))
    if not (rules.certain or rules.asked):
        yield Problem(
            Code.RULES_ASSUMED,
            tr(
                "What {label} can hold is assumed by the rules of {file_system}; the drive is "
                "tested when the crossing starts.",
                label=shown(drive.label),
                file_system=_file_system(drive),
            ),
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
            trn(
                "{n} file is over {size}, more than {name} can hold.",
                "{n} files are over {size}, more than {name} can hold.",
                len(large),
                size=size(rules.largest_file),
                name=rules.name,
            ),
            tr("Choose a drive with another file system, or leave them out."),
            tuple(large[:MOST]),
            trn(
                "{n} file is over {size}",
                "{n} files are over {size}",
                len(large),
                size=size(rules.largest_file),
            ),
        )
    if hollow := c.places(c.hollow()):
        yield Problem(
            Code.FILE_TOO_LARGE,
            trn(
                "{n} file says that it has more than {size} in which nothing is written. "
                "To check that would take hours.",
                "{n} files say that they have more than {size} in which nothing is "
                "written. To check that would take hours.",
                len(hollow),
                size=size(MOST_HOLES),
            ),
            tr("Leave them out, unless they are meant to be like this."),
            tuple(hollow),
            trn("{n} file without content", "{n} files without content", len(hollow)),
        )
    yield from _not_kept(drive, columns)
    if not rules.attributes and (places := attributed()):
        yield Problem(
            Code.ATTRIBUTES_NOT_KEPT,
            trn(
                "{name} keeps no extended attributes; {n} file has some.",
                "{name} keeps no extended attributes; {n} files have some.",
                len(places),
                name=rules.name,
            ),
            "",
            tuple(places)[:MOST],
        )
    limit = rules.attribute_bytes
    if (
        rules.attributes
        and limit
        and not _holds_no_more(source, limit)
        and (over := [p for p, length in attributed().items() if length > limit])
    ):
        yield Problem(
            Code.ATTRIBUTES_NOT_KEPT,
            trn(
                "{n} file has more extended attributes than {name} can hold ({size} a "
                "file): what does not fit is not kept, and you will be told which.",
                "{n} files have more extended attributes than {name} can hold ({size} a "
                "file): what does not fit is not kept, and you will be told which.",
                len(over),
                name=rules.name,
                size=size(limit),
            ),
            "",
            tuple(over[:MOST]),
        )
    yield from _times(drive, columns, gathering)


def _file_system(drive: Drive) -> str:
    if drive.rules.known:
        return drive.rules.name
    return tr(
        "a file system that is not known here ({filesystem}), with the strictest rules",
        filesystem=drive.filesystem,
    )


def _holds_no_more(source: Drive | None, limit: int) -> bool:
    """True if no file of a drive can have more bytes of attributes than that.

    Then none has to be asked: a library may have a million files.
    """
    if source is None or source.rules.attribute_bytes is None:
        return False
    return source.rules.attributes and source.rules.attribute_bytes <= limit


def _not_kept(drive: Drive, c: Columns) -> Iterator[Problem]:
    rules = drive.rules
    if not rules.links and (links := int(c.links.sum())):
        yield Problem(
            Code.LINKS_NOT_KEPT,
            trn(
                "{name} has no links; {n} link will stay at the old place.",
                "{name} has no links; {n} links will stay at the old place.",
                links,
                name=rules.name,
            ),
            tr("Choose a drive with another file system, or continue without them."),
            tuple(c.places(c.links)),
            trn("{n} link will stay", "{n} links will stay", links),
        )
    if not rules.links and (hard := int((c.files & (c.names > 1)).sum())):
        yield Problem(
            Code.HARD_LINKS_NOT_KEPT,
            trn(
                "{n} name of files with several names become files of their own there.",
                "{n} names of files with several names become files of their own there.",
                hard,
            ),
        )
    if not rules.modes and bool((c.files & ((c.mode & 0o111) != 0)).any()):
        yield Problem(
            Code.PERMISSIONS_NOT_KEPT, tr("{name} keeps no permissions.", name=rules.name)
        )
    sparse = int((c.files & (c.allocated + _SLACK < c.size)).sum())
    if sparse and not rules.holes:
        yield Problem(
            Code.HOLES_NOT_KEPT,
            trn(
                "{n} sparse file takes their full size on {name}.",
                "{n} sparse files take their full size on {name}.",
                sparse,
                name=rules.name,
            ),
        )


def _times(drive: Drive, c: Columns, gathering: Gathering) -> Iterator[Problem]:
    rules = drive.rules
    if rules.granularity_ns > 1_000_000_000:
        sentence = tr(
            "{name} keeps times in steps of {granularity_ns} s.",
            name=rules.name,
            granularity_ns=rules.granularity_ns // 10**9,
        )
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
            trn(
                "{n} file has a date that {name} cannot hold: {places} first. The "
                "nearest that it can hold is kept there.",
                "{n} files have dates that {name} cannot hold: {places} first. The "
                "nearest that it can hold is kept there.",
                int(outside.sum()) or len(places),
                name=rules.name,
                places=shown(places[0]),
            ),
            "",
            tuple(places[:MOST]),
        )
