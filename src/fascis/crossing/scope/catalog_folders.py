"""A folder of a catalog that lies anywhere: it goes by itself, and the catalog follows.

What crosses is then that folder, with all that is in it, and not a library around it.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.gathering import folders_above
from fascis.crossing.scope.parts import NotOnePart
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.names import fsname, parent, shown
from fascis.library.standing import Standing
from fascis.workspace import Workspace


def folder_of_catalog(
    workspace: Workspace, surveyed: Surveyed, only: Sequence[str], control: Control = UNSTOPPED
) -> Surveyed | None:
    """The survey of a folder that a catalog knows and that was named as a part.

    None where that lies in the library's own folder, or is none: then it is a part like any other.

    Raises:
        NotOnePart: several folders are called so, or it was named with others.
    """
    known = _known(surveyed)
    found = [folder for given in only if (folder := _meant(surveyed, known, given))]
    if not found:
        return None
    if len(set(only)) > 1:
        raise NotOnePart(
            "A catalog's folder that lies elsewhere goes by itself: name one of them at a time."
        )
    folder, standing = found[0], known[found[0]]
    path = Path(os.fsdecode(folder))
    if not path.is_dir():
        return replace(surveyed, problems=[*surveyed.problems, _gone(path, standing)])
    alone = survey_library(workspace, path, None, control)
    catalogs = tuple(
        surveyed.below + d.place for d in surveyed.uses.documents if d.place and d.kind.journals
    )
    return replace(alone, also=catalogs, of_catalog=str(surveyed.root))


def _known(surveyed: Surveyed) -> dict[bytes, Standing]:
    """Every folder that its catalogs know and that is no folder of its own.

    With how the files in it stand, as far as one is enough to tell.
    """
    uses = surveyed.uses
    catalogs = {n for n, d in enumerate(uses.documents) if d.kind.journals}
    tops = {os.path.realpath(top) for top in uses.sources}
    found: dict[bytes, Standing] = {}
    used = [(o.path, o.standing) for o in uses.outside if o.used_by & catalogs]
    if surveyed.document:
        # Nothing else of its folder belongs to it.
        rows = [(row, p) for row, p in surveyed.survey.files() if uses.used_by.get(row)]
        used += [(surveyed.below + p, Standing.HELD) for row, p in rows]
    for path, standing in used:
        folder = parent(path)
        for above in (folder, *folders_above(folder)):
            found.setdefault(above, standing)
            if above in tops:
                break
        else:
            # In no top folder that is there now: that one alone.
            for above in folders_above(folder):
                found.pop(above, None)
    inside = surveyed.below
    return {
        f: s
        for f, s in found.items()
        if f and (surveyed.document or not (f + b"/").startswith(inside))
    }


def _meant(surveyed: Surveyed, known: dict[bytes, Standing], given: str) -> bytes | None:
    """The folder that is called so: by its whole path, from the library, or by its own name."""
    raw = fsname(given).rstrip(b"/")
    if raw.startswith(b"/"):
        real = os.path.realpath(raw)
        return next((f for f in (real, raw) if f in known), None)
    if not surveyed.document and Path(os.fsdecode(surveyed.below + raw)).is_dir():
        return None
    beside = os.path.normpath(surveyed.below + raw)
    if beside in known:
        return beside
    called = [f for f in known if f.endswith(b"/" + raw)]
    # One folder, and the same below another: the outermost is meant where they lie in each other.
    if len(called) > 1:
        where = ", ".join(sorted(shown(f) for f in called))
        raise NotOnePart(
            f"{len(called)} folders of the catalog are called {shown(given)}: {where}. Name one of "
            "these paths."
        )
    return called[0] if called else None


def _gone(folder: Path, standing: Standing) -> Problem:
    if standing is Standing.AWAY:
        return Problem(
            Code.AWAY,
            f"{shown(str(folder))} is on a drive that is away. Nothing was touched.",
            "Connect it.",
        )
    return Problem(
        Code.PART_NOT_THERE,
        f"The catalog knows a folder {shown(str(folder))}, and it is gone: its photos are missing. "
        "Nothing was touched.",
        "Look for them first (fascis relink).",
    )
