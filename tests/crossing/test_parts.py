"""Parts of a crossing by themselves: pace, receipt, exit status, verifying, balance."""

import io
import json
import os
import subprocess

import pytest

from fascis.copies.verifying.verifying import verify
from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.events import Advanced
from fascis.crossing.model.states import State
from fascis.crossing.places.places import parked_name
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.receipts.receipt import receipt_html, receipt_of
from fascis.crossing.release import free_space
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.deleting import deleting_now
from fascis.crossing.status.pace import Pace
from fascis.crossing.status.report import exit_status
from fascis.crossing.status.scales import weigh
from fascis.drives.connected import Drives
from fascis.files.control import Control
from fascis.files.disk.medium import PosixMedium
from fascis.files.errors import Cancelled, Damaged
from fascis.library.roles import Role
from fascis.workspace import Workspace
from tests.crossing.ways import settled, started, switched
from tests.judge import contents


def test_the_pace_tells_speed_and_time_left():
    now = [0.0]
    pace = Pace(10, 1_000_000, clock=lambda: now[0])
    assert pace.seconds_left() is None and pace.ready_words() == ""
    for _ in range(4):
        now[0] += 1
        pace.advance(Advanced(0, 100_000, 1, 100_000, 1))
    assert pace.bytes_a_second() == pytest.approx(100_000) and pace.seconds_left() == pytest.approx(
        6
    )


def test_what_is_verified_already_is_not_taken_for_speed():
    now = [0.0]
    pace = Pace(10, 1_000_000, 5, 500_000, clock=lambda: now[0])
    now[0] = 2
    pace.advance(Advanced(0, 100_000, 1, 0, 0))
    assert pace.bytes_a_second() == pytest.approx(25_000)


@pytest.mark.parametrize(
    ("state", "more", "status"),
    [("refused", {}, 3), ("copying", {}, 4), ("waiting", {}, 4), ("settled", {}, 0), ("released",
    {"left_behind": [{"path": "x", "why": "left-out"}]}, 0),
     ("released", {"left_behind": [{"path": "x", "why": "open"}]}, 1), ("failed", {}, 1), ("undone",
     {}, 0), ("switched", {"mismatched": ["x"]}, 1)],
)  # fmt: skip
def test_exit_status(state, more, status):
    assert exit_status({"state": state, "mismatched": [], "left_behind": [], **more}) == status


def test_a_receipt_shows_names_as_plain_text(bench, library):
    bench.fill({"<script>alert(1)</script>.jpg".replace("/", "_"): b"x"})
    crossing = started(bench, name="<i>Weir & more")
    crossing.journal.note(b"<img src=x>.jpg\n", "<b>", "odd", 1.0)
    crossing.run()
    page = receipt_html(receipt_of(crossing.journal)).decode()
    assert (
        "<script>" not in page
        and "<img" not in page
        and "&lt;i&gt;Weir &amp; more" in page
        and "\\n" in page
    )


def test_a_receipt_tells_what_was_not_copied(bench, library):
    crossing = settled(bench, leave_out=[Role.PROXY])
    record = receipt_of(crossing.journal)
    assert (
        record["left_out"] == {"roles": ["proxy"], "files": 1, "bytes": 9_000}
        and record["files"] == record["verified_files"] == 9
    )
    kept = json.loads((crossing.places.target / f".fascis/receipts/{crossing.id}.json").read_text())
    assert kept["state"] == "settled" and "can be made" not in json.dumps(kept)


def test_names_of_parked_folders_fit(tmp_path):
    for name in ("short", "x" * 255, "ü" * 127):
        made = parked_name(name, "0123456789abcdef")
        assert (
            len(os.fsencode(made)) <= 255 and made != name and made.endswith("(set aside 01234567)")
        )
        (tmp_path / made).mkdir()


# -- verifying again -------------------------------------------------------------------------------


def test_verify_reads_everything_and_writes_nothing(bench, library):
    target = settled(bench).places.target
    before = {p: p.lstat().st_mtime_ns for p in target.rglob("*")}
    medium = PosixMedium.at(target)
    found = verify(medium, target)
    assert found.sound and found.files == found.matching == 10
    assert {p: p.lstat().st_mtime_ns for p in target.rglob("*")} == before
    control = Control()
    control.stop()
    with pytest.raises(Cancelled):
        verify(medium, target, control)
    medium.close()


def test_a_library_without_a_manifest_cannot_be_verified(library):
    medium = PosixMedium.at(library)
    with pytest.raises(Damaged, match="no manifest"):
        verify(medium, library)
    medium.close()


def test_a_manifest_that_leads_out_is_refused(bench, library):
    target = settled(bench).places.target
    manifest = target / ".fascis/manifest.b3"
    manifest.write_bytes(b"0" * 64 + b"  ../../outside.mov\n")
    medium = PosixMedium.at(target)
    with pytest.raises(Damaged, match="line 1"):
        verify(medium, target)
    medium.close()


def test_a_name_that_is_not_utf8_is_verified_by_the_inventory(bench):
    bench.fill({b"odd \xff.jpg": b"12345", "fine.jpg": b"1"})
    target = settled(bench).places.target
    odd = os.path.join(os.fsencode(target), b"odd \xff.jpg")
    times = os.stat(odd)
    with open(odd, "r+b") as out:
        out.write(b"9")
    os.utime(odd, ns=(times.st_atime_ns, times.st_mtime_ns))
    medium = PosixMedium.at(target)
    assert verify(medium, target).damaged == [b"odd \xff.jpg"]
    medium.close()


# -- the scales ------------------------------------------------------------------------------------


def test_the_scales_agree_and_promise_what_a_release_deletes(bench, library):
    crossing = switched(bench)
    balance = weigh(crossing)
    promised = deleting_now(crossing)
    assert balance.even and {c.name: c.verdict for c in balance.checks}["Files"] == "equal"
    record = crossing.release()
    assert (record["files"], record["bytes"]) == (promised.files, promised.bytes)
    assert record["free_after"] - record["free_before"] >= promised.frees


def test_a_file_missing_from_the_copy_tips_the_scales_until_home_is_there(bench, library):
    crossing = settled(bench)
    (crossing.places.target / "notes.txt").unlink()
    balance = weigh(crossing)
    assert (
        not balance.even
        and not balance.checks[0].well
        and {c.name for c in balance.checks if not c.well} == {"Files", "Bytes"}
    )
    crossing.switch()
    balance = weigh(
        crossing
    )  # A person who works there can delete there: it is reported, and its original stays.
    (told,) = [c for c in balance.checks if c.name == "Changed at the new place since"]
    assert balance.even and (told.copies, told.detail, told.verdict) == (
        ("1",),
        "notes.txt",
        "their originals stay",
    )
    assert b"notes.txt" not in deleting_now(crossing).places and len(contents(library)) == 10


def test_a_copy_that_is_away_is_trouble_not_balance(bench, library):
    crossing = switched(bench)
    facts = json.loads((bench.heron / "stand-in.json").read_text())
    (bench.heron / "stand-in.json").write_text(json.dumps({**facts, "connected": False}))
    balance = weigh(Crossing(bench.again(), crossing.journal))
    assert not balance.even and "is away" in balance.trouble and len(contents(library)) == 10


def test_a_folder_made_at_the_old_place_is_never_taken_for_the_originals(bench, library):
    crossing = switched(bench)
    parked = crossing.park()
    library.mkdir()
    (library / "new work.mov").write_bytes(b"only here")
    record = crossing.release()
    assert (
        (library / "new work.mov").read_bytes() == b"only here"
        and not parked.exists()
        and record["files"] == 10
    )


def test_an_empty_folder_made_at_the_old_place_stays(bench, library):
    crossing = switched(bench)
    crossing.park()
    library.mkdir()
    crossing.release()
    assert library.is_dir() and crossing.state is State.RELEASED


@pytest.mark.lab
def test_shared_extents_on_btrfs_are_found(tmp_path, mounted, monkeypatch):
    """Deleting files whose extents another file shares frees nothing; the reason is reported."""
    monkeypatch.setattr(free_space, "PATIENCE", 0.5)
    source, to = mounted("btrfs", 300, "SOURCE"), mounted("ext4", 200, "TARGET")
    library = source / "The Weir"
    library.mkdir()
    (library / "long.mov").write_bytes(os.urandom(24_000_000))
    subprocess.run(
        ["cp", "--reflink=always", library / "long.mov", source / "clone.mov"], check=True
    )
    subprocess.run(["sync", "-f", source], check=True)
    workspace = Workspace(tmp_path / "d", tmp_path / "s", tmp_path / "c", Drives())
    plan = make_plan(
        workspace, survey_library(workspace, library), to, Choices(after=After.RELEASE)
    )
    crossing = Crossing.start(workspace, plan, decided=True)
    crossing.run()
    crossing.switch()
    record = crossing.release()
    assert any("shared with other files or snapshots" in r for r in record["reasons"]), record
    assert (source / "clone.mov").stat().st_size == 24_000_000 and contents(to / "The Weir")[
        b"long.mov"
    ]


def test_json_texts_are_json(bench, library):
    crossing = settled(bench)
    found = list((crossing.places.target / ".fascis").rglob("*.json"))
    assert {p.name for p in found} >= {"identity.json", f"{crossing.id}.json"}
    for path in found:
        json.load(io.StringIO(path.read_text()))
