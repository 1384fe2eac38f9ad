"""Faults that the kernel itself makes.

No room under the drive's image, no room for the journal, the drivers' own service.
"""

import os
import shutil
import subprocess
import time

import pytest

from fascis.crossing.model.states import State
from fascis.crossing.status.queue import find_crossing
from fascis.drives.care.removal import remove_safely
from fascis.drives.connected import Drives
from fascis.drives.system.udisks import mount_again, mounted_by_service
from fascis.files.errors import EnvironmentTrouble, FascisError
from fascis.workspace import Workspace
from tests.crossing.ways import started
from tests.images import make_file_system
from tests.judge import contents

pytestmark = pytest.mark.lab


def real(bench):
    bench.workspace = Workspace(
        bench.root / "data", bench.root / "state", bench.root / "config", Drives(bench.drives)
    )
    return bench


@pytest.fixture
def in_memory(tmp_path, mounted):
    """A folder in memory of a size that can be changed."""
    where = tmp_path / "memory"
    where.mkdir()
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", str(where)], check=True)
    yield where
    subprocess.run(["umount", "-l", str(where)], check=False)


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_no_room_under_the_drive_s_image(bench, mounted, in_memory, filesystem):
    """The drive reports room.

    The level below has none, and reports it only on a flush. The crossing finishes in the room it
    had reserved.
    """
    mounted.root = in_memory
    drive = mounted(filesystem, 200)
    before = contents(bench.fill({f"{n}.mov": 6_000_000 for n in range(8)}))
    crossing = started(real(bench), to=drive)
    with pytest.raises(EnvironmentTrouble):
        crossing.run()
    assert crossing.state is not State.SETTLED and not (drive / "The Weir").exists()
    assert contents(bench.library) == before
    crossing.close()
    image, where = in_memory / "HERON.img", in_memory / "mnt-HERON"
    mounted.unmount(where, lazily=True)
    subprocess.run(["mount", "-o", "remount,size=300m", str(in_memory)], check=True)
    repair = {"ext4": ["e2fsck", "-fy"], "exfat": ["fsck.exfat", "-y"]}[filesystem]
    for _ in range(50):
        if subprocess.run([*repair, str(image)], capture_output=True).returncode in (0, 1):
            break
    mounted.mount(image, where, filesystem)
    again = find_crossing(real(bench).workspace, crossing.id)
    assert again.run() is State.SETTLED and contents(drive / "The Weir") == before == contents(
        bench.library
    )


def test_a_full_disk_under_the_journal_uses_the_room_that_was_kept(bench, mounted, library):
    """Something else fills the journal's disk while a crossing runs.

    It goes on to the end in the room it had kept.
    """
    disk = mounted("ext4", 32, "SMALL")
    bench.workspace.state = disk / "state"
    crossing = started(bench)
    assert crossing.journal.room.exists()
    with open(disk / "other work.bin", "wb") as out, pytest.raises(OSError, match="No space left"):
        while True:
            out.write(bytes(1 << 16))
            out.flush()
    assert crossing.run() is State.SETTLED
    crossing.switch()
    assert crossing.release()["files"] == 10 and not library.exists()
    assert not crossing.journal.room.exists() and len(contents(bench.heron / "The Weir")) == 10


def test_without_that_room_it_stops_and_resumes_when_there_is_some(bench, mounted, library):
    disk = mounted("ext4", 32, "SMALL")
    bench.workspace.state = disk / "state"
    crossing = started(bench)
    crossing.journal.room.unlink()
    filler = disk / "other work.bin"
    with open(filler, "wb") as out, pytest.raises(OSError, match="No space left"):
        while True:
            out.write(bytes(1 << 12))
            out.flush()
    with pytest.raises(FascisError, match="needs room"):
        for _ in range(2000):  # the file of the journal may have some pages free
            crossing.journal.put("padding", "x" * 5000 + os.urandom(8).hex())
            crossing.run()
            crossing.journal.put(f"padding {os.urandom(8).hex()}", "x" * 5000)
    before = contents(library)
    filler.unlink()
    assert crossing.run() is State.SETTLED and contents(
        bench.heron / "The Weir"
    ) == before == contents(library)


@pytest.mark.skipif(not shutil.which("udisksctl"), reason="needs the UDisks2 service")
@pytest.mark.parametrize("filesystem", ["ext4", "ntfs"])
def test_the_service_mounts_again_and_removes(bench, tmp_path, filesystem):
    """The real service, where it runs.

    A drive that it has mounted is mounted again, read, and removed safely.
    """
    image = tmp_path / "drive.img"
    with open(image, "wb") as out:
        out.truncate(80 << 20)
    make = {
        "ext4": ["mkfs.ext4", "-qF", "-L", "EGRET"],
        "ntfs": ["mkfs.ntfs", "-FQ", "-L", "EGRET"],
    }[filesystem]
    make_file_system(make, image)
    loop = subprocess.run(
        ["losetup", "-f", "--show", image], check=True, capture_output=True, text=True
    ).stdout.strip()
    try:
        for _ in range(
            20
        ):  # the service hears of a device a little later, and not at all where it does not run
            words = ["udisksctl", "mount", "--no-user-interaction", "-b", loop]
            done = subprocess.run(words, capture_output=True, text=True)
            if (
                "not a mountable" not in done.stderr
                and "looking up object" not in done.stderr.lower()
            ):
                break
            time.sleep(0.1)
        if done.returncode:
            pytest.skip(f"the service does not mount here: {done.stderr}")
        where = next(d.mount for d in Drives().connected() if d.label == "EGRET")
        assert mounted_by_service(where)
        crossing = started(real(bench), to=where) if bench.fill({"a.mov": 5_000_000}) else None
        assert crossing.run() is State.SETTLED and crossing.copies.proven()
        drive = Drives().at(where)
        assert mount_again(drive.device, drive.mount) == where
        assert contents(where / "The Weir") == contents(bench.library)
        remove_safely(drive)
        assert not os.path.ismount(where) and len(contents(bench.library)) == 1
    finally:
        subprocess.run(["umount", loop], capture_output=True)
        subprocess.run(["losetup", "-d", loop], capture_output=True)
