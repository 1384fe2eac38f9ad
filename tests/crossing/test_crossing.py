"""A crossing from plan to release, judged from outside."""

import json
import os
import shutil
import stat
import subprocess

import pytest

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.states import State
from fascis.crossing.status.queue import find_crossing, unfinished
from fascis.files.errors import Refused
from fascis.library.roles import Role
from tests.crossing.ways import settled, started, switched
from tests.judge import contents, one_whole_copy


def test_what_crossed_is_what_was_there(bench, library):
    before = contents(library)
    crossing = settled(bench)
    assert contents(crossing.places.target) == before == contents(library)
    assert (
        crossing.copies.verified()
        == crossing.journal.planned()
        == (10, sum(p.stat().st_size for p in library.rglob("*") if p.is_file()))
    )


def test_nothing_but_the_library_is_left_at_the_destination(bench, library):
    (bench.heron / "older").mkdir()
    settled(bench)
    assert sorted(p.name for p in bench.heron.iterdir()) == ["The Weir", "older", "stand-in.json"]


NAMES = [
    "two\nlines.jpg",
    "quote's \" and `.wav",
    "emoji 🪿.mov",
    "Cafe\u0301.jpg",
    "Caf\u00e9.jpg",
    b"not \xff utf8.jpg",
    "back\\slash.wav",
    " lead and trail ",
]


def test_names_of_any_bytes_cross_unharmed(bench):
    bench.fill(
        {(n if isinstance(n, bytes) else n.encode()): str(i).encode() for i, n in enumerate(NAMES)}
    )
    before = contents(bench.library)
    crossing = settled(bench)
    assert contents(crossing.places.target) == before and len(before) == len(NAMES)


@pytest.mark.skipif(shutil.which("b3sum") is None, reason="b3sum is not installed")
def test_the_manifest_is_checkable_without_fascis(bench):
    bench.fill(
        {(n if isinstance(n, bytes) else n.encode()): str(i).encode() for i, n in enumerate(NAMES)}
    )
    target = settled(bench).places.target
    done = subprocess.run(
        ["b3sum", "--check", ".fascis/manifest.b3"], cwd=target, capture_output=True
    )
    assert done.returncode == 0, done.stderr
    assert (
        done.stdout.count(b": OK") == len(NAMES) - 1
    )  # the name that is not UTF-8 is in the inventory only


def test_links_times_modes_holes_and_empty_folders_are_kept(bench, library):
    weir = library / "media/Day 01/weir_01.mov"
    os.link(weir, library / "second name.mov")
    os.symlink("media/nowhere", library / "dangling")
    (library / "empty").mkdir()
    weir.chmod(0o640)
    os.utime(weir, ns=(1, 1_234_567_890_123_456_789))
    os.utime(library / "media", ns=(5, 1_111_111_111_000_000_007))
    with open(library / "sparse.wav", "wb") as out:
        out.truncate(30 << 20)
        out.seek(9 << 20)
        out.write(b"sound")
    try:
        os.setxattr(weir, "user.note", b"breach")
    except OSError:
        pytest.skip("no extended attributes here")
    target = settled(bench).places.target
    copy = target / "media/Day 01/weir_01.mov"
    assert (
        stat.S_IMODE(copy.stat().st_mode) == 0o640
        and copy.stat().st_mtime_ns == 1_234_567_890_123_456_789
    )
    assert (target / "media").stat().st_mtime_ns == 1_111_111_111_000_000_007
    assert copy.stat().st_ino == (target / "second name.mov").stat().st_ino
    assert os.readlink(target / "dangling") == "media/nowhere"
    assert (target / "empty").is_dir()
    assert os.getxattr(copy, "user.note") == b"breach"
    sparse = (target / "sparse.wav").stat()
    assert sparse.st_size == 30 << 20 and sparse.st_blocks * 512 < 2 << 20


def test_a_left_out_role_stays_and_is_never_released(bench, library):
    crossing = settled(bench, after=After.RELEASE, leave_out=[Role.PROXY, Role.PREVIEW])
    assert not (crossing.places.target / "proxies/weir_01.mov").exists()
    assert crossing.advance(consent=True) is State.RELEASED
    left = crossing.journal.value("release")["left_behind"]
    assert {(x["path"], x["why"]) for x in left} == {
        ("proxies/weir_01.mov", "left-out"),
        ("previews/0001.jpg", "left-out"),
    }
    assert sorted(contents(library)) == [
        b"previews/0001.jpg",
        b"proxies/weir_01.mov",
    ]  # back under the old name


def test_release_deletes_the_originals_and_measures_the_space(bench, library):
    before = contents(library)
    crossing = switched(bench)
    record = crossing.release()
    assert not library.exists() and not list(library.parent.glob("The Weir*"))
    assert record["files"] == 10 and record["free_after"] - record["free_before"] >= record["bytes"]
    assert record["left_behind"] == [] and record["reasons"] == []
    assert contents(crossing.places.target) == before
    assert (library.parent / "stand-in.json").exists()


def test_release_before_the_switch_is_refused(bench, library):
    crossing = settled(bench)
    with pytest.raises(Refused, match="cannot become: originals deleted"):
        crossing.release()
    assert len(contents(library)) == 10


def test_what_appeared_changed_or_is_open_stays(bench, library):
    crossing = switched(bench)
    (library / "new cut.txt").write_text("later")
    (library / "notes.txt").write_text("changed since")
    with (
        open(library / "stills/heron.jpg", "rb") as held,
        subprocess.Popen(["sleep", "60"], stdin=held) as program,
    ):
        record = crossing.release()
        program.kill()
    assert {x["path"]: x["why"] for x in record["left_behind"]} == {
        "new cut.txt": "appeared",
        "notes.txt": "changed",
        "stills/heron.jpg": "open",
    }
    assert sorted(contents(library)) == [b"new cut.txt", b"notes.txt", b"stills/heron.jpg"]
    assert (library / "notes.txt").read_text() == "changed since"


def test_a_file_replaced_by_a_link_is_not_followed(bench, library):
    crossing = switched(bench)
    outside = bench.drives / "inside" / "precious.mov"
    outside.write_bytes(b"only copy")
    target = library / "media/Day 01/weir_02.mov"
    target.unlink()
    target.symlink_to(outside)
    record = crossing.release()
    assert outside.read_bytes() == b"only copy"
    assert {x["path"] for x in record["left_behind"]} == {
        "media/Day 01/weir_02.mov"
    } and target.is_symlink()


def test_a_folder_replaced_by_a_link_is_not_entered(bench, library):
    crossing = switched(bench)
    elsewhere = bench.drives / "inside" / "elsewhere"
    shutil.copytree(library / "media", elsewhere)
    shutil.rmtree(library / "media")
    (library / "media").symlink_to(elsewhere)
    record = crossing.release()
    assert len(contents(elsewhere)) == 4 and (library / "media").is_symlink()
    assert record["files"] == 6 and {x["path"]: x["why"] for x in record["left_behind"]} == {
        "media": "appeared"
    }


def test_the_original_of_a_copy_that_was_changed_stays_and_the_rest_goes(bench, library):
    before = contents(library)
    crossing = switched(bench)
    copy = crossing.places.target / "media/Day 02/salmon.wav"
    whole = copy.read_bytes()
    copy.write_bytes(whole[:-1] + bytes([whole[-1] ^ 1]))
    (crossing.places.target / "previews/0001.jpg").unlink()
    record = crossing.release()
    left = {x["path"]: x["why"] for x in record["left_behind"]}
    assert left == {"media/Day 02/salmon.wav": "copy-changed", "previews/0001.jpg": "copy-missing"}
    assert contents(library) == {p: before[p] for p in before if os.fsdecode(p) in left}
    there = contents(crossing.places.target)
    assert {p: there[p] for p in before if os.fsdecode(p) not in left} == {
        p: before[p] for p in before if os.fsdecode(p) not in left
    }


def test_where_no_copy_is_what_was_verified_nothing_is_released(bench, library):
    crossing = switched(bench)
    for path in crossing.places.target.rglob("*"):
        if path.is_file() and ".fascis" not in path.parts:
            path.write_bytes(b"something else")
    with pytest.raises(Refused, match="Nothing in the copy on heron is as it was verified"):
        crossing.release()
    assert len(contents(library)) == 10 and crossing.state is State.SWITCHED


def test_another_library_at_the_target_is_never_trusted(bench, library):
    crossing = switched(bench)
    target = crossing.places.target
    identity = json.loads((target / ".fascis/identity.json").read_text())
    identity["history"][-1]["token"] = "0" * 32
    (target / ".fascis/identity.json").write_text(json.dumps(identity))
    with pytest.raises(Refused, match="not the copy that this crossing made"):
        crossing.release()
    assert len(contents(library)) == 10


def test_park_is_one_rename_and_can_be_put_back(bench, library):
    before = contents(library)
    crossing = switched(bench)
    parked = crossing.park()
    assert not library.exists() and contents(parked) == before
    crossing.put_back()
    assert contents(library) == before and crossing.state is State.SWITCHED


def test_park_refuses_when_something_is_newer(bench, library):
    crossing = switched(bench)
    (library / "late.txt").write_text("x")
    with pytest.raises(Refused, match=r"newer at the old place: late.txt"):
        crossing.park()
    assert (library / "late.txt").exists() and len(contents(library)) == 11


def test_put_back_replaces_nothing(bench, library):
    crossing = switched(bench)
    parked = crossing.park()
    library.mkdir()
    with pytest.raises(Refused, match="exists beside the originals"):
        crossing.put_back()
    assert len(contents(parked)) == 10 and list(library.iterdir()) == []


def test_undo_gives_home_back_and_deletes_no_copy(bench, library):
    crossing = switched(bench)
    register = bench.workspace.register
    assert register.libraries()[0].root == crossing.places.target
    said = crossing.undo()
    assert register.libraries()[0].root == library and "stays" in said
    assert len(contents(crossing.places.target)) == len(contents(library)) == 10


def test_giving_up_clears_only_what_was_copied(bench, library):
    crossing = started(bench)
    bench.workspace.drives.stand_ins()[0].description.faults.clear()
    (bench.heron / "mine.txt").write_text("stays")
    crossing.undo()
    assert crossing.state is State.UNDONE and sorted(p.name for p in bench.heron.iterdir()) == [
        "mine.txt",
        "stand-in.json",
    ]
    assert len(contents(library)) == 10


def test_a_second_crossing_keeps_identity_history_and_old_receipts(bench, library):
    first = switched(bench)
    first.release()
    bench.add_drive("second")
    bench.library = first.places.target
    again = settled(bench, to=bench.drives / "second")
    identity = json.loads((again.places.target / ".fascis/identity.json").read_text())
    assert (
        identity["library_id"] == first.places.header.library_id and len(identity["history"]) == 2
    )
    kept = again.places.target / ".fascis"
    assert (kept / f"receipts/{first.id}.json").exists() and (
        kept / f"receipts/{again.id}.json"
    ).exists()
    old = json.loads((kept / f"as-it-was/{again.id}/identity.json").read_text())
    assert len(old["history"]) == 1
    again.switch()
    assert again.release()["left_behind"] == [] and not bench.library.exists()


def test_two_crossings_of_one_library_at_once(bench, library):
    from fascis.crossing.places.places import open_source

    one, other = started(bench, name="one"), started(bench, name="other")
    held = open_source(bench.workspace, one.places)
    with pytest.raises(Refused, match="Another crossing of The Weir is running"):
        other.run()
    held.close()
    assert other.run() is State.SETTLED and not (bench.heron / "one").exists()


def test_a_library_held_by_a_receipt_of_no_crossing_has_nothing_to_resume(bench, library):
    assert unfinished(bench.workspace) == []
    crossing = started(bench)
    assert unfinished(bench.workspace) == [crossing.id]
    with pytest.raises(Refused, match="no crossing"):
        find_crossing(bench.workspace, "ffff")


def test_rule_one_through_a_whole_crossing(bench, library):
    before = contents(library)
    crossing = settled(bench, after=After.RELEASE)
    assert one_whole_copy(before, library.parent, crossing.places.target) == []
    crossing.advance(consent=True)
    assert one_whole_copy(before, library.parent, crossing.places.target) == []


@pytest.mark.parametrize("filesystem", ["exfat", "vfat"])
def test_where_the_drive_cannot_promise_not_to_replace(bench, library, filesystem):
    """The final name is claimed by an exclusive folder; the identity comes last."""
    bench.add_drive("stick", filesystem)
    crossing = settled(bench, to=bench.drives / "stick")
    assert contents(crossing.places.target) == contents(library)
    assert not (crossing.places.target / ".fascis/arriving.json").exists()
    assert any(a[0] == "claim" and a[4] == "arrived" for a in crossing.journal.acts())
