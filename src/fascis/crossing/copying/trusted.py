"""Files that an update leaves unchanged: they were verified when they arrived, and look the same.

Their content is not read again; verifying the copy does that.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import closing

from fascis.crossing.journal.copies import Copies, Trusted
from fascis.crossing.journal.journal import MOVES
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import Medium
from fascis.files.errors import Refused, told
from fascis.files.inventory import Entry
from fascis.files.names import shown
from fascis.files.times import mtime_of
from fascis.library.identity import inventory_of
from fascis.words.speech import tr


def trust(copies: Copies, destination: Medium) -> None:
    """Counts as copies what the copy's own inventory lists, if it is still there.

    Args:
        destination: opened on the copy.

    Raises:
        Refused: something is not there any more; nothing was changed.
        EnvironmentTrouble: the drive failed.
    """
    moves: dict[str, str] = copies.journal.value(MOVES, {})
    now = {bytes.fromhex(new): bytes.fromhex(old) for new, old in moves.items()}
    there = _There(destination)

    def rows() -> Iterator[Trusted]:
        for one in copies.stood():
            place = now.get(one.there, one.there)
            if not there.has(place):
                raise Refused(
                    Code.COPY_CHANGED,
                    tr(
                        "{place} was in the copy when this was planned, and no longer "
                        "is. Nothing was changed. Give this crossing up (fascis undo) "
                        "and plan it again.",
                        place=shown(place),
                    ),
                )
            # Files added there are not listed; the plan found it equal.
            entry = recorded.get(place) or _read(destination, place)
            # Files edited there keep what is listed of them: they are reported as edited.
            yield Trusted(one, entry.size, entry.mtime_ns, entry.digest)

    try:
        recorded = {entry.place: entry for entry in inventory_of(destination, tr("the inventory"))}
        copies.record_trusted(rows())
    except OSError as error:
        raise told(error, tr("look at the copy")) from error


class _There:
    """The files of the copy, read folder by folder."""

    def __init__(self, medium: Medium) -> None:
        self._medium = medium
        self._names: dict[bytes, set[bytes]] = {}

    def has(self, place: bytes) -> bool:
        """True if something is there."""
        folder, _, name = place.rpartition(b"/")
        names = self._names.get(folder)
        if names is None:
            try:
                names = set(self._medium.names(folder))
            except (FileNotFoundError, NotADirectoryError):
                names = set()
            self._names[folder] = names
        return name in names


def _read(medium: Medium, place: bytes) -> Entry:
    """What an inventory would state about a file that is not listed, read now."""
    with closing(medium.open(place)) as file:
        digest, status = digest_of(file), file.status()
        return Entry(place, status.st_size, mtime_of(status), digest, "other")
