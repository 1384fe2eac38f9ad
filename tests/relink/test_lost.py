"""What documents tell of lost files.

Which they are, how long they are, what is known of them, and where they may be.
"""

import io
import json
import os
import sqlite3
from contextlib import closing

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.places.places import parked_name
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import remember, survey_library, with_ties
from fascis.documents.catalog import move_folders
from fascis.documents.lines import Edl, M3u8
from fascis.documents.model import Length, NotUnderstood, Place
from fascis.documents.otio import Otio
from fascis.documents.photo_facts import facts_of
from fascis.documents.xspf import Xspf
from fascis.files.route import Moved
from fascis.library import replacing
from fascis.library.catalogs import catalog_folders
from fascis.library.decoding import decode
from fascis.library.standing import Standing
from fascis.relink.lost import lost_of, pattern_of
from fascis.relink.relinking import also_lost, known_away
from tests.documents.opened import read, rewritten
from tests.library.making import catalog_at, picture, timeline, write


def span(start, length, rate=25.0):
    return {
        "start_time": {"value": start, "rate": rate},
        "duration": {"value": length, "rate": rate},
    }


def with_lengths(*clips):
    """A timeline of ``(target, available range, source range)``."""
    children = [
        {
            "OTIO_SCHEMA": "Clip.2", "source_range": used, "metadata": {"target_url": 5},
            "media_references": {"DEFAULT_MEDIA": {"OTIO_SCHEMA": "ExternalReference.1",
            "available_range": there, "target_url": target}},
        }
        for target, there, used in clips
    ]  # fmt: skip
    return json.dumps({"OTIO_SCHEMA": "Track.1", "children": children}).encode()


def test_a_timeline_shows_how_long_its_clips_are_and_where_their_use_begins():
    content = with_lengths(
        ("a.mov", span(90_000, 250), span(90_050, 25)), ("b.mov", None, span(0, 5)), ("c.mov",
        span(0, 50), None),
        ("d.mov", span(0, -3), None), ("e.mov", {"duration": {"value": "x", "rate": 1}}, None),
        ("f.mov", span(0, 50), span(900, 5)),
    )  # fmt: skip
    assert [r.as_written for r in read(Otio(), content)] == [f"{n}.mov" for n in "abcdef"]
    assert Otio().lengths(io.BytesIO(content)) == [
        Length(10, 2, 25),
        None,
        Length(2, 0, 25),
        None,
        None,
        Length(2, 0, 25),
    ]
    with pytest.raises(NotUnderstood):
        Otio().lengths(io.BytesIO(b"{"))
    assert [f.lengths(io.BytesIO()) for f in (M3u8(), Edl(), Xspf())] == [[], [], []]


@pytest.mark.parametrize("format", [Otio(), M3u8(), Edl()])
def test_a_url_stays_a_url_and_a_path_a_path(format):
    texts = ["/old/a b.mov", "file:///old/a%20b.mov"]
    if isinstance(format, Otio):
        content = timeline(*texts)
    elif isinstance(format, M3u8):
        content = "\n".join(texts).encode()
    else:
        content = "\n".join(f"001 AX V C 0 0 0 0\n* SOURCE FILE: {t}" for t in texts).encode()
    before = read(format, content)
    targets = {r.locator: "/new/ä b.mov" for r in before}
    after = read(format, rewritten(format, content, targets, {before[1].locator}))
    assert [r.as_written for r in after] == ["/new/ä b.mov", "file:///new/%C3%A4%20b.mov"]


def test_a_sequence_is_one_entry_with_the_frames_that_are_lost(bench):
    lib = bench.library
    reference = {
        "OTIO_SCHEMA": "ImageSequenceReference.1",
        "target_url_base": "scans/",
        "name_prefix": "plan_",
        "name_suffix": ".png",
        # fmt: skip
        "start_frame": 1,
        "frame_step": 1,
        "rate": 24,
        "frame_zero_padding": 3,
        "available_range": span(1, 4, 24),
    }
    clip = {"OTIO_SCHEMA": "Clip.2", "media_references": {"DEFAULT_MEDIA": reference}}
    write(
        lib / "cut.otio", json.dumps({"OTIO_SCHEMA": "Track.1", "children": [clip, clip]}).encode()
    )
    for n in (1, 3):
        write(lib / f"scans/plan_{n:03}.png", picture("PNG"))
    uses = survey_library(bench.workspace, lib).uses
    (lost,) = lost_of(uses)
    assert lost.path.endswith(b"scans/plan_%03d.png") and (
        lost.files,
        len(lost.frames),
        len(lost.references),
    ) == (2, 4, 2)
    assert pattern_of(lost.references[0].sequence) == b"plan_%03d.png"


def test_what_was_known_of_a_file_is_known_when_it_is_lost(bench):
    lib, inside = bench.library, bench.drives / "inside"
    path = write(inside / "Footage/a.mov", b"12345")
    write(lib / "cut.otio", timeline(str(path)))
    key = remember(bench.workspace, survey_library(bench.workspace, lib))
    when = path.stat().st_mtime_ns
    path.unlink()
    surveyed = survey_library(bench.workspace, lib)
    (lost,) = lost_of(surveyed.uses)
    assert (lost.size, lost.mtime_ns, lost.standing) == (5, when, Standing.MISSING)
    other = bench.root / "other"
    write(other / "cut.otio", timeline(str(path)))
    remember(bench.workspace, survey_library(bench.workspace, other))
    move = Moved(bytes(inside / "Footage"), b"/new")
    twin = bench.root / "archive" / "other"  # of the same name
    write(twin / "cut.otio", timeline(str(path), str(path) + ".gone.mov"))
    remember(bench.workspace, survey_library(bench.workspace, twin))
    also = also_lost(bench.workspace.register, [move, Moved(b"/x", b"/y")], key)
    assert set(also) == {move} and {(x.root, x.files) for x in also[move]} == {
        (other, 1),
        (twin, 2),
    }
    assert {x.told(also[move]) for x in also[move]} == {f"other ({other})", f"other ({twin})"}
    assert len({x.library for x in also[move]}) == 2
    again = with_ties(surveyed, {bytes(path): bytes(inside / "nowhere.mov")})
    assert again.uses.of(Standing.MISSING), "what is gone meanwhile is not taken for found"


def test_a_drive_that_is_away_is_known_to_have_some(bench):
    lib = bench.library
    paths = [write(bench.heron / f"DCIM/otter_{n}.mov", b"o" * (n + 5)) for n in range(3)]
    write(lib / "cut.otio", timeline(*map(str, paths)))
    remember(bench.workspace, survey_library(bench.workspace, lib))
    bench.add_drive("heron", connected=False)
    workspace = bench.again()
    lost = lost_of(survey_library(workspace, lib).uses)
    assert [x.standing for x in lost] == [Standing.AWAY] * 3
    assert known_away(workspace.register, workspace.drives, lost) == {"heron": 3}
    for x in lost:
        x.path = b"/elsewhere/" + x.name
    assert known_away(workspace.register, workspace.drives, lost) == {"heron": 3}, (
        "by name and size"
    )
    crossed = {"uuid-heron": [(b"new.mov", 9)]}
    lost[0].name, lost[0].size = b"new.mov", 9
    assert known_away(workspace.register, workspace.drives, lost, crossed) == {"heron": 3}


def test_photos_go_without_their_folder_and_a_folder_of_none_goes(tmp_path):
    path = catalog_at(
        tmp_path / "c.fascat",
        [(None, "/p")],
        [(1, 1, "a"), (2, 1, "b")],
        [(1, "x.jpg"), (1, "y.jpg"), (2, "z.jpg")],
    )
    place = Place(None, "/p")
    move_folders(path, {}, photos={1: (place, "new", "x2.jpg"), 3: (place, "a", "z.jpg")})
    with closing(sqlite3.connect(path)) as db:
        found = db.execute(
            "SELECT p.id, f.path, p.file_name, p.rating FROM photo p JOIN folder f ON "
            "f.id=p.folder_id ORDER BY 1"
        ).fetchall()
        folders = [r[0] for r in db.execute("SELECT path FROM folder ORDER BY path")]
    assert found == [
        (1, "new", "x2.jpg", 3),
        (2, "a", "y.jpg", 3),
        (3, "a", "z.jpg", 3),
    ] and folders == ["a", "new"]
    before = path.read_bytes()
    with pytest.raises(KeyError):
        move_folders(path, {}, photos={99: (place, "a", "n.jpg")})
    assert path.read_bytes() == before


def test_a_clip_tells_its_length_and_shows_the_frame_that_is_asked_for(tmp_path):
    from fascis.demo.scenario import _clip

    _clip(tmp_path / "a.mov", 3, 50, 64)
    write(tmp_path / "none.mov", b"no clip")
    fds = [os.open(tmp_path / n, os.O_RDONLY) for n in ("a.mov", "none.mov")]
    facts = list(facts_of(((fd, None) for fd in fds), clips=True))
    assert [f.seconds for f in facts] == [pytest.approx(2.0), None] and (
        facts[0].width,
        facts[0].height,
    ) == (64, 36)
    first, later = decode(fds[:1]), decode(fds[:1], at=1.0)
    assert first != later and decode(fds[:1], at=0.0) == first and decode(fds, at=99.0)[1] is None
    for fd in fds:
        os.close(fd)


@pytest.mark.parametrize("stop", [0, 1, 2, 3])
def test_a_swap_by_a_third_name_is_mended_wherever_it_stops(tmp_path, monkeypatch, stop):
    from fascis.files.disk.medium import PosixMedium

    def refuse(*_):
        raise OSError(22, "Invalid argument")

    done = []
    move = replacing.move

    def some(*names):
        if len(done) == stop:
            raise KeyboardInterrupt
        done.append(move(*names))

    write(tmp_path / "doc", b"old")
    write(tmp_path / "doc.before-12345678", b"new")
    monkeypatch.setattr(replacing.kernel, "rename_exchange", refuse)
    with closing(PosixMedium.at(tmp_path)) as medium:
        with monkeypatch.context() as patch:
            patch.setattr(replacing, "move", some)
            try:
                replacing.swap(medium, b"doc", b"doc.before-12345678")
            except KeyboardInterrupt:
                assert stop < 3
        replacing.mend(medium, b"doc", b"doc.before-12345678")
    assert {p.read_bytes() for p in tmp_path.iterdir()} == {b"old", b"new"} and len(
        list(tmp_path.iterdir())
    ) == 2
    assert (tmp_path / "doc").read_bytes() == (b"new" if stop > 1 else b"old")


def test_kept_names_are_short_enough_and_recognised():
    for name in (b"Feature.otio", b"x" * 255, "é".encode() * 127):
        kept = replacing.kept_name(name, "1a2b3c4d5e6f")
        assert len(kept) <= 251 and kept.endswith(b".before-1a2b3c4d") and replacing.is_kept(kept)
        kept.decode()
        parked_name(name.decode(), "1a2b3c4d5e6f").encode()
    assert len(os.fsencode(parked_name("é" * 127, "1a2b3c4d"))) <= 255
    assert not replacing.is_kept(b"Feature.otio") and not replacing.is_kept(
        b"what was before-1a2b3c4d.otio"
    )


def test_what_another_system_wrote_is_updated_along_when_its_drive_is_known(bench):
    lib = bench.library
    path = write(bench.drives / "inside/Music/theme.wav", b"m" * 40)
    write(lib / "cut.otio", timeline("media\\ana\\inside\\Music\\theme.wav"))
    surveyed = survey_library(bench.workspace, lib)
    assert [o.path for o in surveyed.uses.of(Standing.LOOSE)] == [bytes(path)]
    crossing = Crossing.start(
        bench.workspace, make_plan(bench.workspace, surveyed, bench.heron, Choices()), decided=True
    )
    crossing.run()
    (reference,) = read(Otio(), (crossing.places.target / "cut.otio").read_bytes())
    assert reference.as_written == "media/Music/theme.wav"
    assert (crossing.places.target / reference.as_written).read_bytes() == path.read_bytes()
    crossing.close()


def test_a_catalog_that_is_kept_is_not_a_second_catalog(bench):
    lib = bench.library
    for n in range(2):
        write(lib / f"shoots/{n}/a.jpg", picture("JPEG"))
        done = catalog_folders(
            bench.workspace.drives, lib / "Bell.fascat", [lib / f"shoots/{n}"], bench.root / "cache"
        )
    assert done.before.exists()
    assert [d.place for d in survey_library(bench.workspace, lib).uses.documents] == [
        b"Bell.fascat"
    ]
