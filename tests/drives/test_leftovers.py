"""Folders of our own on a drive: what a killed program left is cleared, and nothing else is."""

import fcntl
import os
import signal
import subprocess
import sys
from contextlib import closing

import pytest

from fascis.drives.asking import ask
from fascis.drives.care.measuring import measure
from fascis.drives.leftovers import ASKS, clear_leftovers, own_folder
from tests.crossing.ways import settled
from tests.judge import contents

LEFT = ".fascis-asks-0a1b2c3d"


class Killed(BaseException):
    """Not caught by anything, as a kill is not."""


@pytest.fixture
def medium(bench):
    with closing(bench.workspace.drives.open(bench.heron)) as opened:
        yield opened


def left(bench, name=LEFT):
    """Leftovers of a program killed during a test, and files that are not ours."""
    folder = bench.heron / name
    folder.mkdir()
    (folder / "Case").touch()
    (folder / "a?b").touch()
    return folder


def test_what_a_killed_program_left_is_cleared_by_the_next_that_asks(bench, medium):
    folder = left(bench)
    outside = bench.heron / "Weir"
    outside.mkdir()
    (outside / "empty.mov").touch()
    (folder / "second").symlink_to(outside / "empty.mov")
    assert ask(medium) is not None
    assert (
        sorted(p.name for p in bench.heron.iterdir()) == ["Weir", "stand-in.json"]
        and (outside / "empty.mov").exists()
    )


def test_what_is_not_ours_stays_and_with_it_its_folder(bench, medium):
    folder = left(bench)
    (folder / "take.mov").write_bytes(b"somebody's")
    (folder / "inner").mkdir()
    others = [
        ".fascis-asks-zzzzzzzz",
        ".fascis-asks-0a1b2c3d4",
        ".fascis-measures",
        ".fascis-crossing-0a1b2c3d",
        "fascis-asks-0a1b2c3d",
    ]
    for name in others:
        left(bench, name)
    link = bench.heron / ".fascis-asks-11111111"
    link.symlink_to(left(bench, "mine"))
    clear_leftovers(medium)
    assert (folder / "take.mov").read_bytes() == b"somebody's" and (folder / "inner").is_dir()
    for name in [*others, "mine"]:
        assert sorted(p.name for p in (bench.heron / name).iterdir()) == ["Case", "a?b"], name
    assert link.is_symlink()


def test_one_that_another_program_uses_is_left_to_it(bench, medium):
    folder = left(bench)
    fd = os.open(folder, os.O_RDONLY)
    fcntl.flock(fd, fcntl.LOCK_EX)
    clear_leftovers(medium)
    assert (folder / "Case").exists()
    os.close(fd)
    clear_leftovers(medium)
    assert not folder.exists()


def test_a_folder_of_our_own_goes_even_when_what_is_done_in_it_fails(bench, medium):
    with pytest.raises(Killed), own_folder(medium, ASKS) as folder:
        (bench.heron / os.fsdecode(folder) / "time").touch()
        raise Killed
    assert [p.name for p in bench.heron.iterdir()] == ["stand-in.json"]


def test_a_measurement_that_was_killed_leaves_nothing_after_the_next(bench):
    folder = bench.heron / ".fascis-measures-0a1b2c3d"
    folder.mkdir()
    (folder / "measure").write_bytes(b"x" * 100_000)
    (bench.heron / "measure").write_bytes(b"somebody's")
    drives = bench.workspace.drives
    measure(drives, drives.at(bench.heron))
    assert not folder.exists() and (bench.heron / "measure").read_bytes() == b"somebody's"


def test_a_crossing_that_arrives_leaves_nothing_of_it_either(bench, library):
    folder, before = left(bench), contents(library)
    crossing = settled(bench)
    crossing.close()
    assert not folder.exists() and contents(bench.heron / "The Weir") == before == contents(library)
    assert sorted(p.name for p in bench.heron.iterdir()) == ["The Weir", "stand-in.json"]


def test_killed_for_real_while_it_tests(bench):
    code = (
        "import sys, time; from pathlib import Path; from fascis.drives.connected import Drives; "
        "import fascis.drives.asking as a;"
        "a._Probe._granularity = lambda self: (print('asks', flush=True), time.sleep(60));"
        "a.ask(Drives(Path(sys.argv[1]), real=False).open(Path(sys.argv[2])))"
    )
    words = [sys.executable, "-c", code, str(bench.drives), str(bench.heron)]
    with subprocess.Popen(words, stdout=subprocess.PIPE) as program:
        program.stdout.readline()
        assert list(bench.heron.glob(".fascis-asks-*"))
        with closing(bench.workspace.drives.open(bench.heron)) as medium:
            clear_leftovers(medium)
            assert list(bench.heron.glob(".fascis-asks-*"))  # it is in use
            program.send_signal(signal.SIGKILL)
            program.wait()
            clear_leftovers(medium)
    assert [p.name for p in bench.heron.iterdir()] == ["stand-in.json"]
