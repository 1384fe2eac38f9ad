"""One contract for every kind of document, and for one that is made up here.

The made-up kind is a module and a line: it is surveyed, gathered, rewritten, relinked and counted
as worked in, and what it refers to is needed, without another line anywhere.
"""

import json
import os
import random
import sqlite3
import time
from contextlib import closing
from pathlib import Path

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.needed import Going, find_needed
from fascis.crossing.scope.surveyed import survey_library
from fascis.documents import otio, registry, text
from fascis.documents.learned.containers import contents_of
from fascis.documents.learned.database import Database
from fascis.documents.learned.kind import LearnedDatabase
from fascis.documents.learned.reading import Piece, Reading
from fascis.documents.learned.stored import CONFIRMED, Stored, marks_of
from fascis.documents.model import Change, Means, NotUnderstood, Place, Reference
from fascis.documents.registry import kind_named, kind_of, kinds
from fascis.documents.text import TextKind
from fascis.library.roles import Role, RoleRule, is_worked_in
from fascis.library.standing import Standing
from fascis.relink.acts import acts_of
from fascis.relink.contents import Contents
from fascis.relink.index import look_in
from tests.clock import less
from tests.documents.opened import InMemory, read
from tests.documents.test_formats import MAKERS
from tests.library.making import catalog_at, picture, timeline, write

NAMES = ["weir_01.jpg", "salmon run.jpg", "été.jpg", "heron.jpg"]


class ShotList(TextKind):
    """A made-up kind: after a first line of its own, a take and its file on every line."""

    name = "shots"
    extensions = frozenset(("shots",))

    def recognises(self, head):
        return head.startswith(b"SHOTS 1\n")

    def read(self, stream):
        if stream.readline() != b"SHOTS 1\n":
            raise NotUnderstood("It is no list of shots.")
        at = 8
        for line in stream:
            before, bar, target = line.rstrip(b"\n").partition(b"|")
            if bar:
                start = at + len(before) + 1
                yield Reference((start, start + len(target)), os.fsdecode(target))
            at += len(line)

    def literal(self, text):
        return os.fsencode(text)

    def can_be_plain(self, target):
        return "\n" not in target


def shots(*targets):
    lines = (f"take {n}|{target}\n" for n, target in enumerate(targets))
    return ("SHOTS 1\n" + "".join(lines)).encode()


@pytest.fixture
def shot_list(monkeypatch):
    """The line: from here on the made-up kind is registered."""
    monkeypatch.setattr(registry, "_KINDS", list(registry._KINDS))
    monkeypatch.setattr(registry, "_BY_EXTENSION", dict(registry._BY_EXTENSION))
    registry.register(kind := ShotList())
    return kind


def a_catalog(names, tmp_path):
    path = tmp_path / "made.fascat"
    path.unlink(missing_ok=True)
    catalog_at(
        path, [(None, "/pictures"), ("uuid-x", "Bell")],
        [(1, 1, "stills"), (2, 2, "2024")], [(1 + n % 2, name) for n, name in enumerate(names)],
    )  # fmt: skip
    return InMemory(path.read_bytes())


def learned(names, tmp_path, database):
    """A document of a made-up make, with a confirmed reading."""
    if database:
        path = tmp_path / "made.db"
        path.unlink(missing_ok=True)
        with closing(sqlite3.connect(path)) as db:
            db.execute("CREATE TABLE reach(n INTEGER PRIMARY KEY, bank TEXT)")
            db.executemany("INSERT INTO reach(bank) VALUES(?)", [(n,) for n in names])
            db.commit()
        content, reading = path.read_bytes(), Reading("reach", (Piece((), "bank"),), True)
        with closing(Database(path)) as opened:
            container, shape = "sqlite", opened.shape()
    else:
        content = json.dumps({"reaches": [{"bank": n} for n in names]}).encode()
        reading = Reading("reaches/[]", (Piece((), "bank"),), True)
        container, shape = "json", contents_of(content).shape()
    marks = marks_of(content[:4096], container, [reading])
    known = [one for one in CONFIRMED.all() if one.container != container]
    CONFIRMED.use([*known, Stored(container, shape, marks, (reading,), 0.0)])
    return InMemory(content)


@pytest.fixture(autouse=True)
def nothing_confirmed():
    yield
    CONFIRMED.use([])


def made(kind, names, tmp_path):
    """A document of a kind that refers to files of these names."""
    if kind.name == "learned":
        tmp_path.mkdir(exist_ok=True)
        return learned(names, tmp_path, isinstance(kind, LearnedDatabase))
    if kind.name == "fascat":
        return a_catalog(names, tmp_path)
    if kind.name == "link":
        return InMemory(b"", names[0].encode())
    if kind.name == "shots":
        return InMemory(shots(*names))
    return InMemory(MAKERS[kind.name](names))


def change_to(reference, name):
    """Another name for a reference's target, in the form of its kind."""
    if reference.means is Means.BELOW:
        return Change(f"elsewhere/{name}", place=Place(None, "/new"))
    return Change(name)


OPENED = [type(kind).__name__ for kind in kinds() if not kind.companion] + ["ShotList"]


@pytest.fixture(params=OPENED)
def kind(request, shot_list):
    return next(k for k in kinds() if type(k).__name__ == request.param)


def files_in(document):
    """What a document refers to, without the folders that it names."""
    return [r for r in document.references() if r.means is not Means.FOLDER]


def test_it_tells_what_it_refers_to_as_often_as_it_is_asked(kind, tmp_path):
    with kind.open(made(kind, NAMES, tmp_path)) as document:
        found = files_in(document)
        assert files_in(document) == found and len({r.locator for r in found}) == len(found)
        seen = document.seen
    told = [Path(kind.readings(r.as_written)[-1].path).name for r in found]
    assert sorted(told) == sorted(NAMES if kind.is_file else NAMES[:1])
    with kind.open(made(kind, NAMES, tmp_path)) as again:
        assert again.seen == seen


def test_one_reference_gets_another_target_and_nothing_else_changes(kind, tmp_path):
    with kind.open(made(kind, NAMES, tmp_path)) as document:
        before = files_in(document)
        chosen = before[-1].locator
        new = document.retargeted(
            lambda _, r: change_to(r, "otter.jpg") if r.locator == chosen else None
        )
        content = new if isinstance(new, bytes) else new.read_bytes()
    after_source = InMemory(content) if kind.is_file else InMemory(b"", content)
    with kind.open(after_source) as document:
        found = enumerate(files_in(document))
        after = {n if r.number is None else r.locator: r for n, r in found}
    for number, reference in enumerate(before):
        key = reference.locator if reference.number is not None else number
        text = after[key].as_written
        if reference.locator == chosen:
            assert kind.readings(text)[-1].path.endswith("otter.jpg")
        else:
            assert (text, after[key].place) == (reference.as_written, reference.place)


def test_nothing_to_change_gives_nothing_new(kind, tmp_path):
    with kind.open(made(kind, NAMES, tmp_path)) as document:
        assert document.retargeted(lambda _number, _reference: None) is None


def test_it_is_known_by_its_content_whatever_its_name(kind, tmp_path):
    source = made(kind, NAMES, tmp_path)
    if not kind.is_file:
        assert kind_of(b"weir.mov", source.head()) is None  # The kernel knows what is a link.
        return
    others = [k for k in kinds() if k.is_file and k is not kind]
    if kind.name != "m3u8":
        assert kind_of(b"autosave.bak", source.head()) is kind
        # A reading is never tried on a document named like a known make.
        learned = kind.name == "learned"
        for other in others:
            expected = other if learned and other.works else kind
            for e in other.extensions:
                assert kind_of(b"x." + e.encode(), source.head()) is expected
    assert [k.name for k in others if k.recognises(source.head())] == []
    for extension in sorted(kind.extensions)[:1]:
        assert kind_of(b"x." + extension.encode(), b"?") is kind


def test_a_file_of_another_kind_is_one_clear_sentence(kind, tmp_path):
    if kind.name in ("link", "m3u8"):
        return  # any bytes are a link's target, and a playlist's lines
    with pytest.raises(NotUnderstood, match=r"\.$"), kind.open(InMemory(b"river" * 9)) as document:
        list(document.references())


@pytest.mark.parametrize("seed", range(3))
def test_a_large_document_is_read_and_written_as_a_small_one_is(kind, tmp_path, monkeypatch, seed):
    """A large one is streamed: in pieces that end anywhere, and into a file."""
    rng = random.Random(seed)
    names = [f"{'été ' * rng.randrange(4)}take {n}.jpg" for n in range(40)]

    def wanted(number, reference):
        if number % 3 or reference.means is Means.FOLDER:
            return None
        return change_to(reference, f"new {number}.jpg")

    def outcome():
        source = made(kind, names, tmp_path / str(len(list(tmp_path.iterdir()))))
        with kind.open(source) as document:
            found = files_in(document)
            new = document.retargeted(wanted)
            return found, new if isinstance(new, bytes) else new.read_bytes(), document.lengths()

    small = outcome()
    for module in (text, otio):
        monkeypatch.setattr(module, "SMALL", 16)
    monkeypatch.setattr(text, "_MOST_KEPT", 7)
    for name in ("lines", "xspf", "text", "otio"):
        module = __import__(f"fascis.documents.{name}", fromlist=[name])
        monkeypatch.setattr(module, "_CHUNK", rng.randrange(3, 50))
    large = outcome()
    assert large[0] == small[0] and large[2] == small[2]
    if kind.name != "fascat":  # of a database the bytes may be others
        assert large[1] == small[1]


def test_what_changed_since_its_references_were_read_is_not_written(shot_list):
    """The spans belong to the content that was read."""
    source = InMemory(shots("a.mov", "b.mov"))
    with shot_list.open(source) as document:
        assert len(list(document.references())) == 2
        source.content = shots("a.mov", "b.mov") + b"a note of somebody, written since\n"
        with pytest.raises(NotUnderstood, match="changed while it was read"):
            document.retargeted(lambda _number, _reference: Change("c.mov"))


def test_a_catalog_cannot_hold_a_name_that_is_not_text_and_says_so(tmp_path):
    kind = kind_named(b"x.fascat")
    source = a_catalog(NAMES, tmp_path)
    name = os.fsdecode(b"\xff.jpg")
    with kind.open(source) as document, pytest.raises(NotUnderstood, match="not valid text"):
        document.retargeted(
            lambda _number, r: change_to(r, name) if r.means is Means.BELOW else None
        )


def test_a_kind_takes_no_ending_from_another(shot_list):
    with pytest.raises(ValueError, match="another kind"):
        registry.register(ShotList())


# -- a module and a line ---------------------------------------------------------------------------


def test_a_made_up_kind_is_a_document_for_everything():
    assert not is_worked_in(b"cut.shots") and RoleRule().of_name(b"cut.shots") is Role.OTHER
    assert kind_named(b"cut.shots") is None


def test_a_made_up_kind_is_surveyed_gathered_and_rewritten(bench, shot_list):
    lib = bench.library
    loose = write(bench.drives / "inside/Sounds/theme.wav", b"m" * 40)
    write(lib / "media/weir.mov", b"w" * 50)
    write(lib / "media/never.mov", b"n" * 20)
    write(lib / "cuts/summer.shots", shots("../media/weir.mov", str(loose)))
    write(lib / "cuts/autosave 3", shots("../media/weir.mov"))  # by its content
    surveyed = survey_library(bench.workspace, lib)
    told = {d.place: (d.format, d.references, d.trouble) for d in surveyed.uses.documents}
    assert told == {b"cuts/summer.shots": ("shots", 2, ""), b"cuts/autosave 3": ("shots", 1, "")}
    assert [o.path for o in surveyed.uses.of(Standing.LOOSE)] == [bytes(loose)]
    assert is_worked_in(b"cut.shots") and RoleRule().of_name(b"cut.shots") is Role.DOCUMENT

    plan = make_plan(bench.workspace, surveyed, bench.heron, Choices())
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    crossing.run()
    there = crossing.places.target
    led = [r.as_written for r in read(shot_list, (there / "cuts/summer.shots").read_bytes())]
    assert [(there / "cuts" / text).read_bytes() for text in led] == [b"w" * 50, b"m" * 40]
    kept = list((there / ".fascis/as-it-was").rglob("summer.shots"))
    assert [k.read_bytes() for k in kept] == [(lib / "cuts/summer.shots").read_bytes()]
    assert loose.read_bytes() == b"m" * 40
    crossing.close()


def test_what_a_made_up_kind_refers_to_is_needed(bench, shot_list):
    lib = bench.library
    used = write(lib / "media/weir.mov", b"w" * 50)
    write(lib / "media/never.mov")
    beside = write(lib.parent / "cuts beside/summer.shots", shots(str(used)))
    going = Going(os.path.realpath(bytes(lib)), "", own=False)
    needed = find_needed(bench.workspace, going)
    assert list(needed.by) == [os.path.realpath(bytes(used))]
    assert list(needed.by[os.path.realpath(bytes(used))]) == [bytes(beside)]


def test_a_large_document_beside_the_library_is_searched_within_the_time_there_is(bench, tmp_path):
    """A name at the very end is found; one that never ends stops nothing."""
    lib = bench.library
    used = write(lib / "media/weir.mov", b"w" * 50)
    real = os.path.realpath(bytes(used))
    going = Going(os.path.realpath(bytes(lib)), "", own=False)
    lines = b"#EXTM3U\n" + b"elsewhere/otter.mov\n" * 40_000
    playlist = write(lib.parent / "beside/all.m3u8", lines)
    assert find_needed(bench.workspace, going, seconds=60).by == {}
    playlist.write_bytes(lines + bytes(used) + b"\n")
    assert list(find_needed(bench.workspace, going, seconds=60).by) == [real]
    playlist.write_bytes(bytes(used.with_name("none.mov")) * 2 + b"\n" + lines)
    begun = time.process_time()
    found = find_needed(bench.workspace, going, seconds=0.05)
    less(time.process_time() - begun, 1)
    assert found.bounds


def test_a_made_up_kind_is_relinked_and_undone(bench, shot_list):
    lib = bench.library
    document = write(lib / "summer.shots", shots("gone/weir.mov", "media/held.mov"))
    write(lib / "media/held.mov", b"h" * 9)
    moved = write(bench.drives / "inside/Moved/weir.mov", b"w" * 50)
    before = document.read_bytes()
    surveyed = survey_library(bench.workspace, lib)
    relinking = surveyed.relinking(bench.workspace)
    assert [lost.name for lost in relinking.lost] == [b"weir.mov"]
    match = relinking.match(look_in([moved.parent]), Contents())
    acts = acts_of(bench.workspace)
    act = acts.apply("id", "lib", lib, 1, relinking.retargets(match))
    led = [r.as_written for r in read(shot_list, document.read_bytes())]
    assert os.path.samefile(lib / led[0], moved) and led[1] == "media/held.mov"
    acts.undo(act.id)
    assert document.read_bytes() == before and moved.read_bytes() == b"w" * 50


def test_a_document_of_another_name_crosses_as_what_it_is(bench):
    """What ends in something else is read by its content, rewritten, and opened at the end."""
    lib = bench.library
    loose = write(bench.drives / "inside/Music/theme.wav", b"m" * 40)
    write(lib / "stills/heron.jpg", picture("JPEG"))
    write(lib / "cut.bak", timeline("stills/heron.jpg", str(loose)))
    write(lib / "wrongly.xspf", timeline(str(loose)))
    catalog_at(lib / "photos.db", [(None, str(lib))], [(1, 1, "stills")], [(1, "heron.jpg")])
    surveyed = survey_library(bench.workspace, lib)
    assert {d.place: d.format for d in surveyed.uses.documents} == {
        b"cut.bak": "otio", b"wrongly.xspf": "otio", b"photos.db": "fascat",
    }  # fmt: skip
    assert not surveyed.uses.not_understood
    plan = make_plan(bench.workspace, surveyed, bench.heron, Choices())
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    crossing.run()
    there = crossing.places.target
    led = {r.as_written for r in read(kind_named(b"x.otio"), (there / "cut.bak").read_bytes())}
    assert led == {"stills/heron.jpg", "media/Music/theme.wav"}
    with closing(sqlite3.connect(there / "photos.db")) as db:
        (top, folder), = db.execute(
            "SELECT p.path, f.path FROM folder f JOIN place p ON p.id = f.place_id"
        )  # fmt: skip
    assert os.path.normpath(Path(bench.heron) / top / folder) == str(there / "stills")
    opened = crossing.destinations[0].opened()
    assert opened.documents == 3 and opened.wrong == []
    crossing.close()
