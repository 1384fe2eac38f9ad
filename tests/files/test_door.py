"""The door for deleting.

Only there, and only what was proven, whatever a second thread does between any two system calls.
"""

import ast
import os
import shutil
import threading
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import fascis
from fascis.files.disk import door
from fascis.files.disk.door import Changed, Proven
from fascis.files.disk.medium import PosixMedium
from tests.conftest import usual
from tests.crossing.ways import settled
from tests.judge import contents
from tests.thorough import EVERY

SOURCE = Path(fascis.__file__).parent
CALLS = {"unlink", "rmdir", "remove", "removedirs", "rmtree"}


def removals(path):
    """Every call by one of these names, but for those of lists and sets.

    What could remove a name from a drive.
    """
    text = path.read_text()
    if not any(name in text for name in CALLS):
        return
    for node in ast.walk(ast.parse(text)):
        if (
            isinstance(node, ast.Call)
            and isinstance(node.func, ast.Attribute)
            and node.func.attr in CALLS
        ):
            on = ast.unparse(node.func.value)
            through_a_medium = (
                node.func.attr == "unlink" and len(node.args) == 2 and not node.keywords
            )
            of_a_list = node.func.attr == "remove" and on != "os"
            if not (through_a_medium or of_a_list):
                yield f"{path.relative_to(SOURCE)}: {on}.{node.func.attr}"


def test_nothing_is_removed_but_through_the_door():
    found = {line for path in SOURCE.rglob("*.py") for line in removals(path)}
    assert found == {
        "files/disk/door.py: os.unlink",
        "files/disk/door.py: os.rmdir",
        "files/disk/door.py: path.unlink",
    }


def test_what_looks_for_removals_finds_them(tmp_path, monkeypatch):
    monkeypatch.setattr("tests.files.test_door.SOURCE", tmp_path)
    (tmp_path / "x.py").write_text(
        "import os, shutil\nos.remove('a')\nshutil.rmtree('b')\nPath('c').unlink()\nm.unlink(p, "
        "q)\n"
    )
    assert len(list(removals(tmp_path / "x.py"))) == 3


# -- somebody acts between any two system calls ----------------------------------------------------


def edit(folder, _away):
    with open(folder / "a.mov", "r+b") as out:
        out.write(b"edit")


def edit_and_keep_the_time(folder, away):
    s = (folder / "a.mov").stat()
    edit(folder, away)
    os.utime(folder / "a.mov", ns=(s.st_atime_ns, s.st_mtime_ns))


def replace(folder, _away):
    (folder / "b.mov").write_bytes(b"somebody's own")
    os.rename(folder / "b.mov", folder / "a.mov")


def swap_for_a_link(folder, away):
    os.rename(folder / "a.mov", folder / "b.mov")
    (folder / "a.mov").symlink_to(away / "theirs.mov")


def move_the_folder_out(folder, away):
    os.rename(folder, away / "moved")


def move_out_and_put_another(folder, away):
    move_the_folder_out(folder, away)
    folder.mkdir()
    (folder / "a.mov").write_bytes(b"somebody's own")


def link_in_the_place_of_the_folder(folder, away):
    move_the_folder_out(folder, away)
    folder.symlink_to(away)
    (away / "a.mov").write_bytes(b"theirs")


def make_a_folder_of_it(folder, _away):
    os.rename(folder / "a.mov", folder / "b.mov")
    (folder / "a.mov").mkdir()


ACTS = [
    edit, edit_and_keep_the_time, replace, swap_for_a_link, move_the_folder_out,
    move_out_and_put_another, link_in_the_place_of_the_folder,
    make_a_folder_of_it,
]  # fmt: skip


class Watched:
    """A module whose functions let another thread act before the call with a number."""

    def __init__(self, inner, before):
        self._inner, self._before = inner, before

    def __getattr__(self, name):
        found = getattr(self._inner, name)
        if not callable(found) or isinstance(found, type):
            return found

        def call(*arguments, **more):
            self._before(name)
            return found(*arguments, **more)

        return call


def bytes_of(*folders):
    return sorted(
        p.read_bytes()
        for folder in folders
        for p in Path(folder).rglob("*")
        if p.is_file() and not p.is_symlink()
    )


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(act=st.sampled_from(ACTS), at=st.integers(0, 12), parked=st.booleans())
def test_whatever_happens_between_two_calls_only_what_was_proven_goes(
    tmp_path_factory, act, at, parked
):
    """Every act at every call of the door up to its last look.

    What is deleted had the content that was proven, and lay below.
    """
    top = tmp_path_factory.mktemp("door")
    library, away = top / "library", top / "away"
    folder = library / "media" / "day" if parked else library / "media"
    folder.mkdir(parents=True)
    away.mkdir()
    (folder / "a.mov").write_bytes(b"proven")
    (away / "theirs.mov").write_bytes(b"theirs")
    calls = []

    def before(name):
        calls.append(name)
        if len(calls) - 1 == at and "unlink" not in calls:
            somebody = threading.Thread(target=act, args=(folder, away))
            somebody.start()
            somebody.join()
            calls.append("acted")

    medium = PosixMedium.at(library)
    proven = Proven.by((folder / "a.mov").stat())
    os_, kernel_ = door.os, door.kernel
    door.os, door.kernel = Watched(os_, before), Watched(kernel_, before)
    try:
        medium.unlink(os.fsencode((folder / "a.mov").relative_to(library)), proven)
        went = True
    except OSError:
        went = False
    finally:
        door.os, door.kernel = os_, kernel_
        medium.close()
    kept = bytes_of(library, away)
    last_look = calls.index("stat") if "stat" in calls else len(calls)
    acted = "acted" in calls and calls.index("acted") < last_look
    assert b"theirs" in kept
    if acted:  # before the file was looked at: nothing of anybody may be gone
        assert not went, (act.__name__, calls)
        assert len(kept) >= 2, (act.__name__, calls, kept)
        assert kept.count(b"somebody's own") == (act in (replace, move_out_and_put_another))
    elif "acted" not in calls:
        assert went and kept == [b"theirs"]
    shutil.rmtree(top)


def test_a_folder_that_is_moved_out_between_the_look_and_the_unlink_is_noticed(
    tmp_path, monkeypatch
):
    library, away = tmp_path / "library", tmp_path / "away"
    (library / "media").mkdir(parents=True)
    (library / "media/a.mov").write_bytes(b"one")
    proven = Proven.by((library / "media/a.mov").stat())
    good = door._must_be_below

    def moved(root, above, folder):
        (library / "media").rename(away)
        (library / "media").mkdir()
        good(root, above, folder)

    monkeypatch.setattr(door, "_must_be_below", moved)
    medium = PosixMedium.at(library)
    with pytest.raises(Changed):
        medium.unlink(b"media/a.mov", proven)
    medium.close()
    assert (away / "a.mov").read_bytes() == b"one"


class Acting:
    """A medium that lets somebody act before each of its calls."""

    def __init__(self, inner, before):
        self._inner, self._before = inner, before

    def __getattr__(self, name):
        found = getattr(self._inner, name)
        if not callable(found):
            return found

        def call(*arguments, **more):
            self._before(name, arguments)
            return found(*arguments, **more)

        return call


class ActingDrives:
    """Drives whose media do."""

    def __init__(self, inner, before):
        self._inner, self._before = inner, before

    def __getattr__(self, name):
        return getattr(self._inner, name)

    def open(self, path):
        return Acting(self._inner.open(path), self._before)


def written_elsewhere(path):
    path.with_name("new").write_bytes(b"the newest work")
    os.rename(path.with_name("new"), path)


def overwritten(path):
    s = path.stat()
    fd = os.open(
        path, os.O_WRONLY | os.O_NONBLOCK
    )  # a program that does not wait for a lease to end
    try:
        os.write(fd, b"the newest work")
    finally:
        os.close(fd)
    os.utime(path, ns=(s.st_atime_ns, s.st_mtime_ns))


@pytest.mark.parametrize("way", [written_elsewhere, overwritten])
def test_work_at_any_call_of_a_release_is_never_deleted(bench, library, way):
    """At each call of a medium that a release makes, once.

    The newest work is where it was written, or could not be written.
    """
    before = contents(library)
    at = 0
    while True:
        bench.again()
        crossing = settled(bench)
        crossing.switch()
        calls = [0]
        done = []

        def act(name, arguments, calls=calls, done=done, crossing=crossing, at=at):
            calls[0] += 1
            if calls[0] != at + 1 or done:
                return
            for top in (crossing.places.source, crossing.places.parked_path):
                path = top / "media/Day 02/salmon.wav"
                if path.exists():
                    try:
                        way(path)
                    except BlockingIOError:
                        done.append(None)  # it is held while it goes, and could not be written
                        return
                    done.append(path)

        crossing.workspace.drives = ActingDrives(crossing.workspace.drives, act)
        try:
            crossing.release()
        except Exception as refused:
            assert "Traceback" not in str(refused)
        found = [p.read_bytes()[:15] for p in (bench.drives / "inside").rglob("salmon.wav")]
        if done and done[0]:
            assert found == [b"the newest work"], (at, way.__name__)
        there = contents(crossing.places.target)
        assert {p: there[p] for p in before} == before
        crossing.close()
        if calls[0] <= at:
            return
        at += 1 if EVERY else max(1, calls[0] // 6)
        shutil.rmtree(bench.heron / "The Weir")
        for folder in (bench.drives / "inside").glob("The Weir*"):
            shutil.rmtree(folder)
        shutil.rmtree(bench.root / "state")
        usual(bench)
        before = contents(library)
