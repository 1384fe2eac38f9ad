"""The plan as a list anyone can read.

Written a second time, into the staging folder, before the first byte is copied.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from itertools import islice

from fascis.crossing.journal.journal import Journal
from fascis.crossing.model.fates import Fate
from fascis.files.names import listed, place_text
from fascis.files.times import whole
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
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")
    writer.writerow(HEADER)
    rows = (
        (
            *listed(place),
            _KINDS[kind],
            size,
            whole(mtime),
            _ROLES[role],
            _FATES[fate],
            place_text(outside) if outside else "",
        )
        for place, kind, size, mtime, role, fate, outside in journal.plan_rows()
    )
    while some := list(islice(rows, _ROWS)):
        writer.writerows(some)
        yield out.getvalue().encode()
        out.seek(0)
        out.truncate()
