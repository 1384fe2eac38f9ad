"""What the commands of :mod:`fascis.commands.library` do; imported only when one is run."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import typer

from fascis.commands.telling import WRONG, put, say, usage
from fascis.crossing.plan import survey_library
from fascis.crossing.verify import verify as verify_library
from fascis.files.names import place_text, shown
from fascis.files.sizes import counted, size
from fascis.library.roles import ROLES
from fascis.library.summary import summary_of
from fascis.library.survey import Kind, Survey
from fascis.workspace import Workspace, from_environment


def resolve(workspace: Workspace, given: str) -> Path:
    """A library's folder: a path, or the beginning of a known library's id."""
    path = Path(given)
    if not path.exists() and "/" not in given and len(given) >= 4:
        found = workspace.register.find(given) if workspace.register.path.exists() else []
        if len(found) == 1:
            return found[0].root
    return path.absolute()


def _standing(survey: Survey) -> dict[str, dict[str, int]]:
    files = sum(s.files for s in survey.strands())
    held = {"files": files, "bytes": sum(s.bytes for s in survey.strands())}
    return {"held": held, **{name: {"files": 0, "bytes": 0} for name in ("loose", "away", "missing", "unused")}}


def _files(survey: Survey) -> list[dict[str, Any]]:
    return [
        {
            "path": place_text(place),
            "standing": "held",
            "role": ROLES[survey.role[row]].value,
            "bytes": survey.size[row],
            "used_by": [],
        }
        for row, folder, place in survey.rows()
        if survey.kind(row) is Kind.FILE and not survey.is_own(folder)
    ]


def survey(library: str, files: bool, as_json: bool) -> None:
    """Shows what a library holds."""
    workspace = from_environment()
    root = resolve(workspace, library)
    surveyed = survey_library(workspace, root)
    for problem in surveyed.problems:
        if problem.code in ("library-missing", "library-not-a-folder") or not surveyed.survey.folders:
            usage(problem.sentence, as_json)
        say(problem.sentence)
    found = surveyed.survey
    identity = surveyed.identity
    drive = workspace.drives.at(root)
    key = workspace.register.put_library(
        root,
        drive.uuid,
        shown(identity.name if identity else root.name),
        identity.kind if identity else "library",
        identity.library_id if identity else None,
        summary_of(found),
    )
    totals = found.totals()
    if as_json:
        record: dict[str, Any] = {
            "library": {
                "name": shown(identity.name if identity else root.name),
                "kind": identity.kind if identity else "library",
                "root": shown(str(root)),
                "library_id": key,
            },
            "documents": [],
            "standing": _standing(found),
            "roles": {r.value: {"files": totals[r][0], "bytes": totals[r][1]} for r in ROLES},
        }
        if files:
            record["files"] = _files(found)
        put(record)
        return
    count, total, allocated = (sum(t[i] for t in totals.values()) for i in range(3))
    print(f"{shown(root.name)}: {counted(count, 'file')}, {size(total)} ({size(allocated)} on the drive), id {key[:8]}")
    for s in found.strands():
        print(f"  {size(s.bytes):>12}  {s.files:>8}  {s.role.value:<9} {shown(s.folder) or '.'}")
    if files:
        for f in _files(found):
            print(f"{f['bytes']:>14}  {f['role']:<9} {shown(f['path'])}")


def verify(library: str, as_json: bool) -> None:
    """Reads a library again and compares it with its manifest."""
    workspace = from_environment()
    root = resolve(workspace, library)
    if not root.is_dir():
        usage(f"There is no folder {shown(str(root))}.", as_json)
    medium = workspace.drives.open(root)
    try:
        found = verify_library(medium, root)
    finally:
        medium.close()
    lists = {n: [place_text(p) for p in getattr(found, n)] for n in ("edited", "damaged", "missing", "unlisted")}
    if as_json:
        put(
            {
                "library": shown(str(root)),
                "files": found.files,
                "bytes": found.bytes,
                "matching": found.matching,
                **lists,
                "references_unresolved": [],
            }
        )
    else:
        print(
            f"{shown(root.name)}: {counted(found.matching, 'file')} of {counted(found.files, 'file')} equal, {size(found.bytes)} read."
        )
        for name, places in lists.items():
            for place in places:
                print(f"  {name}: {shown(place)}")
    if not found.sound:
        raise typer.Exit(WRONG)
