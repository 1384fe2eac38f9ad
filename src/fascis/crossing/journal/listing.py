"""The plan as a readable list.

A second copy of the plan, in the staging folder, written before the first byte is copied.
"""

from __future__ import annotations

from collections.abc import Iterator
from itertools import islice

from fascis.crossing.journal.journal import Journal
from fascis.crossing.model.fates import Fate
from fascis.files.names import all_listed, place_text
from fascis.files.records import records
from fascis.files.times import all_whole
from fascis.library.roles import ROLES
from fascis.library.survey import Kind

HEADER = (
    "path",
    "path_encoding",
    "kind",
    "size_bytes",
    "mtime_ns",
    "role",
    "fate",
    "gathered_from",
)
_FATES = {f.value: f.name.lower().replace("_", "-") for f in Fate}
_KINDS = {k.value: k.name.lower() for k in Kind}
_ROLES = [role.value for role in ROLES]
_ROWS = 4096


def plan_list(journal: Journal) -> Iterator[bytes]:
    """The list as CSV (RFC 4180, UTF-8), some thousand records at a time."""
    yield records([(title,) for title in HEADER]).encode()
    rows = journal.plan_rows()
    while some := list(islice(rows, _ROWS)):
        places, kinds, sizes, mtimes, roles, fates, outside = zip(*some, strict=True)
        columns = (
            *all_listed(places),
            [_KINDS[kind] for kind in kinds],
            sizes,
            all_whole(mtimes),
            [_ROLES[role] for role in roles],
            [_FATES[fate] for fate in fates],
            [place_text(path) if path else "" for path in outside],
        )
        yield records(columns).encode()
