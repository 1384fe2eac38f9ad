"""Copies: a large library is verified, and a copy of it is updated.

    python benchmarks/copies.py FROM TO

Makes in FROM, once, a library of 200,000 files with 40 timelines, and copies it into TO. Then
works in it (50 files changed, a folder of 5,000 renamed), and updates the copy: how long that
takes, and the bytes that were written to the copy's drive, beside those of the library.
"""

from __future__ import annotations

import gc
import itertools
import json
import os
import random
import sys
import time
from pathlib import Path
from typing import Any

from fascis.copies.updating import plan_update
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.drives.connected import Drives
from fascis.workspace import Workspace

# As the command line does.
gc.set_threshold(50_000, 20, 100)
FOLDERS, IN_EACH, BYTES = 40, 5_000, 10_000
CHANGED = 50


def timeline(targets: list[str]) -> str:
    clips = [
        {
            "OTIO_SCHEMA": "Clip.2",
            "media_reference": {"OTIO_SCHEMA": "ExternalReference.1", "target_url": t},
        }
        for t in targets
    ]
    return json.dumps(
        {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": clips}}
    )


def make(library: Path) -> None:
    numbers = random.Random(1)
    for n in range(FOLDERS):
        folder = library / f"media/day {n:02}"
        folder.mkdir(parents=True)
        for clip in range(IN_EACH):
            (folder / f"clip_{clip:04}.mov").write_bytes(numbers.randbytes(BYTES))
        uses = [f"media/day {n:02}/clip_{clip:04}.mov" for clip in range(0, IN_EACH, 10)]
        (library / f"cut {n:02}.otio").write_text(timeline(uses))


def work(library: Path) -> None:
    """A day's work: some clips are others, and a folder gets another name."""
    day = next(library.glob("media/day 00*"))
    name = "day 00, weir" if day.name == "day 00" else "day 00"
    day.rename(day.with_name(name))
    cut = library / "cut 00.otio"
    cut.write_text(cut.read_text().replace(f"{day.name}/", f"{name}/"))
    for clip in itertools.islice(sorted((library / "media/day 01").iterdir()), CHANGED):
        clip.write_bytes(random.randbytes(BYTES))


def written(path: Path) -> int:
    """Bytes that a block device was given to write."""
    device = os.stat(path).st_dev
    stat = Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}/stat")
    return int(stat.read_text().split()[6]) * 512


def cross(workspace: Workspace, plan: Any) -> None:
    crossing = Crossing.start(workspace, plan, decided=True)
    state = crossing.run()
    crossing.close()
    assert state.value == "settled", state


def main() -> None:
    here, there = Path(sys.argv[1]), Path(sys.argv[2])
    library, state = here / "Large", here / "large-state"
    workspace = Workspace(state / "data", state / "state", state / "config", Drives(real=True))
    if not library.exists():
        make(library)
    copy = there / library.name
    if not copy.exists():
        surveyed = survey_library(workspace, library)
        remember(workspace, surveyed)
        cross(workspace, make_plan(workspace, surveyed, there, Choices(after=After.COPY)))
    work(library)
    os.sync()
    before = written(there)
    begun, used = time.monotonic(), time.process_time()
    plan, _ = plan_update(workspace, library, copy)
    planned = time.monotonic() - begun
    cross(workspace, plan)
    took, spent = time.monotonic() - begun, time.process_time() - used
    os.sync()
    given = written(there) - before
    whole = FOLDERS * IN_EACH * BYTES
    assert plan.update
    print(plan.update.facts)
    print(
        f"planned {planned:.1f} s, all of it {took:.1f} s, {spent:.1f} s of processor time, "
        f"{given / 1e6:.1f} MB written: {given / whole:.1%} of the library"
    )


if __name__ == "__main__":
    main()
