"""The command line as others call it: JSON, exit status, and that it is the contract's object."""

import io
import json
import os
import random
import signal
import subprocess
import sys
import time
from contextlib import redirect_stderr, redirect_stdout

import pytest

from fascis.commands.app import main
from tests.clock import less, within
from tests.judge import contents, one_whole_copy
from tests.thorough import KILLS


def fascis(bench, *arguments, kill_after=None, **more):
    """Runs the command line: status, JSON, words.

    In this process; in one of its own where it is killed, or called with more.

    A command that is typed twice is a program that starts twice: nothing is kept between two calls
    but what is on the drives.
    """
    if kill_after is None and not more:
        return here(bench.drives, *arguments)
    command = [sys.executable, "-m", "fascis", *map(str, arguments)]
    environment = {**os.environ, "FASCIS_STAND_INS": str(bench.drives), **more}
    process = subprocess.Popen(
        command,
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    if kill_after is not None:
        try:
            process.wait(kill_after)
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL)
    out, err = process.communicate(timeout=120)
    return (
        process.returncode,
        json.loads(out) if "--json" in arguments and out else None,
        err.decode(),
    )


def here(drives, *arguments):
    """The same in this process: what starting it would cost is spared, a hundred times.

    Args:
        drives: the folder of the stand-in drives; "" where only real ones are looked at.
    """
    out, err = io.StringIO(), io.StringIO()
    before = os.environ.get("FASCIS_STAND_INS")
    os.environ["FASCIS_STAND_INS"] = str(drives)
    try:
        with redirect_stdout(out), redirect_stderr(err), pytest.raises(SystemExit) as ended:
            main([str(a) for a in arguments])
    finally:
        os.environ.pop("FASCIS_STAND_INS") if before is None else os.environ.update(
            FASCIS_STAND_INS=before
        )
    said = out.getvalue()
    return (
        ended.value.code,
        json.loads(said) if "--json" in arguments and said else said,
        err.getvalue(),
    )


KEYS = {
    "crossing", "state", "library_id", "from", "to", "destinations", "files", "bytes",
    "verified_files", "verified_bytes", "gathered_files",
    "problems", "mismatched", "left_behind", "released_files", "released_bytes", "parked_at",
    "manifest", "receipt", "seconds",
    "part", "followers", "shared", "already_there_files", "frees_bytes",
}  # fmt: skip


def test_a_whole_crossing(bench, library):
    before = contents(library)
    status, dry, _ = fascis(bench, "relocate", library, "--to", bench.heron, "--dry-run", "--json")
    assert (status, dry["state"], set(dry)) == (0, "planned", KEYS) and not list(
        bench.heron.glob("The*")
    )
    words = ["relocate", library, "--to", bench.heron, "--after", "park", "--json"]
    status, done, err = fascis(
        bench, *words, PYTHONUNBUFFERED="1"
    )  # As a program of its own, once.
    assert (status, done["state"], set(done)) == (0, "parked", KEYS), err
    assert (
        done["verified_files"] == done["files"] == 10 and done["destinations"][0]["proven"] is True
    )
    assert contents(done["to"][0]) == contents(done["parked_at"]) == before and not library.exists()
    status, told, _ = fascis(bench, "release", done["crossing"][:6], "--json")
    assert status == 3 and contents(done["parked_at"]) == before  # without --yes nothing is deleted
    status, gone, _ = fascis(bench, "release", done["crossing"][:6], "--yes", "--json")
    assert (status, gone["state"], gone["released_files"], gone["left_behind"]) == (
        0,
        "released",
        10,
        [],
    )
    assert not os.path.exists(done["parked_at"]) and contents(done["to"][0]) == before
    status, sound, _ = fascis(bench, "verify", done["to"][0], "--json")
    assert (status, sound["matching"], sound["damaged"], sound["edited"]) == (0, 10, [], [])
    status, receipts, _ = fascis(bench, "receipts", "--json")
    assert status == 0 and receipts["receipts"][0]["release"]["files"] == 10


def test_release_needs_consent_at_the_start(bench, library):
    status, record, err = fascis(
        bench, "relocate", library, "--to", bench.heron, "--after", "release", "--json"
    )
    assert (
        status == 3
        and record["state"] == "refused"
        and "--yes" in err
        and not (bench.heron / "The Weir").exists()
    )
    status, record, _ = fascis(
        bench, "relocate", library, "--to", bench.heron, "--after", "release", "--yes", "--json"
    )
    assert status == 0 and record["state"] == "released" and not library.exists()


def test_undo_and_survey(bench, library):
    _, done, _ = fascis(bench, "relocate", library, "--to", bench.heron, "--json")
    status, undone, err = fascis(bench, "undo", done["crossing"], "--json")
    assert (
        status == 0
        and undone["state"] == "undone"
        and "complete" in err
        and len(contents(library)) == 10
    )
    status, found, _ = fascis(bench, "survey", library, "--files", "--json")
    assert (
        status == 0
        and found["standing"]["held"]["files"] == len(found["files"]) == 10
        and found["documents"] == []
    )
    assert (
        found["roles"]["proxy"] == {"files": 1, "bytes": 9_000}
        and found["library"]["library_id"] == done["library_id"]
    )


def test_verify_tells_edited_damaged_missing_and_new(bench, library):
    _, done, _ = fascis(bench, "relocate", library, "--to", bench.heron, "--json")
    target = bench.heron / "The Weir"
    rotten = target / "media/Day 02/salmon.wav"
    times = rotten.stat()
    content = rotten.read_bytes()
    rotten.write_bytes(bytes([content[0] ^ 1]) + content[1:])
    os.utime(rotten, ns=(times.st_atime_ns, times.st_mtime_ns))
    (target / "notes.txt").write_text("edited here")
    (target / "stills/heron.xmp").unlink()
    (target / "new.jpg").write_bytes(b"x")
    status, record, _ = fascis(bench, "verify", target, "--json")
    assert status == 1
    assert (record["damaged"], record["edited"]) == (["media/Day 02/salmon.wav"], ["notes.txt"])
    assert (record["missing"], record["unlisted"], record["matching"]) == (
        ["stills/heron.xmp"],
        ["new.jpg"],
        7,
    )
    assert len(contents(library)) == 10 and done["manifest"]


@pytest.mark.parametrize(
    ("arguments", "status"),
    [(["relocate", "LIB", "--json"], 2), (["relocate", "LIB", "--to", "HERON", "--leave-out",
    "nonsense", "--json"], 2), (["nonsense", "--json"], 2),
     (["relocate", "LIB/nowhere", "--to", "HERON", "--json"], 3), (["relocate", "LIB", "--to",
     "LIB/media", "--json"], 3),
     (["survey", "LIB/nowhere", "--json"], 2), (["resume", "ffff", "--json"], 3), (["verify", "LIB",
     "--json"], 3)],
)  # fmt: skip
def test_bad_calls_say_what_and_touch_nothing(bench, library, arguments, status):
    filled = [a.replace("LIB", str(library)).replace("HERON", str(bench.heron)) for a in arguments]
    got, record, err = fascis(bench, *filled)
    assert got == status and err.strip() and "Traceback" not in err
    assert set(record) == {"error"} or (record["state"] == "refused" and record["problems"])
    assert len(contents(library)) == 10 and [p.name for p in bench.heron.iterdir()] == [
        "stand-in.json"
    ]


def test_nothing_to_resume_is_not_an_error(bench):
    status, _, err = fascis(bench, "resume")
    assert status == 0 and "nothing to resume" in err


def test_drives_lists_the_stand_ins(bench):
    status, record, _ = fascis(bench, "drives", "--json")
    mine = {d["uuid"]: d for d in record["drives"]}
    assert (
        status == 0
        and mine["uuid-heron"]["stand_in"] is True
        and mine["uuid-heron"]["capacity_bytes"] == 400_000_000
    )


def test_an_interrupted_crossing_exits_4_and_resumes(bench, library):
    bench.add_drive("bad", faults=[{"kind": "unplugged", "after_bytes": 100_000}])
    status, record, err = fascis(bench, "relocate", library, "--to", bench.drives / "bad", "--json")
    assert status == 4 and record["problems"][-1]["code"] == "drive-gone" and "Traceback" not in err
    bench.add_drive("bad")
    status, record, _ = fascis(bench, "resume", "--json")
    assert (status, record["state"]) == (0, "switched") and contents(record["to"][0]) == contents(
        library
    )


def test_what_changed_since_waits_for_a_decision_and_is_copied_too(bench, library):
    """A copy first; then home should move there, and somebody has worked meanwhile."""
    _, done, _ = fascis(
        bench, "relocate", library, "--to", bench.heron, "--after", "copy", "--json"
    )
    (library / "late.txt").write_text("an afterthought")
    status, told, err = fascis(bench, "park", done["crossing"], "--json")
    assert (
        status == 3
        and told["problems"][-1]["code"] == "changed-since-survey"
        and "late.txt" in told["problems"][-1]["sentence"]
    )
    assert told["problems"][-1]["severity"] == "decision" and told["state"] == "settled"
    status, told, err = fascis(bench, "resume", done["crossing"], "--bring-along", "--json")
    assert status == 0 and told["state"] == "settled" and told["verified_files"] == 11, err
    assert contents(done["to"][0]) == contents(library)
    status, told, _ = fascis(bench, "park", done["crossing"], "--json")
    assert (status, told["state"]) == (0, "parked") and contents(told["parked_at"]) == contents(
        done["to"][0]
    )


@pytest.mark.long
def test_killed_at_seeded_moments(bench):
    """SIGKILL at moments spread over a whole crossing and its resumes; rule 1 each time.

    Resume finishes each time.
    """
    bench.add_drive("heron", write_mb_s=4)
    generator = random.Random(2024)
    for round_ in range(KILLS):
        bench.library = bench.drives / "inside" / f"Weir {round_}"
        bench.fill({f"d{i % 3}/{i:03d}.jpg": 9_000 for i in range(120)} | {"a.mov": 1_500_000})
        before = contents(bench.library)
        target = bench.heron / f"Weir {round_}"
        call = [
            "relocate",
            bench.library,
            "--to",
            bench.heron,
            "--after",
            "release",
            "--yes",
            "--json",
        ]
        status, _, _ = fascis(bench, *call, kill_after=generator.uniform(0.25, 1.9))
        wrong = one_whole_copy(before, bench.library.parent, target)
        assert wrong == [], (round_, wrong)
        while status != 0:
            if (
                not bench.library.exists()
                and contents(target) == before
                and not list(bench.library.parent.glob(f"Weir {round_} (set*"))
            ):
                break
            started = time.monotonic()
            status, record, err = fascis(bench, "resume", "--json")
            assert status == 0, (round_, err)
            if record["state"] == "planned":  # killed before anything was written down
                status, record, err = fascis(bench, *call)
            assert status == 0, err
            within(started, 60)
        assert (
            one_whole_copy(before, bench.library.parent, target) == []
            and contents(target) == before
            and not bench.library.exists()
        )
        assert not list(bench.heron.glob(".fascis*"))
        for path in (target,):
            subprocess.run(["rm", "-r", str(path)], check=True)


def test_two_destinations_and_resuming_without_one(bench, library):
    egret = bench.add_drive("egret", "exfat", faults=[{"kind": "unplugged", "after_bytes": 50_000}])
    before = contents(library)
    to = ("--to", bench.heron, "--also", egret)
    status, record, err = fascis(
        bench, "relocate", library, *to, "--after", "release", "--yes", "--json"
    )
    assert (status, record["state"], set(record)) == (
        4,
        "waiting",
        KEYS,
    ) and "heron: settled" in err
    assert [d["state"] for d in record["destinations"]] == ["settled", "copying"] and contents(
        library
    ) == before
    id = record["crossing"]
    status, record, _ = fascis(bench, "resume", id, "--without", bench.drives, "--json")
    assert (
        status == 2
        and "no destination of this crossing" in record["error"]
        and contents(library) == before
    )
    bench.add_drive("egret", "exfat")
    status, record, _ = fascis(bench, "resume", id, "--without", egret, "--json")
    assert (status, record["state"]) == (0, "released"), record
    assert [d["state"] for d in record["destinations"]] == ["released", "undone"] and len(
        record["to"]
    ) == 1
    assert (
        contents(bench.heron / "The Weir") == before
        and not list(egret.glob(".fascis*"))
        and not library.exists()
    )


def test_the_queue_crosses_in_its_order_and_one_that_stops_does_not_stop_the_next(bench, library):
    ids = []
    for name in ("first", "second", "third"):
        words = ("relocate", library, "--to", bench.heron, "--name", name, "--later", "--json")
        status, record, _ = fascis(bench, *words)
        assert (status, record["state"]) == (0, "planned")
        ids.append(record["crossing"])
    assert not list(bench.heron.glob("[a-z]*d"))
    (bench.heron / "second").mkdir()
    (bench.heron / "second" / "mine.txt").write_text("not to be touched")
    status, record, err = fascis(bench, "resume", "--all", "--json")
    states = [(c["crossing"], c["state"]) for c in record["crossings"]]
    assert (
        states == [(ids[0], "switched"), (ids[1], "verifying"), (ids[2], "switched")]
        and status == 4
    ), err
    assert "second appeared meanwhile" in record["crossings"][1]["problems"][0]["sentence"]
    assert len(contents(library)) == len(contents(bench.heron / "third")) == 10
    assert list(contents(bench.heron / "second")) == [b"mine.txt"]
    status, record, err = fascis(bench, "resume", "--all", "--json")
    assert (status, record["crossings"]) == (0, []) and "No crossing waits" in err
    assert "second appeared meanwhile" in err and f"fascis resume {ids[1]}" in err


def test_discarding_needs_its_own_option(bench, library):
    words = ("relocate", library, "--to", bench.heron, "--after", "release", "--json")
    status, record, err = fascis(bench, *words, "--discard", "original", "--yes")
    assert (
        status == 2 and "proxy, render, preview" in record["error"] and len(contents(library)) == 10
    )
    status, record, err = fascis(
        bench, *words, "--leave-out", "render", "--discard", "proxy", "--yes"
    )
    assert (status, record["released_files"]) == (0, 9) and "deleted with the originals: 1" in err
    assert (
        list(contents(library)) == [b"renders/cut.mov"]
        and len(contents(bench.heron / "The Weir")) == 8
    )


def interrupted(bench, *arguments, when):
    """Runs a command, sends Ctrl+C on a condition; returns status, record and time."""
    command = [sys.executable, "-m", "fascis", *map(str, arguments)]
    environment = {**os.environ, "FASCIS_STAND_INS": str(bench.drives)}
    process = subprocess.Popen(
        command,
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    )
    try:
        until = time.monotonic() + 20
        while not when() and time.monotonic() < until:
            time.sleep(0.02)
        process.send_signal(signal.SIGINT)
        begun = time.monotonic()
        out, _ = process.communicate(timeout=20)
        return process.returncode, out, time.monotonic() - begun
    finally:
        process.kill()
        process.wait()


def test_ctrl_c_stops_at_once_and_it_resumes(bench, library):
    bench.add_drive("heron", write_mb_s=0.05)
    staged = lambda: list(bench.heron.glob(".fascis-crossing-*/library/media/*/*"))  # noqa: E731
    words = ("relocate", library, "--to", bench.heron, "--json")
    status, out, took = interrupted(bench, *words, when=staged)
    assert (status, json.loads(out)["state"]) == (4, "copying")
    less(took, 4)  # One write to this drive takes six seconds: it is not waited for.
    bench.add_drive("heron")
    status, record, err = fascis(bench, "resume", "--json")
    assert (status, record["state"]) == (0, "switched"), err
    assert contents(bench.heron / "The Weir") == contents(library)
