"""What a drive seems to be, how fast and how sound it is, who holds it, and preparing it."""

import os
import subprocess
import sys
import threading
import time

import pytest

from fascis.drives.care.character import character_of, look_at_character
from fascis.drives.care.describing import built_words, flags, state_words, transport_words
from fascis.drives.care.measuring import measure
from fascis.drives.care.preparing import make_folder_for_libraries
from fascis.drives.connected import Drives
from fascis.drives.system.health import errors_of, link_mbit
from fascis.drives.system.holders import holders_of
from fascis.files.errors import Cancelled, EnvironmentTrouble, Refused
from fascis.machine.disk_tool import DiskTool, data_folders, find_disk_tool
from tests.clock import fast, within
from tests.stopping import StopsWhen

# -- what it seems to be ---------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("names", "label", "backup"),
    [
        (["Backups/", "photo.jpg"], "Heron A", "it has Backups"), (["backup-river.img"], "X",
        "it has backup-river.img"), ([], "Studio Backup", "its name"),
        ([f"2026-0{m}-01/" for m in range(1, 6)], "X", "it has 5 folders called by dates"),
        (["2026-01-01/", "Weir/", "Bell/", "Salt/", "Otters/"], "X", ""),
        (["Weir/", "Backupper.mov.d/", "Rebackup/"], "X", ""), (["Libraries/"], "Heron", ""),
    ],
)  # fmt: skip
def test_a_backup_disk_is_guessed_by_names_alone(names, label, backup):
    said = character_of(names, label).backup
    assert said.startswith(backup) if backup else said == ""


def test_a_system_disk_is_recognised_by_its_folders_and_only_by_folders():
    names = ["etc/", "usr/", "bin/", "var/", "proc/", "home/"]
    assert (
        character_of(names, "X").system
        and not character_of([n.rstrip("/") for n in names], "X").system
    )


def test_a_drive_that_is_away_is_not_opened(bench):
    bench.add_drive("gone", connected=False)
    (bench.drives / "gone/Backups").mkdir()
    drive = next(d for d in bench.again().drives.connected() if d.label == "gone")
    assert look_at_character(drive).backup == ""


def test_faults_that_the_kernel_counted_are_summed(tmp_path):
    for place, text in {
        "fs/ext4/sda1/errors_count": "3\n",
        "fs/btrfs/U-1/devinfo/1/error_stats": "write_errs 2\nread_errs 0\nflush_errs 1\n",
        "fs/btrfs/U-1/devinfo/2/error_stats": "rubbish\n",
    }.items():
        (tmp_path / place).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / place).write_text(text)
    (tmp_path / "dev/block").mkdir(parents=True)
    (tmp_path / "dev/block/8:1").symlink_to("../../devices/pci0000:00/block/sda/sda1")
    assert (
        errors_of("ext4", "8:1", "", tmp_path) == 3 and errors_of("btrfs", "", "U-1", tmp_path) == 3
    )
    assert (
        errors_of("exfat", "8:1", "U-1", tmp_path) == 0
        and errors_of("ext4", "9:9", "", tmp_path) == 0
    )


def test_the_speed_of_a_usb_connection_is_that_of_the_device_above(tmp_path):
    disk = tmp_path / "devices/usb4/4-1/4-1:1.0/host0/block/sda/sda1"
    disk.mkdir(parents=True)
    (tmp_path / "dev/block").mkdir(parents=True)
    (tmp_path / "dev/block/8:1").symlink_to(disk)
    assert link_mbit("8:1", tmp_path) == 0
    for name, text in (("busnum", "4"), ("speed", "10000\n")):
        (tmp_path / "devices/usb4/4-1" / name).write_text(text)
    assert link_mbit("8:1", tmp_path) == 10_000 and link_mbit("8:2", tmp_path) == 0


@pytest.mark.lab
def test_a_real_ext4_that_was_damaged_says_so(mounted):
    where = mounted("ext4", 64)
    image = where.with_name("HERON.img")
    assert Drives().at(where).errors == 0
    mounted.unmount(where)
    subprocess.run(
        ["debugfs", "-w", "-R", "set_super_value error_count 2", str(image)],
        check=True,
        capture_output=True,
    )
    mounted.mount(image, where, "ext4")
    drive = Drives().at(where)
    assert drive.errors == 2 and "counted 2" in flags(drive)[0]


def test_a_drive_in_words(bench):
    bench.add_drive("nvme", transport="nvme")
    bench.add_drive("disk", transport="sata", rotational=True, read_only=True)
    bench.add_drive("full", capacity=1_000_000)
    (bench.drives / "full/x").write_bytes(b"x" * 990_000)
    by = {d.label: d for d in bench.again().drives.connected()}
    assert built_words(by["disk"]) == "spinning disk" and built_words(by["nvme"]) == "solid state"
    assert transport_words(by["nvme"]) == "NVMe" and "It can only be read." in flags(by["disk"])
    assert any("nearly full" in f for f in flags(by["full"])) and flags(by["nvme"]) == []
    assert state_words(by["nvme"]) == ""


# -- how fast --------------------------------------------------------------------------------------


def test_a_measurement_is_about_right_and_leaves_nothing_behind(bench):
    where = bench.add_drive("timed", write_mb_s=20, read_mb_s=40)
    drives = bench.again().drives
    speed = measure(drives, drives.at(where))
    assert speed.write_mb_s < 26 and speed.read_mb_s < 52
    assert speed.bytes <= drives.at(where).free // 20
    fast(speed.write_mb_s, 12)
    fast(speed.read_mb_s, 20)
    assert [p.name for p in where.iterdir()] == ["stand-in.json"]


def test_a_speed_that_is_changed_in_the_middle_of_a_write_counts_at_once(bench):
    where = bench.add_drive("timed", write_mb_s=0.001)
    drives = bench.again().drives
    file = drives.open(where).create(b"a.mov")
    writing = threading.Thread(target=file.write, args=(memoryview(bytes(100_000)),))
    writing.start()
    bench.add_drive("timed", write_mb_s=0)
    begun = time.monotonic()
    drives.stand_ins()
    writing.join(60)
    within(begun, 20)
    assert (where / "a.mov").stat().st_size == 100_000


@pytest.mark.parametrize(
    ("facts", "why"),
    [
        ({"read_only": True}, "only be read"),
        ({"connected": False}, "is away"),
        ({"capacity": 9_000_000}, "too full"),
    ],
)
def test_what_cannot_be_measured_is_reported_and_not_written_to(bench, facts, why):
    where = bench.add_drive("poor", **facts)
    drives = bench.again().drives
    drive = next(d for d in drives.connected() if d.label == "poor")
    with pytest.raises(Refused, match=why):
        measure(drives, drive)
    assert [p.name for p in where.iterdir()] == ["stand-in.json"]


def test_a_measurement_that_is_stopped_or_fails_removes_what_it_wrote(bench):
    where = bench.add_drive("timed", write_mb_s=50)
    drives = bench.again().drives
    asked = iter([False, True])
    with pytest.raises(Cancelled, match="removed"):
        measure(drives, drives.at(where), control=StopsWhen(lambda: next(asked, True)))
    bench.add_drive("broken", faults=[{"kind": "write-error", "name": "measure"}])
    drives = bench.again().drives
    with pytest.raises(EnvironmentTrouble, match="measure"):
        measure(drives, drives.at(bench.drives / "broken"))
    for name in ("timed", "broken"):
        assert [p.name for p in (bench.drives / name).iterdir()] == ["stand-in.json"]


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_on_a_real_drive_reading_is_from_the_drive(mounted, filesystem):
    where, drives = mounted(filesystem, 300), Drives()
    speed = measure(drives, drives.at(where))
    assert speed.proven
    fast(min(speed.write_mb_s, speed.read_mb_s), 1)
    assert [p.name for p in where.iterdir() if p.name.startswith(".fascis")] == []


# -- who holds it ----------------------------------------------------------------------------------


@pytest.mark.lab
@pytest.mark.parametrize("how", ["file", "folder", "map"])
def test_whoever_keeps_a_drive_busy_is_named(mounted, how):
    where = mounted("ext4", 32)
    (where / "cut.mov").write_bytes(b"x" * 8192)
    code = {
        "file": "f=open(sys.argv[1]+'/cut.mov')", "folder": "os.chdir(sys.argv[1])",
        "map": "f=open(sys.argv[1]+'/cut.mov','rb'); m=mmap.mmap(f.fileno(),0,prot=1); f.close()",
    }[how]  # fmt: skip
    words = [
        sys.executable,
        "-c",
        f"import sys,os,mmap,time; {code}; print(1, flush=True); time.sleep(60)",
        str(where),
    ]
    with subprocess.Popen(words, stdout=subprocess.PIPE) as program:
        program.stdout.readline()
        found, _ = holders_of(where)
        program.kill()
    assert [h.pid for h in found] == [program.pid] and "python" in found[0].program
    assert found[0].what == str(where if how == "folder" else where / "cut.mov")
    assert holders_of(where)[0] == []


# -- preparing -------------------------------------------------------------------------------------


def test_a_folder_for_libraries_is_made_once_and_the_drive_is_tested(bench):
    where = bench.add_drive("new", "exfat")
    drives = bench.again().drives
    for _ in range(2):
        folder, asked = make_folder_for_libraries(drives, drives.at(where))
        assert folder == where / "Libraries" and asked.rules.asked and list(folder.iterdir()) == []


@pytest.mark.parametrize(
    ("facts", "name", "why"),
    [
        ({"read_only": True}, "Libraries", "only be read"), ({"connected": False}, "Libraries",
        "is away"), ({}, "a/b", "slash"),
        ({"filesystem": "exfat"}, "what?", "reserved character"), ({}, "", "nothing"), ({},
        "stand-in.json", "no folder"),
    ],
)  # fmt: skip
def test_a_folder_that_cannot_be_made_is_refused_with_the_reason(bench, facts, name, why):
    where = bench.add_drive("new", **facts)
    drives = bench.again().drives
    drive = next(d for d in drives.connected() if d.label == "new")
    with pytest.raises(Refused, match=why):
        make_folder_for_libraries(drives, drive, name)
    assert [p.name for p in where.iterdir()] == ["stand-in.json"]


ENTRY = (
    "[Desktop Entry]\nType=Application\nName={name}\nExec={run} "
    "%f\nCategories={categories}\nKeywords={keywords}\nMimeType={types}\n"
)


def entry(folder, name, run="sh", categories="", keywords="", types="", more=""):
    path = folder / "applications" / f"{name}.desktop"
    path.parent.mkdir(parents=True, exist_ok=True)
    text = ENTRY.format(name=name, run=run, categories=categories, keywords=keywords, types=types)
    path.write_text(text + more)


def test_the_disk_tool_is_known_by_what_it_says_it_does(tmp_path):
    assert find_disk_tool([tmp_path]) is None
    entry(tmp_path, "Pictures", categories="Graphics;", keywords="drive;picture;")
    entry(tmp_path, "Hidden", categories="System;Filesystem;", more="NoDisplay=true\n")
    entry(tmp_path, "Gone", run="/nowhere/tool", categories="System;Filesystem;")
    (tmp_path / "applications/damaged.desktop").write_text("[Desktop Entry\nrubbish")
    assert find_disk_tool([tmp_path]) is None
    entry(tmp_path, "Plates", keywords="disk;volume;", types="application/x-raw-disk-image;")
    found = find_disk_tool([tmp_path])
    assert found == DiskTool("Plates", ("sh",))
    assert (
        data_folders({"HOME": "/h"})[0].parts[:2] == ("/", "h")
        and len(data_folders({"XDG_DATA_DIRS": "/a:/b"})) == 3
    )


def test_a_disk_tool_is_started_and_left_to_itself(tmp_path):
    DiskTool("X", ("sh", "-c", f"echo {os.getpid()} > {tmp_path}/ran")).open()
    for _ in range(100):
        if (tmp_path / "ran").exists() and (tmp_path / "ran").read_text():
            break
        subprocess.run(["sleep", "0.02"])
    assert (tmp_path / "ran").read_text().strip() == str(os.getpid())
    with pytest.raises(OSError, match="No such file"):
        DiskTool("X", ("/nowhere/at/all",)).open()
