"""Receipts that travelled inside libraries that crossed on another computer."""

from __future__ import annotations

import json
from collections.abc import Collection, Iterator
from contextlib import closing, suppress
from typing import Any

from fascis.copies.verifying.verified import RECEIPTS
from fascis.crossing.receipts.receipt import receipt_html, rows_of, seal
from fascis.files.disk.medium import Medium, read_small
from fascis.files.errors import FascisError
from fascis.files.names import join
from fascis.library.known.places import known_places
from fascis.workspace import Workspace

_LARGEST = 16 << 20
# For one library.
_MOST = 1000


def travelled_receipts(workspace: Workspace, known: Collection[str]) -> list[dict[str, Any]]:
    """The receipts of crossings that this computer has no journal of, latest first.

    From known, connected libraries; files that are not receipts are skipped.

    Args:
        known: ids of the crossings that it has.
    """
    found: dict[str, dict[str, Any]] = {}
    roots = [p.path for one in known_places(workspace) for p in one.all if p.there]
    for root in roots:
        with suppress(FascisError, OSError), closing(workspace.drives.open(root)) as medium:
            for record in _receipts_in(medium):
                id = record["crossing"]
                if id not in known and id not in found:
                    found[id] = {**record, "library": str(root)}
    return sorted(found.values(), key=lambda r: -float(r["planned_at"]))


def _receipts_in(medium: Medium) -> Iterator[dict[str, Any]]:
    if not medium.exists(RECEIPTS):
        return
    for name in sorted(medium.names(RECEIPTS))[:_MOST]:
        if not name.endswith(b".json"):
            continue
        with suppress(FascisError, OSError, ValueError, RecursionError):
            record = json.loads(read_small(medium, join(RECEIPTS, name), _LARGEST))
            if _is_receipt(record, name.removesuffix(b".json").decode("ascii")):
                yield record


def _is_receipt(record: Any, id: str) -> bool:
    """True for something that can be shown as a receipt; anybody can have written it."""
    try:
        receipt_html(record)
        rows_of(record)
        seal(record)
        texts = (record[k] for k in ("crossing", "name", "state", "from", "to"))
        labels = (record[k]["label"] for k in ("from_drive", "to_drive"))
        figures = (record[k] for k in ("planned_at", "files", "bytes", "verified_files"))
        right = all(isinstance(t, str) for t in (*texts, *labels))
        return right and record["crossing"] == id and all(float(f) >= 0 for f in figures)
    except (KeyError, TypeError, ValueError, AttributeError, IndexError, OverflowError, OSError):
        return False
