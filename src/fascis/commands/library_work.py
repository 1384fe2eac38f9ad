"""The work of the commands in :mod:`fascis.commands.library`; imported only when one runs."""

from __future__ import annotations

import os
import shlex
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from pathlib import Path
from typing import Any

import typer

from fascis.commands.named import resolve
from fascis.commands.progress import Hanging, Saying, stoppable
from fascis.commands.telling import REFUSED, put, say, usage
from fascis.crossing.scope.surveyed import Surveyed, remember, survey_library
from fascis.documents.catalog import ENDING
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.errors import Cancelled, FascisError
from fascis.files.names import place_text, shown
from fascis.library.catalogs import catalog_folders
from fascis.library.learning.proposing import Proposal, proposals
from fascis.library.references.strands import strands, totals, totals_by_role
from fascis.library.roles import ROLES
from fascis.library.standing import STANDINGS
from fascis.words.figures import number, size
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace, from_environment

_MOST_TOLD = 200
NOT_UNDERSTOOD = "not understood"  # for programs


def _standing(surveyed: Surveyed) -> dict[str, dict[str, int]]:
    found = totals(surveyed.survey, surveyed.uses)
    return {s.value: {"files": files, "bytes": total} for s, (files, total) in found.items()}


def _files(surveyed: Surveyed) -> Iterator[dict[str, Any]]:
    """Every file of the library and every file it refers to.

    Paths in the library are relative, all others absolute.
    """
    found, uses = surveyed.survey, surveyed.uses
    names = [shown_place(surveyed, d.place or d.path) for d in uses.documents]
    for row, place in found.files():
        yield {
            "path": place_text(place),
            "standing": STANDINGS[uses.standing[row]].value,
            "role": ROLES[found.role[row]].value,
            "bytes": found.size[row],
            "used_by": [names[n] for n in uses.used_by.get(row, ())],
        }
    for o in uses.outside:
        yield {
            "path": shown_place(surveyed, o.path),
            "standing": o.standing.value,
            "role": o.role.value,
            "bytes": o.size,
            "used_by": [names[n] for n in sorted(o.used_by)],
        }


def shown_place(surveyed: Surveyed, path: bytes) -> str:
    """A path for JSON: relative inside the library, otherwise absolute."""
    return place_text(path.removeprefix(surveyed.below))


def survey(library: str, files: bool, as_json: bool) -> None:
    """Shows what a library contains and refers to."""
    workspace = from_environment()
    surveyed = survey_library(workspace, resolve(workspace, library))
    for problem in surveyed.problems:
        if (
            problem.code in (Code.LIBRARY_MISSING, Code.LIBRARY_NOT_A_FOLDER)
            or not surveyed.survey.folders
        ):
            usage(problem.sentence, as_json)
        say(problem.sentence)
    key = remember(workspace, surveyed)
    proposed = _proposals(workspace, surveyed)
    if as_json:
        _tell_troubles(surveyed, proposed, say)
        put(_record(surveyed, key, files, proposed))
    else:
        _tell_survey(surveyed, key, files, proposed)


def _proposals(workspace: Workspace, surveyed: Surveyed) -> dict[bytes, Proposal]:
    """Possible readings of documents that are not understood; if stopped, those found by then."""
    if not surveyed.uses.not_understood:
        return {}
    control = Control()
    with Saying() as saying:

        def step(_step: str, number: int) -> None:
            saying.tell(
                tr(
                    "Looking where documents of unknown make keep their paths ({number})",
                    number=number + 1,
                )
            )

        try:
            work = partial(proposals, workspace, surveyed.source, surveyed.uses, control, step)
            return stoppable(work, control)
        except Hanging:
            raise
        except Cancelled:
            say(
                tr(
                    "The search for where documents of unknown make keep their paths "
                    "was stopped early."
                )
            )
            return {}


def _record(
    surveyed: Surveyed, key: str, files: bool, proposed: Mapping[bytes, Proposal]
) -> dict[str, Any]:
    uses = surveyed.uses
    by_role = totals_by_role(surveyed.survey, uses)
    record: dict[str, Any] = {
        "library": {
            "name": surveyed.name,
            "kind": surveyed.kind,
            "root": shown(str(surveyed.root)),
            "library_id": key,
        },
        "documents": [
            {
                "path": shown_place(surveyed, d.place or d.path),
                "format": d.format,
                "references": d.references,
            }
            for d in uses.documents
            if d.kind.works and not d.trouble
        ]
        + [
            {"path": shown_place(surveyed, place), "format": NOT_UNDERSTOOD, "references": 0}
            for place, _ in uses.not_understood
        ],
        "standing": _standing(surveyed),
        "roles": {r.value: {"files": by_role[r][0], "bytes": by_role[r][1]} for r in ROLES},
        "not_media": [
            {
                "document": shown_place(
                    surveyed, uses.documents[n].place or uses.documents[n].path
                ),
                "target": shown(t),
                "why": why,
            }
            for n, t, why in uses.not_media
        ],
    }
    if could := _proposed(surveyed, proposed):
        record["proposed"] = could
    if files:
        record["files"] = list(_files(surveyed))
    return record


def _proposed(surveyed: Surveyed, proposed: Mapping[bytes, Proposal]) -> list[dict[str, Any]]:
    """Possible readings of documents that are not understood, for JSON."""
    return [
        {
            "document": shown_place(surveyed, place),
            "verdict": one.verdict,
            "why": one.why,
            "fields": one.fields,
            "values": one.values,
            "lead_to_files": one.found,
        }
        for place, one in sorted(proposed.items())
        if one.fields
    ]


def _tell_troubles(
    surveyed: Surveyed, proposed: Mapping[bytes, Proposal], tell: Callable[[str], None]
) -> None:
    """Reports documents not understood, paths not followed, and orphan sidecars."""
    uses = surveyed.uses
    if uses.not_understood:
        tell(
            trn(
                "Not understood: {n} file; what it refers to is not known.",
                "Not understood: {n} files; what they refer to is not known.",
                len(uses.not_understood),
            )
        )
    for place, why in uses.not_understood[:_MOST_TOLD]:
        tell(f"  {shown(shown_place(surveyed, place))}: {why}")
        one = proposed.get(place)
        if one and one.asks:
            path = shown(os.fsdecode(os.path.join(bytes(surveyed.source), place)))
            tell(
                tr(
                    "    {count} of {count_2} paths in it lead to files. To have it read: "
                    "fascis learn {quote}",
                    count=number(one.found),
                    count_2=number(one.values),
                    quote=shlex.quote(path),
                )
            )
    for place in uses.databases[:_MOST_TOLD]:
        tell(
            tr(
                "  {shown_place}: a database that is no catalog known here",
                shown_place=shown(shown_place(surveyed, place)),
            )
        )
    for n, target, why in uses.not_media[:_MOST_TOLD]:
        document = uses.documents[n]
        tell(
            tr(
                "  not media, not followed: {target} in {value}: {why}",
                target=shown(target),
                value=shown(document.place or document.path),
                why=why,
            )
        )
    for orphan in uses.orphans[:_MOST_TOLD]:
        tell(tr("  sidecar without a file: {orphan}", orphan=shown(orphan)))


def _tell_survey(
    surveyed: Surveyed, key: str, files: bool, proposed: Mapping[bytes, Proposal]
) -> None:
    uses = surveyed.uses
    by_role = surveyed.survey.totals()
    count, total, allocated = (sum(t[i] for t in by_role.values()) for i in range(3))
    print(
        trn(
            "{name}: {n} file, {size} ({size_2} on the drive), id {key}",
            "{name}: {n} files, {size} ({size_2} on the drive), id {key}",
            count,
            name=surveyed.name,
            size=size(total),
            size_2=size(allocated),
            key=key[:8],
        )
    )
    for standing, sums in _standing(surveyed).items():
        if sums["files"]:
            print(f"  {standing:<8} {sums['files']:>8}  {size(sums['bytes']):>12}")
    print()
    for s in strands(surveyed.survey, uses):
        print(
            f"  {size(s.bytes):>12}  {s.files:>8}  {s.standing.value:<8} {s.role.value:<9} "
            f"{shown(s.folder) or '.'}"
        )
    _tell_troubles(surveyed, proposed, print)
    if files:
        for f in _files(surveyed):
            print(f"{f['bytes']:>14}  {f['standing']:<8} {f['role']:<9} {shown(f['path'])}")


def catalog(file: str, folders: list[str], as_json: bool) -> None:
    """Makes a photo catalog, or adds folders of photos to one."""
    workspace = from_environment()
    path = Path(file).absolute()
    if path.suffix.lower() != f".{ENDING}":
        usage(
            tr(
                "{name} cannot be the name of a catalog; a catalog ends in .{ending}.",
                name=shown(path.name),
                ending=ENDING,
            ),
            as_json,
        )
    for folder in folders:
        if not Path(folder).is_dir():
            usage(tr("There is no folder {folder}.", folder=shown(folder)), as_json)
    try:
        done = catalog_folders(
            workspace.drives, path, [Path(f).absolute() for f in folders], workspace.private
        )
    except FascisError as error:
        if as_json:
            put({"error": str(error)})
        say(str(error))
        raise typer.Exit(REFUSED) from None
    if done.added.unwritable:
        say(
            trn(
                "{n} photo left out, because its name is not valid text.",
                "{n} photos left out, because their names are not valid text.",
                done.added.unwritable,
            )
        )
    record = {
        "catalog": shown(str(done.path)),
        "added": done.added.photos,
        "known": done.added.known,
        "left_out": done.added.unwritable,
        "before": shown(str(done.before)) if done.before else None,
    }
    if as_json:
        put(record)
        return
    print(
        trn(
            "{name}: {n} photo added, {count} known already.",
            "{name}: {n} photos added, {count} known already.",
            done.added.photos,
            name=shown(path.name),
            count=number(done.added.known),
        )
    )
    if done.before:
        print(tr("The one before is {before}.", before=shown(str(done.before))))
