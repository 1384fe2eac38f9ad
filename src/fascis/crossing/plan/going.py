"""What deleting the originals would delete by a plan, and what stays as others need it."""

from __future__ import annotations

from array import array
from collections.abc import Iterator, Mapping

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


class Going:
    """What deleting the originals would delete by a plan, and what stays as others need it."""

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
        self._rows: dict[bytes, int] = {}
        self._names: dict[bytes, list[bytes]] = {}
        self._part, self._also = part, also
        self.bounds = ""
        self.following = Following()

    def shared(self, workspace: Workspace, follows: bool) -> dict[bytes, list[str]]:
        """Absolute path → who needs it, of all that would go and stays for that.

        Args:
            follows: documents that stay are led to the new place, and need nothing here then; which
                these are is in ``following``.
        """
        if self._afterwards.act is After.COPY:
            return {}
        loose_too = self._afterwards.loose_too
        needed = self._surveyed.needed(workspace, loose_too, follows, self._also)
        self.bounds = needed.bounds
        if follows:
            self._rows = {place: row for row, _, place in self._surveyed.survey.rows()}
            self.following = following(needed, self._route, self._needs_nothing, workspace.private)
            needed = needed.without(self.following.led)
        below, rows = self._surveyed.below, self._surveyed.survey.rows()
        sidecars = [below + place for _, _, place in rows if is_companion(place)] + [
            p for p in self._loose if is_companion(p)
        ]
        if needed.by or sidecars:
            self._rows = {place: row for row, _, place in self._surveyed.survey.rows()}
        kept = kept_for_others(needed, self._goes, self._names_in)
        kept |= sidecars_of_what_stays(sidecars, self._goes, kept)
        if needed.unknown:
            kept |= {path: sorted(needed.unknown) for path in self._loose if path not in kept}
        return kept

    def followers(self) -> Iterator[Follower]:
        """The documents that are led to the new place, as they are told."""
        below = self._surveyed.below
        for one in self.following.retargets:
            path = bytes(one.path)
            told = shown(path[len(below) :] if path.startswith(below) else path)
            yield Follower(path, told, one.document.format, len(one.to))

    def _needs_nothing(self, document: bytes) -> bool:
        """In a whole library no document follows: it goes, or what it uses stays."""
        inside = document.startswith(self._surveyed.below)
        return self._goes(document) or (inside and not self._part)

    def _route(self, path: bytes) -> bytes | None:
        """Where a file goes is not asked before it is there: only whether its copy will be."""
        row = self._rows.get(path[len(self._surveyed.below) :])
        copied = path in self._loose or (row is not None and self._fates[row] == Fate.COPY)
        return path if copied and self._goes(path) else None

    def _goes(self, path: bytes) -> bool:
        below = self._surveyed.below
        if not path.startswith(below):
            return path in self._loose
        row = self._rows.get(path[len(below) :])
        if self._afterwards.act is After.PARK and not self._part:
            # Set aside is the whole folder, with what is left out.
            return row is not None
        return row is not None and self._fates[row] in (Fate.COPY, Fate.DISCARD, Fate.OWN)

    def _names_in(self, folder: bytes) -> list[bytes]:
        if not self._names:
            for path in (*(self._surveyed.below + place for place in self._rows), *self._loose):
                above, _, name = path.rpartition(b"/")
                self._names.setdefault(above, []).append(name)
        return self._names.get(folder, [])

    def frees(self, shared: Mapping[bytes, object]) -> int:
        """The room of all that goes, in bytes; nothing where the old place stays home."""
        if self._afterwards.act is After.COPY:
            return 0
        found, below, freeing = self._surveyed.survey, self._surveyed.below, Freeing()
        for row, folder, place in found.rows():
            if (
                self._fates[row] not in (Fate.COPY, Fate.DISCARD, Fate.OWN)
                or found.kind(row) is not Kind.FILE
            ):
                continue
            if not shared or below + place not in shared:
                inode = (folder.device, found.inode[row])
                freeing.add(found.size[row], found.allocated[row], inode, found.link_count[row])
        for path, o in self._loose.items():
            if path not in shared:
                freeing.add(o.size, o.allocated, (o.device, o.inode), o.links)
        return freeing.room
