"""Drives that are mounted elsewhere than when documents were written.

Which paths lead nowhere for that reason, and their new paths. Fascis itself follows such paths by
the drive's UUID or label; other programs do not. Therefore they are updated on request, as certain
folder moves: the drive proves them.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from pathlib import Path

from fascis.drives.model import Drive
from fascis.files.route import Moved
from fascis.library.references.uses import Uses
from fascis.relink.lost import Lost


def returned_moves(uses: Uses, drives: Iterable[Drive]) -> list[Moved]:
    """Which folders in the documents are on a drive that is mounted elsewhere now.

    Checks whether the old paths exist.

    Args:
        uses: references from a survey that follows paths by the drives.
    """
    mounts = sorted(
        (bytes(d.mount).rstrip(b"/") for d in drives if d.connected and d.mount != Path("/")),
        key=len,
        reverse=True,
    )
    found: set[Moved] = set()
    gone: dict[bytes, bool] = {}
    for written, real in uses.aliases.items():
        mount = next((m for m in mounts if real.startswith(m + b"/")), None)
        if mount is None or not written.endswith(real[len(mount) :]):
            continue
        old = written[: len(written) - len(real) + len(mount)]
        if old in (b"", mount) or not old.startswith(b"/"):
            continue
        if old not in gone:
            gone[old] = not os.path.lexists(written)
        if gone[old]:
            found.add(Moved(old, mount))
    return sorted(found)


def old_paths(uses: Uses, moves: Iterable[Moved]) -> int:
    """How many files documents name by a path to a drive's earlier mount point."""
    known = list(moves)
    return sum(any(m.to(written) is not None for m in known) for written in uses.aliases)


def folders_to_look_in(lost: Sequence[Lost], moves: Sequence[Moved]) -> list[Path]:
    """The existing folders that would contain lost files by these moves.

    None is below another.
    """
    wanted = {f for x in lost for m in moves if (f := m.to(x.folder + b"/x")) is not None}
    folders = sorted({f.rpartition(b"/")[0] for f in wanted})
    kept: list[bytes] = []
    for folder in folders:
        if os.path.isdir(folder) and not (kept and folder.startswith(kept[-1] + b"/")):  # noqa: PTH112 - bytes
            kept.append(folder)
    return [Path(os.fsdecode(f)) for f in kept]
