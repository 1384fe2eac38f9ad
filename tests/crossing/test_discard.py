"""Files deleted without a copy, by their own choice; files damaged at the source.

What cannot be set aside.
"""

import json
import os
import shutil
import subprocess

import pytest

from fascis.crossing.model.afterwards import After
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.states import State
from fascis.crossing.receipts.receipt import receipt_of
from fascis.crossing.status.deleting import deleting_now
from fascis.crossing.status.queue import find_crossing
from fascis.crossing.status.report import crossing_object, exit_status
from fascis.files.errors import Refused
from fascis.library.roles import Role
from tests.crossing.ways import codes, plan_of, settled, started, switched
from tests.judge import contents


def test_discarded_goes_with_the_originals_and_left_out_stays(bench, library):
    crossing = switched(bench, leave_out=[Role.RENDER], discard=[Role.PROXY])
    assert set(contents(bench.heron / "The Weir")) == set(contents(library)) - {
        b"proxies/weir_01.mov",
        b"renders/cut.mov",
    }
    plan = deleting_now(crossing)
    record = crossing.release()
    assert set(contents(library)) == {b"renders/cut.mov"}
    assert (record["files"], record["discarded_files"], record["discarded_bytes"]) == (8, 1, 9_000)
    assert plan.files == 9 and [(s.place, s.why) for s in plan.stays] == [
        (b"renders/cut.mov", "left-out")
    ]
    assert [(x["path"], x["why"]) for x in record["left_behind"]] == [
        ("renders/cut.mov", "left-out")
    ]
    assert receipt_of(crossing.journal)["discarded"] == {
        "roles": ["proxy"],
        "files": 1,
        "bytes": 9_000,
    }


def test_discarding_waits_for_the_release_and_for_the_same_checks(bench, library):
    bench.fill({"proxies/b.mov": 10, "proxies/c.mov": 10, "proxies/d.mov": 10})
    crossing = settled(bench, discard=[Role.PROXY])
    assert len(list((library / "proxies").iterdir())) == 4  # Nothing is deleted before.
    crossing.switch()
    (library / "proxies/b.mov").write_bytes(b"worked on since")
    (library / "proxies/c.mov").unlink()
    (library / "proxies/c.mov").symlink_to("elsewhere.mov")
    with (
        open(library / "proxies/d.mov", "rb") as held,
        subprocess.Popen(["sleep", "60"], stdin=held) as program,
    ):
        record = crossing.release()
        program.kill()
    why = {x["path"]: x["why"] for x in record["left_behind"]}
    assert why == {"proxies/b.mov": "changed", "proxies/c.mov": "changed", "proxies/d.mov": "open"}
    assert set(contents(library)) == {b"proxies/b.mov", b"proxies/c.mov", b"proxies/d.mov"}


def test_only_what_can_be_made_again_is_discarded(bench, library):
    plan = plan_of(bench, discard=[Role.ORIGINAL])
    assert codes(plan)["discard-not-possible"] == "stops"
    with pytest.raises(Refused, match="never discarded"):
        started(bench, discard=[Role.DOCUMENT])
    assert codes(plan_of(bench, After.COPY, discard=[Role.PROXY]))["discard-not-possible"] == "note"


def test_a_role_by_the_word_of_a_foreign_identity_file_is_never_discarded(bench, library):
    """An identity file on somebody's drive calls footage a proxy: it can be left out, never
    deleted.
    """
    own = library / ".fascis"
    own.mkdir()
    identity = {
        "format": 1,
        "library_id": "6a0f9a52-0000-4000-8000-000000000001",
        "name": "The Weir",
        "home": {"drive": "elsewhere", "path": "The Weir"},
        "roles": {"media": "proxy"},
        "history": [
            {"id": "00", "when": "2026-01-01T00:00:00Z", "from": "a", "to": "b", "token": "x"}
        ],
    }
    (own / "identity.json").write_text(json.dumps(identity))
    plan = plan_of(bench, discard=[Role.PROXY])
    assert (plan.discarded.files, plan.left_out.files) == (
        1,
        4,
    ) and "discard-not-possible" in codes(plan)
    crossing = switched(bench, discard=[Role.PROXY])
    crossing.release()
    assert {p for p in contents(library) if p.startswith(b"media")} == {
        b"media/Day 01/weir_01.mov",
        b"media/Day 01/weir_02.mov",
        b"media/Day 02/salmon.wav",
        b"media/empty.wav",
    }


def test_an_identity_file_that_was_written_here_and_edited_since_discards_nothing(bench, library):
    """On a lent drive somebody wrote that the stills are previews.

    Its history still has this machine's token.
    """
    first = switched(bench)
    first.release()
    there = bench.heron / "The Weir"
    identity = there / ".fascis/identity.json"
    identity.write_text(
        json.dumps({**json.loads(identity.read_text()), "roles": {"stills": "preview"}})
    )
    back = bench.add_drive("egret")
    bench.again()
    plan = plan_of(bench, library=there, to=back, discard=[Role.PREVIEW])
    assert (plan.discarded.files, plan.left_out.files) == (
        1,
        1,
    ) and "discard-not-possible" in codes(plan)
    fates = {place: Fate(plan.fates[row]) for row, _, place in plan.survey.rows()}
    assert (
        fates[b"previews/0001.jpg"] is Fate.DISCARD and fates[b"stills/heron.jpg"] is Fate.LEFT_OUT
    )
    crossing = switched(bench, library=there, to=back, discard=[Role.PREVIEW])
    crossing.release()
    assert set(contents(there)) == {b"stills/heron.jpg", b"stills/heron.xmp"}


@pytest.fixture
def damaged(bench, library):
    """A library that arrived by a crossing.

    Since then a bit of one of its files has turned, time and size the same.
    """
    switched(bench).release()
    there = bench.heron / "The Weir"
    clip = there / "media/Day 01/weir_02.mov"
    s = clip.stat()
    content = bytearray(clip.read_bytes())
    content[5] ^= 1
    clip.write_bytes(content)
    os.utime(clip, ns=(s.st_atime_ns, s.st_mtime_ns))
    bench.egret = bench.add_drive("egret")
    bench.again()
    return there


def test_what_was_damaged_where_it_lies_waits_for_a_decision(bench, damaged):
    crossing = started(bench, library=damaged, to=bench.egret)
    assert crossing.run() is State.WAITING
    record = crossing_object(crossing)
    assert exit_status(record) == 4 and not (bench.egret / "The Weir").exists()
    (problem,) = record["problems"]
    assert (problem["code"], problem["files"]) == (
        "damaged-at-source",
        ["media/Day 01/weir_02.mov"],
    )
    assert "damaged at the source" in problem["sentence"]


def test_taken_as_it_is_its_original_is_never_released(bench, damaged):
    crossing = started(bench, library=damaged, to=bench.egret)
    crossing.run()
    crossing.take_damaged()
    assert crossing.run() is State.SETTLED
    assert contents(bench.egret / "The Weir") == contents(damaged)
    assert any("its original is kept" in m for _, _, m, _ in crossing.journal.attentions())
    crossing.switch()
    plan, record = deleting_now(crossing), crossing.release()
    assert (
        set(contents(damaged)) == {b"media/Day 01/weir_02.mov"}
        and plan.files == record["files"] == 9
    )
    assert [(s.place, s.why) for s in plan.stays] == [(b"media/Day 01/weir_02.mov", "damaged")]
    assert {x["path"]: x["why"] for x in record["left_behind"]} == {
        "media/Day 01/weir_02.mov": "damaged"
    }


def test_without_it_the_rest_crosses(bench, damaged):
    crossing = started(bench, library=damaged, to=bench.egret)
    crossing.run()
    assert crossing.run(skip_unreadable=True) is State.SETTLED
    crossing.switch()
    crossing.release()
    assert (
        set(contents(damaged)) == {b"media/Day 01/weir_02.mov"}
        and len(contents(bench.egret / "The Weir")) == 9
    )


@pytest.mark.parametrize(
    "record",
    [b"", b"nonsense\n\xff\x00", b"path,path_encoding,size_bytes,mtime_ns,blake3,role\r\nx\r\n"],
)
def test_a_record_that_is_not_understood_tells_no_damage(bench, damaged, record):
    (damaged / ".fascis/inventory.csv").write_bytes(record)
    crossing = started(bench, library=damaged, to=bench.egret)
    assert crossing.run() is State.SETTLED
    assert any("damage cannot be detected" in m for _, _, m, _ in crossing.journal.attentions())


def test_what_was_edited_is_not_damaged(bench, damaged):
    (damaged / "media/Day 01/weir_02.mov").write_bytes(b"a new cut")
    crossing = started(bench, library=damaged, to=bench.egret)
    assert crossing.run() is State.SETTLED and crossing.copies.verified()[0] == 10


@pytest.mark.lab
def test_a_drive_s_own_top_folder_cannot_be_set_aside_and_that_is_reported_before_the_start(
    bench, mounted
):
    top = mounted("ext4", 64, "WEIR")
    shutil.rmtree(top / "lost+found")
    (top / "weir.mov").write_bytes(b"water" * 1000)
    bench.workspace.drives.__init__(bench.drives)
    assert codes(plan_of(bench, After.PARK, library=top))["cannot-set-aside"] == "stops"
    assert codes(plan_of(bench, After.KEEP, library=top)).get("cannot-set-aside") is None
    plan = plan_of(bench, After.RELEASE, library=top, name="Weir")
    assert codes(plan)["cannot-set-aside"] == "note"
    crossing = started(bench, After.RELEASE, library=top, name="Weir")
    assert crossing.run() is State.SETTLED
    assert crossing.advance(consent=True) is State.RELEASED
    assert contents(top) == {} and len(contents(bench.heron / "Weir")) == 1
    again = find_crossing(bench.workspace, crossing.id)
    assert again.journal.value("release")["stays_at"] in (None, str(top))
