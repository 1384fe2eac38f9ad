"""References keep their meaning.

The copy plays what a document played before, however a target is read.
"""

import json
import os
import subprocess
from urllib.parse import quote

import pytest

from fascis.crossing.status.queue import find_crossing
from tests.commands.test_commands import fascis
from tests.images import unmount
from tests.judge import contents
from tests.library.making import timeline, write
from tests.worlds import oracle
from tests.worlds.generator import document

TWINS = (
    "take one.mov",
    "take%20one.mov",
    "take%2520one.mov",
    "take+one.mov",
    "Take One.mov",
    "h\u00e9ron.mov",
    "he\u0301ron.mov",
)


def decoded_first(text, folder):
    """What a target leads to for those who decode it first."""
    way = oracle.unquote_to_bytes(os.fsencode(text.removeprefix("file://")))
    found = oracle.content(os.path.join(os.fsencode(folder), way))
    return found or oracle.content(os.path.join(os.fsencode(folder), os.fsencode(text)))


@pytest.mark.parametrize("where", ["held", "loose"])
@pytest.mark.parametrize("suffix", [".otio", ".m3u8", ".xspf", ".edl"])
def test_names_that_some_reading_takes_for_each_other_are_kept_apart(
    bench, tmp_path, suffix, where
):
    folder = bench.library / "media" if where == "held" else tmp_path / "Loose"
    for name in TWINS:
        write(folder / name, name.encode())
    said = []
    for name in TWINS:
        relative = os.path.relpath(folder / name, bench.library / "cuts/A")
        ways = [quote(relative), "file://" + quote(str(folder / name))]
        said += ways if suffix == ".xspf" else [*ways, relative, str(folder / name)]
    path = write(bench.library / f"cuts/A/cut{suffix}", document(suffix, said))
    before = oracle.plays(path, {})
    assert None not in before and len(set(before)) == len(TWINS)
    status, record, err = fascis(bench, "relocate", bench.library, "--to", bench.heron, "--json")
    copy = bench.heron / f"The Weir/cuts/A/cut{suffix}"
    assert (status, record["state"]) == (0, "switched") and oracle.plays(copy, {}) == before, err
    texts, is_uri = oracle.targets(copy)
    unchanged = set(said)
    again = [decoded_first(t, copy.parent) for t in texts]
    assert all(
        a == b for a, b, t in zip(again, before, texts, strict=True) if t not in unchanged or is_uri
    )


def test_what_led_nowhere_leads_nowhere_beside_what_was_gathered(bench, tmp_path):
    write(tmp_path / "Music/theme.wav", b"the theme")
    path = write(
        bench.library / "cuts/A/cut.otio",
        timeline("../../media/Music/theme.wav", str(tmp_path / "Music/theme.wav")),
    )
    assert oracle.plays(path, {}) == [None, oracle.content(tmp_path / "Music/theme.wav")]
    status, _, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--yes", "--json"
    )
    assert oracle.plays(bench.heron / "The Weir/cuts/A/cut.otio", {})[0] is None, err


def test_without_gathering_nothing_is_encoded_twice(bench, tmp_path):
    loose = write(tmp_path / "Loose/a 100%25 take.mov", b"a take")
    relative = os.path.relpath(loose, bench.library)
    for n, text in enumerate((quote(relative), relative, "file://" + quote(str(loose)))):
        for suffix in (".otio", ".m3u8", ".edl"):
            write(bench.library / f"cut{n}{suffix}", document(suffix, [text]))
    write(bench.library / "cut.xspf", document(".xspf", [quote(relative)]))
    status, said, err = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--no-gather", "--json"
    )
    assert (status, said["state"]) == (0, "switched"), err
    for path, plays in oracle.documents(bench.heron, {}).items():
        assert plays == [oracle.content(loose)], path


@pytest.mark.long
@pytest.mark.lab
def test_a_subvolume_in_the_library_crosses_as_a_folder(bench, mounted):
    """Its inodes are numbered again: two files of one number are two."""
    where = mounted("btrfs", 200, "SOURCE")
    library = where / "River"
    for name in ("footage", "footage/night"):
        (library / name).parent.mkdir(parents=True, exist_ok=True)
        subprocess.run(["btrfs", "-q", "subvolume", "create", str(library / name)], check=True)
        write(library / name / "a.mov", name.encode() * 500)
        os.link(library / name / "a.mov", library / name / "again.mov")
    write(library / "cut.otio", timeline("footage/a.mov", "footage/night/a.mov"))
    numbers = {p.stat().st_ino for p in library.rglob("a.mov")}
    assert len(numbers) == 1, "as btrfs does"
    before, plays = contents(library), oracle.plays(library / "cut.otio", {})
    with open(library / "footage/night/a.mov", "r+b") as held:
        words = ("relocate", library, "--to", bench.heron, "--after", "release", "--yes", "--json")
        # In a process of its own: files that this process has open are not examined.
        status, said, _ = fascis(bench, *words, LANG="C")
        (problem,) = [p for p in said["problems"] if p["code"] == "library-open"]
        assert status == 3 and "footage/night/a.mov" in problem["files"] and not held.closed
    status, said, err = fascis(bench, *words)
    assert (status, said["state"], said["left_behind"]) == (0, "released", []), err
    assert "subvolumes of its file system" in err and not library.exists()
    there = bench.heron / "River"
    assert contents(there) == before
    assert {p.stat().st_nlink for p in there.rglob("*.mov")} == {2}
    assert oracle.plays(bench.heron / "River/cut.otio", {}) == plays


@pytest.mark.lab
def test_another_drive_mounted_in_the_library_stays_and_what_is_used_on_it_is_gathered(
    bench, mounted
):
    lib = bench.library
    write(lib / "cut.otio", timeline("card/clip.mov", "media/a.mov"))
    write(lib / "media/a.mov", b"a" * 500)
    where = mounted("ext4", 60, "CARD")
    write(where / "clip.mov", b"clip" * 500)
    write(where / "unused.mov", b"unused" * 500)
    (lib / "card").mkdir()
    subprocess.run(["mount", "--bind", where, lib / "card"], check=True)
    try:
        plays = oracle.plays(lib / "cut.otio", {})
        words = ("relocate", lib, "--to", bench.heron, "--after", "release", "--yes", "--json")
        status, said, err = fascis(bench, *words)
        assert "nested-mounts" in err or "mounted inside" in err
        assert said["state"] == "released", err
        there = bench.heron / lib.name
        assert oracle.plays(there / "cut.otio", {}) == plays
        assert not list(there.rglob("unused.mov"))
        assert {p.name for p in where.glob("*.mov")} == {"clip.mov", "unused.mov"}
    finally:
        unmount(lib / "card")


def test_a_reference_that_leads_to_other_content_stops_the_switch_whoever_wrote_it(
    bench, monkeypatch
):
    """A mistake of the rewriter, made here on purpose, cannot pass."""
    write(bench.library / "media/a.mov", b"a" * 50)
    write(bench.library / "media/b.mov", b"b" * 50)
    write(bench.library / "cut.otio", timeline(str(bench.library / "media/a.mov")))
    from fascis.crossing.arrival import spelling

    good = spelling.relative
    monkeypatch.setattr(
        spelling,
        "relative",
        lambda place, document: good(place.replace(b"a.mov", b"b.mov"), document),
    )
    status, said, _ = fascis(
        bench,
        "relocate",
        bench.library,
        "--to",
        bench.heron,
        "--after",
        "release",
        "--yes",
        "--json",
    )
    assert (status, said["state"]) == (1, "settled") or status == 4 and said["state"] == "settled"
    assert (
        "out-of-balance" in {p["code"] for p in said["problems"]}
        and (bench.library / "media/a.mov").exists()
    )
    status, said, _ = fascis(bench, "release", said["crossing"], "--yes", "--json")
    assert status in (1, 3) and len(contents(bench.library)) == 3


def test_what_is_left_out_though_it_is_used_is_a_decision_and_home_stays(bench):
    write(bench.library / "media/a.mov", b"a" * 50)
    write(bench.library / "sound/b.wav", b"b" * 50)
    write(bench.library / "cut.otio", timeline("media/a.mov", "sound/b.wav"))
    words = ("relocate", bench.library, "--to", bench.heron, "--leave-out", "original", "--json")
    status, said, _ = fascis(bench, *words)
    assert (
        status == 3
        and {p["code"]: p["severity"] for p in said["problems"]}["used-left-out"] == "decision"
    )
    status, said, _ = fascis(bench, *words, "--yes")
    assert (status, said["state"]) == (0, "settled"), "home stays where everything is"
    receipt = fascis(bench, "receipts", said["crossing"], "--json")[1]
    assert receipt["lacks"] == 2 and "but for 2" in fascis_words(bench, said["crossing"])
    status, said, _ = fascis(bench, *words, "--yes", "--after", "keep", "--name", "There")
    assert (status, said["state"]) == (0, "switched") and len(contents(bench.library)) == 3


def fascis_words(bench, crossing):
    """One sentence of the receipt."""
    from fascis.crossing.receipts.receipt import receipt_of, seal
    from fascis.workspace import from_environment

    os.environ["FASCIS_STAND_INS"] = str(bench.drives)
    found = find_crossing(from_environment(), crossing)
    try:
        return seal(receipt_of(found.journal)).replace("\u00a0", " ")
    finally:
        found.close()
        os.environ.pop("FASCIS_STAND_INS")


def test_a_pipe_is_named_and_called_not_media(bench):
    write(bench.library / "media/a.mov", b"a")
    os.mkfifo(bench.library / "media/live.mov")
    write(bench.library / "cut.otio", timeline("media/live.mov", "media/a.mov", "/dev/null"))
    _, said, err = fascis(bench, "survey", bench.library, "--json")
    assert {x["target"] for x in said["not_media"]} == {
        "media/live.mov",
        "/dev/null",
    } and "not media" in err
    _, said, _ = fascis(
        bench, "relocate", bench.library, "--to", bench.heron, "--dry-run", "--json"
    )
    (problem,) = [p for p in said["problems"] if p["code"] == "not-media"]
    assert "not media" in problem["sentence"] and set(problem["files"]) == {
        "media/live.mov",
        "/dev/null",
    }


def test_loose_proxies_are_counted_among_the_roles(bench, tmp_path):
    write(tmp_path / "proxies/p.mov", b"p" * 70)
    write(bench.library / "cut.otio", timeline(str(tmp_path / "proxies/p.mov")))
    _, said, _ = fascis(bench, "survey", bench.library, "--json")
    assert said["roles"]["proxy"] == {"files": 1, "bytes": 70}


def test_an_unfinished_edit_in_the_copy_is_not_a_fault_of_the_crossing(bench):
    write(bench.library / "media/a.mov", b"a")
    write(bench.library / "cut.otio", timeline("media/a.mov", "media/gone.mov"))
    _, said, _ = fascis(bench, "relocate", bench.library, "--to", bench.heron, "--yes", "--json")
    there = bench.heron / "The Weir/cut.otio"
    there.write_text(json.dumps(json.loads(there.read_text()) | {"name": "worked on"}))
    assert fascis(bench, "undo", said["crossing"], "--json")[0] == 0 and there.exists()
