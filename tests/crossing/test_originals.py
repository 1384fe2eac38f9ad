"""One batch of originals: which are deleted, which stay and why, and each step.

Every test also looks at what must still be there.
"""

import os
from contextlib import ExitStack, closing

import pytest

from fascis.crossing.copying.reading_back import Buffers
from fascis.crossing.journal.which import Which
from fascis.crossing.model.states import Origin, State
from fascis.crossing.places.places import open_source
from fascis.crossing.release.originals import Kept, Release, still_wanted
from fascis.files.codes import Stays
from fascis.files.control import Control
from fascis.files.errors import Refused
from tests.crossing.ways import switched
from tests.judge import contents

CLIP, OTHER = b"media/Day 01/weir_01.mov", b"media/Day 01/weir_02.mov"


class Held:
    """A crossing that is switched, its originals and its copy held open."""

    def __init__(self, crossing, held):
        self.crossing, self.copies = crossing, crossing.copies
        self.library, self.target = crossing.places.origin(), crossing.places.target
        source = held.enter_context(closing(open_source(crossing.workspace, crossing.places)))
        home = crossing.home
        copy = held.enter_context(closing(home.open()))
        rules = home.drive().rules
        kept = [Kept(self.copies, copy, rules, home.label, crossing.places.crossing)]
        buffers = held.enter_context(Buffers())
        self.reported, self.steps = [], []
        self.release = Release(
            source, kept, rules, buffers, Control(), self.reported.append, self.steps.append
        )

    def item(self, place):
        return self.copies.at(place)

    def one(self, place):
        """Lets one original go; what became of it, and why it stays."""
        item = self.item(place)
        ((id, origin, why),) = self.release.release_batch([item])
        assert id == item.id
        return origin, why

    def original(self, place):
        return self.library / os.fsdecode(place)

    def copy(self, place):
        return self.target / os.fsdecode(place)


@pytest.fixture
def held(bench, library):
    with ExitStack() as stack, closing(switched(bench)) as crossing:
        yield Held(crossing, stack)


def test_one_that_is_as_it_was_goes_and_nothing_else(held):
    before, copy = contents(held.library), contents(held.target)
    assert held.one(CLIP) == (Origin.GONE, None)
    assert contents(held.library) == {p: c for p, c in before.items() if p != CLIP}
    assert contents(held.target) == copy
    assert held.item(CLIP).origin is Origin.GONE
    assert held.release.deleted.files == 1 and held.release.deleted.bytes == 300_000


def replace_same(held):
    """Another file with the same content, size and time: another one all the same."""
    path, status = held.original(CLIP), held.original(CLIP).stat()
    content = path.read_bytes()
    path.unlink()
    path.write_bytes(content)
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def write_through(held):
    """Other bytes, the size and the time of before."""
    path, status = held.original(CLIP), held.original(CLIP).stat()
    with open(path, "r+b") as file:
        file.write(b"mended")
    os.utime(path, ns=(status.st_atime_ns, status.st_mtime_ns))


def spoil_copy(held):
    with open(held.copy(CLIP), "r+b") as file:
        file.write(b"spoilt")


def use_elsewhere(held):
    held.release.used = {CLIP: ["the teaser"]}


def change_before(held):
    held.release.differences.changed.append(CLIP)


def lose(held):
    held.release.lost[CLIP] = Stays.COPY_CHANGED


def forget(held):
    held.copies.forget_some([held.item(CLIP).id])


STAYS = {
    replace_same: Stays.CHANGED,
    write_through: Stays.CHANGED,
    lambda h: h.original(CLIP).write_bytes(b"longer than before" * 30_000): Stays.CHANGED,
    spoil_copy: Stays.COPY_CHANGED,
    lambda h: h.copy(CLIP).unlink(): Stays.COPY_MISSING,
    use_elsewhere: Stays.USED_ELSEWHERE,
    change_before: Stays.CHANGED,
    lose: Stays.COPY_CHANGED,
    forget: Stays.NOT_VERIFIED,
}


@pytest.mark.parametrize("act, why", STAYS.items(), ids=[f"{n}" for n in range(len(STAYS))])
def test_one_about_which_anything_is_otherwise_stays(held, act, why):
    act(held)
    before = contents(held.library)
    assert held.one(CLIP) == (Origin.STAYS, why)
    assert contents(held.library) == before and held.steps == []
    assert held.release.deleted.files == 0


def test_one_that_is_open_for_writing_stays_and_goes_when_it_is_closed(held):
    with open(held.original(CLIP), "r+b"):
        assert held.one(CLIP) == (Origin.STAYS, Stays.OPEN)
    assert held.original(CLIP).exists()
    assert held.one(CLIP) == (Origin.GONE, None) and held.copy(CLIP).exists()


def test_one_that_is_gone_already_does_not_count_as_deleted(held):
    held.original(CLIP).unlink()
    assert held.one(CLIP)[0] is Origin.GONE and held.release.deleted.files == 0
    assert held.copy(CLIP).exists() and held.original(OTHER).exists()


def test_a_copy_that_changes_while_its_original_is_read_keeps_the_original(held):
    """Between the last look at the copy and the unlink."""
    held.release.reads_again = True

    class Meanwhile(Control):
        def checkpoint(self):
            spoil_copy(held)

    held.release.control = Meanwhile()
    assert held.one(CLIP) == (Origin.STAYS, Stays.COPY_CHANGED)
    assert held.original(CLIP).exists()


def test_an_original_that_is_touched_right_before_its_unlink_stays(held):
    touch = lambda: os.utime(held.original(CLIP), ns=(1, 1))  # noqa: E731
    held.release.step = lambda name: name.startswith("before") and touch()
    assert held.one(CLIP) == (Origin.STAYS, Stays.CHANGED)
    assert held.original(CLIP).stat().st_mtime_ns == 1


def test_the_intention_is_written_down_before_and_mended_after(held):
    """Cut off right after an unlink: the journal learns of it, and of nothing else."""

    def cut(name):
        if name.startswith("after unlink"):
            raise KeyboardInterrupt

    held.release.step = cut
    with pytest.raises(KeyboardInterrupt):
        held.release.release_batch([held.item(CLIP), held.item(OTHER)])
    assert {i.place for i in held.copies.items(Which.BEING_DELETED)} == {CLIP, OTHER}
    assert not held.original(CLIP).exists() and held.original(OTHER).exists()
    held.release._mend()
    assert held.item(CLIP).origin is Origin.GONE
    assert held.item(OTHER).origin is Origin.INTENDED and held.copy(OTHER).exists()


def test_folders_go_only_when_they_are_empty(held):
    for place in (CLIP, OTHER):
        assert held.one(place) == (Origin.GONE, None)
    held.original(b"media/Day 02/note.txt").write_text("mine")
    held.one(b"media/Day 02/salmon.wav")
    held.release.clear_folders(held.release.source)
    assert not (held.library / "media/Day 01").exists()
    assert (held.library / "media/Day 02/note.txt").read_text() == "mine"


def test_not_one_whole_copy_refuses_and_deletes_nothing(held):
    before = contents(held.library)
    for path in held.target.rglob("*"):
        if path.is_file() and ".fascis" not in path.parts:
            path.unlink()
    with pytest.raises(Refused, match="is as it was verified"):
        held.release.check_copies()
    assert contents(held.library) == before


def test_a_release_is_not_wanted_any_more_when_home_was_restored(held):
    still_wanted(held.copies.journal)
    held.copies.journal.intend("undo", "home goes back", 0.0)
    with pytest.raises(Refused, match="Home was given back, or that was begun"):
        still_wanted(held.copies.journal)
    assert held.copies.journal.state is State.SWITCHED and held.original(CLIP).exists()
