"""Power loss step by step, on a drive that keeps exactly what was flushed.

Rule 1 each time, and it arrives.
"""

from contextlib import suppress

import pytest

from fascis.crossing.arrival import destination as destination_module
from fascis.crossing.model.afterwards import After
from fascis.files.errors import FascisError
from tests.conftest import Bench
from tests.crossing.test_crash_points import Killed, Killer
from tests.crossing.ways import goes_on_to_the_end, started
from tests.forgetful import ForgetfulDrive, ForgetfulDrives
from tests.judge import contents, one_whole_copy
from tests.thorough import STRIDE

FILES = {"a/one.mov": 30_000, "a/two.wav": b"", "b/three.jpg": 900}


def make(root, filesystem):
    bench = Bench(root)
    bench.to = bench.add_drive("far", filesystem)
    bench.fill(FILES)
    bench.drive = ForgetfulDrive(bench.to, root / "safe")
    return again(bench)


def again(bench):
    bench.again()
    bench.workspace.drives = ForgetfulDrives(bench.workspace.drives, bench.drive)
    return bench


def whole_way(bench):
    crossing = started(bench, After.RELEASE, to=bench.to)
    try:
        crossing.run()
        crossing.advance(consent=True)
    finally:
        crossing.close()


@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_power_loss_at_every_step(tmp_path, filesystem, monkeypatch):
    rehearsal = make(tmp_path / "rehearsal", filesystem)
    rehearsal.step = counter = Killer(10**9)
    whole_way(rehearsal)
    first = {"ext4": 0, "exfat": 1}[filesystem] % STRIDE
    for point in range(first, counter.passed, STRIDE):
        bench = make(tmp_path / f"at {point}", filesystem)
        before = contents(bench.library)
        bench.step = Killer(point)
        with pytest.raises(Killed):
            whole_way(bench)
        bench.drive.lose_power()
        assert one_whole_copy(before, bench.library.parent, bench.to / "The Weir") == [], point
        bench.step = lambda _n: None
        monkeypatch.setattr(destination_module, "boot_id", lambda p=point: f"start {p}")
        goes_on_to_the_end(again(bench), before, bench.to)
    assert counter.passed > 60


def test_a_flush_that_is_left_out_is_noticed(tmp_path):
    """The drive of these tests really forgets: without flushing, copied files are gone."""
    bench = make(tmp_path / "x", "ext4")
    bench.drive.sync = lambda: None
    before = contents(bench.library)
    with suppress(FascisError, Killed):
        whole_way(bench)
    bench.drive.lose_power()
    assert one_whole_copy(before, bench.library.parent, bench.to / "The Weir") != []
