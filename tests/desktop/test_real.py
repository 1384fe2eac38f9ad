"""The window on really mounted drives, and with a real pointer."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from contextlib import contextmanager
from pathlib import Path

import pytest

PERSON = Path(__file__).with_name("person.py")


@contextmanager
def running(command, environment, **how):
    """A process that ends with the block, whatever happens in it.

    A failed test never waits for its window.
    """
    process = subprocess.Popen(command, env=environment, stdout=subprocess.PIPE, text=True, **how)
    try:
        yield process
    finally:
        process.kill()
        process.stdout.close()
        process.wait(20)


def person(library, mount, what):
    return running(
        [sys.executable, str(PERSON), str(library), str(mount), what],
        {**os.environ, "QT_QPA_PLATFORM": "offscreen"},
    )


@pytest.fixture
def screen():
    """A display of its own, which stays up between its clients; its name."""
    reading, writing = os.pipe()
    command = ["Xvfb", "-displayfd", str(writing), "-noreset", "-screen", "0", "1280x800x24"]
    server = subprocess.Popen(command, pass_fds=[writing], stderr=subprocess.DEVNULL)
    os.close(writing)
    try:
        with open(reading) as told:
            yield f":{told.readline().strip()}"
    finally:
        server.kill()
        server.wait(20)


def said(process):
    for line in process.stdout:
        if line.startswith("said:"):
            return line[5:].strip()
    raise AssertionError("the window said nothing")


@pytest.mark.long
@pytest.mark.lab
@pytest.mark.skipif(shutil.which("b3sum") is None, reason="b3sum is not installed")
def test_killed_halfway_onto_a_mounted_drive_and_resumed(tmp_path, mounted):
    mount = mounted("btrfs", 400)
    library = tmp_path / "The Weir Comes Down"
    for i in range(80):
        folder = library / "media" / f"Day {i % 4:02d}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"clip_{i:03d}.mov").write_bytes(os.urandom(1_200_000 + i))
    with person(library, mount, "begin") as process:
        assert said(process).startswith("half")
        process.send_signal(signal.SIGKILL)
    assert not (mount / library.name).exists() and len(list(library.rglob("*.mov"))) == 80
    with person(library, mount, "go-on") as process:
        scales = json.loads(said(process))
        process.wait(30)
    count = subprocess.run(
        ["find", library, "-type", "f", "-printf", "%s\n"],
        capture_output=True,
        text=True,
        check=True,
    ).stdout.split()
    files, size = len(count), sum(map(int, count))
    spaced = lambda n: f"{n:,}".replace(",", "\u00a0")  # noqa: E731
    assert scales["rows"]["Files"] == [spaced(files), spaced(files), "equal"] and scales["rows"][
        "Bytes"
    ] == [spaced(size), spaced(size), "equal"]
    assert (
        scales["rows"]["Contents, read back from the drive"][1] == spaced(files)
        and scales["even"]
        and scales["title"] == "In balance"
    )
    target = mount / library.name
    checked = subprocess.run(
        ["b3sum", "--check", ".fascis/manifest.b3"], cwd=target, capture_output=True, check=True
    ).stdout
    assert checked.count(b": OK") == files
    one = subprocess.run(
        "find . -path ./.fascis -prune -o -type f -print0 | sort -z | xargs -0 b3sum",
        shell=True,
        cwd=target,
        capture_output=True,
    ).stdout
    other = subprocess.run(
        "find . -type f -print0 | sort -z | xargs -0 b3sum",
        shell=True,
        cwd=library,
        capture_output=True,
    ).stdout
    assert one == other


@pytest.mark.display
@pytest.mark.skipif(
    not (shutil.which("Xvfb") and shutil.which("xdotool")),
    reason="Xvfb and xdotool are not installed",
)
def test_a_drag_with_a_real_pointer(bench, library, tmp_path, screen):
    """Real pointer events on the real window: press, move, release by xdotool; the plan opens."""
    script = tmp_path / "window.py"
    script.write_text(f"""
import sys
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QLabel
from fascis.desktop.kit import theme
from fascis.desktop.app import make_application
from fascis.desktop.window import Window
from fascis.drives.connected import Drives
from fascis.workspace import Workspace
root = Path({str(bench.root)!r})
application = make_application([])
theme.apply(application, theme.LINEN)
window = Window(Workspace(root / "data", root / "state", root / "config", Drives(root / "drives",
 real=False)))
window.planning.add_library(root / "drives/inside/The Weir")
window.move(0, 0); window.resize(1280, 800); window.show()
view, told = window.shelves, set()
def tell():
    # What is not there yet is looked at again at the next tick.
    if view.selected and view._blocks and "ready" not in told:
        a = view.mapToGlobal(view.block_of("The Weir").center().toPoint())
        b = view.mapToGlobal(view.shelf_of("heron").center().toPoint())
        print("said:ready", a.x(), a.y(), b.x(), b.y(), flush=True)
        told.add("ready")
    if view.picked and "uuid-heron" in view._previews and "picked" not in told:
        print("said:picked", view._previews["uuid-heron"].verdict, flush=True)
        told.add("picked")
    if window.drafting.plan and "plan" not in told:
        told.add("plan")
        print("said:plan", window.drafting.plan.target, flush=True)
        application.quit()
timer = QTimer(); timer.timeout.connect(tell); timer.start(50)
def give_up():
    told = [x.text() for x in window.panel.findChildren(QLabel)]
    print("said:in vain", told, flush=True)
    application.quit()
QTimer.singleShot(40000, give_up)
application.exec()
""")
    environment = {**os.environ, "DISPLAY": screen, "QT_QPA_PLATFORM": "xcb"}
    pointer = lambda *what: subprocess.run(  # noqa: E731
        ["xdotool", *map(str, what)], env=environment, check=True, timeout=20
    )  # noqa: E731
    with running([sys.executable, str(script)], environment) as window:
        ready = said(window)
        assert ready.startswith("ready"), ready
        x1, y1, x2, y2 = map(int, ready.split()[1:])
        pointer("mousemove", x1, y1)
        pointer("mousedown", 1)
        for i in range(1, 9):
            pointer("mousemove", x1 + (x2 - x1) * i // 8, y1 + (y2 - y1) * i // 8)
            time.sleep(0.03)
        assert said(window).startswith("picked Fits.")
        pointer("mouseup", 1)
        assert said(window) == f"plan {bench.heron / 'The Weir'}"
    assert len(list(bench.heron.iterdir())) == 1
