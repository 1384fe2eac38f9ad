"""Measures the view Relink with 20,000 lost files.

The first picture, ties drawn, and the longest stall while it is used.

python benchmarks/relink_window.py FOLDER     (offscreen or on a display; makes its library in a new
folder there)
"""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PyQt6.QtCore import Qt, QTimer
from PyQt6.QtTest import QTest

from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.desktop.app import make_application
from fascis.desktop.kit import theme
from fascis.desktop.window import Window
from fascis.drives.connected import Drives
from fascis.workspace import Workspace

LOST, FOLDERS = 20_000, 200


def make(root: Path) -> None:
    """Folders that are all renamed after a first survey.

    Of one in ten there is another of the same sizes.
    """
    targets = []
    for f in range(FOLDERS):
        folder = root / f"Footage/Day {f:03}"
        folder.mkdir(parents=True)
        for i in range(LOST // FOLDERS):
            path = folder / f"clip_{f}_{i:04}.mov"
            with open(path, "wb") as out:
                out.truncate(1000 + (f * 7919 + i * 31) % 50_000)
            targets.append(str(path))
    (root / "lib").mkdir()
    (root / "lib/list.m3u8").write_text("\n".join(targets))


def main() -> None:
    root = Path(sys.argv[1]).absolute()
    make(root)
    workspace = Workspace(root / "data", root / "state", root / "config", Drives())
    remember(workspace, survey_library(workspace, root / "lib"))
    for f in range(FOLDERS):
        (root / f"Footage/Day {f:03}").rename(root / f"Footage/Shoot {f:03}")
        if f % 10 == 0:
            (root / f"Old/{f}").mkdir(parents=True)
            for i in range(LOST // FOLDERS):
                (root / f"Old/{f}/clip_{f}_{i:04}.mov").write_bytes(
                    b"x" * (1000 + (f * 7919 + i * 31) % 50_000)
                )
    remember(workspace, survey_library(workspace, root / "lib"))
    application = make_application([])
    theme.apply(application, theme.LINEN)
    window = Window(workspace)
    window.show()
    QTest.qWait(1500)
    gaps, last = [], [time.perf_counter()]

    def beat() -> None:
        now = time.perf_counter()
        gaps.append(now - last[0])
        last[0] = now

    timer = QTimer()
    timer.timeout.connect(beat)
    timer.start(1)
    begun = time.perf_counter()
    window._relink(root / "lib")
    window.repaint()
    print(f"first picture, '{window.relink._lost.text()}', {time.perf_counter() - begun:.2f} s")
    relinks = window.relinks
    while not window.relink.ties.layout_.ribbons:
        QTest.qWait(5)
    window.repaint()
    print(
        f"{relinks.relinking.files if relinks.relinking else 0} lost, drawn by folder after "
        f"{time.perf_counter() - begun:.2f} s"
    )
    while relinks.outcome is None or relinks.looking is not None:
        QTest.qWait(5)
    window.repaint()
    print(
        f"{relinks.found} tied, {len(relinks.outcome.open)} to decide, drawn after "
        f"{time.perf_counter() - begun:.2f} s"
    )
    print(f"until then the longest stall {1000 * max(gaps):.0f} ms")
    gaps.clear()
    move = relinks.moves()[0].move
    for say in (relinks.accept, relinks.refuse):
        say(move)
        for _ in range(400):
            QTest.qWait(5)
    print(f"accepting and refusing: longest stall {1000 * max(gaps):.0f} ms")
    gaps.clear()
    for _ in range(20):
        QTest.keyClick(window.relink, Qt.Key.Key_N)
        QTest.qWait(60)
    QTest.qWait(500)
    print(
        f"asking the next: longest stall {1000 * max(gaps):.0f} ms; {len(relinks.outcome.open)} to "
        "decide"
    )
    timer.stop()
    window.close()


if __name__ == "__main__":
    main()
