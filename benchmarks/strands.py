"""Measures the view Strands on 100,000 files in 300 strands.

The first picture, and the longest stall while it is used.

Usage: python benchmarks/strands.py FOLDER   (offscreen or on a display; makes its library in a new
    folder there)
"""

from __future__ import annotations

import json
import os
import sys
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import QPoint, Qt, QTimer
from PyQt6.QtTest import QTest

from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.desktop.app import make_application
from fascis.desktop.kit import theme
from fascis.desktop.strands.view import StrandsView
from fascis.desktop.strands.woven import weave
from fascis.drives.connected import Drives
from fascis.workspace import Workspace

FILES, FOLDERS = 100_000, 150


def main() -> None:
    root = Path(sys.argv[1])
    for f in range(FOLDERS):
        folder = root / f"lib/media/Day {f:03}"
        folder.mkdir(parents=True)
        for i in range(FILES // FOLDERS):
            with open(folder / f"clip_{i:04}.mov", "wb") as out:
                out.truncate(1000 * (1 + (f * 7919 + i) % 5000))
    targets = [
        f"media/Day {n % FOLDERS:03}/clip_{n // FOLDERS % 300:04}.mov" for n in range(45_000)
    ]
    (root / "lib/list.m3u8").write_text("\n".join(targets))
    workspace = Workspace(root / "data", root / "state", root / "config", Drives())
    surveyed = survey_library(workspace, root / "lib")
    plan = make_plan(workspace, surveyed, root, Choices())
    application = make_application([])
    theme.apply(application, theme.LINEN)
    view = StrandsView()
    view.resize(944, 730)
    view.show()
    QTest.qWait(300)
    begun = time.perf_counter()
    woven = weave(surveyed, plan, workspace.drives)
    wove = time.perf_counter() - begun
    view.show_woven(woven)
    while not view.ledger.shown_rows:
        application.processEvents()
    view.repaint()
    print(f"{len(woven)} files in {len(woven.strands)} strands: first picture "
        f"{time.perf_counter() - begun:.2f} s"
          f" (of which {wove:.2f} in a task)")  # fmt: skip
    gaps, last = [], [time.perf_counter()]

    def beat() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer()
    timer.timeout.connect(beat)
    timer.start(1)
    bundle, bar = view.bundle, view.ledger.table.verticalScrollBar()
    for step in range(60):  # hovering over the ribbons, and scrolling the ledger
        QTest.mouseMove(bundle, QPoint(230 + step * 8, 60 + step * 5))
        bar.setValue(bar.maximum() * step // 60)
        QTest.qWait(15)
    print(f"hovering and scrolling: longest stall {1000 * max(gaps):.0f} ms")
    gaps.clear()
    for text in ("clip_01", "day 07", ""):
        view.ledger.search.setText(text)
        QTest.qWait(400)
    print(f"searching: longest stall {1000 * max(gaps):.0f} ms")
    gaps.clear()
    for _ in range(20):
        QTest.keyClick(bundle, Qt.Key.Key_Down)
        QTest.qWait(40)
    print(f"choosing strands: longest stall {1000 * max(gaps):.0f} ms")
    print(json.dumps({"rows": view.ledger.shown_rows}))


if __name__ == "__main__":
    main()
