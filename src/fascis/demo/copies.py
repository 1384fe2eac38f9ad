"""The demo's files for copies: a library with two copies, one behind and one damaged."""

from __future__ import annotations

import os
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

from fascis.copies.comparing import look_at_copies
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.demo.timelines import Cut, write_timeline
from fascis.files.disk.medium import PosixMedium
from fascis.library.known.places import known_places
from fascis.workspace import Workspace

Clip = Callable[[Path, int, int, int], None]
NESTS = "Heron Nests"
# The clip with a damaged bit, in the copy on Heron A.
DAMAGED = "media/Hide/nest_02.mov"


def make_nests(internal: Path, clip: Clip) -> Path:
    """Makes a library about nests, as it was when it was copied."""
    nests = internal / NESTS
    for n in range(1, 7):
        clip(nests / f"media/Hide/nest_{n:02}.mov", 1800 + n, 3, 480)
    for n in range(1, 4):
        clip(nests / f"media/Ferry/crossing_{n:02}.mov", 1820 + n, 3, 480)
    _cut(nests, "Hide", "Ferry")
    return nests


def make_copies(workspace: Workspace, nests: Path, drives: tuple[Path, Path], clip: Clip) -> None:
    """Copies it to two drives; then home is worked in, and a bit on the first drive is damaged."""
    surveyed = survey_library(workspace, nests)
    remember(workspace, surveyed)
    first, second = drives
    plan = make_plan(workspace, surveyed, first, Choices(after=After.COPY), second)
    crossing = Crossing.start(workspace, plan, decided=True)
    crossing.run()
    crossing.close()
    with closing(PosixMedium.at(nests / "media")) as media:
        media.rename_new(b"Ferry", b"Ferry at dusk")
    clip(nests / "media/Hide/nest_07.mov", 1807, 3, 480)
    _cut(nests, "Hide", "Ferry at dusk")
    _spoil(first / NESTS / DAMAGED)
    known = next(k for k in known_places(workspace) if k.library.name == NESTS)
    look_at_copies(workspace, known)


def _cut(nests: Path, *folders: str) -> None:
    clips = [p for folder in folders for p in sorted((nests / "media" / folder).iterdir())]
    places = [f"../{p.relative_to(nests)}" for p in clips]
    write_timeline(nests / "timelines/Nests.otio", places, [], Cut(20, 90, 40))


def _spoil(path: Path) -> None:
    """Changes one bit of a file, as on an ageing drive; its time stays."""
    status = path.stat()
    with open(path, "r+b") as file:
        file.seek(status.st_size // 2)
        old = file.read(1)
        file.seek(-1, os.SEEK_CUR)
        file.write(bytes([old[0] ^ 4]))
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))
