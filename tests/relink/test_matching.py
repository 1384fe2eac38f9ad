"""Rules of evidence, one by one, on small folders."""

import os

import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

from fascis.documents.model import Length, Sequence
from fascis.files.errors import Cancelled
from fascis.files.names import name_key
from fascis.files.route import Moved
from fascis.library.references.uses import LostReference
from fascis.library.roles import Role
from fascis.library.standing import Standing
from fascis.relink.contents import Contents
from fascis.relink.deciding import same_file
from fascis.relink.evidence import InUse
from fascis.relink.index import look
from fascis.relink.lost import Lost
from fascis.relink.matching import match
from fascis.relink.moves import statements
from fascis.relink.outcome import Decisions, State
from fascis.relink.pairs import Basis
from tests.library.making import write
from tests.stopping import StopsWhen


def lost(path, content=b"", digest=False, time=0, **more):
    folder, _, name = path.encode().rpartition(b"/")
    return Lost(
        path.encode(), name, folder, Standing.MISSING, more.pop("role", Role.ORIGINAL),
        len(content),
        blake3(content).digest() if digest else b"", time, references=[LostReference(0, 0,
        path.encode())], **more,
    )  # fmt: skip


@pytest.fixture
def here(tmp_path):
    """Makes files, and matches lost ones with them."""

    class Here:
        root = tmp_path / "found"

        def put(self, place, content=b"x", time=None):
            path = write(self.root / place, content)
            if time:
                os.utime(path, ns=(time, time))
            return os.fsencode(path)

        def match(self, *some, decisions=None, checked=False, **in_use):
            self.root.mkdir(exist_ok=True)
            made = decisions or Decisions()
            return match(some, look(self.root), Contents(), made, InUse(**in_use), checked)

        def found(self, *some, **more):
            done = self.match(*some, **more)
            return [
                os.path.relpath(os.fsdecode(p), self.root) if (p := done.found(i)) else None
                for i in range(len(some))
            ]

    return Here()


def test_the_only_one_of_its_name_and_size(here):
    here.put("a/crest.mov", b"12345")
    here.put("b/breach.mov", b"123")
    done = here.match(lost("/gone/crest.mov", b"12345"), lost("/gone/breach.mov", b"12"))
    assert (done.state, done.basis[0]) == ([State.FOUND, State.OPEN], Basis.SIZE)
    assert done.why[1] == "Found by its name, but of another size." and done.candidates(1)[
        0
    ].differs == ("size",)


def test_a_file_of_that_name_alone_is_found_when_its_size_is_not_known(here):
    here.put("a/crest.mov")
    here.put("a/IMG_0417.jpg")
    done = here.match(lost("/gone/crest.mov"), lost("/elsewhere/IMG_0417.jpg"))
    assert done.state == [State.FOUND, State.OPEN] and done.basis[0] is Basis.NAME
    assert "cameras give again" in done.why[1]


def test_a_renamed_file_is_found_by_its_digest_and_only_offered_by_its_time(here):
    here.put("a/crest final.mov", b"the crest")
    here.put("a/other.mov", b"other crs")
    here.put("b/breach 2.mov", b"the breach", time=1_600_000_000_000_000_123)
    one = lost("/gone/crest.mov", b"the crest", digest=True)
    two = lost("/gone/breach.mov", b"the breach", time=1_600_000_000_000_000_123)
    done = here.match(one, two)
    assert done.found(0).endswith(b"a/crest final.mov") and done.basis[0] is Basis.DIGEST
    assert done.state[1] is State.OPEN and [c.path[-12:] for c in done.candidates(1)] == [
        b"breach 2.mov"[-12:]
    ]


def test_a_digest_that_differs_is_believed_more_than_name_and_size(here):
    here.put("a/crest.mov", b"another!!")
    done = here.match(lost("/gone/crest.mov", b"the crest", digest=True))
    assert done.state == [State.OPEN] and done.candidates(0)[0].differs == ("content",)


def test_several_of_different_content_wait_and_identical_copies_do_not(here):
    here.put("one/a.mov", b"aaaa")
    here.put("two/a.mov", b"bbbb")
    here.put("far/deep/b.mov", b"same")
    here.put("near/b.mov", b"same")
    done = here.match(lost("/gone/a.mov", b"aaaa"), lost(f"{here.root}/near by/b.mov", b"same"))
    assert done.state == [State.OPEN, State.FOUND]
    assert "identical copies" in done.why[1]
    preferred = here.found(lost("/gone/b.mov", b"same"), near=lambda p: (b"/far/" not in p,))
    assert preferred == ["far/deep/b.mov"], "the drive that stays comes first"


def test_a_proxy_is_named_and_never_taken_for_the_original(here):
    here.put("proxies/crest.mov", b"12")
    done = here.match(lost("/gone/crest.mov"), lost("/gone/proxies/crest.mov", role=Role.PROXY))
    assert (
        done.state == [State.OPEN, State.FOUND]
        and "probably its proxy" in done.candidates(0)[0].differs
    )


def test_two_lost_files_are_never_tied_to_one_found_file(here):
    here.put("a/C0001.mov", b"1234")
    one, two = lost("/card a/C0001.mov", b"1234"), lost("/card b/C0001.mov", b"1234")
    done = here.match(one, two)
    assert done.state == [State.OPEN, State.OPEN]
    same = (
        lost("/Volumes/Card/day/C0001.mov", b"1234"),
        lost("/media/ana/Card/day/C0001.mov", b"1234"),
    )
    assert here.match(*same).state == [State.FOUND, State.FOUND], "one file, by two paths"


def test_two_paths_are_one_file_by_content_by_spelling_or_not_at_all():
    a, b = lost("/x/day/a.mov", b"1"), lost("/y/day/a.mov", b"2")
    a.size, b.size = 1, 2
    assert not same_file(a, b)
    assert same_file(lost("/x/Day/A.mov"), lost("/x/day/a.mov"))
    assert same_file(lost("/x/a.mov", b"1", digest=True), lost("/y/b.mov", b"1", digest=True))
    assert not same_file(lost("/x/a.mov", b"1", digest=True), lost("/x/a.mov", b"2", digest=True))


def test_where_sizes_repeat_a_name_and_a_size_prove_little(here):
    raw = [lost(f"/card/IMG_{n:04d}.dng", b"r" * 50) for n in range(6)]
    for n in range(6):
        here.put(f"{n % 2} tidied/sub {n}/IMG_{n:04d}.dng", b"r" * 49 + b"%d" % n)
    assert here.match(*raw).state == [State.OPEN] * 6, (
        "each alone in a folder of its own: nothing more is known"
    )
    timed = [
        lost(f"/card/IMG_{n:04d}.dng", b"r" * 50, time=1_600_000_000_000_000_000 + n)
        for n in range(6)
    ]
    for n in range(6):
        here.put(
            f"{n % 2} tidied/sub {n}/IMG_{n:04d}.dng",
            b"r" * 49 + b"%d" % n,
            time=1_600_000_000_000_000_000 + n,
        )
    assert here.match(*timed).state == [State.FOUND] * 6, "their times do tell"


def test_another_card_of_the_same_camera_is_offered_and_not_taken(here):
    for n in range(8):
        here.put(f"other card/IMG_{n:04d}.dng", b"o" * 50)
    raw = [
        lost(f"/card/IMG_{n:04d}.dng", b"r" * 50, time=1_600_000_000_000_000_000 + n)
        for n in range(8)
    ]
    done = here.match(*raw)
    assert done.state == [State.OPEN] * 8
    (move,) = done.moves
    assert not move.certain and move.against == [
        "all are of one size, and none is of the same date"
    ]
    accepted = here.match(*raw, decisions=Decisions(accepted=frozenset((move.move,))))
    assert accepted.state == [State.FOUND] * 8, "one word decides for all"


def test_length_decides_between_files_of_one_name(here, tmp_path):
    from fascis.demo.scenario import _clip

    _clip(here.root / "a/crest.mov", 1, 50, 64)
    _clip(here.root / "b/crest.mov", 2, 75, 64)
    done = here.match(lost("/gone/crest.mov", length=Length(3.0, 1.0, 25.0)))
    assert done.found(0).endswith(b"b/crest.mov") and done.basis[0] is Basis.LENGTH
    assert [c.differs for c in done.candidates(0)] == [(), ("length",)]
    done = here.match(lost("/gone/crest.mov", length=Length(9.0, 1.0, 25.0)))
    assert done.state == [State.OPEN], "neither is as long"


def test_a_folder_move_is_the_most_general_that_is_so(here):
    for part in ("Interviews", "B-roll"):
        for n in range(3):
            here.put(f"River/Shoot 4/{part}/{part}_{n}.mov", b"x" * (n + 1))
    here.put("River/Shoot 4/other.mov")
    gone = [
        lost(f"/Footage/Day 04/{p}/{p}_{n}.mov", b"x" * (n + 1))
        for p in ("Interviews", "B-roll")
        for n in range(3)
    ]
    (move,) = here.match(*gone).moves
    assert (
        move.move == Moved(b"/Footage/Day 04", os.fsencode(here.root) + b"/River/Shoot 4")
        and move.files == 6
    )


def test_a_split_and_a_merged_folder(here):
    for n in range(4):
        here.put(f"one/a{n}.mov", b"x" * (n + 1))
        here.put(f"two/b{n}.mov", b"y" * (n + 9))
        here.put(f"both/c{n}.mov", b"z" * (n + 20))
        here.put(f"both/d{n}.mov", b"z" * (n + 30))
    split = [
        lost(f"/day/{p}{n}.mov", b"x" * (n + s)) for p, s in (("a", 1), ("b", 9)) for n in range(4)
    ]
    merged = [
        lost(f"/{p}/{p}{n}.mov", b"x" * (n + s))
        for p, s in (("c", 20), ("d", 30))
        for n in range(4)
    ]
    done = here.match(*split, *merged)
    assert done.state == [State.FOUND] * 16
    assert sorted(os.path.basename(m.move.new) for m in done.moves) == [
        b"both",
        b"both",
        b"one",
        b"two",
    ]


def test_a_stray_beside_a_moved_folder_waits(here):
    for n in range(5):
        here.put(f"new/clip {n}.mov", b"x" * (n + 1))
    here.put("elsewhere/clip 5.mov", b"x" * 6)
    done = here.match(*(lost(f"/old/clip {n}.mov", b"x" * (n + 1)) for n in range(6)))
    assert (
        done.state == [State.FOUND] * 5 + [State.OPEN] and "does not lie with them" in done.why[5]
    )
    alone = here.match(lost("/old/clip 5.mov", b"x" * 6), standing={b"/old": 9})
    assert alone.state == [State.OPEN] and "are where they were" in alone.why[0]


def test_case_and_accents_spelled_differently(here):
    there = here.put("Frühling/Heron é.mov", b"abc")
    path = f"{here.root}/FRU\u0308HLING/heron e\u0301.MOV"
    assert here.match(lost(path, b"abc")).found(0) == there
    assert [m.old for m in statements(b"/f/Day 04/x", b"/f/day 04/x")] == [
        b"/f/Day 04/x",
        b"/f/Day 04",
    ]


def test_showing_one_file_settles_its_neighbours(here):
    for n in range(3):
        here.put(f"one/clip {n}.mov", b"1" * 5)
        here.put(f"two/clip {n}.mov", b"2" * 5)
    gone = [lost(f"/old/clip {n}.mov", b"2" * 5) for n in range(3)]
    assert here.match(*gone).state == [State.OPEN] * 3
    chosen = {gone[1].path: os.fsencode(here.root / "two/clip 1.mov")}
    assert here.found(*gone, decisions=Decisions(chosen=chosen)) == [
        f"two/clip {n}.mov" for n in range(3)
    ]


def test_a_refused_move_ties_nothing_and_none_of_them_stays_lost(here):
    for n in range(4):
        here.put(f"new/clip {n}.mov", b"x" * (n + 1))
    gone = [lost(f"/old/clip {n}.mov", b"x" * (n + 1)) for n in range(4)]
    (move,) = here.match(*gone).moves
    refused = here.match(*gone, decisions=Decisions(refused=frozenset((move.move,))))
    assert refused.state == [State.OPEN] * 4 and "refused" in refused.why[0]
    left = here.match(*gone, decisions=Decisions(chosen={gone[0].path: None}))
    assert left.state == [State.LEFT] + [State.FOUND] * 3 and left.found(0) is None


def test_a_sequence_is_one_and_needs_all_its_frames(here):
    sequence = Sequence("plan_", ".png", 1, 1, 4, 5)
    names = tuple(n.encode() for n in sequence.names())
    x = Lost(
        b"/scans/plan_%04d.png",
        names[0],
        b"/scans",
        Standing.MISSING,
        Role.ORIGINAL,
        frames=names,
        files=5,
    )
    x.references = [LostReference(0, 0, b"/scans", sequence, names)]
    for name in names[:4]:
        here.put(f"part/{name.decode()}")
    for name in names:
        here.put(f"whole/{name.decode()}")
    done = here.match(x)
    assert (
        done.found(0) == os.fsencode(here.root / "whole/plan_%04d.png")
        and done.files(State.FOUND) == 5
    )
    assert done.ties()[b"/scans/plan_0003.png"] == os.fsencode(here.root / "whole/plan_0003.png")


def test_a_file_in_use_is_not_another_file(here):
    there = here.put("day 1/C0001.mov", b"123")
    done = here.match(lost("/day 2/C0001.mov"), used={there})
    assert (
        done.state == [State.OPEN]
        and "in use already as another file" in done.candidates(0)[0].differs
    )


def test_matching_can_be_stopped(here):
    here.put("a/crest.mov", b"123")
    stopped = Contents(StopsWhen())
    with pytest.raises(Cancelled, match="nothing was changed"):
        match([lost("/gone/crest.mov", b"123", digest=True)], look(here.root), stopped)


def test_nothing_lost_and_nothing_there(here):
    assert here.match().files(*State) == 0
    assert here.match(lost("/gone/a.mov")).state == [State.NOWHERE]


def test_a_check_reads_what_was_found_and_undoes_what_fails(here):
    from fascis.demo.scenario import _clip

    for n in range(3):
        _clip(here.root / f"new/clip {n}.mov", n, 50 if n else 75, 64)
    sizes = [(here.root / f"new/clip {n}.mov").stat().st_size for n in range(3)]
    gone = [
        lost(f"/old/clip {n}.mov", b"x" * sizes[n], length=Length(2.0, 0.0, 25.0)) for n in range(3)
    ]
    assert here.match(*gone).state == [State.FOUND] * 3
    done = here.match(*gone, checked=True)
    assert done.state == [State.OPEN, State.FOUND, State.FOUND] and done.candidates(0)[
        0
    ].differs == ("length",)


parts = st.lists(
    st.sampled_from(["a", "B", "é", "e\u0301", "Day 04", "day 04", "x"]), min_size=1, max_size=5
)


@given(parts, parts, st.sampled_from(["clip.mov", "sub/clip.mov"]))
def test_every_statement_leads_a_file_to_where_it_was_found(old, new, name):
    before, after = ("/" + "/".join(p) for p in (old, new))
    made = statements(before.encode(), after.encode())
    assert bool(made) == (before != after)
    for move in made:
        place = move.to(f"{before}/{name}".encode())
        assert name_key(place) == name_key(f"{after}/{name}".encode())
        assert move.old != move.new and move.to(b"/elsewhere/clip.mov") is None
