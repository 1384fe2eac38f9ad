"""Rule 1 at every point where the program can be killed, and a resume always finishes."""

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.status.queue import find_crossing, unfinished
from tests.conftest import Bench
from tests.crossing.ways import goes_on_to_the_end, plan_of
from tests.judge import contents, one_whole_copy
from tests.thorough import STRIDE

FILES = {"a/one.mov": 30_000, "a/two.wav": b"", "b/three.jpg": 900, "previews/p.jpg": 50}


class Killed(BaseException):
    """The process ends here."""


class Killer:
    """Lets ``lives`` steps pass; from then on everything is dead."""

    def __init__(self, lives):
        self.left, self.passed = lives, 0

    def __call__(self, _name):
        if self.left <= 0:
            raise Killed
        self.left -= 1
        self.passed += 1


def whole_way(bench):
    crossing = Crossing.start(
        bench.workspace, plan_of(bench, After.RELEASE, to=bench.to), decided=True, consent=True
    )
    try:
        crossing.run()
        crossing.advance(consent=True)
    finally:
        crossing.close()


def make(root, filesystem):
    bench = Bench(root)
    bench.to = bench.add_drive("far", filesystem)
    bench.fill(FILES)
    (bench.library / "c").mkdir()
    return bench


def walk(tmp_path, filesystem, stride):
    rehearsal = make(tmp_path / "rehearsal", filesystem)
    rehearsal.step = counter = Killer(10**9)
    whole_way(rehearsal)
    points = range(0, counter.passed, stride)
    for point in points:
        bench = make(tmp_path / f"at {point}", filesystem)
        before = contents(bench.library)
        bench.step = Killer(point)
        with pytest.raises(Killed):
            whole_way(bench)
        target = bench.to / "The Weir"
        assert one_whole_copy(before, bench.library.parent, target) == [], point
        bench.step = lambda _n: None
        bench.again()
        goes_on_to_the_end(bench, before, bench.to)
        assert one_whole_copy(before, bench.library.parent, target) == [], point
    return len(points)


def test_every_point_on_a_drive_that_renames(tmp_path):
    stride = max(1, STRIDE // 2)
    assert walk(tmp_path, "ext4", stride) > 60 // stride


def test_points_on_a_drive_that_must_be_claimed(tmp_path):
    assert walk(tmp_path, "exfat", STRIDE) > 60 // STRIDE


def test_a_second_kill_during_the_resume(tmp_path):
    for first, second in ((20, 5), (35, 12), (50, 3), (55, 20), (62, 8)):
        bench = make(tmp_path / f"{first}-{second}", "ext4")
        before = contents(bench.library)
        bench.step = Killer(first)
        with pytest.raises(Killed):
            whole_way(bench)
        for lives in (second, 10**9):
            bench.step = Killer(lives)
            bench.again()
            for id in unfinished(bench.workspace):
                try:
                    crossing = find_crossing(bench.workspace, id)
                    crossing.run()
                    crossing.advance(consent=True)
                    crossing.close()
                except Killed:
                    crossing.close()
            assert one_whole_copy(before, bench.library.parent, bench.to / "The Weir") == []
        assert contents(bench.to / "The Weir") == before
