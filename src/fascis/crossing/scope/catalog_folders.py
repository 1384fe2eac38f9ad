"""Folders of a catalog that lie anywhere: they are copied by themselves, and the catalog follows.

The crossing then contains such a folder with everything in it, not a library around it; or several
of one of the catalog's top folders.
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.gathering import folders_above
from fascis.crossing.scope.parts import NotOnePart
from fascis.crossing.scope.surveyed import Surveyed, survey_library
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.names import fsname, parent, shown
from fascis.library.standing import Standing
from fascis.words.figures import listed
from fascis.words.speech import tr
from fascis.workspace import Workspace


class Elsewhere(Struct, frozen=True):
    """What is copied instead of the library around a catalog.

    Attributes:
        surveyed: the folder, or the one in which several of them lie.
        only: which of its folders are copied, by their places; empty for all.
    """

    surveyed: Surveyed
    only: frozenset[str] = frozenset()


def folders_of_catalog(
    workspace: Workspace, surveyed: Surveyed, only: Sequence[str], control: Control = UNSTOPPED
) -> Elsewhere | None:
    """The survey of folders that a catalog knows and that were named as parts.

    None if they lie in the library's own folder, or are not folders of a catalog: then they are
    parts like any other.

    Raises:
        NotOnePart: several folders are called so, or those that were named cannot go together.
    """
    known = _known(surveyed)
    meant = {given: _meant(surveyed, known, given) for given in only}
    found = sorted({folder for folder in meant.values() if folder})
    if not found:
        return None
    if ours := [given for given, folder in meant.items() if not folder]:
        raise NotOnePart(
            tr(
                "{ours} is in the library's folder, {found} is elsewhere. Take them "
                "one after the other: name one at a time.",
                ours=shown(ours[0]),
                found=shown(found[0]),
            )
        )
    paths = [Path(os.fsdecode(folder)) for folder in found]
    if gone := [_gone(path, known[bytes(path)]) for path in paths if not path.is_dir()]:
        return Elsewhere(replace(surveyed, problems=[*surveyed.problems, *gone]))
    around = os.path.commonpath(found)
    if around not in known:
        where = listed([shown(folder) for folder in found[:2]])
        raise NotOnePart(
            tr(
                "{where} are not in one folder of the catalog. Take them one after the "
                "other: name one at a time.",
                where=where,
            )
        )
    alone = survey_library(workspace, Path(os.fsdecode(around)), None, control)
    inner = [os.path.relpath(folder, around) for folder in found if folder != around]
    # All of it, if it was named itself.
    parts = frozenset(map(os.fsdecode, inner)) if len(inner) == len(found) else frozenset()
    catalogs = tuple(
        surveyed.below + d.place for d in surveyed.uses.documents if d.place and d.kind.journals
    )
    return Elsewhere(replace(alone, also=catalogs, of_catalog=str(surveyed.root)), parts)


def _known(surveyed: Surveyed) -> dict[bytes, Standing]:
    """Every folder that its catalogs know outside the library's own folder.

    With the standing of the files in it, as far as one of them shows it.
    """
    uses = surveyed.uses
    catalogs = {n for n, d in enumerate(uses.documents) if d.kind.journals}
    tops = {os.path.realpath(top) for top in uses.sources}
    found: dict[bytes, Standing] = {}
    used = [(o.path, o.standing) for o in uses.outside if o.used_by & catalogs]
    if surveyed.document:
        # Nothing else in its folder belongs to it.
        rows = [(row, p) for row, p in surveyed.survey.files() if uses.used_by.get(row)]
        used += [(surveyed.below + p, Standing.HELD) for row, p in rows]
    for path, standing in used:
        folder = parent(path)
        for above in (folder, *folders_above(folder)):
            found.setdefault(above, standing)
            if above in tops:
                break
        else:
            # In no top folder that exists now: that one alone.
            for above in folders_above(folder):
                found.pop(above, None)
    inside = surveyed.below
    return {
        f: s
        for f, s in found.items()
        if f and (surveyed.document or not (f + b"/").startswith(inside))
    }


def _meant(surveyed: Surveyed, known: dict[bytes, Standing], given: str) -> bytes | None:
    """The folder with this name: by its full path, from the library, or by its own name."""
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
    # One folder, and the same below another: if they lie in each other, the outer one is meant.
    if len(called) > 1:
        where = ", ".join(sorted(shown(f) for f in called))
        raise NotOnePart(
            tr(
                "{called} folders of the catalog have the name {given}: {where}. Name "
                "one of these paths.",
                called=len(called),
                given=shown(given),
                where=where,
            )
        )
    return called[0] if called else None


def _gone(folder: Path, standing: Standing) -> Problem:
    if standing is Standing.AWAY:
        return Problem(
            Code.AWAY,
            tr(
                "{folder} is on a drive that is away. Nothing was touched.",
                folder=shown(str(folder)),
            ),
            tr("Connect it."),
        )
    return Problem(
        Code.PART_NOT_THERE,
        tr(
            "The catalog knows a folder {folder}, and it is gone: its photos are "
            "missing. Nothing was touched.",
            folder=shown(str(folder)),
        ),
        tr("Look for them first (fascis relink)."),
    )
