"""Searching folders: what counts, what is left out, and unreadable folders."""

import os
import threading
import time

import pytest

from fascis.files.errors import Cancelled, EnvironmentTrouble, FascisError
from fascis.relink import index as index_
from fascis.relink.index import key_of, look, look_in, merge
from tests.clock import within
from tests.library.making import write
from tests.stopping import StopsWhen


def paths(found, root):
    return sorted(os.path.relpath(os.fsdecode(found.path(r)), root) for r in range(len(found)))


def test_media_is_indexed_and_all_files_are_counted(tmp_path):
    for place in ("a/x.mov", "a/notes.txt", "b/c/Y.JPG", "b/cut.otio"):
        write(tmp_path / place, place.encode())
    found = look(tmp_path)
    assert paths(found, tmp_path) == ["a/x.mov", "b/c/Y.JPG", "b/cut.otio"] and found.files == 4
    row = next(r for r in range(3) if found.name(r) == b"x.mov")
    status = os.stat(tmp_path / "a/x.mov")
    assert (found.size[row], found.mtime_ns[row]) == (status.st_size, status.st_mtime_ns)
    assert key_of("É.mov".encode()) == key_of("e\u0301.MOV".encode()) != key_of(b"e.mov")


def test_links_loops_and_what_is_set_aside_are_left_out(tmp_path):
    write(tmp_path / "a/x.mov")
    write(tmp_path / "Lib (set aside 1a2b3c4d)/y.mov")
    write(tmp_path / ".fascis-crossing-1/z.mov")
    (tmp_path / "a/round").symlink_to(tmp_path, target_is_directory=True)
    (tmp_path / "a/l.mov").symlink_to("x.mov")
    os.mkfifo(tmp_path / "a/pipe.mov")
    assert paths(look(tmp_path), tmp_path) == ["a/x.mov"]


def test_names_of_any_bytes(tmp_path):
    raw = os.fsencode(tmp_path) + b"/\xff\xfe.mov"
    with open(raw, "wb") as file:
        file.write(b"1")
    found = look(tmp_path)
    assert found.path(0) == raw


@pytest.mark.parametrize("bad", ["gone", "file.mov"])
def test_a_folder_that_is_invalid_is_reported(tmp_path, bad):
    write(tmp_path / "file.mov")
    with pytest.raises(EnvironmentTrouble, match="Could not look in the folder .*" + bad):
        look(tmp_path / bad)


def test_a_folder_that_cannot_be_listed_is_reported_and_the_rest_counts(tmp_path, monkeypatch):
    write(tmp_path / "a/x.mov")
    write(tmp_path / "b/y.mov")
    real = os.scandir

    def scandir(path):
        if path.endswith(b"/b"):
            raise PermissionError(13, "no")
        return real(path)

    with monkeypatch.context() as patched:
        patched.setattr(index_.os, "scandir", scandir)
        found = look(tmp_path)
    assert paths(found, tmp_path) == ["a/x.mov"] and "not permitted" in str(found.troubles[0])


def test_a_drive_that_does_not_answer_is_left_within_a_second(tmp_path, monkeypatch):
    held = threading.Event()
    with monkeypatch.context() as patched:
        patched.setattr(index_.os, "scandir", lambda _path: held.wait(20))
        begun = time.monotonic()
        with pytest.raises(Cancelled, match="was stopped; nothing was changed"):
            look(tmp_path, control=StopsWhen(lambda: time.monotonic() - begun > 0.2))
        within(begun, 1)
    held.set()


def test_indexes_are_joined_and_one_inside_another_counts_once(tmp_path):
    write(tmp_path / "a/x.mov", b"1")
    write(tmp_path / "a/deep/y.mov", b"22")
    write(tmp_path / "b/z.mov", b"333")
    seen = []
    found = look_in(
        [tmp_path / "a/deep", tmp_path / "a", tmp_path / "b", tmp_path / "b"], seen.append
    )
    assert paths(found, tmp_path) == ["a/deep/y.mov", "a/x.mov", "b/z.mov"]
    assert sorted(found.size.tolist()) == [1, 2, 3] and seen[-1] >= 3
    assert merge([look(tmp_path / "b")]).files == 1
    with pytest.raises(FascisError, match="No folder to look in"):
        look_in([])
