"""How soon a mount is on the shelf, and the window's stall while a driver hangs.

The driver is a user-space one.

QT_QPA_PLATFORM=offscreen python benchmarks/shelf.py FOLDER        (root; loop devices)
"""

import os
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from PyQt6.QtCore import QTimer
from PyQt6.QtTest import QTest

from fascis.desktop.app import make_application
from fascis.desktop.window import Window
from fascis.drives.connected import Drives
from fascis.workspace import Workspace


def image(folder: Path, name: str, *make: str) -> str:
    path = folder / f"{name}.img"
    with open(path, "wb") as out:
        out.truncate(80 << 20)
    subprocess.run([*make, name, str(path)], check=True, capture_output=True)
    loop = subprocess.run(
        ["losetup", "-f", "--show", path], check=True, capture_output=True, text=True
    )
    return loop.stdout.strip()


def main(folder: Path) -> None:
    home = Path(tempfile.mkdtemp())
    application = make_application(sys.argv[:1])
    window = Window(Workspace(home / "data", home / "state", home / "config", Drives(None)))
    window.show()

    def shelf(label: str):
        return next((s for s in window.planning.shelves if s.drive.label == label), None)

    def until(done) -> float:
        begun = time.monotonic()
        while not done() and time.monotonic() - begun < 20:
            QTest.qWait(5)
        return time.monotonic() - begun

    beats = [time.monotonic(), 0.0]

    def beat() -> None:
        now = time.monotonic()
        beats[0], beats[1] = now, max(beats[1], now - beats[0])

    timer = QTimer()
    timer.timeout.connect(beat)
    timer.start(5)
    QTest.qWait(1500)
    device, where = image(folder, "QUICK", "mkfs.ext4", "-qF", "-L"), folder / "quick"
    where.mkdir(exist_ok=True)
    on, off = [], []
    for _ in range(10):
        subprocess.run(["mount", device, where], check=True)
        on.append(until(lambda: (s := shelf("QUICK")) is not None and s.drive.connected))
        QTest.qWait(700)
        subprocess.run(["umount", where], check=True)
        off.append(until(lambda: (s := shelf("QUICK")) is None or not s.drive.connected))
        QTest.qWait(700)
    subprocess.run(["losetup", "-d", device], check=True)
    print(f"mount on the shelf: median {statistics.median(on):.2f} s, longest {max(on):.2f} s")
    print(f"unmount on the shelf: median {statistics.median(off):.2f} s, longest {max(off):.2f} s")
    device, where = image(folder, "HANGS", "mkfs.exfat", "-L"), folder / "hangs"
    where.mkdir(exist_ok=True)
    subprocess.run(["mount.exfat-fuse", device, where], check=True, capture_output=True)
    until(lambda: (s := shelf("HANGS")) is not None and s.drive.connected)
    driver = subprocess.run(
        ["pgrep", "-f", f"mount.exfat-fuse.*{where}"], capture_output=True, text=True
    ).stdout.split()[0]
    os.kill(int(driver), signal.SIGSTOP)
    QTest.qWait(200)
    beats[1] = 0.0
    window.planning.refresh()
    told = until(lambda: (s := shelf("HANGS")) is not None and s.drive.silent)
    for _ in range(5):
        window.planning.refresh()
        QTest.qWait(500)
    print(
        f"a driver that hangs is told after {told:.2f} s; longest stall of the window "
        f"{beats[1] * 1000:.0f} ms"
    )
    os.kill(int(driver), signal.SIGCONT)
    window.close()
    subprocess.run(["umount", where], check=False)
    subprocess.run(["losetup", "-d", device], check=False)
    application.quit()


main(Path(sys.argv[1]))
