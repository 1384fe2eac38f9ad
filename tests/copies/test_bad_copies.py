"""Copies that are not what they should be: edited identities, two homes, drives that fail."""

import json
import sqlite3
import time
from contextlib import closing

import pytest

from fascis.workspace import from_environment
from tests.commands.test_commands import fascis
from tests.copies.test_repair import damage
from tests.copies.test_update import fill, work
from tests.judge import contents
from tests.library.making import write

UNEXPECTED = "did not expect"


@pytest.fixture
def copied(bench):
    lib = fill(bench)
    words = ("--to", bench.heron, "--after", "copy", "--yes", "--json")
    assert fascis(bench, "relocate", lib, *words)[0] == 0
    return lib, bench.heron / lib.name


def everything(bench):
    """Every file there is, Fascis's own in libraries among them."""
    own = [p for p in bench.drives.rglob(".fascis") if p.is_dir()]
    return contents(bench.drives), [contents(p) for p in own]


EDITED = {
    "empty": b"",
    "cut off": b'{"format": 1, "library',
    "a list": b"[1, 2]",
    "deep": b"[" * 200_000,
    "not text": b"\xff\xfe\x00",
    "of another": {"library_id": "0c3a4a52-8c3c-4a55-9a6e-111111111111"},
    "no uuid": {"library_id": "../../etc"},
    "home outside": {"home": {"drive": "uuid-inside", "path": "../../../etc"}},
    "history that leads out": {"history": [{"id": "../../x", "when": "2026-01-01T00:00:00Z",
                                            "from": "/etc", "to": "/"}]},
    "far future": {"history": [{"id": "x", "when": "9999-12-31T23:59:59Z", "from": "/no/such",
                                "to": "/"}]},
}  # fmt: skip


@pytest.mark.parametrize("command", ["update", "repair", "bring-back", "libraries", "verify"])
def test_an_edited_identity_cannot_lose_anything(bench, copied, command):
    """One edit after the other: what an earlier one left in the register misleads no later one."""
    lib, there = copied
    damage(there, "media/b.mov")
    path = there / ".fascis/identity.json"
    written = path.read_bytes()
    words = {
        "update": (there, "--dry-run"),
        "repair": (there, "--from", lib, "--dry-run"),
        "bring-back": (there, "--to", bench.drives / "inside/back", "--dry-run"),
        "libraries": ("--look",),
        "verify": (there,),
    }[command]
    for how, change in EDITED.items():
        if isinstance(change, dict):
            change = json.dumps({**json.loads(written), **change}).encode()
        path.write_bytes(change)
        before = everything(bench)
        status, _, err = fascis(bench, command, *words, "--json")
        assert status in (0, 1, 2, 3, 4) and UNEXPECTED not in err, (how, err)
        assert everything(bench) == before, how


def test_with_two_homes_only_the_one_that_is_known_is_home(bench, copied):
    """Somebody wrote into the copy that it is home."""
    lib, there = copied
    path = there / ".fascis/identity.json"
    said = json.loads(path.read_bytes())
    said["home"] = {"drive": "uuid-heron", "path": lib.name}
    path.write_text(json.dumps(said))
    assert fascis(bench, "libraries", "--look", "--json")[0] == 0
    (known,) = fascis(bench, "libraries", "--json")[1]["libraries"]
    assert known["home"]["path"] == str(lib)
    assert [c["path"] for c in known["copies"]] == [str(there)]


@pytest.mark.parametrize("command", ["update", "repair"])
@pytest.mark.parametrize("fault", ["full", "write-error", "unplugged"])
def test_on_a_drive_that_fails_nothing_is_lost(bench, copied, command, fault):
    lib, there = copied
    spoiled = b"?" + b"b" * 699
    damage(there, "media/b.mov")
    if command == "update":
        work(lib)
    before, home = {p.read_bytes() for p in there.rglob("*.mov")}, contents(lib)
    bench.add_drive("heron", faults=[{"kind": fault, "after_bytes": 300}])
    words = (there, "--from", lib) if command == "repair" else (there,)
    status, said, err = fascis(bench, command, *words, "--yes", "--json")
    assert status in (1, 3, 4) and UNEXPECTED not in err, (status, err)
    assert {p.read_bytes() for p in bench.heron.rglob("*.mov")} >= before and spoiled in before
    assert contents(lib) == home
    bench.add_drive("heron")
    if command == "update":
        assert fascis(bench, "resume", "--json")[1]["state"] == "settled"
    else:
        assert fascis(bench, "repair", *words, "--yes", "--json")[0] == 0
        assert (there / "media/b.mov").read_bytes() == b"b" * 700
    assert {p.read_bytes() for p in bench.heron.rglob("*.mov")} >= before


def test_a_clock_that_was_in_the_future_is_only_odd(bench, copied):
    lib, there = copied
    assert fascis(bench, "verify", there, "--json")[0] == 0
    with closing(sqlite3.connect(from_environment().register.path)) as db, db:
        db.execute("UPDATE looked SET verified_at=?, since=?", (time.time() * 50, 1e300))
    status, said, err = fascis(bench, "libraries", "--json")
    assert status == 0 and said["libraries"] and UNEXPECTED not in err
    assert fascis(bench, "libraries")[0] == 0


def test_a_copy_that_was_worked_in_at_a_library_that_is_read_only(bench, copied):
    lib, there = copied
    write(lib / "media/new.mov", b"new" * 100)
    before = everything(bench)
    bench.add_drive("heron", read_only=True)
    status, said, _ = fascis(bench, "update", there, "--yes", "--json")
    assert status == 3 and said["problems"]
    bench.add_drive("heron")
    assert everything(bench) == before
