"""Routes: simple statements of where paths lead, put together, and exact."""

import os

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fascis.files.route import Exactly, Moved, Renamed

NAMES = st.sampled_from([b"weir", b"salmon run", b"a%20b", b"a b", b"A B", "été".encode(), b"\xff"])
PLACES = st.lists(NAMES, min_size=1, max_size=4).map(b"/".join)


@given(PLACES, PLACES)
def test_what_is_below_a_folder_goes_with_it_and_comes_back(folder, inner):
    there, back = Moved(b"/old/" + folder, b"/new"), Moved(b"/new", b"/old/" + folder)
    path = b"/old/" + folder + b"/" + inner
    assert there.to(path) == b"/new/" + inner
    assert there.then(back).to(path) == path
    assert Moved(b"/old/" + folder, b"").to(path) == inner
    assert there.to(b"/old/" + folder) is None and there.to(b"/old/" + folder + b"2/x") is None


@given(PLACES)
def test_the_top_folder_of_a_machine_is_a_folder_like_others(inner):
    assert Moved(b"/", b"/mnt").to(b"/" + inner) == b"/mnt/" + inner
    assert Moved(b"/mnt/", b"/").to(b"/mnt/" + inner) == b"/" + inner


def test_a_name_and_its_percent_encoded_twin_are_two_names():
    route = Exactly({b"/m/a b.mov": b"/n/1.mov"}).otherwise(Moved(b"/m", b"/o"))
    assert route.to(b"/m/a b.mov") == b"/n/1.mov"
    assert route.to(b"/m/a%20b.mov") == b"/o/a%20b.mov"
    assert route.to(b"/elsewhere/a b.mov") is None


def test_what_was_said_first_counts():
    first, second = Moved(b"/m/Day 01", b"/a"), Moved(b"/m", b"/b")
    assert first.otherwise(second).to(b"/m/Day 01/x.mov") == b"/a/x.mov"
    assert second.otherwise(first).to(b"/m/Day 01/x.mov") == b"/b/Day 01/x.mov"


def test_a_second_leg_that_says_nothing_leaves_the_path_where_the_first_led():
    assert Moved(b"/m", b"/n").then(Moved(b"/x", b"/y")).to(b"/m/a") == b"/n/a"
    assert Moved(b"/m", b"/n").then(Moved(b"/n", b"/y")).to(b"/m/a") == b"/y/a"
    assert Moved(b"/m", b"/n").then(Moved(b"/z", b"/y")).to(b"/q/a") is None


@pytest.mark.parametrize(
    ("place", "to"),
    [
        (b"Clips/a:b.mov", b"Clips (2)/a_b.mov"),
        (b"Clips/Day/x.mov", b"Clips (2)/Day/x.mov"),
        (b"Clips/", b"Clips (2)"),
        (b"other/a:b.mov", b"other/a:b.mov"),
        (b"/mnt/Clips/a:b.mov", None),
    ],
)
def test_a_folder_that_has_another_name_takes_all_that_is_in_it_along(place, to):
    assert Renamed({b"Clips": b"Clips (2)"}, {b"Clips/a:b.mov": b"a_b.mov"}).to(place) == to


@given(PLACES)
def test_where_nothing_has_another_name_every_place_stays(place):
    assert Renamed({}, {}).to(place) == place
    assert os.path.basename(Renamed({b"none": b"other"}, {}).to(place)) == os.path.basename(place)
