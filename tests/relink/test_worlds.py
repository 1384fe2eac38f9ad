"""What is tied by itself is right, in made-up worlds full of decoys.

And what evidence can decide is decided.
"""

import random

import pytest

from fascis.relink.outcome import State
from tests.relink.worlds import KNOWN, World


def worlds(bench, known, seeds, **more):
    for seed in seeds:
        bench.root.joinpath(str(seed)).mkdir()
        yield World(type(bench)(bench.root / str(seed)), random.Random(seed), known, **more).make()


@pytest.mark.parametrize("known", KNOWN)
def test_not_one_wrong_tie_is_made_by_itself(bench, known):
    for world in worlds(bench, known, range(100, 108)):
        wrong, _, _ = world.judge(world.match())
        assert not wrong, world.log


@pytest.mark.parametrize("known", ["times", "digests"])
def test_what_evidence_can_decide_is_decided(bench, known):
    """Decoys are about.

    What is only to be had from a stale copy of a folder is not counted, for nothing tells it apart.
    """
    right = findable = 0
    decoys = ("other size", "other content", "proxy", "backup")
    changes = ("stay", "rename", "above", "case", "form", "split", "merge", "drive", "scatter")
    for world in worlds(bench, known, range(200, 209), decoys=decoys, changes=changes):
        _, more, all = world.judge(world.match())
        right, findable = right + more, findable + all
    assert findable > 200 and right >= 0.99 * findable, (right, findable)


def test_really_deleted_files_are_not_found(bench):
    for world in worlds(bench, "times", range(300, 306), decoys=(), changes=("delete",)):
        found = world.match()
        wrong, right, findable = world.judge(found)
        assert not wrong and right == findable
        assert found.files(State.FOUND) < found.files(*State), "some are gone for good"


def test_one_renamed_folder_explains_four_hundred(bench):
    world = World(bench, random.Random(7), "times", decoys=())
    folder = world.inside / "Footage" / "Day 04"
    for n in range(400):
        world._put(
            folder / ("Interviews" if n % 3 else "B-roll") / f"weir_{n:03d}.mov",
            world.rng.randbytes(100 + n * 7),
        )
    world.changes = ("stay",)
    world.make(folders=0)
    folder.rename(folder.with_name("Shoot 4"))
    for n in range(0, 400, 20):  # and decoys of every kind about
        lost = folder / ("Interviews" if n % 3 else "B-roll") / f"weir_{n:03d}.mov"
        world._decoy(lost, ("other size", "other content", "proxy")[n % 3])
    found = world.match()
    assert (found.files(State.FOUND), found.files(*State)) == (400, 400) and not world.judge(found)[
        0
    ]
    (move,) = found.moves
    assert (move.move.old, move.move.new) == (bytes(folder), bytes(folder.with_name("Shoot 4")))
    assert (move.files, move.certain, move.against) == (400, True, move.against)
