"""Files that an update leaves unchanged: they were verified when they arrived, and look the same.

Their content is not read again; verifying the copy does that.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from contextlib import closing

from fascis.crossing.journal.copies import Copies, TrustedRow
from fascis.crossing.journal.journal import MOVES
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import Medium
from fascis.files.errors import Refused, told
from fascis.files.names import shown
from fascis.files.times import mtime_of
from fascis.library.identity import inventory_of
from fascis.words.speech import tr

_Listed = tuple[int, int, bytes]  # Size in bytes, mtime in ns, digest.


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

    def rows() -> Iterator[TrustedRow]:
        for some in copies.stood():
            places = [now.get(place, place) for _, place, *_ in some]
            there.check(places)
            for (id, _, size, mtime, ctime, inode), place in zip(some, places, strict=True):
                # Files added there are not listed; the plan found them equal.
                entry = recorded.get(place) or _read(destination, place)
                # Files edited there keep what is listed of them: they are reported as edited.
                yield id, *entry, size, mtime, ctime, inode

    try:
        listed = inventory_of(destination, tr("the inventory"))
        recorded = {entry.place: (entry.size, entry.mtime_ns, entry.digest) for entry in listed}
        copies.record_trusted(rows())
    except OSError as error:
        raise told(error, tr("look at the copy")) from error


class _There:
    """The files of the copy, read folder by folder."""

    def __init__(self, medium: Medium) -> None:
        self._medium = medium
        self._names: dict[bytes, set[bytes]] = {}

    def check(self, places: Iterable[bytes]) -> None:
        """Makes sure that something is at each place.

        Raises:
            Refused: something is not there any more.
        """
        for place in places:
            folder, _, name = place.rpartition(b"/")
            names = self._names.get(folder)
            if names is None:
                names = self._names[folder] = self._in(folder)
            if name not in names:
                raise Refused(
                    Code.COPY_CHANGED,
                    tr(
                        "{place} was in the copy when this was planned, and no longer "
                        "is. Nothing was changed. Give this crossing up (fascis undo) "
                        "and plan it again.",
                        place=shown(place),
                    ),
                )

    def _in(self, folder: bytes) -> set[bytes]:
        try:
            return set(self._medium.names(folder))
        except (FileNotFoundError, NotADirectoryError):
            return set()


def _read(medium: Medium, place: bytes) -> _Listed:
    """What an inventory would state about a file that is not listed, read now."""
    with closing(medium.open(place)) as file:
        digest, status = digest_of(file), file.status()
        return status.st_size, mtime_of(status), digest
