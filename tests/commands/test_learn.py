"""Documents of unknown make: examined, confirmed, and from then on like all others.

They are judged by the readers of tests/learned/styles.py, which know nothing of the product.
"""

import os
import random
import re
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

import pytest

from fascis.crossing.scope.surveyed import survey_library
from fascis.files.control import Control
from fascis.files.errors import Cancelled, EnvironmentTrouble
from fascis.library.learning import asking
from fascis.library.learning.asking import confirm
from fascis.library.learning.asking import learn as look_at
from fascis.relink.acts import Acts, acts_of
from fascis.relink.contents import Contents
from fascis.relink.index import look_in
from fascis.workspace import from_environment
from tests.commands.test_commands import fascis
from tests.judge import contents
from tests.learned.styles import STYLES, media
from tests.library.making import timeline, write
from tests.thorough import spread

ROOTS, BINS, ELEMENTS = (
    next(s for s in STYLES if s.name == name)
    for name in ("root, folder, name", "JSON bins", "XML elements")
)
CHOSEN = [ROOTS, BINS, ELEMENTS]
pytestmark = pytest.mark.usefixtures("forked")


def make(library, style, seed=1, count=12, more=()):
    """A document of a style that refers to its own media in the library."""
    numbers = random.Random(seed)
    root = library / "Media"
    files = [*media(root, numbers, count), *map(str, more)]
    document = library / f"{style.name.split(',')[0]}.{style.ending}"
    style.write(document, list(files), str(root), numbers)
    return document, files


def learn(bench, document, *words):
    return fascis(bench, "learn", document, *words, "--json")


def confirmed(bench, *documents):
    for document in documents:
        status, said, err = learn(bench, document, "--confirm")
        assert (status, said["state"]) == (0, "confirmed"), err


def not_understood(bench):
    _, said, _ = fascis(bench, "survey", bench.library, "--json")
    return [d["path"] for d in said["documents"] if d["format"] == "not understood"]


def all_lead(style, document):
    read = style.read(document)
    return bool(read) and all(Path(p).is_file() for p in read)


@pytest.mark.parametrize("style", CHOSEN, ids=lambda s: s.name)
def test_an_examined_document_is_proposed_and_nothing_is_changed(bench, style):
    document, files = make(bench.library, style)
    before = contents(bench.drives)
    status, said, err = learn(bench, document)
    assert status == 0, err
    assert (said["verdict"], said["state"]) == ("readable", "proposed")
    (field,) = said["fields"]
    assert (field["values"], field["lead_to_files"], field["files"]) == (12, 12, 12)
    assert {e["leads_to"] for e in field["examples"]} <= set(files)
    assert contents(bench.drives) == before
    assert not from_environment().register.path.exists()
    assert not_understood(bench) == [document.name]


@pytest.mark.parametrize("style", CHOSEN, ids=lambda s: s.name)
def test_confirmed_it_crosses_gathers_and_leads_to_the_new_place(bench, style):
    loose = [bench.drives / f"inside/Elsewhere/otter {n}.mov" for n in range(3)]
    for n, path in enumerate(loose):
        write(path, b"o" * (n + 500))
    more = loose if style is not ROOTS else ()
    document, files = make(bench.library, style, more=more)
    as_it_was = document.read_bytes()
    confirmed(bench, document)
    assert not_understood(bench) == []
    status, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert (status, said["state"], said["left_behind"]) == (0, "released", []), err
    there = Path(said["to"][0]) / document.name
    assert all_lead(style, there)
    assert all(p.startswith(str(bench.heron)) for p in style.read(there))
    assert not bench.library.exists()
    assert all(path.exists() for path in loose)
    kept = list((Path(said["to"][0]) / ".fascis/as-it-was").rglob(document.name))
    assert [k.read_bytes() for k in kept] == [as_it_was]


def test_what_is_not_confirmed_is_not_understood_and_its_originals_stay(bench):
    document, files = make(bench.library, BINS)
    assert learn(bench, document)[1]["state"] == "proposed"
    status, said, _ = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert (status, said["state"]) == (0, "switched")
    assert all(os.path.exists(f) for f in files) and document.exists()


def test_forgotten_it_is_not_understood_again(bench):
    document, _ = make(bench.library, BINS)
    confirmed(bench, document)
    status, said, _ = learn(bench, document, "--forget")
    assert (status, said["state"]) == (0, "proposed")
    assert not_understood(bench) == [document.name]


def test_others_of_its_make_are_understood_and_others_are_not(bench):
    document, _ = make(bench.library, BINS)
    confirmed(bench, document)
    second = bench.library / "second"
    second.mkdir()
    make(second, BINS, seed=5)
    assert not_understood(bench) == []
    other = bench.library / "second" / "other.json"
    text = document.read_text().replace('"folder"', '"folders"')
    other.write_text(text)
    assert not_understood(bench) == ["second/other.json"]


def another_library(bench, style):
    """A second library beside the first, with a document of the same make."""
    there = bench.library.parent / "Spawning Beds"
    there.mkdir()
    document, files = make(there, style)
    for library in (bench.library, there):
        fascis(bench, "survey", library, "--json")
    return there, document, files


def survey_of(bench, library):
    _, said, err = fascis(bench, "survey", library, "--json")
    return {d["path"]: d["format"] for d in said["documents"]}, err


def proposed(bench):
    _, said, _ = fascis(bench, "survey", bench.library, "--json")
    return {d["document"]: d for d in said["proposed"]}


def test_in_another_library_it_is_asked_for_again(bench):
    document, _ = make(bench.library, ROOTS)
    there, other, files = another_library(bench, ROOTS)
    confirmed(bench, document)
    formats, told = survey_of(bench, there)
    assert formats == {other.name: "not understood"} and "fascis learn asks" in told
    status, planned, _ = fascis(
        bench, "relocate", there, "--to", bench.heron, "--after", "release", "--yes", "--json"
    )
    assert (status, planned["state"]) == (0, "switched")
    copied = Path(planned["to"][0]) / other.name
    assert copied.read_bytes() == other.read_bytes() and all(map(os.path.exists, files))
    status, said, _ = learn(bench, other)
    assert (status, said["state"]) == (0, "proposed") and "somebody said yes" in said["why"]
    confirmed(bench, other)
    assert survey_of(bench, there)[0] == {other.name: "learned"}
    assert survey_of(bench, bench.library)[0] == {document.name: "learned"}
    # What is forgotten in one is known in the other.
    assert learn(bench, document, "--forget")[1]["state"] == "proposed"
    assert survey_of(bench, bench.library)[0] == {document.name: "not understood"}
    assert survey_of(bench, there)[0] == {other.name: "learned"}
    learn(bench, other, "--forget")
    assert from_environment().register.readings() == []


def test_what_is_called_like_a_known_make_is_never_read_by_a_reading(bench):
    """Its name is that of a timeline, but it is not one: no reading is tried on it."""
    document, _ = make(bench.library, BINS)
    there, other, files = another_library(bench, BINS)
    confirmed(bench, document)
    named = other.rename(other.with_suffix(".otio"))
    before = named.read_bytes()
    assert survey_of(bench, there)[0] == {named.name: "not understood"}
    status, said, err = fascis(
        bench, "relocate", there, "--to", bench.heron, "--after", "release", "--yes", "--json"
    )
    assert (status, said["state"]) == (0, "switched"), err
    assert (Path(said["to"][0]) / named.name).read_bytes() == before
    assert all(map(os.path.exists, files)) and named.exists()


def test_a_mistake_of_ours_is_not_reported_as_the_documents(bench, monkeypatch):
    document, _ = make(bench.library, BINS)
    monkeypatch.setattr(asking, "CHILD", "tests.commands.dying_child")
    monkeypatch.setenv("PYTHONPATH", str(Path(__file__).parents[2]))
    wrong = document.rename(document.with_stem("mistaken"))
    with pytest.raises(EnvironmentTrouble, match="unexpected"):
        asking.learn(bench.workspace, wrong)


def test_a_copy_and_its_parts_are_read_as_the_library_was(bench):
    """An unknown library, which has an identity after it crossed."""
    document, _ = make(bench.library, BINS)
    confirmed(bench, document)
    _, said, _ = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "keep", "--yes", "--json"
    )
    there = Path(said["to"][0])
    assert survey_of(bench, there)[0][document.name] == "learned"
    moved = there.with_name("Elsewhere")
    there.rename(moved)
    # Its records contain its id, wherever it lies.
    assert learn(bench, moved / document.name)[1]["state"] == "confirmed"


def test_a_survey_tells_what_could_be_read(bench):
    document, _ = make(bench.library, ROOTS)
    (bench.library / "notes.xml").write_text("<a><b/></a>")
    said = proposed(bench)
    assert list(said) == [document.name]
    one = said[document.name]
    assert (one["verdict"], one["values"], one["lead_to_files"]) == ("readable", 12, 12)
    before = from_environment().register.proposed()
    assert list(before) == [bytes(document)]
    # Nothing changed: it is not looked through again.
    with closing(sqlite3.connect(from_environment().register.path)) as db:
        db.execute("UPDATE proposed SET said=replace(said, '12', '11')")
        db.commit()
    assert proposed(bench)[document.name]["values"] == 11
    os.utime(document, (1, 1))
    assert proposed(bench)[document.name]["values"] == 12


@pytest.mark.parametrize("value", ["herons/dawn.mov", "dawn.mov", "c:\\\\herons\\\\dawn"])
def test_paths_where_nothing_stood_when_it_was_examined(bench, value):
    """Relative paths do not show whether such a file exists: nobody judged this column."""
    document, _ = make(bench.library, ROOTS)
    with closing(sqlite3.connect(document)) as db:
        db.execute("ALTER TABLE n ADD COLUMN proxy TEXT NOT NULL DEFAULT ''")
        db.execute("ALTER TABLE n ADD COLUMN said TEXT")
        db.commit()
    confirmed(bench, document)
    with closing(sqlite3.connect(document)) as db:
        db.execute("UPDATE n SET said='in the rain' WHERE k=2")
        db.commit()
    assert not_understood(bench) == []
    with closing(sqlite3.connect(document)) as db:
        db.execute("UPDATE n SET proxy=? WHERE k=3", (value,))
        db.commit()
    assert "nothing stood there" in survey_of(bench, bench.library)[1]


def test_two_places_that_say_the_same_are_a_persons_choice(bench):
    style = next(s for s in STYLES if s.name == "two whole paths")
    document, files = make(bench.library, style)
    status, said, _ = learn(bench, document, "--confirm")
    assert (status, said["state"]) == (1, "proposed")
    assert len(said["fields"]) == 2 and all(f["contested_by"] for f in said["fields"])
    status, said, _ = learn(bench, document, "--choose", "1")
    assert (status, said["state"]) == (0, "confirmed")
    status, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "keep", "--yes",
        "--json",
    )  # fmt: skip
    assert (status, said["state"]) == (0, "switched"), err
    there = Path(said["to"][0]) / document.name
    assert all_lead(style, there)
    assert all(os.path.exists(f) for f in files)


def test_a_trigger_is_refused_and_never_confirmed(bench):
    document, files = make(bench.library, ROOTS)
    with closing(sqlite3.connect(document)) as db:
        db.executescript(
            "CREATE TABLE seen(t TEXT); CREATE TRIGGER t AFTER UPDATE OF a ON r BEGIN "
            "INSERT INTO seen VALUES(new.a); END"
        )
    before = document.read_bytes()
    status, said, _ = learn(bench, document, "--confirm")
    assert (status, said["verdict"], said["state"]) == (3, "refused", "none")
    assert "would run" in said["why"]
    assert document.read_bytes() == before and all(os.path.exists(f) for f in files)


@pytest.mark.parametrize("style", CHOSEN, ids=lambda s: s.name)
def test_after_a_renamed_folder_it_is_relinked_and_undone(bench, style):
    document, files = make(bench.library, style)
    confirmed(bench, document)
    fascis(bench, "survey", bench.library)
    as_it_was = document.read_bytes()
    (bench.library / "Media").rename(bench.library / "Footage")
    status, said, err = fascis(
        bench, "relink", bench.library, "--search", bench.library, "--apply", "--json"
    )
    assert status == 0, err
    assert all_lead(style, document)
    status, _, err = fascis(bench, "undo", said["act"])
    assert status == 0, err
    assert document.read_bytes() == as_it_was
    assert len(list((bench.library / "Footage").rglob("*.*"))) >= len(files)


def test_it_stays_and_follows_when_a_part_goes(bench):
    document, files = make(bench.library, BINS)
    confirmed(bench, document)
    folder = sorted({Path(f).parent.parent.name for f in files})[0]
    gone = [f for f in files if f"/Media/{folder}/" in f]
    status, said, err = fascis(
        bench, "relocate", bench.library, "--only", f"Media/{folder}", "--to", bench.heron,
        "--after", "release", "--yes", "--json",
    )  # fmt: skip
    assert status in (0, 1), err
    assert all_lead(BINS, document)
    assert all(os.path.exists(f) for f in files if f not in gone)


def one_root_for_all(bench):
    """A document with one root, below which its media lie and a file outside of the library."""
    loose = bench.drives / "inside/Elsewhere/otter.mov"
    write(loose, b"o" * 500)
    document, files = make(bench.library, ROOTS, count=20)
    with closing(sqlite3.connect(document)) as db:
        root = bench.drives / "inside"
        below = (bench.library / "Media").relative_to(root)
        db.execute("UPDATE r SET a=?", (str(root),))
        db.execute("UPDATE f SET b=?||'/'||b", (str(below),))
        db.execute("INSERT INTO f VALUES(99, 7, 'Elsewhere')")
        db.execute("INSERT INTO n VALUES(99, 99, 'otter.mov')")
        db.commit()
    assert all_lead(ROOTS, document)
    confirmed(bench, document)
    return document, files, loose


def test_one_root_says_where_all_of_it_is_together(bench):
    document, files, loose = one_root_for_all(bench)
    status, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert (status, said["state"]) == (0, "released"), err
    there = bench.heron / bench.library.name / document.name
    assert all_lead(ROOTS, there)
    assert all(p.startswith(str(bench.heron)) for p in ROOTS.read(there))
    assert loose.exists()


def test_what_cannot_be_rewritten_is_left_as_it_is_and_says_why(bench):
    """Its program logs every change of a folder: that was not so when it was examined."""
    document, files = make(bench.library, ROOTS)
    confirmed(bench, document)
    with closing(sqlite3.connect(document)) as db:
        db.executescript("CREATE TRIGGER t AFTER UPDATE OF a ON r BEGIN UPDATE n SET c=c||'x'; END")
    as_it_was = document.read_bytes()
    status, said, _ = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert status != 0 and said["state"] != "released"
    assert all(map(os.path.exists, files)) and document.read_bytes() == as_it_was
    wrong = [p["sentence"] for p in said["problems"] if p["code"] == "out-of-balance"]
    assert f"{document.name} is as it was: A change of r.a would run" in wrong[0]


@pytest.mark.parametrize("known", [True, False], ids=["in the library", "beside it"])
def test_a_timeline_whose_name_says_nothing_follows_what_it_uses(bench, known):
    """Documents are recognised by their content, also when searching what is needed elsewhere."""
    clip = bench.library / "Media/weir.mov"
    write(clip, b"w" * 900)
    write(bench.library / "Autumn/autumn.otio", timeline("../Media/weir.mov"))
    other = (bench.library if known else bench.library.parent) / "Spring/spring.cut"
    write(other, timeline(os.path.relpath(clip, other.parent)))
    status, said, err = fascis(
        bench, "relocate", bench.library, "--only", "Autumn", "--to", bench.heron, "--after",
        "release", "--yes", "--json",
    )  # fmt: skip
    assert (status, len(said["followers"])) == (0, 1), err
    (target,) = re.findall(r'"target_url": "([^"]+)"', other.read_text())
    assert Path(os.path.join(other.parent, target)).read_bytes() == b"w" * 900
    assert not clip.exists()


def test_on_another_computer_the_yes_is_known_and_asked_for_again(bench):
    style = next(s for s in STYLES if s.name == "two whole paths")
    document, _ = make(bench.library, style)
    learn(bench, document, "--choose", "1")
    status, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "keep", "--yes", "--json"
    )
    assert status == 0, err
    arrived = Path(said["to"][0])
    assert len(list((arrived / ".fascis/readings").iterdir())) == 1
    from_environment().register.path.unlink()
    status, said, _ = learn(bench, arrived / document.name)
    assert (status, said["state"]) == (0, "proposed")
    assert "another computer" in said["why"]
    assert "contested_by" not in said["fields"][0]
    (reading,) = (arrived / ".fascis/readings").iterdir()
    reading.write_text("{")
    assert learn(bench, arrived / document.name)[0] == 1


class Killed(BaseException):
    """The program ends here."""


@pytest.mark.parametrize("style", CHOSEN, ids=lambda s: s.name)
def test_interrupted_while_it_is_updated_it_is_the_old_one_or_the_new_one(bench, style):
    document, files = make(bench.library, style)
    learnt = look_at(bench.workspace, document)
    confirm(bench.workspace, learnt)
    before = document.read_bytes()
    (bench.library / "Media").rename(bench.library / "Footage")

    def lead():
        surveyed = survey_library(bench.workspace, bench.library)
        relinking = surveyed.relinking(bench.workspace)
        match = relinking.match(look_in([bench.library]), Contents())
        return acts_of(bench.workspace).apply(
            "id", surveyed.name, bench.library, relinking.files, relinking.retargets(match)
        )

    steps = []
    bench.step = steps.append
    act = lead()
    new = document.read_bytes()
    assert all_lead(style, document) and new != before
    acts_of(bench.workspace).undo(act.id)
    assert document.read_bytes() == before
    for point in spread(len(steps), 8):
        seen = []

        def killed(name, seen=seen, point=point):
            seen.append(name)
            if len(seen) > point:
                raise Killed(name)

        bench.step = killed
        with pytest.raises(Killed), pytest.MonkeyPatch.context() as patch:
            patch.setattr(Acts, "_take_back", lambda self, act: None)
            lead()
            raise Killed
        bench.step = lambda _name: None
        assert document.read_bytes() in (before, new), seen
        acts_of(bench.again()).recover()
        for done in acts_of(bench.workspace).all():
            if done.state == "done":
                acts_of(bench.workspace).undo(done.id)
        assert document.read_bytes() == before, seen


def test_what_a_column_that_was_not_examined_names_makes_it_not_understood(bench):
    """The shape is the same, but it contains more: its needs are not known any more."""
    document, files = make(bench.library, ROOTS)
    with closing(sqlite3.connect(document)) as db:
        db.execute("ALTER TABLE n ADD COLUMN sound TEXT")
        db.commit()
    confirmed(bench, document)
    assert not_understood(bench) == []
    sound = bench.drives / "inside/Elsewhere/theme.wav"
    write(sound, b"s" * 600)
    with closing(sqlite3.connect(document)) as db:
        db.execute("UPDATE n SET sound=? WHERE k=3", (str(sound),))
        db.commit()
    assert not_understood(bench) == [document.name]
    status, said, _ = learn(bench, document)
    assert len(said["fields"]) == 2
    assert {e["leads_to"] for f in said["fields"] for e in f["examples"]} >= {str(sound)}
    status, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert said["state"] == "switched", err
    assert sound.exists() and all(os.path.exists(f) for f in files)


def test_a_reading_that_makes_no_sense_stops_nothing_and_its_document_is_not_understood(bench):
    document, _ = make(bench.library, BINS)
    confirmed(bench, document)
    with closing(sqlite3.connect(from_environment().register.path)) as db:
        db.execute("UPDATE reading SET said='{}'")
        db.commit()
    assert not_understood(bench) == [document.name]
    assert learn(bench, document)[1]["state"] == "proposed"


def test_a_drive_that_is_named_by_its_identity_is_another_one_then(bench):
    """Its mount point is in no cell: what identifies the drive is changed with the paths."""
    bench.add_drive("inside", transport="nvme", uuid="5f0c2f6e-93b1-4c1e-8f5d-2d1a6c7e9b01")
    bench.add_drive("heron", uuid="a8d3e7b4-10c2-4f6a-b7e9-6c5d4e3f2a02")
    files = media(bench.library / "Media", random.Random(3), 12)
    inside, heron = (bench.workspace.drives.at(path) for path in (bench.library, bench.heron))
    document = bench.library / "clips.db"
    with closing(sqlite3.connect(document)) as db:
        db.executescript(
            "CREATE TABLE disk(k INTEGER PRIMARY KEY, u TEXT UNIQUE);"
            "CREATE TABLE clip(k INTEGER PRIMARY KEY, d INTEGER REFERENCES disk(k), at TEXT)"
        )
        db.execute("INSERT INTO disk VALUES(1, ?)", (inside.uuid,))
        rows = [(n, str(Path(f).relative_to(inside.mount))) for n, f in enumerate(files)]
        db.executemany("INSERT INTO clip VALUES(?, 1, ?)", rows)
        db.commit()
    confirmed(bench, document)
    assert not_understood(bench) == []
    status, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert (status, said["state"]) == (0, "released"), err
    with closing(sqlite3.connect(Path(said["to"][0]) / document.name)) as db:
        rows = db.execute("SELECT u, at FROM clip JOIN disk ON disk.k=d").fetchall()
    assert {uuid for uuid, _ in rows} == {heron.uuid}
    assert len(rows) == 12 and all((heron.mount / at).is_file() for _, at in rows)


def test_a_document_that_takes_too_much_ends_nothing_but_itself(bench, monkeypatch):
    """Its child process is stopped; another one examines the documents after it."""
    paths = []
    for n, name in enumerate(["before", "fatal", "behind"]):
        document, _ = make(bench.library / name, BINS, seed=n)
        paths.append(document.rename(document.with_stem(name)))
    monkeypatch.setattr(asking, "CHILD", "tests.commands.dying_child")
    monkeypatch.setenv("PYTHONPATH", str(Path(__file__).parents[2]))
    before = contents(bench.drives)
    found = asking.learn_all(bench.workspace, paths, [bench.library])
    assert [one.verdict for one in found] == ["readable", "refused", "readable"]
    assert "time and memory" in found[1].why and found[1].fields == []
    assert contents(bench.drives) == before
    assert list(bench.workspace.private.iterdir()) == []


def test_after_a_stop_nothing_continues(bench, monkeypatch):
    document, _ = make(bench.library, BINS)
    control, begun = Control(), []

    def begin(*words, **more):
        begun.append(subprocess.Popen(*words, **more))
        return begun[-1]

    monkeypatch.setattr(asking.subprocess, "Popen", begin)
    with pytest.raises(Cancelled):
        asking.learn(bench.workspace, document, (), control, lambda *_: control.stop())
    (child,) = [one for one in begun if "fascis.library.learning.child" in one.args]
    assert child.poll() is not None
    assert list(bench.workspace.private.iterdir()) == []


@pytest.mark.parametrize("style", CHOSEN, ids=lambda s: s.name)
def test_brought_back_it_is_byte_for_byte_as_it_was(bench, style):
    """The library has this document and no other."""
    document, files = make(bench.library, style)
    confirmed(bench, document)
    before = {path: path.read_bytes() for path in [document, *map(Path, files)]}
    _, said, _ = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert said["state"] == "released" and not bench.library.exists()
    there = Path(said["to"][0])
    assert all_lead(style, there / document.name)
    status, back, err = fascis(bench, "bring-back", there, "--after", "release", "--yes", "--json")
    assert (status, back["state"]) == (0, "released"), err
    assert {path: path.read_bytes() for path in before} == before
    assert not there.exists()


def test_split_off_it_takes_its_media_along(bench):
    """Two documents of unknown make, each with media of its own."""
    made = {}
    for n, (name, style) in enumerate(zip(["Weir", "Otters"], [ROOTS, ELEMENTS], strict=True)):
        made[name] = make(bench.library / name, style, seed=n)
        confirmed(bench, made[name][0])
    status, said, err = fascis(
        bench, "relocate", bench.library, "--only", "Weir", "--to", bench.heron, "--after",
        "release", "--yes", "--json",
    )  # fmt: skip
    assert (status, said["state"]) == (0, "released"), err
    document, files = made["Weir"]
    there = Path(said["to"][0])
    (there,) = [p for p in there.rglob(document.name) if ".fascis" not in p.parts]
    assert all_lead(ROOTS, there) and not any(map(os.path.exists, files))
    assert all(p.startswith(str(bench.heron)) for p in ROOTS.read(there))
    other, stay = made["Otters"]
    assert ELEMENTS.read(other) == stay and all(map(os.path.exists, stay))


def noted(document):
    with closing(sqlite3.connect(document)) as db:
        return db.execute("SELECT c FROM n ORDER BY k").fetchall(), db.execute(
            "SELECT * FROM note"
        ).fetchall()


def note(document, words, keep):
    """Writes text that is not a path, on request only into the journal."""
    db = sqlite3.connect(document)
    db.execute("PRAGMA journal_mode=WAL")
    db.execute("PRAGMA wal_autocheckpoint=0")
    db.execute("CREATE TABLE IF NOT EXISTS note(w TEXT)")
    db.execute("PRAGMA wal_checkpoint(TRUNCATE)")
    db.execute("INSERT INTO note VALUES(?)", (words,))
    db.commit()
    if not keep:
        db.close()
        return
    # As a program leaves it that was ended: the journal lies beside it.
    ends = ["", "-wal"]
    there = {end: Path(f"{document}{end}").read_bytes() for end in ends}
    db.close()
    for end, content in there.items():
        Path(f"{document}{end}").write_bytes(content)


@pytest.mark.parametrize("when", ["before", "at the copy"])
def test_brought_back_what_is_in_a_journal_is_not_lost(bench, when):
    """References are as before; a person's later notes are only in the journal."""
    document, files = make(bench.library, ROOTS)
    note(document, "calm", keep=False)
    note(document, "the weir is open", keep=when == "before")
    confirmed(bench, document)
    _, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--after", "release", "--yes",
        "--json",
    )  # fmt: skip
    assert said["state"] == "released", err
    there = Path(said["to"][0])
    if when != "before":
        note(there / document.name, "seen at dusk", keep=True)
    names, words = noted_in_copy(there / document.name)
    status, back, err = fascis(bench, "bring-back", there, "--yes", "--json")
    assert (status, back["state"]) == (0, "switched"), err
    assert noted(document) == (names, words) and len(words) == 2 + (when != "before")
    assert all_lead(ROOTS, document) and all(map(os.path.exists, files))


def noted_in_copy(document):
    """The content of a document, without touching its journal."""
    apart = document.with_name("apart")
    apart.mkdir()
    for end in ("", "-wal"):
        if Path(f"{document}{end}").exists():
            (apart / f"x.db{end}").write_bytes(Path(f"{document}{end}").read_bytes())
    found = noted(apart / "x.db")
    for path in apart.iterdir():
        path.unlink()
    apart.rmdir()
    return found
