"""Which files on a destination this crossing made: only these are ever cleared.

Files that the journal knows, unchanged, are its own. Everything else in the staging folder, or in a
library that had arrived before an interruption, belongs to a person: it moves as a whole to a
folder beside, and this is reported.
"""

from __future__ import annotations

import errno
import re
import stat
from collections.abc import Callable
from contextlib import closing
from os import stat_result

from fascis.crossing.journal.copies import Copies, Item, arrives_at, as_it_was
from fascis.crossing.model.seen import Fidelity, Look, look_at_copy
from fascis.crossing.model.states import CopyState
from fascis.crossing.places.places import CLAIM, LIBRARY, NEW, PLAN_FILE, TOKEN_FILE, Places
from fascis.crossing.places.putting import make_parents
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of, digest_of_bytes
from fascis.files.disk.door import Proven
from fascis.files.disk.medium import Medium, move
from fascis.files.errors import Refused
from fascis.files.names import cut, join, parent, shown
from fascis.library.own import IDENTITY, INVENTORY, MANIFEST, OWN
from fascis.library.survey import Kind, kind_of
from fascis.words.speech import tr

SUPERSEDED = b"superseded"
# In the staging folder: records of a library from before they were amended.
RECORDS = b"records"
_TEMPORARY = re.compile(rb"^\..+\.[0-9a-f]{12}\.new$")  # of files.writer
_KEPT = {
    SUPERSEDED: re.compile(rb"^[0-9]+(-as-it-was)?$"),
    RECORDS: re.compile(
        rb"^\.?(identity\.json|inventory\.csv|manifest\.b3)(\.[0-9a-f]{12}\.new)?$"
    ),
}
_MADE = (CopyState.COPIED, CopyState.VERIFIED)


def beside_name(places: Places) -> bytes:
    """The folder beside the library for files that this crossing did not make."""
    tail = f" (yours, {places.crossing[:8]})".encode()
    return cut(places.name or b"Arriving", 200 - len(tail)) + tail


class Clearing:
    """Distinguishes this crossing's files on one destination from all others."""

    def __init__(
        self,
        copies: Copies,
        places: Places,
        medium: Medium,
        keeps: Fidelity,
        clock: Callable[[], float],
    ) -> None:
        self._copies, self._places, self._medium, self._keeps, self._clock = (
            copies,
            places,
            medium,
            keeps,
            clock,
        )
        crossing = places.crossing
        self._kept = as_it_was(b"", crossing)
        receipt = OWN + b"/receipts/" + crossing.encode()
        self._own = {
            IDENTITY,
            INVENTORY,
            MANIFEST,
            CLAIM,
            CLAIM + NEW,
            receipt + b".json",
            receipt + b".html",
        }
        self._folders = self._our_folders()
        self._derived = copies.derived()

    def set_theirs_apart(self, root: bytes) -> None:
        """Moves all other files out of a library that will be moved back, or moved in.

        Raises ``OSError``.
        """
        self._go_through(root, b"", removes=False)

    def clear_staging(self) -> None:
        """Removes this crossing's files in the staging folder, and sets the others apart.

        The token stays. Raises ``OSError``.
        """
        staging = self._places.staging
        for name in self._names(staging):
            place = join(staging, name)
            if name == LIBRARY:
                self.clear(place)
            elif name in _KEPT:
                self._clear_kept(place, _KEPT[name])
            elif name in (PLAN_FILE, PLAN_FILE + NEW, TOKEN_FILE + NEW):
                self._remove(place, self._medium.status(place))
            elif name != TOKEN_FILE:
                self._set_apart(place, name)

    def clear(self, root: bytes, inner: bytes = b"") -> None:
        """Removes this crossing's files in a staged library, or in a folder of it, and the folder.

        Raises ``OSError``.
        """
        self._go_through(root, inner, removes=True)

    def clear_one(self, root: bytes, inner: bytes) -> None:
        """The same for one file, link or folder. Raises ``OSError``."""
        status = self._medium.status(join(root, inner))
        if stat.S_ISDIR(status.st_mode):
            self.clear(root, inner)
        elif self._is_ours(inner, join(root, inner), status, self._items(parent(inner)), True):
            self._remove(join(root, inner), status)
        else:
            self._set_apart(join(root, inner), inner)

    # -- one folder after the other ----------------------------------------------------------------

    def _go_through(self, root: bytes, inner: bytes, removes: bool) -> None:
        # A tree may be deeper than the call stack.
        pending, folders = [inner], []
        while pending:
            folder = pending.pop()
            folders.append(join(root, folder) if folder else root)
            items = self._items(folder)
            for name in self._names(folders[-1]):
                place, full = join(folder, name), join(folders[-1], name)
                status = self._medium.status(full)
                if stat.S_ISDIR(status.st_mode) and place in self._folders:
                    pending.append(place)
                elif stat.S_ISDIR(status.st_mode) or not self._is_ours(
                    place, full, status, items, removes
                ):
                    self._set_apart(full, place)
                elif removes:
                    self._remove(full, status)
        for folder in reversed(folders) if removes else ():
            self._medium.remove_folder(folder)

    def _clear_kept(self, place: bytes, names: re.Pattern[bytes]) -> None:
        """Copies that were replaced by newer ones, and earlier records.

        Each was proven to be this crossing's before it was moved here, or is a copy made by it.
        """
        for name in self._names(place):
            inner = join(place, name)
            status = self._medium.status(inner)
            if names.match(name) and not stat.S_ISDIR(status.st_mode):
                self._remove(inner, status)
            else:
                self._set_apart(inner, name)
        self._medium.remove_folder(place)

    def _names(self, folder: bytes) -> list[bytes]:
        try:
            return self._medium.names(folder)
        except OSError as error:
            if error.errno != errno.EXDEV:
                raise
            raise _mounted(folder) from error

    def _remove(self, place: bytes, status: stat_result) -> None:
        self._medium.unlink(place, Proven.by(status, self._keeps.stable_inodes))

    def _set_apart(self, full: bytes, place: bytes) -> None:
        """Moves somebody else's file to the folder beside, under a free name."""
        there, number = join(beside_name(self._places), place), 1
        while self._medium.exists(there):
            number += 1
            there = join(beside_name(self._places), place + b" %d" % number)
        make_parents(self._medium, b"", there)
        try:
            move(self._medium, full, there)
        except OSError as error:
            if error.errno not in (errno.EBUSY, errno.EXDEV):
                raise
            raise _mounted(full) from error
        self._copies.journal.note(
            place,
            self._places.label,
            tr(
                "it was put or changed there after the copy was made; it was kept, and "
                "lies in {beside_name} now",
                beside_name=shown(beside_name(self._places)),
            ),
            self._clock(),
        )

    # -- what is ours ------------------------------------------------------------------------------

    def _our_folders(self) -> set[bytes]:
        crossing = {there for _, there in self._copies.journal.folders_that_cross()}
        own = {OWN, OWN + b"/receipts", OWN + b"/as-it-was", self._kept.rstrip(b"/")}
        kept = {self._kept + f for f in (*crossing, OWN) if f}
        return crossing | own | kept

    def _items(self, folder: bytes) -> dict[bytes, Item]:
        """The plan's entries by their places in one folder of the new library."""
        found = {i.there: i for i in self._copies.items_there(folder)}
        if (folder + b"/").startswith(self._kept):
            inner = folder[len(self._kept) :]
            own = [] if inner else self._copies.items_there(OWN)
            for item in (*self._copies.items_there(inner), *own):
                found[arrives_at(item, self._places.crossing)] = item
        return found

    def _is_ours(
        self, place: bytes, full: bytes, status: stat_result, items: dict[bytes, Item], staged: bool
    ) -> bool:
        if place in self._own or (
            parent(place) == OWN and _TEMPORARY.match(place.rpartition(b"/")[2])
        ):
            return stat.S_ISREG(status.st_mode)
        item = items.get(place)
        if item is None:
            return False
        if item.kind is not kind_of(status.st_mode):
            return False
        if item.kind is Kind.LINK:
            written_anew = item.rewritten and place == item.there
            return written_anew or item.digest in (
                None,
                digest_of_bytes(self._medium.read_link(full)),
            )
        seen, digest = item.copy_seen, item.digest
        if item.rewritten and place == item.there:
            seen, digest = self._derived.get(item.id, (None, None))
        elif item.copy not in _MADE:
            seen = None
        if seen is None:
            # Started by this crossing, and interrupted.
            return True
        look = look_at_copy(seen, status, self._keeps)
        if look is not Look.TOUCHED or (staged and not self._keeps.keeps_ctime):
            return look is not Look.OTHER
        with closing(self._medium.open(full)) as file:
            return digest_of(file) == digest


def _mounted(place: bytes) -> Refused:
    return Refused(
        Code.WRONG_STATE,
        tr(
            "Something else is mounted at {place} on the drive. It was not touched: "
            "unmount it, then try again.",
            place=shown(place),
        ),
    )
