"""Fresh folders for every test; a workspace with stand-in drives.

Real mounted drives where the machine allows.
"""

from __future__ import annotations

import gc
import json
import os
import signal
import subprocess
from contextlib import suppress
from itertools import count
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import settings

from fascis.crossing.copying import file
from fascis.crossing.scope import needed
from fascis.drives.connected import Drives
from fascis.files.own import in_order
from fascis.library import open_files
from fascis.library.learning import asking
from fascis.machine import awake
from fascis.workspace import Workspace
from tests.forked import Forked
from tests.images import make_file_system, unmount

CHILD = asking.CHILD
every_program = open_files.programs
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# A shell starts what runs in its background with interrupts ignored, and programs inherit that.
signal.signal(signal.SIGINT, signal.default_int_handler)
# A machine that stands still for a moment is no fault of an example.
settings.register_profile("without deadline", deadline=None)
settings.load_profile("without deadline")


_HOMES = count()


def pytest_collection_modifyitems(items):
    """The longest tests begin first: otherwise they run alone at the end."""
    items.sort(key=lambda item: item.get_closest_marker("long") is None)


def pytest_collection_finish():
    """What all tests need stays: it is not looked through for cycles again and again."""
    gc.collect()
    gc.freeze()
    gc.set_threshold(50_000, 20, 50)


@pytest.fixture(autouse=True)
def fresh_home(tmp_path_factory, monkeypatch):
    home = tmp_path_factory.getbasetemp() / f"home-{next(_HOMES)}"
    home.mkdir()
    for name in (
        "XDG_DATA_HOME",
        "XDG_STATE_HOME",
        "XDG_CONFIG_HOME",
        "XDG_CACHE_HOME",
        "FASCIS_STAND_INS",
        "DBUS_SESSION_BUS_ADDRESS",
    ):
        monkeypatch.delenv(name, raising=False)
    monkeypatch.setenv("HOME", str(home))
    return home


class Bench:
    """Two stand-in drives, a library on the first, and a workspace."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self.drives = root / "drives"
        self.add_drive("inside", transport="nvme")
        self.add_drive("heron")
        self.library = self.drives / "inside" / "The Weir"
        self.step = lambda _name: None
        self.workspace = self.again()

    def add_drive(self, name, filesystem="ext4", capacity=400_000_000, faults=(), **more):
        folder = self.drives / name
        folder.mkdir(parents=True, exist_ok=True)
        facts = {
            "uuid": f"uuid-{name}",
            "label": name,
            "filesystem": filesystem,
            "capacity_bytes": capacity,
            "faults": list(faults),
            **more,
        }
        (folder / "stand-in.json").write_text(json.dumps(facts))
        return folder

    def again(self):
        """A new workspace, as a program that starts again has."""
        self.workspace = Workspace(
            self.root / "data",
            self.root / "state",
            self.root / "config",
            Drives(self.drives, real=False, step=lambda n: self.step(n)),
            step=lambda n: self.step(n),
        )
        return self.workspace

    @property
    def heron(self):
        return self.drives / "heron"

    def fill(self, files):
        """Makes files from ``{place: bytes or size}``."""
        for place, content in files.items():
            path = (
                self.library / os.fsdecode(place)
                if isinstance(place, bytes)
                else self.library / place
            )
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content if isinstance(content, bytes) else os.urandom(content))
        return self.library


@pytest.fixture(autouse=True)
def beside(monkeypatch):
    """Outside a test's files is the machine's whole disk: not all of it is searched."""
    monkeypatch.setattr(needed, "MOST_FOLDERS", 200)


@pytest.fixture(autouse=True)
def own_programs(monkeypatch):
    """Only what a test started has its files open: other programs are not looked through."""
    monkeypatch.setattr(open_files, "programs", lambda: list(started_here()))


def started_here():
    """The process ids of this program and of all that it started, with theirs."""
    mine, waiting = set(), [os.getpid()]
    while waiting:
        program = waiting.pop()
        mine.add(program)
        with suppress(OSError):
            for task in os.listdir(f"/proc/{program}/task"):
                children = Path(f"/proc/{program}/task/{task}/children").read_bytes()
                waiting += map(int, children.split())
    return mine


@pytest.fixture(autouse=True)
def may_sleep(monkeypatch):
    """The machine may sleep while tests run, but those that are about it (``tests/machine``)."""
    monkeypatch.setattr(awake.Awake, "__enter__", lambda self: self)


@pytest.fixture(autouse=True)
def no_long_pauses(monkeypatch):
    """Before a source that changes is read again; a person who saves takes longer than a test."""
    monkeypatch.setattr(file, "_PAUSE", 0.02)


@pytest.fixture
def bench(tmp_path):
    return Bench(tmp_path)


def usual(bench):
    """A small library with every role."""
    return bench.fill(
        {
            "media/Day 01/weir_01.mov": 300_000,
            "media/Day 01/weir_02.mov": 40_000,
            "media/Day 02/salmon.wav": 120_000,
            "proxies/weir_01.mov": 9_000,
            "renders/cut.mov": 20_000,
            "previews/0001.jpg": 2_000,
            "stills/heron.jpg": 5_000,
            "stills/heron.xmp": b"<x/>",
            "notes.txt": b"breach first\n",
            "media/empty.wav": b"",
        }
    )


@pytest.fixture
def home(bench, monkeypatch):
    """A home on the drive inside, where nothing lies yet."""
    there = bench.drives / "inside/home/otter"
    there.mkdir(parents=True)
    monkeypatch.setenv("HOME", str(there))
    return there


@pytest.fixture
def library(bench):
    return usual(bench)


def _can_mount():
    if os.geteuid() != 0:
        return False
    return subprocess.run(["losetup", "-f"], capture_output=True).returncode == 0


class Mounted:
    """Fresh file systems in images, mounted by their kernel or user-space drivers."""

    def __init__(self, root: Path) -> None:
        self.root, self._there = root, {}

    def __call__(self, filesystem, megabytes=300, label="HERON", options=()):
        image, where = self.root / f"{label}.img", self.root / f"mnt-{label}"
        if filesystem == "tmpfs":
            where.mkdir()
            subprocess.run(
                ["mount", "-t", "tmpfs", "-o", f"size={megabytes}m", label, str(where)], check=True
            )
            self._there[where] = ""
            return where
        with open(image, "wb") as out:
            out.truncate(megabytes << 20)
        make = {
            "ext4": ["mkfs.ext4", "-q", "-F", "-L", label],
            "ext2": ["mkfs.ext2", "-q", "-F", "-b", "4096", "-L", label],
            "ext3": ["mkfs.ext3", "-q", "-F", "-b", "4096", "-L", label],
            "xfs": ["mkfs.xfs", "-q", "-f", "-L", label],
            "btrfs": ["mkfs.btrfs", "-q", "-f", "-L", label],
            "exfat": ["mkfs.exfat", "-L", label],
            "ntfs": ["mkfs.ntfs", "-F", "-Q", "-L", label],
        }[filesystem]
        make_file_system(make, image)
        return self.mount(image, where, filesystem, options)

    def mount(self, image, where, filesystem, options=()):
        """Mounts an image that has a file system, at a folder that is made for it."""
        where.mkdir(exist_ok=True)
        loop = subprocess.run(
            ["losetup", "-f", "--show", str(image)], capture_output=True, check=True, text=True
        )
        device = loop.stdout.strip()
        self._there[where] = device
        driver = {"exfat": ["mount.exfat-fuse"], "ntfs": ["ntfs-3g"]}.get(filesystem, ["mount"])
        subprocess.run([*driver, *options, device, str(where)], check=True, capture_output=True)
        return where

    def unmount(self, where, lazily=False):
        """Unmounts, and lets the device go."""
        if lazily:
            subprocess.run(["umount", "-l", str(where)], capture_output=True)
        else:
            unmount(where)
        if device := self._there.pop(where, None):
            subprocess.run(["losetup", "-d", device], capture_output=True)

    def device(self, where):
        """The block device that is mounted there."""
        return self._there[where]

    def end(self):
        """Unmounts all."""
        for where in list(self._there):
            self.unmount(where, lazily=True)


@pytest.fixture
def mounted(tmp_path):
    """Returns a function that mounts a fresh file system from an image.

    Skips if that is not possible.
    """
    if not _can_mount():
        pytest.skip("needs root and loop devices")
    made = Mounted(tmp_path)
    yield made
    made.end()


@pytest.fixture
def helpers_at_once(monkeypatch):
    """Helpers are started for the first few things and waited for; returns how few."""
    monkeypatch.setattr(in_order, "_SECONDS", 0.0)
    monkeypatch.setattr(in_order, "BATCH", 3)
    monkeypatch.setattr(in_order, "helper_count", lambda: 2)
    monkeypatch.setattr(in_order.Helper, "has_answered", property(lambda helper: True))
    return in_order.BATCH


@pytest.fixture
def forked(monkeypatch):
    """Documents of unknown make are examined in a fork of the test, not in a program of its own.

    Not for a window: one of its tasks may hold a lock of SQLite's, which a fork would wait for.
    """

    def begin(words, **more):
        return (Forked if words[-1] == CHILD else subprocess.Popen)(words, **more)

    monkeypatch.setattr(asking, "subprocess", SimpleNamespace(**vars(subprocess)))
    monkeypatch.setattr(asking.subprocess, "Popen", begin)
