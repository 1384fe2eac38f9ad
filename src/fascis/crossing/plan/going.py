"""What deleting the originals would delete by a plan, and what stays because others need it."""

from __future__ import annotations

from array import array
from collections.abc import Iterator, Mapping

import numpy as np

from fascis.crossing.fit.room import Freeing
from fascis.crossing.model.afterwards import After
from fascis.crossing.model.fates import Fate
from fascis.crossing.plan.choices import Afterwards, Follower
from fascis.crossing.scope.following import Following, following
from fascis.crossing.scope.gathering import Gathering
from fascis.crossing.scope.kept import kept_for_others, sidecars_of_what_stays
from fascis.crossing.scope.surveyed import Surveyed
from fascis.documents.registry import is_companion
from fascis.files.names import shown
from fascis.library.survey import Kind
from fascis.workspace import Workspace

_GO = [int(Fate.COPY), int(Fate.DISCARD), int(Fate.OWN)]


class Going:
    """What deleting the originals would delete by a plan, and what stays because others need it."""

    def __init__(
        self,
        surveyed: Surveyed,
        afterwards: Afterwards,
        fates: array[int],
        gathering: Gathering,
        part: bool = False,
        also: tuple[bytes, ...] = (),
    ) -> None:
        self._surveyed, self._afterwards, self._fates = surveyed, afterwards, fates
        self._loose = {o.path: o for _, o in gathering.items} if afterwards.loose_too else {}
        self._part, self._also, self._below = part, also, surveyed.below
        self._goes = self._what_goes().__contains__
        self.bounds = ""
        self.away: dict[str, str] = {}
        self.following = Following()

    def shared(self, workspace: Workspace, follows: bool) -> dict[bytes, list[str]]:
        """Absolute path → who needs it, for everything that stays for that reason.

        Args:
            follows: documents that stay are updated to the new place and then need nothing here;
                ``following`` has them.
        """
        if self._afterwards.act is After.COPY:
            return {}
        loose_too = self._afterwards.loose_too
        needed = self._surveyed.needed(workspace, loose_too, follows, self._also)
        self.bounds, self.away = needed.bounds, needed.away
        if follows:
            self.following = following(needed, self._route, self._needs_nothing, workspace.private)
            needed = needed.without(self.following.led)
        below = self._below
        sidecars = [below + place for place in self._surveyed.companions] + [
            p for p in self._loose if is_companion(p)
        ]
        kept = kept_for_others(needed, self._goes, self._names_in, self._surveyed.paths)
        kept |= sidecars_of_what_stays(sidecars, self._goes, kept)
        if needed.unknown:
            kept |= {path: sorted(needed.unknown) for path in self._loose if path not in kept}
        return kept

    def followers(self) -> Iterator[Follower]:
        """The documents that are updated to the new place, with their names for messages."""
        below = self._below
        for one in self.following.retargets:
            path = bytes(one.path)
            told = shown(path[len(below) :] if path.startswith(below) else path)
            yield Follower(path, told, one.document.format, len(one.to))

    def _needs_nothing(self, document: bytes) -> bool:
        """If a whole library is moved, no document follows: it moves too, or its files stay."""
        inside = document.startswith(self._below)
        return self._goes(document) or (inside and not self._part)

    def _route(self, path: bytes) -> bytes | None:
        """The exact new place does not matter yet, only whether there will be a copy."""
        row = self._surveyed.rows.get(path[len(self._below) :])
        copied = path in self._loose or (row is not None and self._fates[row] == Fate.COPY)
        return path if copied and self._goes(path) else None

    def _what_goes(self) -> set[bytes]:
        """The absolute paths of everything that would be deleted."""
        if self._afterwards.act is After.COPY:
            return set()
        fates, rows = self._fates, self._surveyed.rows
        if self._afterwards.act is After.PARK and not self._part:
            # Setting aside takes the whole folder, with files left out.
            places = list(rows)
        else:
            places = [place for place, row in rows.items() if fates[row] in _GO]
        return {self._below + place for place in places}.union(self._loose)

    def _names_in(self, folder: bytes) -> list[bytes]:
        names = [p.rpartition(b"/")[2] for p in self._loose if p.rpartition(b"/")[0] == folder]
        if not (folder + b"/").startswith(self._below):
            return names
        return names + self._surveyed.names.get(folder[len(self._below) :], [])

    def frees(self, shared: Mapping[bytes, object]) -> int:
        """The room of everything to be deleted, in bytes; zero if the old place stays home."""
        if self._afterwards.act is After.COPY:
            return 0
        found, below, freeing = self._surveyed.survey, self._below, Freeing()
        links = found.link_count
        go = np.isin(np.frombuffer(bytes(self._fates), np.uint8), _GO)
        go &= np.frombuffer(found.kinds(), np.uint8) == Kind.FILE
        inside = (p[len(below) :] for p in shared if p.startswith(below))
        stays = {self._surveyed.rows[p] for p in inside if p in self._surveyed.rows}
        for folder in found.folders:
            for row in (np.flatnonzero(go[folder.first : folder.end]) + folder.first).tolist():
                if row in stays:
                    continue
                inode = (folder.device, found.inode[row])
                freeing.add(found.size[row], found.allocated[row], inode, links[row])
        for path, o in self._loose.items():
            if path not in shared:
                freeing.add(o.size, o.allocated, (o.device, o.inode), o.links)
        return freeing.room
