"""Drives as they are: mounts, devices, rules, stand-ins."""

import json
import os
import shutil
import subprocess

import pytest

from fascis.drives.connected import Drives
from fascis.drives.rules import rules_of
from fascis.drives.stand_in import read_description
from fascis.drives.system.blocks import Block, parse_blocks, probed, read_blocks
from fascis.drives.system.mounts import (
    MountWatch,
    mount_id_of,
    other_ways,
    parse_mounts,
    read_mounts,
)
from fascis.files.errors import Damaged, EnvironmentTrouble

LINES = """36 35 98:0 /mnt1 /mnt2 rw,noatime master:1 - ext3 /dev/root rw,errors=continue
40 35 0:52 / /media/Heron\\040A ro,relatime shared:7 - fuseblk /dev/sdb1 rw,user_id=0
rubbish
"""


def test_mountinfo_is_parsed_with_its_escapes():
    one, two = parse_mounts(LINES)
    assert (one.id, one.device, one.root, one.where, one.filesystem) == (
        36,
        "98:0",
        "/mnt1",
        "/mnt2",
        "ext3",
    )
    assert two.where == "/media/Heron A" and two.read_only and not one.read_only


def test_the_disk_below_a_partition_is_known():
    text = json.dumps(
        {
            "blockdevices": [
                {
                    "name": "/dev/sdb",
                    "maj:min": "8:16",
                    "tran": "usb",
                    "rota": True,
                    "rm": True,
                    "type": "disk",
                    "children": [
                        # fmt: skip
                        {
                            "name": "/dev/sdb1",
                            "maj:min": " 8:17",
                            "fstype": "exfat",
                            "uuid": "AB-CD",
                            "label": "Heron B",
                            "rota": True,
                            "rm": True,
                            "type": "part",
                        }
                    ],
                }
            ]
        }
    )
    part = parse_blocks(text)["8:17"]
    assert (part.disk, part.tran, part.uuid) == ("/dev/sdb", "usb", "AB-CD")


def test_the_drive_of_a_folder_is_found_by_its_mount(tmp_path):
    drive = Drives().at(tmp_path)
    fd = os.open(tmp_path, os.O_RDONLY)
    where = next(m.where for m in read_mounts() if m.id == mount_id_of(fd))
    os.close(fd)
    assert str(drive.mount) == where and drive.capacity >= drive.free > 0 and drive.connected


def test_a_folder_that_is_not_there(tmp_path):
    with pytest.raises(EnvironmentTrouble, match="nowhere"):
        Drives().at(tmp_path / "nowhere")


def test_nothing_changes_on_its_own():
    watch = MountWatch()
    watch.wait(0)
    assert watch.wait(0) is False
    watch.close()


@pytest.mark.lab
def test_a_new_mount_is_noticed_and_known_by_its_uuid(mounted):
    watch = MountWatch()
    watch.wait(0)
    where = mounted("ext4", 64, "NOTICED")
    assert watch.wait(2000)
    watch.close()
    drive = Drives().at(where)
    assert drive.filesystem == "ext4" and drive.mount == where and not drive.read_only
    told = subprocess.run(
        ["blkid", "-p", "-o", "value", "-s", "UUID", where.with_name("NOTICED.img")],
        capture_output=True,
    )
    assert (
        drive.uuid == told.stdout.decode().strip() and drive.label == "NOTICED"
    )  # with or without udev


def counted(tmp_path, monkeypatch, program):
    """A shim that counts how often a program is run; returns the function that tells."""
    asked, shim = tmp_path / f"{program}-asked", tmp_path / program
    shim.write_text(f'#!/bin/sh\necho >> {asked}\nexec {shutil.which(program)} "$@"\n')
    shim.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    return lambda: asked.read_text().count("\n") if asked.exists() else 0


@pytest.mark.lab
def test_devices_are_read_again_only_when_something_happened_to_one(tmp_path, monkeypatch):
    asked = counted(tmp_path, monkeypatch, "lsblk")
    image = tmp_path / "card.img"
    # No other test attaches an image of this size: devices and their numbers change meanwhile.
    size = (1 << 20) + 777 * 512
    image.write_bytes(bytes(size))
    before = {b.name for b in read_blocks().values() if b.size == size}
    calls = asked()
    attached = subprocess.run(
        ["losetup", "--find", "--show", image], check=True, capture_output=True, text=True
    ).stdout.strip()
    try:
        after = {b.name for b in read_blocks().values() if b.size == size}
        assert after - before == {attached}
        again = asked()
        assert again > calls
    finally:
        subprocess.run(["losetup", "-d", attached], check=True)
    # Other programs may attach something meanwhile; not each of twenty times.
    for _ in range(20):
        read_blocks()
    assert asked() < again + 15


@pytest.mark.lab
def test_a_mounted_device_is_probed_again_only_for_another_medium(mounted, tmp_path, monkeypatch):
    asked = counted(tmp_path, monkeypatch, "blkid")

    def medium(n):
        where = mounted("ext4", 8, f"EGRET-{n}")
        device = mounted.device(where)
        number = os.stat(device).st_rdev
        block = {"name": device, "maj:min": f"{os.major(number)}:{os.minor(number)}"}
        told = [probed(Block.model_validate(block), "at the same place") for _ in range(3)]
        mounted.unmount(where)
        return told

    first, calls = medium(1), asked()
    assert calls == 1 and {b.label for b in first} == {"EGRET-1"}
    assert {b.label for b in medium(2)} == {"EGRET-2"} and asked() == 2


def test_a_device_that_cannot_be_read_is_given_as_it_was(tmp_path, monkeypatch):
    asked = counted(tmp_path, monkeypatch, "blkid")
    block = Block.model_validate(
        {"name": str(tmp_path / "none"), "maj:min": "8:1", "label": "Heron"}
    )
    assert probed(block) is block
    known = block.model_copy(update={"uuid": "1234-ABCD"})
    assert probed(known) is known
    assert asked() == 0


@pytest.mark.parametrize(
    ("filesystem", "name", "why"),
    [("vfat", b"what?.mov", "reserved character"), ("exfat", b"con.txt", "reserved name"), ("exfat",
    b"end.", "ends in"), ("exfat", b"\xff", "not valid Unicode"),
     ("ext4", b"x" * 256, "longer"), ("ext4", b"what?.mov", None), ("exfat", "ü.mov".encode(),
     None)],
)  # fmt: skip
def test_names_that_cannot_be_held(filesystem, name, why):
    said = rules_of(filesystem).refuses_name(name)
    assert said is None if why is None else why in said


def test_an_unknown_file_system_gets_cautious_rules():
    rules = rules_of("never-heard-of")
    assert not rules.links and not rules.stable_inodes and rules_of("ntfs-3g").name == "NTFS"


@pytest.mark.parametrize(
    "text",
    [
        "",
        "{}",
        '{"uuid": "x", "label": "x", "filesystem": "ext4", "capacity_bytes": -1}',
        '{"uuid": 1',
    ],
)
def test_a_damaged_stand_in_is_reported_and_not_shown(tmp_path, text):
    (tmp_path / "a").mkdir()
    (tmp_path / "a/stand-in.json").write_text(text)
    with pytest.raises(Damaged, match="not a description of a stand-in"):
        read_description(tmp_path / "a")
    drives = Drives(tmp_path, real=False)
    assert drives.connected() == [] and len(drives.damaged) == 1


def test_a_stand_in_measures_its_space_in_blocks(bench):
    drive = bench.workspace.drives.at(bench.heron)
    (bench.heron / "x").write_bytes(b"1")
    again = bench.workspace.drives.at(bench.heron)
    assert drive.free - again.free == 4096 and again.stand_in and again.uuid == "uuid-heron"


def test_a_stand_in_that_is_away_answers_as_a_drive_that_is_gone(bench):
    bench.add_drive("gone", connected=False)
    bench.again()
    with pytest.raises(EnvironmentTrouble, match="does not answer"):
        bench.workspace.drives.open(bench.drives / "gone")


@pytest.mark.parametrize(
    ("path", "ways"),
    [
        (b"/media/heron/Sound/a", [b"/srv/by another way/a"]),
        (b"/srv/by another way/a", [b"/media/heron/Sound/a"]),
        (b"/media/heron/Sound", [b"/srv/by another way"]),
        (b"/media/heron/Soundings/a", []),
        (b"/home/x", []),
    ],
)
def test_by_which_other_ways_a_path_can_be_reached(path, ways):
    text = (
        "1 0 8:1 / / rw - ext4 /dev/sda1 rw\n2 1 8:2 / /media/heron rw - ext4 /dev/sdb1 rw\n"
        "3 1 8:2 /Sound /srv/by\\040another\\040way rw - ext4 /dev/sdb1 rw\n"
    )
    assert list(other_ways(path, list(parse_mounts(text)))) == ways
