"""What of a library goes along by the person's choice, and what its references mean for a crossing."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from fascis.crossing.gathering import Gathering
from fascis.crossing.problems import Problem, Severity
from fascis.crossing.surveyed import Surveyed
from fascis.files.names import fsname, parent, shown
from fascis.files.sizes import counted, size
from fascis.library.projects import project_of
from fascis.library.register import Register
from fascis.library.roles import ROLES, Role, database_of
from fascis.library.standing import STANDINGS, Standing
from fascis.library.strands import tops_of
from fascis.library.survey import strand_folder
from fascis.library.uses import CATALOG, Outside, files_of

StrandKey = tuple[bytes, Role, Standing]
_UNUSED = STANDINGS.index(Standing.UNUSED)


@dataclass(slots=True)
class Selection:
    """What is left out by choice: rows of the survey, and loose files by their path; roles are not looked at here."""

    rows_out: set[int] = field(default_factory=set)
    paths_out: set[bytes] = field(default_factory=set)
    problems: list[Problem] = field(default_factory=list)


def select(surveyed: Surveyed, leave_unused: bool, without: frozenset[StrandKey], only: frozenset[str]) -> Selection:
    """Finds what is left out by these choices."""
    survey, uses = surveyed.survey, surveyed.uses
    found = Selection()
    if without or leave_unused:
        for row, place in files_of(survey):
            key = (strand_folder(parent(place)), ROLES[survey.role[row]], STANDINGS[uses.standing[row]])
            unused = uses.standing[row] == _UNUSED and not key[1].remakeable  # these have a choice of their own
            if key in without or (leave_unused and unused):
                found.rows_out.add(row)
        tops = tops_of(uses)
        found.paths_out = {o.path for o in uses.outside if (tops[parent(o.path)], o.role, o.standing) in without}
    if only:
        _keep_only(surveyed, only, found)
    return found


def _keep_only(surveyed: Surveyed, only: frozenset[str], found: Selection) -> None:
    """Leaves out what neither the chosen projects use nor lies in a chosen folder."""
    survey, uses = surveyed.survey, surveyed.uses
    folders = {fsname(part.strip("/")) for part in only}
    known = {f.place for f in survey.folders if f.place}
    chosen_catalogs: set[int] = set()
    chosen = {n for n, d in enumerate(uses.documents) if project_of(d) in only or (d.place or d.path) in folders}
    unknown = sorted(
        p
        for p in only
        if fsname(p.strip("/")) not in known
        and not any(project_of(d) == p or d.place == fsname(p) for d in uses.documents)
    )
    if unknown:
        found.problems.append(
            Problem(
                Severity.STOPS,
                "part-not-there",
                f"The library has no project and no folder called {shown(unknown[0])}.",
                "Projects: " + (", ".join(sorted({shown(project_of(d)) for d in uses.documents})) or "none") + ".",
            )
        )
    catalogs = {n for n, d in enumerate(uses.documents) if d.format == CATALOG.decode() and d.place}
    for row, place in files_of(survey) if folders and catalogs else ():
        if any(place.startswith(f + b"/") for f in folders):
            chosen_catalogs |= catalogs.intersection(uses.used_by.get(row, ()))
    documents = {uses.documents[n].place for n in chosen | chosen_catalogs}  # a catalog goes with its photos
    for row, place in files_of(survey):
        inside = any(place.startswith(f + b"/") for f in folders)
        if not inside and place not in documents and not chosen.intersection(uses.used_by.get(row, ())):
            found.rows_out.add(row)
    found.paths_out |= {o.path for o in uses.outside if not chosen & o.used_by}


# -- what references mean for a crossing ------------------------------------------------------------------------------


def other_users(register: Register, surveyed: Surveyed, library_id: str) -> Iterator[Problem]:
    """Tells which other libraries use files of this one: their originals stay when the others are deleted."""
    used = register.used_in(surveyed.below, library_id) if register.path.exists() else {}
    if used:
        names = ", ".join(sorted({n for some in used.values() for n in some})[:5])
        yield Problem(
            Severity.NOTE,
            "used-elsewhere",
            f"{shown(names)} uses {counted(len(used), 'file')} of this library where they are now; these originals stay.",
            "",
            tuple(p.removeprefix(surveyed.below) for p in list(used)[:1000]),
        )


def _short(path: bytes) -> str:
    """A path as it is told in a sentence: of one outside its last parts."""
    return shown(path if not path.startswith(b"/") else b"/".join(path.split(b"/")[-3:]))


def use_problems(surveyed: Surveyed, gathers: bool, gathering: Gathering) -> Iterator[Problem]:
    """Problems of what the library refers to: decisions before the start, not surprises after it."""
    uses = surveyed.uses
    below = surveyed.below

    databases = {d.place for d in uses.documents if d.format == CATALOG.decode()}

    def places(some: list[Outside]) -> tuple[bytes, ...]:
        return tuple(o.path.removeprefix(below) for o in some[:1000])

    if missing := uses.of(Standing.MISSING):
        known = sum(o.size for o in missing)
        last = f", last known {size(known)}" if known else ""
        yield Problem(
            Severity.DECISION,
            "references-missing",
            f"{counted(len(missing), 'file is', 'files are')} missing{last}: {_short(missing[0].path.removeprefix(below))} first."
            " What refers to them will not find them at the new place either.",
            "Find them first, or go on without them.",
            places(missing),
        )
    if away := uses.of(Standing.AWAY):
        yield Problem(
            Severity.DECISION,
            "references-away",
            f"{counted(len(away), 'file is', 'files are')} on a drive that is away and cannot be gathered now.",
            "Connect that drive, or go on without them: what refers to them goes on referring to that drive.",
            places(away),
        )
    if unknown := uses.not_understood:
        yield Problem(
            Severity.DECISION,
            "not-understood",
            f"{counted(len(unknown), 'document is', 'documents are')} not understood, {shown(unknown[0][0])} first; what they"
            " refer to is not known. Balance will hold for what could be checked.",
            "Go on, open the library from its new home and look; deleting waits until then.",
            tuple(place for place, _ in unknown[:1000]),
        )
    if uses.databases:
        what = counted(len(uses.databases), "database is", "databases are")
        yield Problem(
            Severity.NOTE,
            "not-understood",
            f"{what} no catalog that is known here, {shown(uses.databases[0])} first; whether they refer to media is not known.",
            "",
            tuple(uses.databases[:1000]),
        )
    beside = ((place, database_of(place)) for _, place in files_of(surveyed.survey)) if databases else ()
    journals = [place for place, base in beside if base in databases]
    if journals:
        yield Problem(
            Severity.DECISION,
            "journal-unmerged",
            f"{shown(journals[0])} lies beside its database: a program has it open, or was cut off. What is in it goes along.",
            "Open the database in its own program and close it there, or go on.",
            tuple(journals[:1000]),
        )
    if uses.not_media:
        number, target, why = uses.not_media[0]
        document = uses.documents[number]
        yield Problem(
            Severity.NOTE,
            "not-media",
            f"{counted(len(uses.not_media), 'reference is', 'references are')} not followed: {shown(target)} in"
            f" {shown(document.place or document.path)}: {why}.",
        )
    if gathering.left and not gathers:
        total = sum(o.size for o in gathering.left)
        yield Problem(
            Severity.NOTE,
            "not-gathered",
            f"{counted(len(gathering.left), 'loose file stays', 'loose files stay')} outside ({size(total)}); the documents"
            " at the new place refer to them where they are now.",
            "",
            tuple(o.path for o in gathering.left[:1000]),
        )
