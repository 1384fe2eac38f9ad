"""Rule 8: verified means read back from the drive itself.

If that is not proven, it is reported, and a release waits.
"""

import json
import os
import secrets
import subprocess
from contextlib import closing
from pathlib import Path

import pytest
from msgspec.structs import replace

from fascis.crossing.copying.proof import Proof
from fascis.crossing.model.events import Advanced
from fascis.crossing.model.states import State
from fascis.crossing.status.queue import find_crossing
from fascis.crossing.status.report import crossing_object
from fascis.crossing.status.scales import weigh
from fascis.drives.connected import Drives
from fascis.drives.system.device import Device
from fascis.drives.system.udisks import mount_again, mounted_by_service
from fascis.files.disk.medium import PosixMedium
from fascis.files.errors import DriveGone, Refused
from tests.crossing.ways import plan_of, started
from tests.judge import contents, one_whole_copy


def real(bench):
    """The bench with this machine's real drives beside its stand-ins."""
    bench.workspace = replace(
        bench.workspace, drives=Drives(bench.drives, real=True, step=lambda n: bench.step(n))
    )
    return bench


def flip(image, marks):
    """Flips a bit after each mark in an image, as a failing drive does.

    Gives how many marks were found.
    """
    subprocess.run(["sync", str(image)], check=True)
    data, found = image.read_bytes(), 0
    with open(image, "r+b") as out:
        for mark in marks:
            at = data.find(mark)
            found += at >= 0
            while at >= 0:
                out.seek(at + len(mark))
                out.write(bytes([data[at + len(mark)] ^ 1]))
                at = data.find(mark, at + 1)
        os.fsync(out.fileno())
    return found


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["ext4", "btrfs", "exfat", "ntfs"])
def test_bytes_flipped_on_the_drive_between_flush_and_read_back_are_never_called_verified(
    bench, mounted, filesystem
):
    where = mounted(filesystem, 130 if filesystem == "btrfs" else 60)
    marks = [secrets.token_bytes(48) for _ in range(4)]
    sizes = (5_000, 70_000, 2_000_000, 9_000_000)
    bench.fill(
        {
            f"m{i}.mov": m + os.urandom(n - 48)
            for i, (m, n) in enumerate(zip(marks, sizes, strict=True))
        }
    )
    flipped = []

    def step(name):
        if name == "after journal copies" and not flipped:
            flipped.append(flip(where.parent / "HERON.img", marks))

    bench.step = step
    crossing = started(real(bench), to=where)
    assert crossing.run() is State.SETTLED and flipped == [4]
    again = {
        p
        for p, _, m, _ in crossing.journal.attentions()
        if "read back wrong once, copied again" in m
    }
    assert again == {b"m0.mov", b"m1.mov", b"m2.mov", b"m3.mov"}
    assert crossing.copies.proven() and contents(where / "The Weir") == contents(bench.library)


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["exfat", "ntfs"])
def test_a_user_space_driver_whose_device_cannot_be_opened_is_only_compared(
    bench, mounted, filesystem, monkeypatch
):
    where = mounted(filesystem, 220)
    bench.fill({"a.mov": 6_000_000, "b.jpg": 9_000})
    monkeypatch.setattr(Device, "_by_name", lambda self: None)
    opening = os.open
    monkeypatch.setattr(
        os,
        "open",
        lambda p, *a, **k: opening("/nowhere" if str(p).startswith("/dev/block") else p, *a, **k),
    )
    crossing = started(real(bench), to=where)
    assert crossing.run() is State.SETTLED and not crossing.copies.proven()
    crossing.looked()
    crossing.switch()
    with pytest.raises(Refused, match=r"Remove HERON safely, connect it again"):
        crossing.release()
    assert len(contents(bench.library)) == 2
    mounted.unmount(where)
    mounted.mount(where.parent / "HERON.img", where, filesystem)
    record = (
        crossing.release()
    )  # nothing of it is in memory now: reading it proves it, and only then is deleted
    assert record["files"] == 2 and crossing.copies.proven() and not bench.library.exists()
    assert len(contents(where / "The Weir")) == 2


@pytest.mark.lab
def test_the_device_counts_what_is_read_from_it(mounted):
    where = mounted("ext4", 64)
    drive = Drives().at(where)
    (where / "a").write_bytes(os.urandom(3_000_000))
    os.sync()
    with closing(Proof(drive)) as proof:
        for drop in (False, True):
            medium = PosixMedium.at(where)
            file = medium.open(b"a")
            gone = file.drop_cached() if drop else False
            proof.begin()
            while file.readinto(bytearray(1 << 20)):
                pass
            assert (proof.holds(3_000_000), proof.proves(gone)) == (drop, drop)
            file.close()
            medium.close()


@pytest.fixture
def forgetful(bench, library):
    """A crossing to a stand-in whose driver answers from memory."""
    bench.add_drive("stick", "exfat", answers_from_memory=True)
    bench.again()
    crossing = started(bench, to=bench.drives / "stick")
    assert crossing.run() is State.SETTLED
    return crossing


def connect(bench, name, connected):
    path = bench.drives / name / "stand-in.json"
    path.write_text(json.dumps({**json.loads(path.read_text()), "connected": connected}))
    bench.workspace.drives.connected()


def test_compared_is_said_everywhere_and_release_waits_for_a_reconnection(
    bench, library, forgetful
):
    record = crossing_object(forgetful)
    assert record["state"] == "settled" and record["destinations"][0]["proven"] is False
    names = [c.name for c in weigh(forgetful).checks]
    assert (
        "Contents, read back, perhaps from memory" in names
        and "Contents, read back from the drive" not in names
    )
    page = (forgetful.places.target / f".fascis/receipts/{forgetful.id}.html").read_text()
    assert "perhaps from memory" in page
    forgetful.switch()
    with pytest.raises(Refused, match="perhaps from memory") as refused:
        forgetful.release()
    assert refused.value.code == "not-proven" and len(contents(library)) == 10
    connect(bench, "stick", False)
    with pytest.raises(DriveGone):
        forgetful.release()
    assert len(contents(library)) == 10
    connect(bench, "stick", True)
    assert forgetful.release()["files"] == 10 and len(contents(forgetful.places.target)) == 10
    assert "Contents, read back from the drive" in [c.name for c in weigh(forgetful).checks]


def test_a_copy_that_was_wrong_all_along_is_found_at_the_reconnection(bench, library, forgetful):
    forgetful.switch()
    clip = forgetful.places.target / "media/Day 01/weir_01.mov"
    times, content = clip.stat(), bytearray(clip.read_bytes())
    content[1000] ^= 1
    clip.write_bytes(content)
    os.utime(clip, ns=(times.st_atime_ns, times.st_mtime_ns))
    connect(bench, "stick", False)
    connect(bench, "stick", True)
    original = contents(library)[b"media/Day 01/weir_01.mov"]
    record = forgetful.release()
    assert [(x["path"], x["why"]) for x in record["left_behind"]] == [
        ("media/Day 01/weir_01.mov", "copy-changed")
    ]
    assert (
        contents(library) == {b"media/Day 01/weir_01.mov": original}
        and len(contents(forgetful.places.target)) == 10
    )
    assert (
        "is not what was verified"
        in [m for p, _, m, _ in forgetful.journal.attentions() if p.endswith(b"weir_01.mov")][0]
    )


def test_a_copy_that_was_deleted_before_it_was_proven_keeps_its_original_and_no_other(
    bench, library, forgetful
):
    forgetful.switch()
    (forgetful.places.target / "stills/heron.jpg").unlink()
    connect(bench, "stick", False)
    connect(bench, "stick", True)
    record = forgetful.release()
    assert ("stills/heron.jpg", "copy-missing") in [
        (x["path"], x["why"]) for x in record["left_behind"]
    ]
    assert (library / "stills/heron.jpg").exists() and not (library / "media").exists()


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_a_drive_that_comes_back_at_another_place_resumes_there(bench, mounted, filesystem):
    where = mounted(filesystem, 220)
    bench.fill({f"d{i % 3}/{i:03d}.mov": 150_000 + i for i in range(60)})
    crossing = started(real(bench), to=where)
    before = contents(bench.library)

    def pulled(event):
        if isinstance(event, Advanced) and event.verified_files:
            raise DriveGone("the cable was pulled")

    with pytest.raises(DriveGone):
        crossing.run(report=pulled)
    mounted.unmount(where)
    where.chmod(0o700)
    with pytest.raises(DriveGone, match="HERON is away"):
        crossing.run()
    assert list(where.iterdir()) == [] and not one_whole_copy(
        before, bench.library.parent, where / "The Weir"
    )
    elsewhere = mounted.mount(where.parent / "HERON.img", where.parent / "elsewhere", filesystem)
    copied = []
    assert crossing.run(report=copied.append) is State.SETTLED
    assert (
        sum(e.copied_files for e in copied if isinstance(e, Advanced)) < 60
    )  # Verified copies are kept.
    assert (
        contents(elsewhere / "The Weir") == before
        and crossing.places.target == elsewhere / "The Weir"
    )
    assert list(where.iterdir()) == []
    again = find_crossing(bench.workspace, crossing.id)
    again.switch()
    assert bench.workspace.register.library_at(elsewhere / "The Weir")


def test_a_source_that_is_mounted_elsewhere_is_followed(bench, library):
    """Stand-ins too can be at another place: the folder is renamed."""
    crossing = started(bench)
    inside = bench.drives / "inside"
    inside.rename(bench.drives / "inside again")
    bench.workspace.drives.connected()
    assert crossing.run() is State.SETTLED
    moved = bench.drives / "inside again/The Weir"
    assert contents(crossing.places.target) == contents(moved) and crossing.places.source == moved


def test_flushing_one_by_one_flushes_every_file_and_every_folder(tmp_path, monkeypatch):
    flushed, real_fsync = [], os.fsync
    monkeypatch.setattr(
        os,
        "fsync",
        lambda fd: (flushed.append(os.readlink(f"/proc/self/fd/{fd}")), real_fsync(fd))[1],
    )
    medium = PosixMedium.at(tmp_path)
    medium.flushing(None, True)
    medium.make_folder(b"a")
    medium.make_folder(b"b")
    for place in (b"a/x", b"b/y"):
        file = medium.create(place)
        file.write(memoryview(b"weir"))
        file.close()
    assert flushed == [str(tmp_path / "a/x"), str(tmp_path / "b/y")]
    medium.rename_new(b"a/x", b"b/x")
    flushed.clear()
    medium.sync()
    assert set(flushed) == {str(tmp_path), str(tmp_path / "a"), str(tmp_path / "b")}
    flushed.clear()
    medium.sync()
    assert flushed == []  # nothing changed since
    medium.close()


def test_a_flush_that_fails_by_file_is_a_failed_copy(bench, library, monkeypatch):
    """A share that reports the failed write only when a file is flushed.

    Nothing of the batch counts as copied.
    """
    crossing = started(bench)
    broken, real_fsync = [True], os.fsync

    def fsync(fd):
        if (
            broken
            and "library" in os.readlink(f"/proc/self/fd/{fd}")
            and str(bench.heron) in os.readlink(f"/proc/self/fd/{fd}")
        ):
            raise OSError(5, "Input/output error")
        return real_fsync(fd)

    opening = bench.workspace.drives.open

    def open_one_by_one(path):
        medium = opening(path)
        if Path(path) == bench.heron:
            medium._inner.flushing(None, True)
        return medium

    monkeypatch.setattr(bench.workspace.drives, "open", open_one_by_one)
    monkeypatch.setattr(os, "fsync", fsync)
    with pytest.raises(DriveGone):
        crossing.run()
    assert crossing.copies.verified() == (0, 0) and crossing.copies.count_copies([1]) == 0
    broken.clear()
    assert crossing.run() is State.SETTLED and contents(crossing.places.target) == contents(library)


def test_only_drives_that_the_service_mounted_are_mounted_again(tmp_path):
    table = tmp_path / "utab"
    table.write_text(
        "SRC=/dev/sdb1 TARGET=/media/otter/Heron\\040A ROOT=/ OPTS=uhelper=udisks2\nSRC=/dev/sdc1 "
        "TARGET=/mnt/x OPTS=user\n"
    )
    assert mounted_by_service(Path("/media/otter/Heron A"), table)
    assert not mounted_by_service(Path("/mnt/x"), table) and not mounted_by_service(
        Path("/mnt/x"), tmp_path / "none"
    )
    assert mount_again("8:1", tmp_path) is None and mount_again("", tmp_path) is None


def test_a_plan_of_a_drive_known_by_uuid_needs_no_path(bench, library):
    plan = plan_of(bench)
    assert plan.destination_drive.uuid == "uuid-heron" and plan.source_drive.uuid == "uuid-inside"


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["exfat", "ntfs"])
def test_originals_on_a_drive_whose_inodes_identify_nothing_are_known_by_content(
    bench, mounted, filesystem
):
    """From a user-space drive, unmounted and mounted between, so that every inode differs."""
    where = mounted(filesystem, 220)
    real(bench)
    bench.library = where / "The Weir"
    bench.fill({f"d{i % 3}/{i:02d}.mov": 30_000 + i for i in range(12)})
    before = contents(bench.library)
    crossing = started(bench)
    assert crossing.run() is State.SETTLED and contents(bench.heron / "The Weir") == before
    crossing.switch()
    mounted.unmount(where)
    mounted.mount(where.parent / "HERON.img", where, filesystem)
    os.sync()
    Path("/proc/sys/vm/drop_caches").write_text("2")
    spoilt = bench.library / "d1/04.mov"
    times, content = spoilt.stat(), bytearray(spoilt.read_bytes())
    content[9] ^= 1
    spoilt.write_bytes(content)
    os.utime(
        spoilt, ns=(times.st_atime_ns, times.st_mtime_ns)
    )  # It looks the same; only its content shows the difference.
    record = crossing.release()
    assert [(x["path"], x["why"]) for x in record["left_behind"]] == [("d1/04.mov", "changed")]
    assert spoilt.read_bytes() == content and set(contents(bench.library)) == {b"d1/04.mov"}
    assert contents(bench.heron / "The Weir") == before and record["files"] == 11
