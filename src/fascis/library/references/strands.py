"""Strands: the files of a library that share a source folder, a role and a standing.

The unit that a person sees.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable
from pathlib import Path

from msgspec import Struct

from fascis.library.references.uses import Uses
from fascis.library.roles import ROLES, Role
from fascis.library.standing import STANDINGS, Standing
from fascis.library.survey import Survey, strand_folder


class Strand(Struct, frozen=True):
    """One strand.

    ``folder`` is a place in the library, or an absolute path outside; sizes in bytes.
    """

    folder: bytes
    role: Role
    standing: Standing
    files: int
    bytes: int


def strands(survey: Survey, uses: Uses) -> list[Strand]:
    """All strands, largest first; only regular files, without Fascis's own."""
    totals: dict[tuple[bytes, int, int], list[int]] = {}
    for folder in survey.folders:
        if survey.is_own(folder):
            continue
        top = strand_folder(folder.place)
        for row in range(folder.first, folder.end):
            if stat.S_ISREG(survey.mode[row]):
                _count(totals, (top, survey.role[row], uses.standing[row]), survey.size[row])
    tops = tops_of(uses)
    for o in uses.outside:
        key = (tops[o.path.rpartition(b"/")[0]], ROLES.index(o.role), STANDINGS.index(o.standing))
        _count(totals, key, o.size)
    found = [
        Strand(folder, ROLES[role], STANDINGS[standing], *t)
        for (folder, role, standing), t in totals.items()
    ]
    return sorted(found, key=lambda s: (-s.bytes, s.folder, s.role))


def _count(
    totals: dict[tuple[bytes, int, int], list[int]], key: tuple[bytes, int, int], size: int
) -> None:
    t = totals.setdefault(key, [0, 0])
    t[0] += 1
    t[1] += size


def tops_of(uses: Uses) -> dict[bytes, bytes]:
    """For the folder of each file outside, the folder that a person calls the source."""
    return top_folders((o.path for o in uses.outside), uses.sources)


def top_folders(paths: Iterable[bytes], sources: Iterable[bytes] = ()) -> dict[bytes, bytes]:
    """For the folder of each path, the topmost of these folders above it.

    The folder that a person calls the source. ``sources`` count even if no path lies directly in
    them: a catalog names them. The root folder, a home folder and mount points contain everything,
    and count only for files directly in them.
    """
    folders = {p.rpartition(b"/")[0] for p in paths} | set(sources)
    holds_all = {b"", b"/", os.fsencode(Path.home()), b"/home", b"/mnt", b"/media", b"/tmp"}
    tops: dict[bytes, bytes] = {}
    current: bytes | None = None
    for folder in sorted(folders, key=lambda f: f.split(b"/")):
        if current is None or not (folder == current or folder.startswith(current + b"/")):
            current = None if folder in holds_all else folder
        tops[folder] = current or folder
    return tops


def totals_by_role(survey: Survey, uses: Uses) -> dict[Role, tuple[int, int]]:
    """``(files, bytes)`` of each role, of existing files: in the library's folder, and loose."""
    out = {role: (files, size) for role, (files, size, _) in survey.totals().items()}
    for o in uses.of(Standing.LOOSE):
        files, size = out[o.role]
        out[o.role] = (files + 1, size + o.size)
    return out


def totals(survey: Survey, uses: Uses) -> dict[Standing, tuple[int, int]]:
    """``(files, bytes)`` of each standing."""
    out = dict.fromkeys(STANDINGS, (0, 0))
    for s in strands(survey, uses):
        files, size = out[s.standing]
        out[s.standing] = (files + s.files, size + s.bytes)
    return out
