"""Real drives and the real UDisks2 service.

Plugged in, mounted, crossed to, unplugged on the way, elsewhere, renamed, removed.

These need root, loop devices and the service; ``./check`` starts it where it is not there.
"""

import os
import subprocess
import threading
import time

import pytest

from fascis.crossing.model.states import State
from fascis.crossing.status.queue import find_crossing
from fascis.crossing.status.scales import weigh
from fascis.drives.care.removal import describe, remove_safely
from fascis.drives.connected import Drives
from fascis.drives.system.udisks import News, mount, service_there
from fascis.files.errors import DriveGone, EnvironmentTrouble
from fascis.library.known.shelves import read_shelves
from tests.clock import within
from tests.crossing.test_proof import real
from tests.crossing.ways import started
from tests.images import make_file_system
from tests.judge import contents

MAKE = {
    "ext4": ["mkfs.ext4", "-qF", "-L"], "btrfs": ["mkfs.btrfs", "-qf", "-L"],
    "exfat": ["mkfs.exfat", "-L"], "ntfs": ["mkfs.ntfs", "-FQ", "-L"],
}  # fmt: skip
LABEL = {
    "ext4": ["e2label"], "btrfs": ["btrfs", "filesystem", "label"], "exfat": ["exfatlabel"],
    "ntfs": ["ntfslabel"],
}  # fmt: skip
DRIVER = {"exfat": ["mount.exfat-fuse"], "ntfs": ["ntfs-3g"]}


class Plug:
    """An image with a file system, plugged in and out as a loop device."""

    count = 0

    def __init__(self, folder, filesystem):
        self.folder, self.filesystem, self.image, self.device = (
            folder,
            filesystem,
            folder / "egret.img",
            "",
        )
        self.places = []
        Plug.count += 1
        # other tests have drives of their own meanwhile
        self.label = f"EG{os.getpid() % 10_000}{Plug.count}"
        with open(self.image, "wb") as out:
            out.truncate(260 << 20)
        make_file_system([*MAKE[filesystem], self.label], self.image)

    @staticmethod
    def _run(*words, check=True):
        return subprocess.run([str(w) for w in words], check=check, capture_output=True, text=True)

    def plug_in(self):
        self.device = self._run("losetup", "-f", "--show", self.image).stdout.strip()
        self._run("udevadm", "settle", "--timeout=5", check=False)

    def mount_at(self, name):
        where = self.folder / name
        where.mkdir()
        self._run(*DRIVER.get(self.filesystem, ["mount"]), self.device, where)
        self.places.append(where)
        return where

    def pull(self):
        """Like pulling the cable: mounts are gone at once."""
        self._run("umount", "-l", self.device, check=False)
        for where in self.places:
            self._run("umount", "-l", where, check=False)
        self._run("losetup", "-d", self.device, check=False)
        self.device = ""

    def call(self, label):
        self.plug_in()
        self._run(*LABEL[self.filesystem], self.device, label)
        self._run("losetup", "-d", self.device)


class Played:
    """The same on a stand-in: its folder is its mount point."""

    def __init__(self, bench, filesystem):
        self.bench, self.filesystem, self.label = bench, filesystem, "EGRET"
        self.where = bench.add_drive("egret", filesystem, label="EGRET", connected=False)
        self.device = ""

    def workspace(self):
        return self.bench.workspace

    def plug_in(self):
        pass

    def mount_at(self, name):
        there = self.where.with_name(name)
        self.where.rename(there)
        self.where = there
        describe(there, connected=True)
        return there

    def pull(self):
        describe(self.where, connected=False)
        self.bench.workspace.drives.stand_ins()

    def call(self, label):
        describe(self.where, label=label)


@pytest.fixture
def service():
    if os.geteuid() != 0 or not service_there():
        pytest.skip("needs root and the UDisks2 service")


@pytest.fixture(params=[*(f"real {f}" for f in MAKE), *(f"played {f}" for f in (*MAKE, "vfat"))])
def plug(request, tmp_path, bench):
    kind, filesystem = request.param.split()
    if kind == "played":
        yield Played(bench, filesystem)
        return
    request.getfixturevalue("service")
    made = Plug(tmp_path, filesystem)
    made.workspace = lambda: real(bench).workspace
    yield made
    if made.device:
        made.pull()


def until(found, what, seconds=10):
    end = time.monotonic() + seconds
    while (value := found()) is None:
        assert time.monotonic() < end, what
        time.sleep(0.05)
    return value


@pytest.mark.lab
def test_from_connected_to_removed(bench, plug):
    """Mounted, crossed to, disconnected, connected elsewhere, resumed, renamed, removed."""
    plug.plug_in()
    played, workspace = isinstance(plug, Played), plug.workspace()

    def egret(label=plug.label, **facts):
        """The drive of that label, in a certain state."""
        there = (d for d in workspace.drives.connected() if d.label == label)
        return next((d for d in there if all(getattr(d, k) == v for k, v in facts.items())), None)

    drive = until(lambda: egret(mounted=played, connected=False), "plugged in, and not mounted")
    if (
        played or plug.filesystem == "exfat"
    ):  # the service mounts it by the kernel alone, and this one may not have it
        where = plug.mount_at("by hand")
    else:
        where = until(lambda: mounted_or_none(drive), "mounted by the service")
    drive = until(lambda: egret(connected=True), "mounted")
    assert drive.mount == where and drive.removable
    uuid = drive.uuid

    bench.fill(
        {f"media/take_{n:03}.mov": 400_000 for n in range(60)} | {"notes.txt": b"breach first"}
    )
    before = contents(bench.library)
    crossing = started(bench, to=where)
    id = crossing.id

    pulled = threading.Event()

    def pull(_event):
        if crossing.copies.verified()[0] > 10 and not pulled.is_set():
            pulled.set()
            plug.pull()

    with pytest.raises((DriveGone, EnvironmentTrouble)):
        crossing.run(report=pull)
    crossing.close()
    assert pulled.is_set() and contents(bench.library) == before
    if where.exists() and not played:
        assert not list(where.iterdir())  # nothing was written where it had been

    plug.plug_in()
    other = plug.mount_at("at another place")
    until(lambda: egret(connected=True), "back")
    crossing = find_crossing(workspace, id)
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    assert contents(other / "The Weir") == before and weigh(crossing).even
    crossing.switch()
    crossing.close()
    read_shelves(workspace)

    plug.pull()
    puffin = "P" + plug.label
    plug.call(puffin)
    plug.plug_in()
    third = plug.mount_at("third")
    until(lambda: egret(puffin, connected=True), "under its new name")
    shelf = next(s for s in read_shelves(workspace) if s.drive.label == puffin)
    assert shelf.drive.uuid == uuid and [(s.root, s.home) for s in shelf.standings] == [
        (third / "The Weir", True)
    ]
    assert shelf.back.label == plug.label and shelf.back.mount == other
    if not played:
        busy = pytest.raises(EnvironmentTrouble, match=r"Fascis itself has notes.txt of it open")
        with (third / "The Weir/notes.txt").open(), busy:
            remove_safely(shelf.drive)
        assert third.is_mount()
    remove_safely(shelf.drive)
    assert not third.is_mount() and contents(bench.library) == before
    until(lambda: egret(puffin, mounted=played, connected=False), "removed")


def mounted_or_none(drive):
    """The service hears of a device a little later."""
    try:
        return mount(drive)
    except EnvironmentTrouble as error:
        # fmt: skip
        if (
            "No such" in str(error)
            or "not a mountable" in str(error)
            or "UnknownObject" in str(error)
            or "object path" in str(error)
        ):
            return None
        raise


@pytest.mark.lab
def test_news_of_a_drive_comes_at_once(tmp_path, service):
    heard = threading.Event()
    news = News(heard.set)
    assert news.listens
    plug = Plug(tmp_path, "ext4")
    try:
        plug.plug_in()
        assert heard.wait(3)
        until(
            lambda: next(
                (d for d in Drives().connected() if d.label == plug.label and not d.mounted), None
            ),
            "told of",
        )
        heard.clear()
        begun = time.monotonic()
        plug.mount_at("there")
        assert heard.wait(10)
        within(begun, 3)
    finally:
        plug.pull()
        news.close()


@pytest.mark.lab
def test_a_cloned_disk_is_distinguished_from_its_original(bench, tmp_path, service):
    first, second = Plug(tmp_path, "ext4"), None
    (tmp_path / "other").mkdir()
    try:
        second = Plug(tmp_path / "other", "ext4")
        second.image.write_bytes(first.image.read_bytes())
        first.plug_in()
        one = first.mount_at("one")
        workspace = real(bench).workspace
        uuid = workspace.drives.at(one).uuid
        workspace.register.put_drives([workspace.drives.at(one)])
        second.plug_in()
        two = second.mount_at("two")
        until(lambda: workspace.drives.at(two).twin_of or None, "the service hears of it")
        assert workspace.drives.at(one).uuid == uuid and not workspace.drives.at(one).ambiguous
        assert workspace.drives.at(two).ambiguous and workspace.drives.at(two).uuid.startswith(
            f"{uuid}#"
        )
        found = {d.mount: d.uuid for d in workspace.drives.connected() if d.label == first.label}
        assert found[one] == uuid and found[two] != uuid
    finally:
        for plug in (first, second):
            if plug is not None:
                plug.pull()


def test_without_the_service_mounting_says_what_to_do(bench, monkeypatch, mounted):
    where = mounted("ext4", 32)
    drive = Drives().at(where)
    monkeypatch.setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path=/nowhere")
    for act in (mount, remove_safely):
        with pytest.raises(EnvironmentTrouble, match="with your file manager"):
            act(drive)
    assert where.is_mount() and not News(lambda: None).listens and not service_there()
    with pytest.raises(EnvironmentTrouble, match="no device of its own"):
        mount(bench.workspace.drives.at(bench.heron))
