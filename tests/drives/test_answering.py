"""A drive whose driver is halted is left out, and nothing waits for it."""

import os
import signal
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from fascis.drives.connected import Drives
from fascis.drives.system import answering
from fascis.drives.system.answering import space_of
from fascis.files.errors import EnvironmentTrouble
from tests.clock import within


def driver_of(where):
    """The process id of the user-space driver of a mount."""
    for process in Path("/proc").glob("[0-9]*"):
        try:
            words = (process / "cmdline").read_bytes()
        except FileNotFoundError:
            # It ended meanwhile.
            continue
        if os.fsencode(where) in words and b"exfat" in words:
            return int(process.name)
    raise AssertionError("no driver")


def test_a_folder_answers_and_a_file_does_not(tmp_path):
    (tmp_path / "a").write_text("x")
    for may_hang in (True, False):
        assert space_of(str(tmp_path), may_hang).f_blocks > 0
        assert (
            space_of(str(tmp_path / "a"), may_hang) is None
            and space_of(str(tmp_path / "none"), may_hang) is None
        )


def test_whoever_asks_while_another_does_waits_for_the_same_answer(tmp_path, monkeypatch):
    """The window and a crossing ask at the same moment: the drive answers, to both."""
    slowly = lambda where: time.sleep(0.2) or os.statvfs(where)  # noqa: E731
    monkeypatch.setattr(answering, "_ask", slowly)
    with ThreadPoolExecutor(8) as pool:
        answers = list(pool.map(lambda _: space_of(str(tmp_path), True), range(8)))
    assert all(answer.f_blocks > 0 for answer in answers)


@pytest.mark.lab
def test_a_halted_driver_is_not_waited_for(mounted):
    where = mounted("exfat", 64)
    there = lambda: [d for d in Drives().connected() if d.mount == where]  # noqa: E731
    assert len(there()) == 1
    driver, before = driver_of(where), threading.active_count()
    os.kill(driver, signal.SIGSTOP)
    try:
        begun = time.monotonic()
        for _ in range(3):  # Asked once; then known to hang.
            (drive,) = there()
            assert drive.silent and not drive.connected and drive.label == "HERON"
        assert threading.active_count() <= before + 1
        within(begun, 4)
    finally:
        os.kill(driver, signal.SIGCONT)
    until = time.monotonic() + 5
    while there()[0].silent and time.monotonic() < until:
        time.sleep(0.05)
    assert there()[0].connected


@pytest.mark.lab
def test_a_driver_that_died_is_gone_and_does_not_hang(mounted):
    where = mounted("exfat", 64)
    os.kill(driver_of(where), signal.SIGKILL)
    until = time.monotonic() + 5
    while (
        any(d.connected for d in Drives().connected() if d.mount == where)
        and time.monotonic() < until
    ):
        time.sleep(0.05)
    assert not [d for d in Drives().connected() if d.mount == where and (d.connected or d.silent)]
    with pytest.raises(EnvironmentTrouble):
        Drives().open(where)
