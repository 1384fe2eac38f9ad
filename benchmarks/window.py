"""Measures the window.

Seconds to the first look, and the longest stall while 20,000 files cross through it.

Usage: python benchmarks/window.py --source FOLDER --to FOLDER_ON_ANOTHER_FILE_SYSTEM   (offscreen
    or on a display)
"""

from __future__ import annotations

import argparse
import os
import shutil
import tempfile
import time
from pathlib import Path

BEGUN = time.perf_counter()
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QTimer  # noqa: E402
from PyQt6.QtTest import QTest  # noqa: E402

from fascis.crossing.crossing import Crossing  # noqa: E402
from fascis.crossing.plan.choices import Choices  # noqa: E402
from fascis.crossing.plan.making import make_plan  # noqa: E402
from fascis.crossing.scope.surveyed import survey_library  # noqa: E402
from fascis.demo.place import demo_world  # noqa: E402
from fascis.desktop.app import make_application  # noqa: E402
from fascis.desktop.kit import theme  # noqa: E402
from fascis.desktop.window import Window  # noqa: E402
from fascis.drives.connected import Drives  # noqa: E402
from fascis.workspace import Workspace  # noqa: E402


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--source", type=Path, required=True)
    parser.add_argument("--to", type=Path, required=True)
    given = parser.parse_args()
    imported = time.perf_counter() - BEGUN
    stage = Path(tempfile.mkdtemp(dir=given.source))
    world = demo_world(True, stage / "demo")
    begun = time.perf_counter()
    application = make_application([])
    theme.apply(application, theme.LINEN)
    window = Window(world.workspace, demo=True)
    window.show()
    while not window.shelves._blocks:
        QTest.qWait(5)
    print(
        f"window with the demo on screen: {imported + time.perf_counter() - begun:.2f} s (of which "
        f"imports {imported:.2f})"
    )
    window.close()

    library = stage / "twenty thousand"
    for i in range(20_000):
        (library / f"day {i // 500:02d}").mkdir(parents=True, exist_ok=True)
        (library / f"day {i // 500:02d}" / f"frame_{i:05d}.jpg").write_bytes(
            os.urandom(4_000 + i % 8_000)
        )
    workspace = Workspace(stage / "data", stage / "state", stage / "config", Drives())
    window = Window(workspace)
    window.show()
    QTest.qWait(500)
    plan = make_plan(workspace, survey_library(workspace, library), given.to, Choices())
    gaps: list[float] = []
    last = [time.perf_counter()]

    def beat() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer()
    timer.timeout.connect(beat)
    window._started(Crossing.start(workspace, plan, decided=True))
    last[0] = time.perf_counter()
    timer.start(10)
    while window.conducting.steps.balance is None:
        QTest.qWait(10)
    gaps.sort()
    print(
        f"20,000 files: {len(gaps)} beats of 10 ms; longest gap {gaps[-1] * 1000:.0f} ms, 99.9% "
        f"under {gaps[int(len(gaps) * 0.999)] * 1000:.0f} ms"
    )
    target = window.conducting.current.target if window.conducting.current else None
    window.close()
    shutil.rmtree(stage)
    if target:
        shutil.rmtree(target)


if __name__ == "__main__":
    main()
