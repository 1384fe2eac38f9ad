"""The last steps before a library has its name: lists, identity, links and documents again."""

import json
import os
from contextlib import closing

import pytest

from fascis.crossing.arrival import settle as settling
from fascis.crossing.arrival.rewriting import Rewriting
from fascis.files.inventory import read_inventory
from fascis.files.manifest import read_manifest
from tests.crossing.ways import settled, started
from tests.documents.test_formats import timeline
from tests.judge import contents


@pytest.fixture
def there(bench, library):
    """A crossing that has settled, with a link and a timeline in it."""
    (library / "latest.mov").symlink_to(library / "media/Day 01/weir_01.mov")
    (library / "near.mov").symlink_to("media/Day 01/weir_02.mov")
    (library / "cut.otio").write_bytes(timeline([str(library / "stills/heron.jpg"), "notes.txt"]))
    with closing(settled(bench)) as crossing:
        yield crossing


def test_every_verified_file_is_in_both_lists_with_its_digest(there):
    target = there.places.target
    with open(target / ".fascis/manifest.b3", "rb") as file:
        listed = {place: digest for digest, place in read_manifest(file, "manifest")}
    with open(target / ".fascis/inventory.csv", newline="") as file:
        entries = {entry.place: entry for entry in read_inventory(file, "inventory")}
    files = {place for place, (kind, _) in contents(target).items() if kind == "file"}
    assert set(listed) == set(entries) == files
    assert all(entries[p].digest == digest for p, digest in listed.items())
    clip = entries[b"media/Day 01/weir_01.mov"]
    assert (clip.size, clip.role) == (300_000, "original")


def test_the_identity_says_whence_it_came_and_where_home_is(there):
    identity = json.loads((there.places.target / ".fascis/identity.json").read_bytes())
    (crossed,) = identity["history"]
    assert identity["name"] == "The Weir" and crossed["id"] == there.id
    assert crossed["from"] == str(there.places.source) and crossed["to"] == str(there.places.target)


def test_a_link_into_the_library_leads_into_the_copy_and_one_within_it_stays(there):
    target = there.places.target
    assert os.readlink(target / "latest.mov") == "media/Day 01/weir_01.mov"
    assert os.readlink(target / "near.mov") == "media/Day 01/weir_02.mov"
    kept = target / ".fascis/as-it-was" / there.id / "latest.mov"
    assert os.readlink(kept) == str(there.places.source / "media/Day 01/weir_01.mov")
    assert os.readlink(there.places.source / "latest.mov") == os.readlink(kept)


def test_a_document_is_kept_as_it_was_beside_the_one_that_leads_into_the_copy(there, library):
    target = there.places.target
    kept = target / ".fascis/as-it-was" / there.id / "cut.otio"
    assert kept.read_bytes() == (library / "cut.otio").read_bytes()
    new = (target / "cut.otio").read_bytes()
    assert os.fsencode(library) not in new and b"stills/heron.jpg" in new


class Cut(BaseException):
    """The program ends."""


@pytest.mark.parametrize("number", range(1, 42, 8))
def test_settling_again_after_it_was_interrupted_makes_the_same(
    bench, library, monkeypatch, number
):
    """At some step the program ends; the next run continues, and nothing is duplicated."""
    (library / "cut.otio").write_bytes(timeline([str(library / "stills/heron.jpg")]))
    before, steps = contents(library), []

    def step(name):
        steps.append(name)
        if len(steps) >= number:  # nothing more is done by a program that has ended
            raise Cut

    def settle(*arguments):
        bench.step = step
        settling.settle(*arguments)

    crossing = started(bench)
    with monkeypatch.context() as patched, pytest.raises(Cut):
        patched.setattr("fascis.crossing.arrival.destination.settle", settle)
        crossing.run()
    assert contents(library) == before and len(steps) >= number
    bench.step = lambda _name: None
    assert crossing.run().value == "settled" and contents(library) == before
    target = crossing.places.target
    assert [p.name for p in bench.heron.iterdir() if p.name.startswith(".fascis")] == []
    assert (target / ".fascis/as-it-was" / crossing.id / "cut.otio").exists()
    assert crossing.destinations[0].opened().wrong == []
    crossing.close()


def test_rewriting_a_second_time_changes_nothing(there):
    """A rewritten document is not mistaken for the copied one."""
    destination, before = there.destinations[0], contents(there.places.target)

    def again(medium):
        copies, places = destination.copies, destination.places
        rewriting = Rewriting(copies, places, destination.drive(), there.workspace.private)
        rewriting.documents(medium, places.name)

    destination.at(again)
    assert contents(there.places.target) == before
