"""A copy is updated at its path.

New files are first staged, verified and rewritten. Then, by renames that replace nothing: replaced
and removed files go to ``.fascis/earlier/<crossing>/``; moved files get their new paths by way of
the staging folder, so that names can be exchanged; new files are moved in. The records are
rewritten last, each whole or not at all. After an interruption it can be resumed or undone.
"""

from __future__ import annotations

import errno
import stat
from collections.abc import Iterable
from contextlib import closing

from fascis.crossing.arrival.landing.existing_folder import InExistingFolder
from fascis.crossing.journal.journal import EARLIER, MOVES
from fascis.crossing.places.putting import make_parents
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of
from fascis.files.disk.medium import move
from fascis.files.errors import Refused, told
from fascis.files.names import join, parent, shown
from fascis.library.own import OWN
from fascis.words.speech import tr

EARLIER_FOLDER = OWN + b"/earlier"
# In the journal: all moved files have left their old paths.
_MOVED_OUT = "moved_out"
_EMPTY = (errno.ENOTEMPTY, errno.EEXIST, errno.ENOENT, errno.ENOTDIR)


class UpdatedCopy(InExistingFolder):
    """New files on their way into a copy, and old files on their way out."""

    @property
    def _moves(self) -> dict[bytes, bytes]:
        """New path → old path."""
        moves: dict[str, str] = self._copies.journal.value(MOVES, {})
        return {bytes.fromhex(new): bytes.fromhex(old) for new, old in moves.items()}

    @property
    def _earlier(self) -> list[bytes]:
        """Places of replaced and removed files."""
        return [bytes.fromhex(place) for place in self._copies.journal.value(EARLIER, [])]

    def _kept(self, place: bytes) -> bytes:
        crossing = self._places.crossing.encode()
        return join(join(EARLIER_FOLDER, crossing), place)

    def _on_the_way(self, number: int) -> bytes:
        return join(self._way, b"%d" % number)

    # -- arriving ----------------------------------------------------------------------------------

    def arrive(self) -> None:
        """Old files out, moved files to their paths, new files in."""
        if not self._has_begun():
            self._note_folders()
        moves = sorted(self._moves.items())
        self._move_all((place, self._kept(place)) for place in self._earlier)
        if not self._copies.value(_MOVED_OUT):
            # From here on an old name may be another file's new one.
            self._move_all((old, self._on_the_way(n)) for n, (_, old) in enumerate(moves))
            self._copies.put(_MOVED_OUT, True)
        for n, (new, _) in enumerate(moves):
            self._check_free(self._on_the_way(n), new)
        self._move_all((self._on_the_way(n), new) for n, (new, _) in enumerate(moves))
        self._remove_folder(self._way)
        super().arrive()
        self._remove_left({*self._earlier, *(old for _, old in moves)})
        self._medium.sync()

    def _check_free(self, old: bytes, new: bytes) -> None:
        """Checks that the target paths of moved files are free.

        After a power loss a file may be found at both paths; it is the same file then.
        """
        medium = self._medium
        if medium.exists(new) and medium.exists(old) and not self._same(old, new):
            raise Refused(
                Code.NAME_TAKEN,
                tr(
                    "{new} appeared in the copy meanwhile, and was not changed. The "
                    "file that belongs there waits beside it. Rename the other one, "
                    "then resume.",
                    new=shown(new),
                ),
            )

    def _same(self, one: bytes, other: bytes) -> bool:
        if not all(stat.S_ISREG(self._medium.status(p).st_mode) for p in (one, other)):
            return False
        with closing(self._medium.open(one)) as mine, closing(self._medium.open(other)) as theirs:
            return digest_of(mine) == digest_of(theirs)

    @property
    def _way(self) -> bytes:
        return join(self._places.staging, b"moved")

    def _remove_folder(self, folder: bytes) -> None:
        """Removes a folder if it is there and empty."""
        try:
            if stat.S_ISDIR(self._medium.status(folder).st_mode):
                self._medium.remove_folder(folder)
        except OSError as error:
            if error.errno not in _EMPTY:
                raise

    def _move_all(self, pairs: Iterable[tuple[bytes, bytes]]) -> None:
        """Moves files that are not moved yet; a file missing from its first path was moved."""
        medium, some = self._medium, False
        folders: set[bytes] = set()
        for old, new in pairs:
            if not medium.exists(old):
                continue
            if parent(new) not in folders:
                self._make_parents(new)
                folders.add(parent(new))
            try:
                move(medium, old, new)
            except FileExistsError:
                continue
            some = True
        if some:
            medium.sync()

    def _make_parents(self, place: bytes) -> None:
        make_parents(self._medium, b"", place)

    def _remove_left(self, places: set[bytes]) -> None:
        """Removes folders that are empty now and no longer in the library."""
        wanted = {there for _, there in self._copies.journal.folders_that_cross()}
        folders: set[bytes] = set()
        for place in places:
            while place := parent(place):
                folders.add(place)
        for folder in sorted(folders - wanted, key=lambda f: -f.count(b"/")):
            self._remove_folder(folder)

    # -- taken back --------------------------------------------------------------------------------

    def withdraw(self) -> None:
        """New files out, moved files back, old files in again."""
        super().withdraw()
        self._give_back()

    def clear(self) -> None:
        """Removes the staging folder; if it was given up, first restores everything."""
        if not self._copies.value("arrived_at"):
            self._give_back()
        super().clear()

    def _give_back(self) -> None:
        """Moves files back to their old paths, and restores replaced and removed files."""
        moves = sorted(self._moves.items())
        try:
            if self._copies.value(_MOVED_OUT):
                self._move_all((new, self._on_the_way(n)) for n, (new, _) in enumerate(moves))
                self._copies.put(_MOVED_OUT, None)
            self._move_all((self._on_the_way(n), old) for n, (_, old) in enumerate(moves))
            self._move_all((self._kept(place), place) for place in self._earlier)
            crossing = join(EARLIER_FOLDER, self._places.crossing.encode())
            self._remove_left({self._kept(place) for place in self._earlier})
            for folder in (self._way, crossing, EARLIER_FOLDER, OWN):
                self._remove_folder(folder)
            self._medium.sync()
        except OSError as error:
            raise told(error, tr("undo the update"), self.staged) from error
