"""The rows of a plan for the journal.

From a survey and a gathering, with fates, strands and changed names.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import Any

from fascis.crossing.fit.names import Apart
from fascis.crossing.journal.leads import LeadRows
from fascis.crossing.model.fates import Fate
from fascis.crossing.model.seen import inode_key
from fascis.crossing.scope.gathering import Gathering
from fascis.files.names import join
from fascis.library.roles import ROLES
from fascis.library.survey import FolderRow, Kind, Survey, strand_folder

_ALONG = frozenset((int(Fate.COPY), int(Fate.OWN)))
# A file with the same name in the copy, and no equal existing file.
_SAME = (None, None, None)


class Rows:
    """The rows of one plan; each table is requested once, in the order of the methods.

    Args:
        fates: the fate of every row of the survey.
        gathering: loose files that are copied, and their places.
        apart: names that differ in the copy.
        leads: where every reference leads.
    """

    def __init__(
        self,
        survey: Survey,
        fates: Sequence[int],
        gathering: Gathering,
        apart: Apart,
        leads: LeadRows,
    ) -> None:
        self.leads = leads
        self._survey, self._fates = survey, fates
        self._gathering, self._apart = gathering, apart
        self._folders: dict[bytes, int] = {}
        self._strands: dict[tuple[bytes, int], int] = {}

    def folders(self) -> Iterator[tuple[Any, ...]]:
        """The folders of the survey, then those needed for gathered files."""
        for folder in self._survey.folders:
            yield self._folder(folder.place, folder.mode, folder.mtime_ns)
        for place in self._gathering.folders():
            if place not in self._folders:
                yield self._folder(place, 0o40755, 0)

    def _folder(self, place: bytes, mode: int, mtime_ns: int) -> tuple[Any, ...]:
        number = self._folders[place] = len(self._folders)
        return number, place, mode, mtime_ns, self._apart.folder(place)

    def entries(self) -> Iterator[tuple[Any, ...]]:
        """A row for every entry of the survey, then one for every gathered file."""
        yield from self._survey_rows()
        yield from self._gathered_rows()

    def strands(self) -> Iterator[tuple[int, bytes, int]]:
        """The strands of all entries, known after these."""
        for (folder, role), number in self._strands.items():
            yield number, folder, role

    def aliases(self) -> Iterable[tuple[bytes, bytes]]:
        """Paths that documents use for gathered files, and the places of these."""
        return self._gathering.aliases.items()

    def _strand(self, folder: bytes, role: int) -> int:
        return self._strands.setdefault((folder, role), len(self._strands))

    def _survey_rows(self) -> Iterator[tuple[Any, ...]]:
        survey, fates, stands = self._survey, self._fates, self._apart.stands
        kinds, role, links = survey.kinds(), survey.role, survey.link_count
        first_of: dict[tuple[int, int], int] = {}
        # A million rows: values that are the same for a folder are computed once.
        seen: FolderRow | None = None
        top, number, cut = b"", -1, 0
        for row, folder, place in survey.rows():
            if folder is not seen:
                seen, top = folder, strand_folder(folder.place)
                number = self._folders[folder.place]
                cut = len(folder.place) + 1 if folder.place else 0
            twin = None
            shared = links[row] > 1 and kinds[row] == Kind.FILE and fates[row] in _ALONG
            if shared and place not in stands:
                first = first_of.setdefault((folder.device, survey.inode[row]), row)
                twin = None if first == row else first
            name = place[cut:]
            yield (
                row,
                number,
                name,
                kinds[row],
                survey.size[row],
                survey.allocated[row],
                inode_key(survey.inode[row]),
                survey.mtime_ns[row],
                survey.ctime_ns[row],
                survey.mode[row],
                links[row],
                role[row],
                fates[row],
                self._strand(top, role[row]),
                twin,
                None,
                *(_names(self._apart, folder.place, name) if self._apart else _SAME),
            )

    def _gathered_rows(self) -> Iterator[tuple[Any, ...]]:
        for number, (place, loose) in enumerate(self._gathering.items, len(self._survey)):
            above, _, name = place.rpartition(b"/")
            role = ROLES.index(loose.role)
            yield (
                number,
                self._folders[above],
                name,
                int(Kind.FILE),
                loose.size,
                loose.allocated,
                inode_key(loose.inode),
                loose.mtime_ns,
                loose.ctime_ns,
                loose.mode,
                loose.links,
                role,
                int(Fate.COPY),
                self._strand(strand_folder(above), role),
                None,
                loose.path,
                *(_names(self._apart, above, name) if self._apart else _SAME),
            )


def _names(
    apart: Apart, folder: bytes, name: bytes
) -> tuple[bytes | None, bytes | None, bytes | None]:
    """The name of a file in the copy, if it differs.

    Also its place before any renaming, and that of an equal existing file.
    """
    place = join(folder, name)
    if not apart.renames:
        return None, None, apart.stands.get(place)
    before, there = apart.called_before(place), apart.there(place)
    stands = apart.stands.get(place)
    renamed = before != there and stands is None
    return apart.files.get(place), before if renamed else None, stands
