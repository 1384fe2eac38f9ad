"""What is copied by the person's choices, and what its references mean for a crossing."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct, field

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.following import Broken, broken_sentence
from fascis.crossing.scope.gathering import Gathering
from fascis.crossing.scope.parts import Part, find_part, find_rest, left_by
from fascis.crossing.scope.surveyed import Surveyed
from fascis.documents.registry import database_of
from fascis.files.codes import Code, Severity
from fascis.files.names import fsname, parent, shown
from fascis.library.references.strands import tops_of
from fascis.library.references.uses import Outside
from fascis.library.roles import ROLES, Role
from fascis.library.standing import STANDINGS, Standing
from fascis.library.survey import strand_folder
from fascis.words.figures import size
from fascis.words.speech import tr, trn

StrandKey = tuple[bytes, Role, Standing]
_UNUSED = STANDINGS.index(Standing.UNUSED)


class Selection(Struct):
    """Files left out by choice: rows of the survey, and loose files by their path.

    Roles are handled elsewhere. ``part`` has the named parts if not the whole library is copied;
    ``folders_out`` are then the folders outside it.
    """

    rows_out: set[int] = field(default_factory=set)
    paths_out: set[bytes] = field(default_factory=set)
    folders_out: set[bytes] = field(default_factory=set)
    part: Part | None = None
    problems: list[Problem] = field(default_factory=list)


def select(
    surveyed: Surveyed,
    leave_unused: bool,
    without: frozenset[StrandKey],
    only: frozenset[str],
    rest: bool = False,
) -> Selection:
    """Finds the files left out by these choices.

    Args:
        rest: the named parts stay, and the rest is copied.
    """
    survey, uses = surveyed.survey, surveyed.uses
    found = Selection()
    if without or leave_unused:
        for row, place in survey.files():
            key = (
                strand_folder(parent(place)),
                ROLES[survey.role[row]],
                STANDINGS[uses.standing[row]],
            )
            # These have their own choice.
            unused = uses.standing[row] == _UNUSED and not key[1].remakeable
            if key in without or (leave_unused and unused):
                found.rows_out.add(row)
        tops = tops_of(uses)
        found.paths_out = {
            o.path for o in uses.outside if (tops[parent(o.path)], o.role, o.standing) in without
        }
    if only:
        named = find_rest if rest else find_part
        part = found.part = named(surveyed, sorted(only))
        left = left_by(surveyed, part)
        found.problems += part.problems
        found.rows_out |= left.rows
        found.paths_out |= left.paths
        found.folders_out = left.folders
    return found


# -- what references mean for a crossing -----------------------------------------------------------


def shared_problems(
    shared: Mapping[bytes, list[str]], below: bytes, after: After, bounds: str, part: bool
) -> Iterator[Problem]:
    """Originals that others need: they stay when the rest is deleted, or when a part is set aside.

    They cannot be set aside with the whole folder.
    """
    if shared:
        first = min(shared)
        files = tuple(p.removeprefix(below) for p in sorted(shared)[:1000])
        needs = trn(
            "{n} file is still needed by documents that stay: {shared} uses {removeprefix}",
            "{n} files are still needed by documents that stay: {shared} uses {removeprefix}",
            len(shared),
            shared=shown(shared[first][0]),
            removeprefix=shown(first.removeprefix(below)),
        )
        if after is After.PARK and not part:
            yield Problem(
                Code.WOULD_BREAK,
                tr(
                    "{needs}. With the library's folder set aside, it would not find them.",
                    needs=needs,
                ),
                tr(
                    "Let the originals stay where they are, or have those deleted that "
                    "nothing else needs."
                ),
                files,
            )
        else:
            yield Problem(
                Code.USED_ELSEWHERE,
                tr("{needs}. These originals are kept.", needs=needs),
                "",
                files,
            )
    if bounds and after in (After.PARK, After.RELEASE):
        yield Problem(
            Code.NOT_ALL_LOOKED_AT,
            tr(
                "Not everything on the drive was looked at for documents that need these "
                "files: {bounds}.",
                bounds=bounds,
            ),
        )


def away_problems(shared: Mapping[bytes, list[str]], away: Mapping[str, str]) -> Iterator[Problem]:
    """Libraries that cannot be seen keep what they used: this is reported with possible solutions.

    Args:
        away: their names, and ids.
    """
    users = {name for who in shared.values() for name in who}
    for name in sorted(users.intersection(away)):
        count = sum(name in who for who in shared.values())
        yield Problem(
            Code.USED_ELSEWHERE,
            trn(
                "{name} is away, and used {n} file of these when it was last seen. These "
                "originals are kept.",
                "{name} is away, and used {n} files of these when it was last seen. "
                "These originals are kept.",
                count,
                name=shown(name),
            ),
            tr(
                "If it is gone for good, forget it: its page on Shelves, or fascis "
                "libraries --forget {away}.",
                away=away[name][:8],
            ),
        )


def broken_problems(broken: Sequence[Broken], below: bytes) -> Iterator[Problem]:
    """Documents that stay and cannot be updated: they would not find their media."""
    if not broken:
        return
    yield Problem(
        Code.WOULD_BREAK,
        broken_sentence(broken, below),
        tr("Let what others use stay where it is (--shared stays), or change that document first."),
        tuple(b.file.removeprefix(below) for b in broken[:1000]),
    )


class LeftOut(Struct, frozen=True):
    """``(place, size)`` of files left out by choice although a copied document uses them."""

    files: list[tuple[bytes, int]]
    remakeable: list[tuple[bytes, int]]


def left_out_used(surveyed: Surveyed, fates: Sequence[int], gathering: Gathering) -> LeftOut:
    """Files left out by choice although a copied document uses them.

    There its references lead nowhere.
    """
    if not any(fate in (Fate.LEFT_OUT, Fate.DISCARD) for fate in set(fates)):
        return LeftOut([], [])
    uses, survey = surveyed.uses, surveyed.survey
    along = {n for row, n in surveyed.document_rows.items() if fates[row] == Fate.COPY}
    gathered = {o.path for _, o in gathering.items}
    along |= {n for n, d in enumerate(uses.documents) if d.path in gathered}
    missed = {
        row
        for document in along
        for row in surveyed.used_rows.get(document, ())
        if fates[row] in (Fate.LEFT_OUT, Fate.DISCARD)
    }
    found = LeftOut([], [])
    if not missed:
        return found
    for row, place in survey.files():
        if row in missed:
            again = ROLES[survey.role[row]].remakeable
            (found.remakeable if again else found.files).append((place, survey.size[row]))
    return found


def left_out_problems(left: LeftOut) -> Iterator[Problem]:
    """A decision before the start; for files that can be made again, only information."""
    for files, again in ((left.files, False), (left.remakeable, True)):
        if files:
            parts = {"size": size(sum(length for _, length in files)), "first": shown(files[0][0])}
            if again:
                sentence = trn(
                    "{n} file that documents use is left out ({size}), {first} first. At the new "
                    "place these references lead nowhere; these files can be made again.",
                    "{n} files that documents use are left out ({size}), {first} first. At the new "
                    "place these references lead nowhere; these files can be made again.",
                    len(files),
                    **parts,
                )
            else:
                sentence = trn(
                    "{n} file that documents use is left out ({size}), {first} first. At the new "
                    "place these references lead nowhere; the originals are kept.",
                    "{n} files that documents use are left out ({size}), {first} first. At the new "
                    "place these references lead nowhere; the originals are kept.",
                    len(files),
                    **parts,
                )
            yield Problem(
                Code.USED_LEFT_OUT,
                sentence,
                "" if again else tr("Take them along, or continue without them."),
                tuple(place for place, _ in files[:1000]),
                severity_here=Severity.NOTE if again else Severity.DECISION,
            )


def _short(path: bytes) -> str:
    """A path in a sentence: for one outside, its last parts."""
    return shown(path if not path.startswith(b"/") else b"/".join(path.split(b"/")[-3:]))


def use_problems(surveyed: Surveyed, gathers: bool, gathering: Gathering) -> Iterator[Problem]:
    """Problems with files that the library refers to.

    Decisions before the start, not surprises afterwards.
    """
    uses = surveyed.uses
    below = surveyed.below

    databases = {d.place for d in uses.documents if d.kind.journals}

    def places(some: list[Outside]) -> tuple[bytes, ...]:
        return tuple(o.path.removeprefix(below) for o in some[:1000])

    if missing := uses.of(Standing.MISSING):
        told = trn(
            "{n} file is missing: {first}. Documents that use it will not find it at the new "
            "place either.",
            "{n} files are missing, {first} first. Documents that use them will not find them at "
            "the new place either.",
            len(missing),
            first=_short(missing[0].path.removeprefix(below)),
        )
        if known := sum(o.size for o in missing):
            told = f"{told} {tr('Last known size: {size}.', size=size(known))}"
        yield Problem(
            Code.REFERENCES_MISSING,
            told,
            tr("Find them first, or continue without them."),
            places(missing),
        )
    if away := uses.of(Standing.AWAY):
        yield Problem(
            Code.REFERENCES_AWAY,
            trn(
                "{n} file is on a drive that is away and cannot be gathered now.",
                "{n} files are on a drive that is away and cannot be gathered now.",
                len(away),
            ),
            tr(
                "Connect that drive, or continue without them: documents that use them keep "
                "pointing to that drive."
            ),
            places(away),
        )
    if unknown := uses.not_understood:
        yield Problem(
            Code.NOT_UNDERSTOOD,
            trn(
                "{n} document is not understood: {unknown}; what it refers to is "
                "not known. Balance will hold for what could be checked.",
                "{n} documents are not understood, {unknown} first; what they refer to "
                "is not known. Balance will hold for what could be checked.",
                len(unknown),
                unknown=shown(unknown[0][0]),
            ),
            tr(
                "Continue, then open the library from its new home and check it; deleting waits "
                "until then."
            ),
            tuple(place for place, _ in unknown[:1000]),
        )
    if uses.databases:
        yield Problem(
            Code.NOT_UNDERSTOOD,
            trn(
                "{n} database is no catalog that is known here: {databases}; whether it "
                "refers to media is not known.",
                "{n} databases are no catalog that is known here, {databases} first; whether "
                "they refer to media is not known.",
                len(uses.databases),
                databases=shown(uses.databases[0]),
            ),
            "",
            tuple(uses.databases[:1000]),
            severity_here=Severity.NOTE,
        )
    beside = (
        ((place, database_of(place)) for _, place in surveyed.survey.files()) if databases else ()
    )
    unmerged = [place for place, base in beside if base in databases]
    if unmerged:
        yield Problem(
            Code.JOURNAL_UNMERGED,
            tr(
                "{unmerged} lies beside its database: a program has it open, or was cut "
                "off. What is in it is copied too.",
                unmerged=shown(unmerged[0]),
            ),
            tr("Open the database in its own program and close it there, or continue."),
            tuple(unmerged[:1000]),
        )
    if uses.not_media:
        number, target, why = uses.not_media[0]
        document = uses.documents[number]
        yield Problem(
            Code.NOT_MEDIA,
            trn(
                "{n} reference is not media and not followed: {target} in {value}: {why}.",
                "{n} references are not media and not followed: {target} in {value}: {why}.",
                len(uses.not_media),
                target=shown(target),
                value=shown(document.place or document.path),
                why=why,
            ),
            "",
            tuple(dict.fromkeys(fsname(t) for _, t, _ in uses.not_media[:1000])),
        )
    if gathering.left and not gathers:
        total = sum(o.size for o in gathering.left)
        yield Problem(
            Code.NOT_GATHERED,
            trn(
                "{n} loose file stays outside ({size}); the documents at the new place "
                "refer to it where it is now.",
                "{n} loose files stay outside ({size}); the documents at the new place "
                "refer to them where they are now.",
                len(gathering.left),
                size=size(total),
            ),
            "",
            tuple(o.path for o in gathering.left[:1000]),
        )
