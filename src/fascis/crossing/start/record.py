"""The library's own record of its files: their digests when it was last verified.

A file with the recorded size and time but other content was damaged at the source. It is copied
only by decision, and its original is never deleted.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing
from itertools import groupby
from pathlib import Path

from fascis.crossing.journal.journal import Journal
from fascis.files.errors import Damaged, EnvironmentTrouble
from fascis.files.inventory import Entry
from fascis.files.names import parent
from fascis.library.identity import inventory_of
from fascis.library.own import INVENTORY
from fascis.words.speech import tr
from fascis.workspace import Workspace

_BATCH = 20_000
# In the journal: the record was read.
_READ = "record_read"


def is_known(journal: Journal) -> bool:
    """False if a start was interrupted before the record was read."""
    return journal.value(_READ) is not None


def write_known(workspace: Workspace, journal: Journal, source: Path) -> None:
    """Writes recorded digests into the journal, for files with the recorded size and time.

    A damaged record counts as none.
    """
    _write_known(workspace, journal, source)
    journal.put(_READ, True)


def _write_known(workspace: Workspace, journal: Journal, source: Path) -> None:
    label = journal.header.source_drive.label
    try:
        with closing(workspace.drives.open(source)) as medium:
            if not medium.exists(INVENTORY):
                return
            entries = inventory_of(medium, source / INVENTORY.decode())
            known: list[tuple[bytes, int]] = []
            for folder, some in groupby(entries, key=lambda e: parent(e.place)):
                known += _known_in(journal, folder, some)
                if len(known) >= _BATCH:
                    journal.record_known(known)
                    known = []
            journal.record_known(known)
    except (OSError, EnvironmentTrouble, Damaged) as error:
        journal.note(
            INVENTORY,
            label,
            tr("it is not understood, so damage cannot be detected with it ({error})", error=error),
            0.0,
        )


def _known_in(
    journal: Journal, folder: bytes, entries: Iterable[Entry]
) -> Iterator[tuple[bytes, int]]:
    there = {name: (id, size, mtime) for id, name, size, mtime in journal.names_in(folder)}
    for entry in entries:
        id, size, mtime = there.get(entry.place.rpartition(b"/")[2], (-1, -1, -1))
        if id >= 0 and (size, mtime) == (entry.size, entry.mtime_ns):
            yield entry.digest, id
