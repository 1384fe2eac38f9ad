"""There is always a way to the end or back, and what is reported is true."""

import json
import os
import shutil
import signal
import stat
import subprocess
import sys
import time

import pytest

from fascis.commands import crossing_work
from fascis.crossing.status.report import code_of, refusal_object
from fascis.files.disk.medium import PosixMedium
from fascis.files.errors import Cancelled
from tests.commands.test_commands import fascis
from tests.images import unmount
from tests.judge import contents
from tests.library.making import timeline, write


@pytest.fixture
def library(bench):
    write(bench.library / "media/a.mov", b"a" * 9000)
    write(bench.library / "media/b.mov", os.urandom(2_000_000))
    write(bench.library / "cut.otio", timeline("media/a.mov"))
    return bench.library


@pytest.mark.lab
@pytest.mark.skipif(
    not shutil.which("bindfs"),
    reason="needs bindfs, a file system that a program drives without a device",
)
def test_a_drive_that_can_never_prove_may_be_released_after_a_comparison(bench, library, tmp_path):
    below, where = tmp_path / "below", tmp_path / "passed through"
    below.mkdir(), where.mkdir()
    mount = ["bindfs", str(below), str(where)]
    subprocess.run(mount, check=True)
    try:
        listed = {d["mount"] for d in fascis(bench, "drives", "--json")[1]["drives"]}
        assert str(where) in listed, "what relocate takes is listed"
        status, said, _ = fascis(
            bench, "relocate", library, "--to", where, "--after", "release", "--yes", "--json"
        )
        assert status == 4 and "not-proven" in {p["code"] for p in said["problems"]}
        id = said["crossing"]
        status, said, _ = fascis(bench, "release", id, "--yes", "--compared", "--json")
        assert said["problems"][-1]["code"] == "not-proven", "it must be connected again first"
        unmount(where)
        subprocess.run(mount, check=True)
        copy, before = below / "The Weir/media/b.mov", contents(library)
        status, said, _ = fascis(bench, "release", id, "--yes", "--json")
        assert (status, said["problems"][-1]["code"]) == (3, "only-compared") and contents(
            library
        ) == before
        whole = copy.read_bytes()
        then = copy.stat()
        copy.write_bytes(whole[:-1] + bytes([whole[-1] ^ 1]))
        os.utime(copy, ns=(then.st_atime_ns, then.st_mtime_ns))
        status, said, _ = fascis(bench, "release", id, "--yes", "--compared", "--json")
        assert status == 1 and {x["path"]: x["why"] for x in said["left_behind"]} == {
            "media/b.mov": "copy-changed"
        }
        assert contents(library) == {b"media/b.mov": before[b"media/b.mov"]}, (
            "the one whose copy is wrong stays, and no other"
        )
        copy.write_bytes(whole)
        status, said, err = fascis(bench, "release", id, "--yes", "--compared", "--json")
        assert (status, said["state"]) == (0, "released") and not library.exists(), err
        assert contents(below / "The Weir") == before
    finally:
        subprocess.run(["umount", "-l", str(where)], check=False)


@pytest.mark.parametrize("number", ["ENOSYS", "EOPNOTSUPP"])
def test_a_driver_without_modes_is_not_asked_to_set_them(tmp_path, monkeypatch, number):
    import errno

    def refuse(*_):
        raise OSError(getattr(errno, number), "no modes here")

    like = write(tmp_path / "like").stat()
    medium = PosixMedium.at(tmp_path)
    file = medium.create(b"new")
    monkeypatch.setattr(os, "fchmod", refuse)
    file.set_status(like, False)
    assert file.status().st_mtime_ns == like.st_mtime_ns, "the times are kept all the same"
    file.close()
    medium.close()


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["exfat", "ntfs"])
def test_verifying_reads_from_the_drive_and_not_from_memory(bench, library, mounted, filesystem):
    where = mounted(filesystem, 220)
    mark = os.urandom(48)
    write(library / "media/marked.mov", mark + os.urandom(3_000_000))
    assert fascis(bench, "relocate", library, "--to", where, "--yes", "--json")[0] == 0
    status, said, _ = fascis(bench, "verify", where / "The Weir", "--json")
    assert (status, said["proven"], said["damaged"]) == (0, True, [])
    from tests.crossing.test_proof import flip

    assert flip(where.parent / "HERON.img", [mark]) == 1
    status, said, _ = fascis(bench, "verify", where / "The Weir", "--json")
    assert (status, said["damaged"]) == (1, ["media/marked.mov"])


def test_a_survey_of_a_copy_makes_no_home_of_it(bench, library):
    loose = write(bench.drives / "inside/Loose/c.wav", b"c" * 800)
    write(library / "cut.otio", timeline("media/a.mov", str(loose)))
    assert (
        fascis(bench, "relocate", library, "--to", bench.heron, "--after", "copy", "--json")[0] == 0
    )
    id = fascis(bench, "survey", bench.heron / "The Weir", "--json")[1]["library"]["library_id"]
    other = write(bench.drives / "inside/Second/second.otio", timeline(str(loose))).parent
    status, said, err = fascis(
        bench,
        "relocate",
        other,
        "--to",
        bench.heron,
        "--after",
        "release",
        "--loose-too",
        "--yes",
        "--json",
    )
    assert (status, said["state"]) == (0, "released") and loose.exists(), err
    assert [x["path"] for x in said["left_behind"]] == [str(loose)]
    assert fascis(bench, "survey", id[:8], "--json")[1]["library"]["root"] == str(library)


def test_taking_back_gives_home_to_where_it_was(bench, library):
    otter = bench.add_drive("otter")
    assert (
        fascis(bench, "relocate", library, "--to", bench.heron, "--after", "copy", "--json")[0] == 0
    )
    id = fascis(bench, "survey", library, "--json")[1]["library"]["library_id"]
    _, said, _ = fascis(bench, "relocate", bench.heron / "The Weir", "--to", otter, "--json")
    assert fascis(bench, "survey", id[:8], "--json")[1]["library"]["root"] == str(
        otter / "The Weir"
    )
    assert fascis(bench, "undo", said["crossing"], "--json")[0] == 0
    assert fascis(bench, "survey", id[:8], "--json")[1]["library"]["root"] == str(library)


def test_a_folder_inside_another_library_is_not_a_destination(bench, library):
    assert fascis(bench, "relocate", library, "--to", bench.heron, "--json")[0] == 0
    inner = bench.heron / "The Weir/media"
    second = write(bench.drives / "inside/Second/second.m3u8", b"x.mov\n").parent
    for folder in (inner, bench.heron / "The Weir"):
        status, said, _ = fascis(bench, "relocate", second, "--to", folder, "--yes", "--json")
        assert status == 3 and "destination-in-a-library" in {p["code"] for p in said["problems"]}
    (bench.heron / "plain").mkdir()
    assert fascis(bench, "relocate", second, "--to", bench.heron / "plain", "--yes", "--json")[
        0
    ] in (0, 1)


# -- words and figures -----------------------------------------------------------------------------


def test_stopping_is_reported_as_interrupted():
    error = Cancelled("Stopped.")
    assert (
        code_of(error) == "interrupted"
        and refusal_object(error)["problems"][0]["code"] == "interrupted"
    )


def test_ctrl_c_in_the_middle_is_reported_as_interrupted_and_resumes(bench, library):
    write(library / "media/long.mov", os.urandom(9_000_000))
    description = json.loads((bench.heron / "stand-in.json").read_text())
    (bench.heron / "stand-in.json").write_text(json.dumps({**description, "write_mb_s": 2}))
    command = [
        sys.executable,
        "-m",
        "fascis",
        "relocate",
        str(library),
        "--to",
        str(bench.heron),
        "--json",
    ]
    environment = {**os.environ, "FASCIS_STAND_INS": str(bench.drives)}
    process = subprocess.Popen(
        command, env=environment, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True
    )
    while not list(bench.heron.glob(".fascis-crossing-*/library/media/long.mov")):
        assert process.poll() is None, process.communicate()
        time.sleep(0.02)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    said = json.loads(out)
    assert (process.returncode, [p["code"] for p in said["problems"]]) == (4, ["interrupted"]), err
    (bench.heron / "stand-in.json").write_text(json.dumps(description))
    status, said, _ = fascis(bench, "resume", "--json")
    assert (status, said["state"]) == (0, "switched") and (library / "media/long.mov").exists()


def test_work_at_the_old_place_is_reported_with_its_files(bench, library):
    _, said, _ = fascis(bench, "relocate", library, "--to", bench.heron, "--json")
    write(library / "cut.otio", timeline("media/b.mov"))
    status, said, _ = fascis(bench, "release", said["crossing"], "--yes", "--json")
    (problem,) = [p for p in said["problems"] if p["code"] == "worked-in-since"]
    assert status == 3 and problem["files"] == ["cut.otio"] and len(contents(library)) == 3


@pytest.mark.parametrize(
    "words",
    [("relocate", "LIBRARY", "--to", "HERON", "--after", "release"), ("resume", "no such"),
    ("release", "no such", "--yes"),
     ("undo", "no such"), ("park", "no such")],
)  # fmt: skip
def test_every_refusal_has_its_entry_among_the_problems(bench, library, words):
    named = {"LIBRARY": library, "HERON": bench.heron}
    status, said, _ = fascis(bench, *[named.get(w, w) for w in words], "--json")
    assert status == 3 and said["state"] == "refused" and said["problems"][-1]["sentence"]
    assert len(contents(library)) == 3


def test_old_paths_are_reported_though_nothing_is_lost(bench):
    media = bench.add_drive("bittern") / "Footage"  # a label that no real drive has here
    for n in range(3):
        write(media / f"{n}.mov", b"x" * (n + 1))
    library = bench.drives / "inside/River"
    write(library / "cut.otio", timeline(*(f"/media/bittern/Footage/{n}.mov" for n in range(3))))
    status, said, err = fascis(bench, "relink", library, "--search", media, "--json")
    assert (status, said["lost"], said["old_paths"]) == (0, 0, 3), err


def test_interrupted_crossings_resume_before_queued_ones(bench, library):
    before = contents(library)
    egret = bench.add_drive("egret", "exfat", faults=[{"kind": "unplugged", "after_bytes": 50_000}])
    status, cut, err = fascis(bench, "relocate", library, "--to", egret, "--yes", "--json")
    assert (status, cut["state"]) == (4, "copying") and contents(library) == before, err
    _, waits, _ = fascis(
        bench, "relocate", library, "--to", bench.heron, "--later", "--after", "copy", "--json"
    )
    bench.add_drive("egret", "exfat")
    status, said, err = fascis(bench, "resume", "--all", "--json")
    assert [(c["crossing"], c["state"]) for c in said["crossings"]] == [
        (cut["crossing"], "switched"),
        (waits["crossing"], "settled"),
    ], said["crossings"]
    assert (
        contents(library)
        == contents(egret / "The Weir")
        == contents(bench.heron / "The Weir")
        == before
    )


@pytest.mark.parametrize("way", ["link", "up and down"])
def test_a_library_may_be_named_by_another_way_to_its_folder(bench, library, way):
    before = contents(library)
    given = library.parent / "a link" if way == "link" else library / "media/../../The Weir"
    if way == "link":
        given.symlink_to(library)
    status, said, err = fascis(
        bench, "relocate", given, "--to", bench.heron, "--after", "release", "--yes", "--json"
    )
    assert (status, said["state"]) == (0, "released"), err
    assert contents(bench.heron / "The Weir") == before and not library.exists()
    assert way != "link" or given.is_symlink()


@pytest.mark.parametrize(
    ("name", "surveyed", "relocated"),
    [("XDG_DATA_HOME", 3, 3), ("XDG_STATE_HOME", 0, 3), ("XDG_CACHE_HOME", 0, 0)],
)
def test_an_own_folder_that_cannot_be_made_is_told(
    bench, library, tmp_path, monkeypatch, name, surveyed, relocated
):
    """A file is where the folder should be: said in a sentence, not as an unexpected error."""
    in_the_way, before = tmp_path / "in the way", contents(library)
    in_the_way.write_bytes(b"a list of herons")
    monkeypatch.setenv(name, str(in_the_way))
    commands = [
        (surveyed, ["survey", library]),
        (relocated, ["relocate", library, "--to", bench.heron]),
    ]
    for wanted, command in commands:
        status, said, words = fascis(bench, *command, "--json")
        assert status == wanted
        if status:
            told = said["error"]
            assert f"Could not make Fascis's own folder {in_the_way}/fascis" in told
            assert "No library, photo or clip is affected." in told and told in words
    assert (bench.heron / "The Weir").exists() is (relocated == 0)
    assert in_the_way.read_bytes() == b"a list of herons" and contents(library) == before


def test_its_own_files_are_in_its_own_folders_only(bench, library, fresh_home):
    """And what is the person's keeps its permissions."""
    above = [fresh_home / ".cache", fresh_home / ".local/share", fresh_home / ".local/state"]
    for folder in above:
        folder.mkdir(parents=True)
        folder.chmod(0o755)
    for command in (
        ["look", bench.drives / "inside"],
        ["survey", library],
        ["relocate", library, "--to", bench.heron, "--after", "copy"],
        ["verify", bench.heron / "The Weir"],
    ):
        assert fascis(bench, *command)[0] == 0
    made = [p for p in fresh_home.rglob("*") if p.is_file()]
    assert {p.name for p in made} >= {"looked.sqlite", "register.sqlite", "fascis.log"}
    assert [p for p in made if "fascis" not in p.relative_to(fresh_home).parent.parts] == []
    assert {stat.S_IMODE(folder.stat().st_mode) for folder in above} == {0o755}


@pytest.mark.parametrize(("after", "made"), [("copy", 1), ("release", 2)])
def test_a_plan_is_made_again_only_if_somebody_was_waited_for(
    bench, library, monkeypatch, after, made
):
    """Deleting is asked for, and the drives may have changed before the answer."""
    plans, before = [], contents(library)
    make = crossing_work.make_plan
    monkeypatch.setattr(
        crossing_work, "make_plan", lambda *a, **more: plans.append(more) or make(*a, **more)
    )
    monkeypatch.setattr(crossing_work, "interactive", lambda: True)
    monkeypatch.setattr(crossing_work.typer, "confirm", lambda *_a, **_more: True)
    assert fascis(bench, "relocate", library, "--to", bench.heron, "--after", after)[0] == 0
    assert len(plans) == made
    assert contents(bench.heron / "The Weir") == before
    assert library.exists() is (after == "copy")
