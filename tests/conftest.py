"""Fresh folders for every test; a workspace with stand-in drives; real mounted drives where the machine allows."""

from __future__ import annotations

import json
import os
import subprocess
from pathlib import Path

import pytest

from fascis.drives.connected import Drives
from fascis.workspace import Workspace

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


@pytest.fixture(autouse=True)
def fresh_home(tmp_path_factory, monkeypatch):
    home = tmp_path_factory.mktemp("home")
    for name in ("XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_CACHE_HOME", "FASCIS_STAND_INS"):
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
            path = self.library / os.fsdecode(place) if isinstance(place, bytes) else self.library / place
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_bytes(content if isinstance(content, bytes) else os.urandom(content))
        return self.library


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
def library(bench):
    return usual(bench)


def _can_mount():
    if os.geteuid() != 0:
        return False
    return subprocess.run(["losetup", "-f"], capture_output=True).returncode == 0


@pytest.fixture
def mounted(tmp_path):
    """Gives a function that mounts a fresh file system from an image; skips where that cannot be done."""
    if not _can_mount():
        pytest.skip("needs root and loop devices")
    mounts = []

    def mount(filesystem, megabytes=300, label="HERON"):
        image, where = tmp_path / f"{label}.img", tmp_path / f"mnt-{label}"
        where.mkdir()
        with open(image, "wb") as out:
            out.truncate(megabytes << 20)
        make = {"ext4": ["mkfs.ext4", "-q", "-F", "-L", label], "btrfs": ["mkfs.btrfs", "-q", "-f", "-L", label]}[
            filesystem
        ]
        subprocess.run([*make, str(image)], check=True, capture_output=True)
        subprocess.run(["mount", "-o", "loop", str(image), str(where)], check=True, capture_output=True)
        mounts.append(where)
        return where

    yield mount
    for where in mounts:
        subprocess.run(["umount", "-l", str(where)], capture_output=True)
