"""Which part of a library is copied.

Projects with the files they use, or folders with the files their documents use. A part is never the
whole: files that other documents use, the library's identity and records, and its catalog stay.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence

from msgspec import Struct, field

from fascis.crossing.journal.header import PartFacts
from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.gathering import folders_above
from fascis.crossing.scope.surveyed import Surveyed
from fascis.documents.registry import journals
from fascis.files.codes import Code
from fascis.files.names import fsname, parent, shown
from fascis.library.own import OWN
from fascis.library.references.projects import project_of, project_place
from fascis.library.survey import Kind
from fascis.words.speech import tr


class NotOnePart(ValueError):
    """A name that several projects have; ``str()`` gives the sentence."""


class Part(Struct):
    """The named parts, found in a survey.

    Attributes:
        documents: the chosen documents and those they refer to, by number.
        folders: folders that are copied completely.
        projects: folders of chosen projects, without files that other projects use.
        names: the name of each part.
        folders_only: only folders were named, and none of them is a project's own.
        tops: the folder of each, and its own name.
        rest_of: the parts of which it is the rest: everything in none of them, and the files its
            documents use.
    """

    documents: set[int] = field(default_factory=set)
    folders: set[bytes] = field(default_factory=set)
    projects: set[bytes] = field(default_factory=set)
    names: list[str] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    folders_only: bool = True
    tops: dict[bytes, bytes] = field(default_factory=dict)
    rest_of: Part | None = None

    @property
    def all_folders(self) -> list[bytes]:
        """All folders of the part: a new file in one of them belongs to it."""
        return sorted(self.folders | self.projects)


def find_part(surveyed: Surveyed, only: Sequence[str]) -> Part:
    """Finds the named parts.

    A path, absolute or from the library's folder, of a folder or a document; or a project's name.

    Raises:
        NotOnePart: several projects have that name.
    """
    part = Part()
    for given in only:
        if not _find(surveyed, given, part):
            part.problems.append(_not_there(surveyed, given))
    _with_what_is_used(surveyed, part)
    return part


def find_rest(surveyed: Surveyed, parts: Sequence[str]) -> Part:
    """Everything in a library that is in none of these parts, with the files its documents use.

    Raises:
        NotOnePart: several projects have one of the names.
    """
    union = find_part(surveyed, parts)
    own = {n for n, d in enumerate(surveyed.uses.documents) if d.place and d.kind.works}
    rest = Part(documents=own - union.documents, folders_only=False, rest_of=union)
    rest.problems = union.problems
    _with_what_is_used(surveyed, rest)
    return rest


def part_name(surveyed: Surveyed, only: Sequence[str]) -> str:
    """The own name of a single part.

    Empty if there are several, or none.
    """
    names = find_part(surveyed, only).names
    return names[0] if len(names) == 1 else ""


def _find(surveyed: Surveyed, given: str, part: Part) -> bool:
    uses, place = surveyed.uses, _place(surveyed, given)
    folders = {
        f.place for f in surveyed.survey.folders if f.place and not surveyed.survey.is_own(f)
    }
    own = [(n, d) for n, d in enumerate(uses.documents) if d.place and d.kind.works]
    if place in folders:
        part.names.append(os.fsdecode(place.rpartition(b"/")[2]))
        part.tops[place] = place.rpartition(b"/")[2]
        mine = {n for n, d in own if d.place.startswith(place + b"/")}
        part.documents |= mine
        is_project = any(project_place(d) == place for _, d in own)
        (part.projects if is_project else part.folders).add(place)
        part.folders_only = part.folders_only and not is_project
        return True
    part.folders_only = False
    if mine := {n for n, d in own if d.place == place}:
        part.names.append(os.fsdecode(place.rpartition(b"/")[2].rpartition(b".")[0]))
        part.tops.setdefault(parent(place), place.rpartition(b"/")[2].rpartition(b".")[0])
        part.documents |= mine
        return True
    named: dict[bytes, set[int]] = {}
    for n, d in own:
        if project_of(d) == given:
            named.setdefault(project_place(d), set()).add(n)
    if len(named) > 1:
        where = ", ".join(sorted(shown(p) for p in named))
        raise NotOnePart(
            tr(
                "{named} projects have the name {given}: {where}. Name one of these paths.",
                named=len(named),
                given=shown(given),
                where=where,
            )
        )
    for at, mine in named.items():
        part.names.append(given)
        part.documents |= mine
        if at in folders:
            part.projects.add(at)
            part.tops[at] = at.rpartition(b"/")[2]
        else:
            part.tops.setdefault(parent(at), fsname(given))
    return bool(named)


def _place(surveyed: Surveyed, given: str) -> bytes:
    """A given part as a place in the library, if it can be one."""
    raw = fsname(given)
    if raw.startswith(b"/"):
        real = os.path.realpath(raw) + b"/"
        tops = (surveyed.below, bytes(surveyed.source).rstrip(b"/") + b"/")
        inner = next(
            (
                path[len(top) :]
                for path in (real, raw + b"/")
                for top in tops
                if path.startswith(top)
            ),
            b"",
        )
        return inner.strip(b"/")
    return os.path.normpath(raw.strip(b"/")) if raw.strip(b"/") else b""


def _not_there(surveyed: Surveyed, given: str) -> Problem:
    projects = sorted(
        {shown(project_of(d)) for d in surveyed.uses.documents if d.place and d.kind.works}
    )
    return Problem(
        Code.PART_NOT_THERE,
        tr("The library has no project and no folder called {given}.", given=shown(given)),
        tr("Projects: {value}.", value=", ".join(projects) or tr("none")),
    )


def _with_what_is_used(surveyed: Surveyed, part: Part) -> None:
    """A document that a chosen one uses is copied too, with the files it uses."""
    uses, chosen = surveyed.uses, part.documents
    loose = {d.path: n for n, d in enumerate(uses.documents) if d.path}
    rows = surveyed.document_rows if chosen else {}
    users = [(n, set(uses.used_by.get(row, ()))) for row, n in rows.items()]
    users += [(loose[o.path], o.used_by) for o in uses.outside if o.path in loose]
    while more := {n for n, by in users if n not in chosen and by & chosen}:
        chosen |= more


class Left(Struct, frozen=True):
    """The files outside a part: rows, loose files by their path, and folders."""

    rows: set[int]
    paths: set[bytes]
    folders: set[bytes]


def left_by(surveyed: Surveyed, part: Part) -> Left:
    """Files that stay because they are not in the part."""
    if part.rest_of:
        return _left_by_rest(surveyed, part, part.rest_of)
    survey, uses = surveyed.survey, surveyed.uses
    chosen = {uses.documents[n].place for n in part.documents if uses.documents[n].place}
    beside = {place + end for place in chosen for end in journals()}
    goes = {surveyed.rows[p] for p in chosen | beside if p in surveyed.rows}
    for document in part.documents:
        goes.update(surveyed.used_rows.get(document, ()))
    others = _others(surveyed, part)
    kinds = survey.kinds()
    rows: set[int] = set()
    kept: set[bytes] = set()
    for folder in survey.folders:
        mine = range(folder.first, folder.end)
        if survey.is_own(folder):
            rows.update(mine)
            continue
        inside = folder.place + b"/"
        if _within(inside, part.folders):
            goes.update(mine)
        elif _within(inside, part.projects):
            goes.update(row for row in mine if not others(row))
        if not goes.isdisjoint(mine) or _within(inside, part.folders | part.projects):
            kept.add(folder.place)
        rows |= set(mine) - goes
    if Kind.SPECIAL in kinds:
        rows = {row for row in rows if kinds[row] != Kind.SPECIAL}
    above = {above for folder in kept for above in folders_above(folder)}
    folders = {f.place for f in survey.folders} - kept - above - {b""}
    paths = {o.path for o in uses.outside if not part.documents & o.used_by}
    return Left(rows, paths, folders)


def _left_by_rest(surveyed: Surveyed, rest: Part, parts: Part) -> Left:
    """Files outside the rest: those of the parts that none of its documents uses."""
    survey, uses = surveyed.survey, surveyed.uses
    theirs = left_by(surveyed, parts)
    rows, kept = set(), set()
    for row, folder, _ in survey.rows():
        if survey.kind(row) is Kind.SPECIAL:
            continue
        used = not rest.documents.isdisjoint(uses.used_by.get(row, ()))
        if survey.is_own(folder) or not (row in theirs.rows or used):
            rows.add(row)
        else:
            kept.add(folder.place)
    kept |= {f for f in theirs.folders if f != OWN and not f.startswith(OWN + b"/")}
    above = {above for folder in kept for above in folders_above(folder)}
    folders = {f.place for f in survey.folders} - kept - above - {b""}
    paths = {o.path for o in uses.outside if not rest.documents & o.used_by}
    return Left(rows, paths, folders)


def _others(surveyed: Surveyed, part: Part) -> Callable[[int], bool]:
    """Which rows of a project's own folder another project uses, or is."""
    uses = surveyed.uses
    places = {
        d.place
        for n, d in enumerate(uses.documents)
        if d.place and d.kind.works and n not in part.documents
    }
    own = {surveyed.rows[p] for p in places if p in surveyed.rows} if part.projects else set()
    return lambda row: row in own or bool(set(uses.used_by.get(row, ())) - part.documents)


def _within(place: bytes, folders: set[bytes]) -> bool:
    return any(place.startswith(f + b"/") for f in folders)


def is_in_part(place: bytes, part: PartFacts | None) -> bool:
    """True if a new file at a place belongs to the part of a crossing's header.

    If the whole library is copied, everything does.
    """
    return part is None or part.holds(place)
