"""Names that the new drive cannot store.

Changed in the copy, followed by documents, restored on the way home.
"""

import csv
import hashlib
import os
import subprocess
import time
from pathlib import Path
from urllib.parse import unquote

import opentimelineio as otio
import pytest
from hypothesis import given
from hypothesis import strategies as st

from fascis.crossing.crossing import Crossing
from fascis.crossing.fit.names import allot_more
from fascis.crossing.model.problems import Severity
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing
from fascis.crossing.status.scales import weigh
from fascis.demo.timelines import Cut, sequence, write_catalog, write_timeline
from fascis.drives.rules import all_rules, rules_of
from fascis.files.errors import Refused
from fascis.files.names import unlisted
from tests.clock import within
from tests.crossing.test_proof import real
from tests.crossing.ways import codes, started
from tests.judge import contents

CLASHING = (
    "media/Herons: dawn?.mov", "media/tab\tname.wav", "media/The end.", "media/take 1 ",
    "media/aux.mov", "media/CON", "media/nul/a.mov",
    "media/Day 01./b.mov", "media/Weir.mov", "media/weir.mov", "media/WEIR.mov", "Stills/a.jpg",
    "stills/a.jpg", "media/Crew/c.mov",
    "media/crew", 'media/"quoted" <1|2>.mov', "media/back\\slash.mov", "media/star*.jpg",
    "media/star*.xmp", "media/h\u00e9ron.jpg", "media/he\u0301ron.jpg",
    "media/" + "x" * 255, "media/\u00c9t\u00e9.mov", "media/\u00e9t\u00e9.mov",
    "media/con.tent.mov", "media/plain.mov", "media/COM1.wav",
    "media/" + "\u00e9" * 120 + ".mov", "media/line\nbreak.mov", "media/lpt9", "media/trailing...",
    "media/both. . ",
)  # fmt: skip


@pytest.fixture
def clashing(bench):
    """A library that has every kind of clash, with documents that refer to what clashes."""
    lib = bench.library
    bench.fill({place: place.encode() * 3 for place in CLASHING})
    bench.fill(
        {
            b"media/not \xff\xfe unicode.mov": 60,
            "tools/run": 10,
            "media/old.mov": 20,
            "media/far.mov": 20,
        }
    )
    os.chmod(lib / "tools/run", 0o755)
    os.symlink("plain.mov", lib / "media/link")
    os.link(lib / "media/plain.mov", lib / "media/second name.mov")
    os.setxattr(lib / "media/plain.mov", "user.mood", b"calm")
    os.utime(lib / "media/old.mov", (86_400 * 300, 86_400 * 300))  # 1970
    os.utime(lib / "media/far.mov", (7_000_000_000, 7_000_000_000))  # 2191
    with open(lib / "media/sparse.mov", "wb") as out:
        out.truncate(300_000)
    used = sorted(p for p in CLASHING if p.endswith(".mov"))
    write_timeline(lib / "cuts: first.otio", used, ["media/tab\tname.wav"], Cut(len(used), 48))
    (lib / "all.m3u8").write_text("#EXTM3U\n" + "".join(f"{p}\n" for p in used if "\n" not in p))
    (lib / "notes.txt").write_text("kept")
    # fmt: skip
    write_catalog(
        lib / "Stills.fascat",
        [
            (None, str(lib), "stills", ["a.jpg"]),
            (None, str(lib), "media", ["h\u00e9ron.jpg", "star*.jpg"]),
        ],
    )
    return lib


def crossed(workspace, library, to, **choices):
    plan = make_plan(
        workspace, survey_library(workspace, library), to, Choices(**choices), ask=True
    )
    crossing = Crossing.start(workspace, plan, decided=True)
    state = crossing.run()
    return plan, crossing, state


def before_of(copy):
    """The inventory's places.

    Place in the copy → earlier place, by the standard library's reader alone.
    """
    with open(copy / ".fascis/inventory.csv", newline="") as out:
        rows = list(csv.DictReader(out))
    return {
        unlisted(r["path"], r["path_encoding"]): unlisted(
            r["path_before"], r["path_before_encoding"]
        )
        if r.get("path_before")
        else unlisted(r["path"], r["path_encoding"])
        for r in rows
    }


def oracle(timeline):
    """The digests of what opentimelineio alone finds, in order."""
    top = otio.adapters.read_from_file(str(timeline))
    urls = [c.media_reference.target_url for c in top.find_clips()]
    there = [
        p if (p := timeline.parent / u).exists() else timeline.parent / unquote(u) for u in urls
    ]
    return [hashlib.sha256(p.read_bytes()).hexdigest() for p in there]


def everything_is_there(library, copy, but=()):
    """Every file of the library is in the copy, whole, at the place in the inventory."""
    old, new, before = contents(library), contents(copy), before_of(copy)
    new = {p: digest for p, digest in new.items() if not os.path.islink(copy / os.fsdecode(p))}
    documents = {b"cuts: first.otio", b"all.m3u8", b"Stills.fascat", *but}
    there = {before[p]: digest for p, digest in new.items() if not p.startswith(b".fascis/")}
    files = {
        p
        for p in old
        if not p.startswith(b".fascis/") and not os.path.islink(library / os.fsdecode(p))
    }
    assert files - set(but) == set(there)
    assert {p: there[p] for p in files - documents} == {p: old[p] for p in files - documents}


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["ext4", "btrfs", "exfat", "ntfs"])
def test_a_library_of_every_clash_crosses_and_comes_back(bench, clashing, mounted, filesystem):
    """No clash is met while copying that the plan had not named; documents find everything.

    Names come back.
    """
    workspace, to = real(bench).workspace, mounted(filesystem)
    before = contents(clashing)
    plan, crossing, state = crossed(workspace, clashing, to)
    assert state is State.SETTLED and crossing.journal.attentions() == [], (
        crossing.journal.attentions()
    )
    assert weigh(crossing).even and contents(clashing) == before
    copy = to / clashing.name
    everything_is_there(clashing, copy)
    cut = next(p for p in copy.iterdir() if p.suffix == ".otio")
    assert oracle(cut) == oracle(clashing / "cuts: first.otio")
    assert (
        subprocess.run(["b3sum", "--quiet", "--check", ".fascis/manifest.b3"], cwd=copy).returncode
        == 0
    )
    told = codes(plan)
    if filesystem in ("exfat", "ntfs"):
        names = {os.fsdecode(p) for f in copy.rglob("*") for p in [os.fsencode(f.name)]}
        assert not any(set(n) & set('"*:<>?\\|\t\n') or n[-1] in ". " for n in names)
        assert told["name-not-possible"] == told["names-become-one"] == "decision"
    else:
        assert "name-not-possible" not in told and "names-become-one" not in told
    if filesystem == "exfat":
        assert {"links-not-kept", "hard-links-not-kept", "permissions-not-kept",
        "attributes-not-kept", "times-coarser",
                "holes-not-kept", "times-not-kept"} <= set(told)  # fmt: skip
    crossing.switch()
    crossing.close()
    home = bench.heron  # a real folder here
    _, back, state = crossed(workspace, copy, home)
    assert state is State.SETTLED, back.journal.attentions()
    there = home / clashing.name
    for place in before:
        path = there / os.fsdecode(place)
        if os.path.islink(clashing / os.fsdecode(place)):
            continue
        assert path.is_file(), place
        if path.suffix not in (".otio", ".m3u8", ".fascat"):
            # fmt: skip
            assert (
                hashlib.sha256(path.read_bytes()).hexdigest()
                == hashlib.sha256((clashing / os.fsdecode(place)).read_bytes()).hexdigest()
            )
    assert oracle(there / "cuts: first.otio") == oracle(clashing / "cuts: first.otio")
    back.close()


def test_a_sidecar_and_its_photo_are_renamed_together(bench, clashing):
    crossing = started(bench, to=bench.add_drive("stick", "vfat"))
    bench.again()
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    names = {p.name for p in (bench.drives / "stick/The Weir/media").iterdir()}
    assert {"star_.jpg", "star_.xmp"} <= names


def frames(bench):
    lib = bench.fill({f"seq/gauge?_{n:04}.png": 20 for n in range(1, 4)} | {"media/a.mov": 9})
    write_timeline(
        lib / "cut.otio",
        ["media/a.mov"],
        [],
        Cut(1, 24),
        [sequence("seq/", "gauge?_", ".png", 1, 3)],
    )
    return bench.add_drive("ex", "exfat")


def test_a_frame_cannot_be_renamed_and_can_be_left_out(bench):
    to = frames(bench)
    bench.again()
    surveyed = survey_library(bench.workspace, bench.library)
    plan = make_plan(bench.workspace, surveyed, to, Choices())
    stops = [p for p in plan.problems if p.severity is Severity.STOPS]
    assert [p.code for p in stops] == ["name-not-possible"] and len(stops[0].files) == 3
    with pytest.raises(Refused, match="is not possible"):
        Crossing.start(bench.workspace, plan, decided=True)
    without, crossing, state = crossed(bench.workspace, bench.library, to, leave_clashing=True)
    assert (
        state is State.SETTLED
        and without.clashing == (3, 60)
        and codes(without)["not-holdable"] == "note"
    )
    crossing.switch()
    crossing.release()
    assert sorted(p.name for p in (bench.library / "seq").iterdir()) == [
        f"gauge?_{n:04}.png" for n in (1, 2, 3)
    ]
    assert not (bench.library / "media").exists() and (to / "The Weir/media/a.mov").is_file()


def test_a_file_that_is_too_large_is_left_out_by_choice_and_stays(bench, library):
    with open(library / "long.mov", "wb") as out:
        out.truncate(4_400_000_000)
    to = bench.add_drive("fat", "vfat", capacity=10**10)
    bench.again()
    assert make_plan(
        bench.workspace, survey_library(bench.workspace, library), to, Choices()
    ).stopped
    _, crossing, state = crossed(bench.workspace, library, to, leave_clashing=True)
    assert state is State.SETTLED and not (to / "The Weir/long.mov").exists()
    crossing.switch()
    crossing.release()
    assert [p.name for p in bench.library.iterdir()] == ["long.mov"] and (
        to / "The Weir/notes.txt"
    ).is_file()


def test_what_appears_later_under_such_a_name_is_kept_apart_too(bench, library):
    to = bench.add_drive("ex", "exfat")
    bench.fill({"media/A.mov": 9})
    bench.again()
    crossing = started(bench, to=to)
    assert crossing.run() is State.SETTLED
    new = bench.fill(
        {"media/a.mov": b"later", "media/why?/b.mov": b"new", "media/a.mov.xmp": b"<x/>"}
    )
    state = crossing.bring_along()
    assert state is State.SETTLED, crossing.journal.attentions()
    everything_is_there(new, to / "The Weir")
    assert (to / "The Weir/media/A.mov").is_file() and (
        to / "The Weir/media/why_/b.mov"
    ).read_bytes() == b"new"


def test_originals_that_were_kept_apart_go_by_their_own_names_and_nothing_else_does(bench, library):
    """Released are the originals.

    What has the name that a copy got meanwhile appeared there, and stays.
    """
    bench.fill(
        {
            "media/why?.mov": b"why",
            "media/Case.mov": b"1",
            "media/case.mov": b"2",
            "Day?/a.mov": b"day",
        }
    )
    to, before = bench.add_drive("ex", "exfat"), contents(library)
    bench.again()
    crossing = started(bench, to=to)
    assert crossing.run() is State.SETTLED
    crossing.switch()
    bench.fill({"media/why_.mov": b"not a copy", "Day_/a.mov": b"nor this"})
    crossing.release()
    assert contents(library).keys() == {b"media/why_.mov", b"Day_/a.mov"}
    assert (library / "media/why_.mov").read_bytes() == b"not a copy" and (
        library / "Day_/a.mov"
    ).read_bytes() == b"nor this"
    there = contents(to / "The Weir")
    assert {before_of(to / "The Weir")[p]: d for p, d in there.items()} == before
    left = crossing.journal.value("release")["left_behind"]
    assert {(x["path"], x["why"]) for x in left} == {
        ("media/why_.mov", "appeared"),
        ("Day_/a.mov", "appeared"),
    }


def test_what_was_left_out_does_not_hide_what_has_its_name_there(bench):
    """Of a dozen pairs, for the file system lists them in its own order."""
    names = [f"media/why {n}" for n in range(12)]
    lib = bench.fill(
        {f"{n}?.mov": b"used" for n in names} | {f"{n}_.mov": b"unused" for n in names}
    )
    write_timeline(lib / "cut.otio", [f"{n}?.mov" for n in names], [], Cut(12, 24))
    to = bench.add_drive("ex", "exfat")
    bench.again()
    _, crossing, state = crossed(bench.workspace, lib, to, leave_unused=True)
    assert state is State.SETTLED and crossing.journal.attentions() == []
    assert (
        crossing.destinations[0].opened().wrong == []
        and crossing.destinations[0].opened().found == 12
    )
    assert all((to / f"The Weir/{n}_.mov").read_bytes() == b"used" for n in names)
    crossing.close()


def test_two_drives_get_the_same_names_where_one_cannot_hold_them(bench, library):
    bench.fill({"media/why?.mov": b"why", "NOTES.txt": b"2"})
    other, before = bench.add_drive("ex", "exfat"), contents(library)
    bench.again()
    crossing = started(bench, also=other)
    assert crossing.run() is State.SETTLED and weigh(crossing).even
    assert contents(bench.heron / "The Weir") == contents(other / "The Weir")
    assert {
        before_of(other / "The Weir")[p]: d for p, d in contents(other / "The Weir").items()
    } == before
    crossing.switch()
    crossing.release()
    assert not library.exists() and (bench.heron / "The Weir/media/why_.mov").read_bytes() == b"why"


def test_an_original_whose_renamed_copy_is_gone_stays(bench, library):
    bench.fill({"media/why?.mov": b"why"})
    to = bench.add_drive("ex", "exfat")
    bench.again()
    crossing = started(bench, to=to)
    assert crossing.run() is State.SETTLED
    crossing.switch()
    os.unlink(to / "The Weir/media/why_.mov")
    record = crossing.release()
    assert [(x["path"], x["why"]) for x in record["left_behind"]] == [
        ("media/why?.mov", "copy-missing")
    ]
    assert (library / "media/why?.mov").read_bytes() == b"why" and len(contents(library)) == 1


def test_interrupted_anywhere_it_resumes_with_the_same_names(bench, library):
    """Killed at steps all along; renamed files keep the names in the plan."""
    bench.fill({"media/why?.mov": b"why", "media/WHY_.mov": b"other", "media/Why?.mov": b"third"})
    to = bench.add_drive("ex", "exfat")
    bench.again()
    before = contents(library)

    class Killed(BaseException):
        pass

    def dies_at(last):
        count = [0]

        def step(_name):
            count[0] += 1
            if count[0] == last:
                raise Killed

        return step

    first = started(bench, to=to)
    id, at = first.id, 3
    first.close()
    names = None
    for _ in range(200):
        bench.step = dies_at(at)
        bench.again()
        crossing = find_crossing(bench.workspace, id)
        names = names or crossing.journal.renamed()
        assert crossing.journal.renamed() == names
        try:
            state = crossing.run()
        except Killed:
            at += 17
            continue
        finally:
            crossing.close()
        assert state is State.SETTLED
        break
    bench.step = lambda _name: None
    assert contents(library) == before
    everything_is_there(library, to / "The Weir")


NAME = st.binary(min_size=1, max_size=12).filter(
    lambda n: b"/" not in n and b"\0" not in n and n not in (b".", b"..")
)
# fmt: skip
NEAR = st.lists(
    st.sampled_from(
        [
            b"a",
            b"A",
            b".",
            b" ",
            b"?",
            b"aux",
            b"\xc3\xa9",
            b"\xc3\x89",
            b"e\xcc\x81",
            b"\xff",
            b"(2)",
            b"_",
            b"x" * 120,
        ]
    ),
    min_size=1,
    max_size=4,
).map(b"".join)


@given(
    st.lists(
        st.one_of(NAME, NEAR).filter(lambda n: n not in (b".", b"..") and len(n) < 256),
        unique=True,
        max_size=14,
    ),
    st.sampled_from(all_rules()),
    st.sampled_from(all_rules()),
)
def test_names_that_are_allotted_can_be_held_and_are_all_different(names, one, other):
    new = allot_more([], names, [one, other])
    there = [new.get(n, n) for n in names]
    for rules in (one, other):
        assert not any(rules.refuses_name(n) for n in there)
        assert len({rules.fold(n) for n in there}) == len(there)
    for name in new:  # nothing is renamed without need
        doubled = any(r.fold(name) == r.fold(n) for r in (one, other) for n in names if n != name)
        needs = doubled or any(r.refuses_name(name) for r in (one, other))
        stem = name.rpartition(b".")[0] or name
        assert (
            needs
            or any(n != name and n.startswith(stem) for n in names)
            or any(t == name for t in new.values())
        )


def test_who_cannot_be_renamed_keeps_the_name_that_others_want(bench):
    lib = bench.fill(
        {f"seq/frame_{n:04}.png": 20 + n for n in range(1, 4)}
        | {"seq/FRAME_0002.png": 9, "media/a.mov": 5}
    )
    write_timeline(
        lib / "cut.otio",
        ["media/a.mov"],
        [],
        Cut(1, 24),
        [sequence("seq/", "frame_", ".png", 1, 3)],
    )
    to = bench.add_drive("ex", "exfat")
    bench.again()
    plan, crossing, state = crossed(bench.workspace, lib, to)
    assert state is State.SETTLED and list(plan.apart.files.values()) == [b"FRAME_0002 (2).png"]
    assert (to / "The Weir/seq/frame_0002.png").stat().st_size == 22
    crossing.close()


def test_thousands_of_names_in_another_encoding_are_distinguished_quickly():
    names = [
        bytes([0xE0 + n // 225, 0xE0 + n // 15 % 15, 0xE0 + n % 15]) + b".mov" for n in range(3000)
    ]
    begun = time.monotonic()
    new = allot_more([], names, [rules_of("exfat")])
    within(begun, 5)
    assert len(set(new.values())) == 3000


def test_a_name_of_255_letters_is_cut_before_its_ending_where_bytes_count():
    long = "\u00e9".encode() * 251 + b".mov"
    (new,) = allot_more([], [long], [rules_of("ext4")]).values()
    assert len(new) <= 255 and new.endswith(b".mov") and new.decode()


@pytest.mark.lab
def test_a_library_on_ntfs_with_long_names_goes_to_ext4(bench, mounted):
    workspace, source, to = (
        real(bench).workspace,
        mounted("ntfs", label="OLD"),
        mounted("ext4", label="NEW"),
    )
    name = "\u00e9" * 200 + ".mov"
    (source / "Lib").mkdir()
    (source / "Lib" / name).write_bytes(b"long")
    (source / "Lib/list.m3u8").write_text(f"#EXTM3U\n{name}\n")
    plan, crossing, state = crossed(workspace, source / "Lib", to)
    assert state is State.SETTLED and codes(plan)["name-not-possible"] == "decision"
    line = (to / "Lib/list.m3u8").read_text().splitlines()[1]
    assert (to / "Lib" / line).read_bytes() == b"long" and len(os.fsencode(line)) <= 255
    crossing.close()


def test_an_inventory_s_names_before_cannot_lead_elsewhere(bench, library):
    """It is untrusted.

    A name before that would leave the library, or stand beside another, is not taken.
    """
    (library / ".fascis").mkdir()
    header = (
        "path,path_encoding,size_bytes,mtime_ns,blake3,role,path_before,path_before_encoding\r\n"
    )
    rows = (
        "notes.txt,utf-8,1,1,,other,../../out.txt,utf-8", "notes.txt,utf-8,1,1,,other,stills,utf-8",
        "notes.txt,utf-8,1,1,,other,.fascis,utf-8",
        ".fascis/x,utf-8,1,1,,other,evil/x,utf-8",
        "notes.txt,utf-8,1,1,,other,.fascis-crossing-1,utf-8",
    )  # fmt: skip
    for number, row in enumerate(rows):
        (library / ".fascis/inventory.csv").write_text(header + row + "\r\n")
        to = bench.add_drive(f"to-{number}")
        bench.again()
        plan, crossing, state = crossed(bench.workspace, library, to)
        assert state is State.SETTLED and not Path(to / "out.txt").exists()
        assert (to / "The Weir/stills/heron.jpg").is_file()
        assert (
            sum(
                (to / "The Weir" / n).is_file()
                for n in ("notes.txt", "notes (2).txt", "stills (2)")
            )
            == 1
        )
        assert (
            not (to / "The Weir/evil").exists()
            and (to / "The Weir/.fascis/identity.json").is_file()
        )
        crossing.close()
