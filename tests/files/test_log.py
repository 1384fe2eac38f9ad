"""The log and the report for the makers."""

import json
import logging
import os
from pathlib import Path

import pytest

from fascis.crossing.status.makers_report import makers_report
from fascis.files.errors import EnvironmentTrouble
from fascis.files.own import log
from fascis.files.own.saving import write_new, write_over
from fascis.files.own.unexpected import told_unexpected
from tests.crossing.ways import switched

LOG = logging.getLogger("fascis.tests")


@pytest.fixture
def folder(tmp_path):
    """A log of its own, which ends with the test."""
    log.begin(tmp_path / "state")
    yield tmp_path / "state"
    top = logging.getLogger("fascis")
    for handler in [h for h in top.handlers if isinstance(h, log._File)]:
        top.removeHandler(handler)
        handler.close()


def test_a_record_keeps_words_and_names_apart(folder):
    LOG.info("copied %s to %s", "a b.mov", "Heron\n")
    (record,) = log.records(folder)
    assert record["says"] == "copied %s to %s" and record["with"] == ["a b.mov", "Heron\n"]
    assert (folder / log.NAME).stat().st_mode & 0o077 == 0


def test_an_error_is_kept_with_its_steps_and_without_the_folder_of_the_program(folder):
    try:
        raise ZeroDivisionError("of /home/mara/The Weir")
    except ZeroDivisionError as error:
        sentence = str(told_unexpected(error, folder))
    (record,) = log.records(folder)
    assert record["error"] == "ZeroDivisionError" and "Weir" in record["words"]
    assert record["trace"][0].endswith(
        "test_an_error_is_kept_with_its_steps_and_without_the_folder_of_the_program"
    )
    assert str(folder / log.NAME) in sentence and "/home" not in "".join(record["trace"])


def test_the_log_turns_over_and_the_last_records_are_found(folder):
    for n in range(9_000):
        LOG.info("%d %s", n, "x" * 400)
    files = sorted(p.name for p in folder.iterdir())
    assert files == ["fascis.log", "fascis.log.1", "fascis.log.2", "fascis.log.3"]
    assert sum(p.stat().st_size for p in folder.iterdir()) <= 4 << 20
    found = [int(r["with"][0]) for r in log.records(folder)]
    assert found == list(range(7_000, 9_000))


def test_invalid_lines_are_left_out(folder):
    LOG.info("one")
    with open(folder / log.NAME, "a") as out:
        out.write("{broken\n[1]\n")
    assert [r["says"] for r in log.records(folder)] == ["one"]


def test_a_log_that_cannot_be_delays_nothing(tmp_path):
    (tmp_path / "state").write_text("a file")
    log.begin(tmp_path / "state")
    LOG.info("nobody hears")
    assert list(log.records(tmp_path / "state")) == []


def test_a_link_in_place_of_the_log_is_not_followed(tmp_path, folder):
    other = tmp_path / "other"
    other.mkdir(mode=0o700)
    (tmp_path / "precious").write_text("precious")
    os.symlink(tmp_path / "precious", other / log.NAME)
    log.begin(other)
    LOG.info("nothing of this")
    assert (tmp_path / "precious").read_text() == "precious"


def names_in(value, found):
    """Every piece of text in an object."""
    if isinstance(value, dict):
        for k, v in value.items():
            names_in(v, found)
            found.append(k)
    elif isinstance(value, list):
        for v in value:
            names_in(v, found)
    elif isinstance(value, str):
        found.append(value)
    return found


def test_a_report_has_states_drives_and_log(bench, library, folder):
    bench.workspace.state.mkdir(exist_ok=True)
    log.begin(bench.workspace.state)
    crossing = switched(bench)
    told = json.loads(makers_report(bench.workspace))
    assert told["format"] == 1 and told["versions"]["fascis"]
    (mine,) = told["crossings"]
    assert (mine["id"], mine["state"], mine["name"]) == (crossing.id, "switched", "The Weir")
    assert mine["destinations"][0]["copies"] == {"verified": 10}
    assert {d["label"] for d in told["drives"]} == {"inside", "heron"}
    said = [r["with"][-1] for r in told["log"] if r["says"].startswith("state of")]
    assert "settled" in said and said[-1] == "switched"


def test_a_report_without_names_has_none(bench, library, folder):
    log.begin(bench.workspace.state)
    bench.fill({"media/Sécret Heron.mov": 500})
    crossing = switched(bench)
    crossing.journal.note(b"media/S\xc3\xa9cret Heron.mov", "heron", "watch heron", 0)
    LOG.info("read %s", library / "media")
    text = json.dumps(json.loads(makers_report(bench.workspace, names=False)), ensure_ascii=False)
    found = names_in(json.loads(text), [])
    assert "switched" in found and "nvme" in found
    for name in ("The Weir", "heron", "inside", "cret", str(bench.root), "media"):
        assert not any(name in f for f in found), name


def test_a_report_tells_of_a_journal_that_cannot_be_read(bench, folder):
    bench.workspace.crossings.mkdir(parents=True)
    (bench.workspace.crossings / "0123456789abcdef.sqlite").write_bytes(b"no journal" * 500)
    assert len(json.loads(makers_report(bench.workspace))["damaged_journals"]) == 1
    assert json.loads(makers_report(bench.workspace, names=False))["damaged_journals"] == 1


def test_what_a_person_saves_is_whole_or_reported(tmp_path):
    write_new(tmp_path / "report.json", b"one")
    with pytest.raises(EnvironmentTrouble, match="report.json"):
        write_new(tmp_path / "report.json", b"two")
    write_over(tmp_path / "report.json", b"3")
    assert (tmp_path / "report.json").read_bytes() == b"3"
    with pytest.raises(EnvironmentTrouble):
        write_over(Path("/nowhere/report.json"), b"")
