"""A library on another computer: its receipts and the state of its copies are shown there."""

import json

import pytest

from fascis.copies.travelled import travelled_receipts
from fascis.copies.verifying.verified import verify_at
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.drives.connected import Drives
from fascis.files.control import Control
from fascis.library.known.places import known_places
from fascis.workspace import Workspace
from tests.copies.test_update import begin, fill
from tests.judge import contents


@pytest.fixture
def elsewhere(bench):
    """A copy that was made on the bench, and another computer that has its drive alone."""
    lib = fill(bench)
    crossing = begin(bench, lib, bench.heron)
    id = crossing.id
    crossing.close()
    drives = bench.root / "drives elsewhere"
    drives.mkdir()
    bench.heron.rename(drives / "heron")
    root = bench.root / "second"
    second = Workspace(root / "data", root / "state", root / "config", Drives(drives, real=False))
    copy = drives / "heron" / lib.name
    remember(second, survey_library(second, copy))
    return second, copy, id


def test_receipts_travel_and_are_shown(elsewhere):
    second, copy, id = elsewhere
    (record,) = travelled_receipts(second, ())
    assert (record["crossing"], record["library"]) == (id, str(copy))
    assert travelled_receipts(second, {id}) == []


@pytest.mark.parametrize(
    "content",
    [b"", b"[]", b"{}", b"{" * 100_000, b"\xff\xfe", json.dumps({"crossing": "x"}).encode()],
)
def test_what_is_not_a_receipt_is_left_out(elsewhere, content):
    second, copy, id = elsewhere
    good = json.loads((copy / f".fascis/receipts/{id}.json").read_bytes())
    (copy / ".fascis/receipts/bad.json").write_bytes(content)
    for name, change in (("a", {"files": "many"}), ("b", {"name": 7}), ("c", {"destinations": 3})):
        (copy / f".fascis/receipts/{name}.json").write_text(
            json.dumps({**good, "crossing": name, **change})
        )
    before = contents(copy / ".fascis")
    assert [r["crossing"] for r in travelled_receipts(second, ())] == [id]
    assert contents(copy / ".fascis") == before


def test_a_copy_is_verified_there_and_never_called_home(elsewhere):
    second, copy, _ = elsewhere
    (known,) = known_places(second)
    assert known.home.path != copy and not known.home.connected
    assert [p.path for p in known.copies] == [copy]
    assert verify_at(second, copy, Control()).sound
    (place,) = known_places(second)[0].copies
    assert place.seen.verified_at and place.state.value == "unknown"
