"""One contract for every medium.

The mounted one and the stand-in, on each kind of file system it plays.
"""

import os

import pytest

from fascis.drives.rules import rules_of
from fascis.files.disk.medium import PosixMedium, remove_own
from tests.forgetful import ForgetfulDrive, ForgetfulMedium


@pytest.fixture(params=["posix", "forgetful", "ext4", "exfat", "vfat", "ntfs"])
def medium(request, bench):
    if request.param in ("posix", "forgetful"):
        folder = bench.root / "plain"
        folder.mkdir()
        opened = PosixMedium.at(folder)
        if request.param == "forgetful":
            opened = ForgetfulMedium(opened, ForgetfulDrive(folder, bench.root / "safe"), folder)
    else:
        folder = bench.add_drive("played", request.param)
        bench.again()
        opened = bench.workspace.drives.open(folder)
    opened.kind, opened.folder = request.param, folder
    yield opened
    opened.close()


def put(medium, place, content):
    file = medium.create(place)
    file.write(memoryview(content))
    file.flush()
    file.close()


def read(medium, place):
    file, out = medium.open(place), bytearray(1 << 16)
    count = file.readinto(out)
    file.close()
    return bytes(out[:count])


def test_what_is_written_is_read(medium):
    medium.make_folder(b"media")
    put(medium, b"media/a.mov", b"breach")
    assert (
        read(medium, b"media/a.mov") == b"breach"
        and medium.exists(b"media/a.mov")
        and not medium.exists(b"media/b.mov")
    )
    assert medium.names(b"media") == [b"a.mov"] and medium.status(b"media/a.mov").st_size == 6


def test_creating_what_exists_is_refused_and_keeps_it(medium):
    put(medium, b"a.mov", b"first")
    with pytest.raises(FileExistsError):
        medium.create(b"a.mov")
    with pytest.raises(FileExistsError):
        medium.make_folder(b"a.mov")
    assert read(medium, b"a.mov") == b"first"


def test_renaming_refuses_or_keeps(medium):
    put(medium, b"a.mov", b"a")
    put(medium, b"b.mov", b"b")
    with pytest.raises(OSError):  # noqa: B017, PT011 - EEXIST, or EINVAL where it cannot be promised
        medium.rename_new(b"a.mov", b"b.mov")
    with pytest.raises(FileExistsError):
        medium.move_into_claimed(b"a.mov", b"b.mov")
    assert (read(medium, b"a.mov"), read(medium, b"b.mov")) == (b"a", b"b")


def test_only_empty_folders_are_removed(medium):
    medium.make_folder(b"full")
    put(medium, b"full/x", b"1")
    with pytest.raises(OSError, match="not empty"):
        medium.remove_folder(b"full")
    remove_own(medium, b"full/x")
    medium.remove_folder(b"full")
    assert not medium.exists(b"full")


def test_unlinking_never_takes_a_folder(medium):
    medium.make_folder(b"folder")
    with pytest.raises(OSError, match="directory"):
        remove_own(medium, b"folder")
    assert medium.exists(b"folder")


def test_names_follow_the_rules_of_the_file_system(medium):
    if medium.kind in ("posix", "forgetful") or not rules_of(medium.kind).reserved:
        put(medium, b"what?.mov", b"1")
        return
    with pytest.raises(OSError, match="Invalid argument"):
        medium.create(b"what?.mov")
    assert not os.path.exists(medium.folder / "what?.mov")


def test_case_is_folded_where_it_is(medium):
    put(medium, b"a.jpg", b"1")
    if medium.kind in ("exfat", "vfat", "ntfs"):
        with pytest.raises(FileExistsError):
            medium.create(b"A.JPG")
    else:
        put(medium, b"A.JPG", b"2")
        assert read(medium, b"A.JPG") == b"2"
    assert read(medium, b"a.jpg") == b"1"


def test_links_where_there_are_links(medium):
    put(medium, b"a.jpg", b"1")
    if medium.kind in ("exfat", "vfat"):
        for work in (
            lambda: medium.make_link(b"a.jpg", b"l"),
            lambda: medium.hard_link(b"a.jpg", b"l"),
        ):
            with pytest.raises(PermissionError):
                work()
        assert not medium.exists(b"l")
    else:
        medium.make_link(b"a.jpg", b"l")
        medium.hard_link(b"a.jpg", b"h")
        assert medium.read_link(b"l") == b"a.jpg" and medium.status(b"h").st_nlink == 2


def test_holes_are_reported(medium):
    file = medium.create(b"sparse")
    file.skip_to(4 << 20)
    file.write(memoryview(b"sound"))
    file.set_size(8 << 20)
    ranges = file.data_ranges()
    file.close()
    assert (
        ranges
        and ranges[0][0] <= 4 << 20 < ranges[0][1]
        and medium.status(b"sparse").st_size == 8 << 20
    )


def test_space_is_measured(medium):
    capacity, free = medium.space()
    assert capacity >= free > 0
    medium.sync()
    medium.sync_folder(b"")


def test_what_was_flushed_outlives_a_power_loss_and_only_that(bench):
    folder = bench.root / "plain"
    folder.mkdir()
    drive = ForgetfulDrive(folder, bench.root / "safe")
    medium = ForgetfulMedium(PosixMedium.at(folder), drive, folder)
    put(medium, b"a.mov", b"breach")
    medium.sync()
    medium.rename_new(b"a.mov", b"b.mov")
    put(medium, b"c.mov", b"herons")
    drive.lose_power()
    assert sorted(medium.names(b"")) == [b"a.mov"] and read(medium, b"a.mov") == b"breach"
    medium.rename_new(b"a.mov", b"b.mov")
    put(medium, b"c.mov", b"herons")
    medium.sync_folder(b"")
    drive.lose_power()
    assert sorted(medium.names(b"")) == [b"b.mov", b"c.mov"] and read(medium, b"c.mov") == b"herons"
    medium.close()
