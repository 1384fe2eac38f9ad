"""A second drive five times slower: when is the first one whole, compared with its time alone?

Both are real folders on the given drive, written at a measured pace (stand-in drives); pairs are
run one after the other
in one go, and medians of the ratios told. ``python benchmarks/two.py --at FOLDER --pairs 5``
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import statistics
import tempfile
import time
from pathlib import Path

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.events import Entered
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.drives.connected import Drives
from fascis.workspace import Workspace

CASES = (("24 files of 10 MB", [10_000_000] * 24, 60.0), ("4,000 of 5 kB", [5_000] * 4000, 8.0))


def drive(root: Path, name: str, mb_s: float) -> Path:
    """A stand-in drive that writes and reads at a speed in MB/s; 0 for unlimited."""
    folder = root / "drives" / name
    folder.mkdir(parents=True)
    facts = {"uuid": f"uuid-{name}", "label": name, "filesystem": "ext4", "capacity_bytes": 10**11}
    (folder / "stand-in.json").write_text(
        json.dumps({**facts, "write_mb_s": mb_s, "read_mb_s": mb_s})
    )
    return folder


def seconds(root: Path, files: list[int], speed: float, also: bool) -> float:
    """Seconds until the first drive is whole."""
    shutil.rmtree(root, ignore_errors=True)
    inside, heron, egret = (
        drive(root, "inside", 0),
        drive(root, "heron", speed),
        drive(root, "egret", speed / 5),
    )
    library = inside / "The Weir"
    library.mkdir()
    for n, size in enumerate(files):
        (library / f"{n:06}.mov").write_bytes(os.urandom(size))
    os.sync()
    workspace = Workspace(
        root / "data", root / "state", root / "config", Drives(root / "drives", real=False)
    )
    plan = make_plan(
        workspace, survey_library(workspace, library), heron, Choices(), egret if also else None
    )
    crossing, at = Crossing.start(workspace, plan, decided=True), []
    begun = time.monotonic()
    crossing.run(
        report=lambda e: at.append(time.monotonic()) if e == Entered(State.SETTLED, 0) else None
    )
    return at[0] - begun


def main() -> None:
    """Measures and prints the results."""
    words = argparse.ArgumentParser()
    words.add_argument("--at", type=Path, default=Path(tempfile.gettempdir()))
    words.add_argument("--pairs", type=int, default=5)
    given = words.parse_args()
    root = given.at / "fascis two"
    for what, files, speed in CASES:
        ratios = []
        for _ in range(given.pairs):
            alone, beside = seconds(root, files, speed, False), seconds(root, files, speed, True)
            ratios.append(beside / alone)
            print(
                f"{what}: alone {alone:.2f} s, beside one five times slower {beside:.2f} s, "
                f"{ratios[-1]:.3f}"
            )
        print(
            f"{what}: median {statistics.median(ratios):.3f} ({min(ratios):.3f} to "
            f"{max(ratios):.3f})"
        )
    shutil.rmtree(root)


if __name__ == "__main__":
    main()
