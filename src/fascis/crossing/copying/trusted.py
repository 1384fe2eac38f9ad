"""What an update leaves as it is: it was verified when it arrived, and looks as it did then.

Its content is not read again; verifying the copy does that.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import closing

from fascis.crossing.journal.copies import Copies, Trusted
from fascis.crossing.journal.journal import MOVES
from fascis.crossing.journal.which import Which
from fascis.files.codes import Code
from fascis.files.disk.medium import Medium, as_stream
from fascis.files.errors import Refused, told
from fascis.files.inventory import Entry, read_inventory
from fascis.files.names import join, shown
from fascis.library.identity import INVENTORY


def trust(copies: Copies, destination: Medium) -> None:
    """Counts as copies what the copy's own inventory has, where that is still there.

    Args:
        destination: opened on the copy.

    Raises:
        Refused: something is not there any more; nothing was changed.
        EnvironmentTrouble: the drive failed.
    """
    moves: dict[str, str] = copies.journal.value(MOVES, {})
    try:
        recorded = {entry.place: entry for entry in _inventory(destination)}
        there = _there(destination)
    except OSError as error:
        raise told(error, "look at the copy") from error

    def rows() -> Iterator[Trusted]:
        for item in copies.items(Which.STOOD_NOT_COMPARED_YET):
            now = bytes.fromhex(moves.get(item.there.hex(), item.there.hex()))
            entry = recorded.get(now)
            if entry is None or now not in there:
                raise Refused(
                    Code.COPY_CHANGED,
                    f"{shown(now)} was in the copy when this was planned, and is not any more. "
                    "Nothing was changed. Give this crossing up (fascis undo) and plan it anew.",
                )
            # What somebody worked in there keeps what is listed of it: it is told as edited.
            yield Trusted(item, entry.size, entry.mtime_ns, entry.digest)

    copies.record_trusted(rows())


def _inventory(medium: Medium) -> Iterator[Entry]:
    with closing(medium.open(INVENTORY)) as file:
        text = io.TextIOWrapper(as_stream(file), "utf-8", "surrogateescape", newline="")
        yield from read_inventory(text, "the inventory")


def _there(medium: Medium) -> set[bytes]:
    """Everything that is in the copy."""
    return {join(folder.place, name) for folder in medium.walk() for name in folder.names}
