"""Counts of entries, so that nothing reads all of them to count some.

Entries that are equal in everything :class:`~fascis.crossing.journal.which.Which` asks for, except
sizes, are one row of a table in memory: some dozens of rows for any library.
"""

from __future__ import annotations

from fascis.crossing.journal.journal import Journal
from fascis.crossing.journal.schema import joined
from fascis.crossing.journal.which import Which


def sums(journal: Journal, number: int, which: Which) -> tuple[int, int]:
    """``(files, bytes)`` of the regular files that a condition selects on one destination.

    Sizes as copied, if known.
    """
    row = journal.read(
        f"SELECT coalesce(sum(e.files), 0), coalesce(sum(e.high), 0), coalesce(sum(e.low), 0) "
        f"FROM {_entries(journal, number)} WHERE e.kind=0 AND ({which})"
    )[0]
    return int(row[0]), joined(row[1], row[2])


def is_none(journal: Journal, number: int, condition: str) -> bool:
    """True if a condition selects no entry; counts first if necessary."""
    table = _entries(journal, number)
    return not journal.read(f"SELECT 1 FROM {table} WHERE {condition} LIMIT 1")


def _entries(journal: Journal, number: int) -> str:
    table = journal.alike(number)
    # Conditions distinguish an entry (e) and its copy (c): here both are one row.
    return f"{table} e JOIN {table} c ON c.rowid=e.rowid"
