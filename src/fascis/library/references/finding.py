"""Finding a library's references: every document is read, every reference followed.

Nothing is written; databases are read from a private copy. A document that cannot be read is
reported with the reason, and never half-read.
"""

from __future__ import annotations

import os
import stat
from array import array
from collections.abc import Callable, Mapping
from functools import cache
from pathlib import Path

from msgspec import Struct, field

from fascis.documents.learned.kind import NotAgreed, check_agreed
from fascis.documents.model import (
    DocumentKind,
    Means,
    NotUnderstood,
    OpenDocument,
    Place,
    Reference,
)
from fascis.documents.registry import (
    LINK,
    companions,
    database_of,
    is_companion,
    kind_named,
    kind_of,
)
from fascis.documents.targets import Target
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import Medium
from fascis.files.errors import Cancelled, EnvironmentTrouble
from fascis.files.names import join, name_key
from fascis.library.references.reading import (
    DocumentSource,
    LibrarySource,
    PathSource,
    place_folder,
)
from fascis.library.references.unknown import Names, is_candidate, recognised
from fascis.library.references.uses import (
    NOWHERE,
    Document,
    Leads,
    LostReference,
    Outside,
    Uses,
    led_outside,
)
from fascis.library.references.whereabouts import DriveRoots, Meant, Whereabouts
from fascis.library.replacing import is_kept
from fascis.library.roles import DATABASES, ROLES, Role, RoleRule
from fascis.library.standing import STANDINGS, Standing
from fascis.library.survey import Kind, Survey
from fascis.words.speech import tr

# For all image sequences of a library together.
_MOST_FRAMES = 5_000_000
# An exchange format of the trade that is not supported here.
_UNKNOWN = b"aaf"
_HELD = STANDINGS.index(Standing.HELD)
_UNUSED = STANDINGS.index(Standing.UNUSED)

# Size in bytes, digest or empty, time in ns; 0 if not known.
Last = tuple[int, bytes, int]
Expected = Mapping[bytes, Last]
_NEVER_SEEN: Last = (0, b"", 0)


class Known(Struct, frozen=True):
    """What is known already when documents are read.

    Attributes:
        drives: the drives.
        cache: a private folder for copies of databases.
        expected: size, digest and time that files had when they were last seen, by absolute path.
        looks: examine files of other types: they may be documents of unknown make.
        library: the id of the library, if it has one.
    """

    drives: DriveRoots
    cache: Path
    expected: Expected = field(default_factory=dict)
    looks: bool = True
    library: str = ""


def find_uses(
    medium: Medium,
    root: Path,
    survey: Survey,
    known: Known,
    control: Control = UNSTOPPED,
    nothing_inside: bool = False,
) -> Uses:
    """Reads every document of a surveyed library and follows its references.

    Args:
        medium: the library's folder.
        root: its path.
        control: checked between documents.
        nothing_inside: every referenced file counts as outside; which of them belong to the library
            is decided later.

    Raises:
        Cancelled: when ``control`` was stopped.
    """
    return _Reading(medium, root, survey, known, control, nothing_inside).run()


class _Reading:
    """One pass over all documents."""

    def __init__(
        self,
        medium: Medium,
        root: Path,
        survey: Survey,
        known: Known,
        control: Control,
        nothing_inside: bool,
    ) -> None:
        self._medium, self._survey, self._control = medium, survey, control
        self._drives, self._cache, self._expected = known.drives, known.cache, known.expected
        self._looks, self._library = known.looks, known.library
        self._places: dict[bytes, int] = {}
        self._links: dict[bytes, bytes] = {}
        self._special: set[bytes] = set()
        self._led: dict[bytes, int] = {}
        self._tops: dict[Place, tuple[bytes | None, bool]] = {}
        self._candidates: list[tuple[int, bytes]] = []
        begun = self._look()
        # A library without documents is often large, and needs none of this.
        if begun or self._links or self._candidates:
            self._places = {
                place: row for row, folder, place in survey.rows() if not survey.is_own(folder)
            }
        folders = [] if nothing_inside else [f.place for f in survey.folders]
        self._where = Whereabouts(
            root, folders, self._places, self._links, known.drives, self._special
        )
        self._begun = begun
        self._root = self._where.root
        self._rule = RoleRule()
        self._folder_roles: dict[bytes, Role | None] = {}
        self._found = Uses()
        self._outside: dict[bytes, Outside] = {}
        self._sets: dict[int, set[int]] = {}
        self._frames = 0
        self._by_name: dict[str, list[int]] | None = None
        # A document recognised by its content: the role from its name.
        self._roles_by_name: dict[int, int] = {}

    def run(self) -> Uses:
        """Everything."""
        found = self._found
        for place in self._begun:
            self._begin(place)
        if self._looks:
            self._look_into_candidates()
        at = 0
        # A loose document that is used is read too: the list grows.
        while at < len(found.documents):
            if self._control.stopped:
                raise Cancelled(tr("The survey was stopped; nothing was changed."))
            document = found.documents[at]
            if not document.trouble:
                self._read(at, document)
            at += 1
        self._follow_links()
        self._conclude()
        return found

    # -- documents ---------------------------------------------------------------------------------

    def _look(self) -> list[bytes]:
        """Places of possible documents; finds the links too."""
        survey, found = self._survey, []
        kinds = survey.kinds()
        plain = cache(_is_plain_media)
        for folder, rows, names in survey.names_below():
            files_only = not any(kinds[rows.start : rows.stop])
            if survey.is_own(folder) or (files_only and _all_plain(names, plain)):
                continue
            for row, name in zip(rows, names, strict=True):
                place, kind = join(folder.place, name), kinds[row]
                if kind == Kind.FILE:
                    if _all_plain([name], plain):
                        continue
                    if kind_named(name):
                        found.append(place)
                    elif survey.size[row] and is_candidate(name) and not is_kept(name):
                        self._candidates.append((row, place))
                elif kind == Kind.SPECIAL:
                    self._special.add(place)
                elif not is_kept(name):
                    self._links[place] = self._medium.read_link(place)
        return found

    def _begin(self, place: bytes) -> None:
        kind = kind_named(place)
        assert kind
        self._found.documents.append(Document(place, kind))

    def _look_into_candidates(self) -> None:
        """Finds documents of unknown make among files that are neither media nor known."""
        names = Names(self._root, lambda: iter(self._places))
        for row, place in self._candidates:
            if self._control.stopped:
                raise Cancelled(tr("The survey was stopped; nothing was changed."))
            extension = place.rpartition(b".")[2].lower()
            if ROLES[self._survey.role[row]].remakeable or database_of(place):
                # Files that can be made again may name their sources; a journal belongs to its
                # database.
                continue
            found = extension == _UNKNOWN or self._recognised(row, place, names)
            if found is True:
                self._found.unknown.append(place)
            elif found is not False:
                self._found.documents.append(Document(place, found))
                self._roles_by_name[row] = self._survey.role[row]
                self._survey.role[row] = ROLES.index(Role.DOCUMENT)
            elif extension in DATABASES:
                self._found.databases.append(place)

    def _recognised(self, row: int, place: bytes, names: Names) -> DocumentKind | bool:
        """The kind of a file by its content; True for a document of unknown make."""
        try:
            found = recognised(self._medium, place, self._survey.size[row], names)
            return found or self._journal_names(place, names)
        except OSError:
            # It cannot be read: copying will show it, and then nothing is deleted.
            return False

    def _journal_names(self, place: bytes, names: Names) -> bool:
        """A program's latest changes may be only in its database's journal."""
        journals = (place + end for end in (b"-wal", b"-journal"))
        rows = ((j, self._places[j]) for j in journals if j in self._places)
        return any(
            recognised(self._medium, j, self._survey.size[row], names) is True for j, row in rows
        )

    def _read(self, number: int, document: Document) -> None:
        try:
            with self._source(document) as source:
                known = kind_of(document.place or document.path, source.head())
                document.kind = known or document.kind
                with document.kind.open(source) as opened:
                    path = document.path or self._root + b"/" + document.place
                    check_agreed(opened, path, self._library)
                    self._read_open(number, document, opened)
        except NotAgreed as error:
            # Until somebody confirms it, it is a file like others, and copied as it is.
            document.trouble = str(error)
            row = self._places[document.place]
            self._survey.role[row] = self._roles_by_name[row]
        except (NotUnderstood, EnvironmentTrouble) as error:
            document.trouble = str(error)
        except MemoryError:
            document.trouble = tr("It is too large to be read here.")
        # Its leads were incomplete and mean nothing.
        if document.trouble:
            self._found.leads.pop(document.place or document.path, None)

    def _source(self, document: Document) -> DocumentSource:
        if document.path:
            return PathSource(document.path, self._cache)
        return LibrarySource(self._medium, self._root, document.place, self._cache)

    def _read_open(self, number: int, document: Document, opened: OpenDocument) -> None:
        """Either all of it can be read, or none is used: therefore it is read twice."""
        count = frames = 0
        for reference in opened.references():
            if reference.means is not Means.FOLDER:
                count += 1
            if reference.sequence:
                frames += reference.sequence.frames
        self._frames += frames
        if self._frames > _MOST_FRAMES:
            document.trouble = tr(
                "Its image sequences, with those of other documents, have more than "
                "{most_frames} frames.",
                most_frames=_MOST_FRAMES,
            )
            return
        document.references, document.seen = count, opened.seen
        leads = self._found.leads[document.place or document.path] = Leads()
        following = _Following(number, document, self._folder_of(document), leads)
        at = 0
        for reference in opened.references():
            if reference.means is Means.FOLDER:
                self._note_source(reference)
                continue
            if reference.number is not None:
                leads.photos = array("q") if leads.photos is None else leads.photos
            self._follow(following, reference, at if reference.number is None else reference.number)
            at += 1

    def _note_source(self, reference: Reference) -> None:
        """An existing top folder is a source of photos."""
        if reference.place is not None and reference.place not in self._tops:
            top = reference.place
            above, there = place_folder(self._drives, top.drive_uuid, top.path)
            self._tops[top] = above, there
            if above and there:
                self._found.sources.add(os.path.realpath(above))

    def _folder_of(self, document: Document) -> bytes:
        path = document.path or self._root + b"/" + document.place
        return path.rpartition(b"/")[0]

    # -- references --------------------------------------------------------------------------------

    def _follow(self, following: _Following, reference: Reference, at: int) -> None:
        """Follows one reference, and records where it leads.

        Args:
            at: its number.
        """
        number, document, leads = following.number, following.document, following.leads
        if leads.photos is not None:
            leads.photos.append(at)
        if reference.means is Means.BELOW:
            self._follow_below(following, reference, at)
            return
        if reference.means is Means.NAME:
            row = self._use_name(number, reference.as_written)
            document.unnamed += row is None
            leads.of.append(NOWHERE if row is None else row)
            return
        if reference.means is Means.ELSEWHERE:
            # Nothing that could be gathered.
            leads.of.append(NOWHERE)
            return
        ways = document.kind.readings(reference.as_written)
        if reference.sequence:
            self._follow_sequence(following, reference, at, ways)
            return
        found = self._where.of(ways, following.folder)
        if found is None:
            leads.of.append(NOWHERE)
            self._found.not_media.append((number, reference.as_written, tr("it names no file")))
            return
        meant, way = self._as_remembered(ways, following.folder, *found)
        leads.of.append(self._lead(meant))
        self._use(number, meant, reference.as_written)
        if _is_lost(meant):
            self._found.lost.append(LostReference(number, at, meant.path))
            for other in ways:
                self._alias(other, following.folder, meant)
        else:
            self._alias(way, following.folder, meant)

    def _follow_below(self, following: _Following, reference: Reference, at: int) -> None:
        """A path below a top folder, which may be on a drive that is away, or unknown."""
        path, top = os.fsencode(reference.as_written), reference.place
        above, there = self._tops.get(top, (None, False)) if top else (None, False)
        if above is None:
            meant = Meant(Standing.MISSING, b"/" + path)
        elif not there:
            meant = Meant(Standing.AWAY, above + b"/" + path)
        elif top is not None and top.drive_uuid is None:
            way = Target(os.fsdecode(above.rstrip(b"/") + b"/" + path))
            found = self._where.of([way], b"/")
            meant = found[0] if found else Meant(Standing.MISSING, b"/" + path)
            self._alias(way, b"/", meant)
        else:
            meant = self._where.at(above.rstrip(b"/") + b"/" + path)
        known = reference.last
        last = (known.size, known.digest, known.mtime_ns)
        self._use(following.number, meant, reference.as_written, last, True)
        following.leads.of.append(self._lead(meant))
        if _is_lost(meant):
            self._found.lost.append(
                LostReference(following.number, at, meant.path, captured=known.captured_at)
            )

    def _as_remembered(
        self, ways: list[Target], folder: bytes, meant: Meant, way: Target
    ) -> tuple[Meant, Target]:
        """A lost file may have two paths: the one by which it was last seen is used."""
        if not _is_lost(meant) or meant.path in self._expected:
            return meant, way
        for other in ways:
            if not other.foreign and (path := _absolute(other, folder)) in self._expected:
                return Meant(meant.standing, path), other
        return meant, way

    def _follow_sequence(
        self, following: _Following, reference: Reference, at: int, ways: list[Target]
    ) -> None:
        assert reference.sequence
        number, folder, leads = following.number, following.folder, following.leads
        lost: list[bytes] = []
        for name in reference.sequence.names():
            frames = [Target(f"{w.path.rstrip('/')}/{name}", w.foreign) for w in ways]
            found = self._where.of(frames, folder)
            if found is None:
                leads.of.append(NOWHERE)
                continue
            meant, way = found
            leads.of.append(self._lead(meant))
            self._use(number, meant, name, named=True)
            self._keep_name(meant)
            for other in frames if _is_lost(meant) else [way]:
                self._alias(other, folder, meant)
            lost += [meant.path] if _is_lost(meant) else []
        if lost:
            above = lost[0].rpartition(b"/")[0]
            names = tuple(path[len(above) + 1 :] for path in lost)
            self._found.lost.append(LostReference(number, at, above, reference.sequence, names))

    def _lead(self, meant: Meant) -> int:
        """Where a reference leads, as in :class:`Leads`."""
        if meant.refused:
            return NOWHERE
        if meant.place is not None and (row := self._places.get(meant.place)) is not None:
            return row
        index = self._led.setdefault(meant.path, len(self._led))
        if index == len(self._found.led_paths):
            self._found.led_paths.append(meant.path)
        return led_outside(index)

    def _use_name(self, number: int, name: str) -> int | None:
        """A name that only one file of the library has makes that file used; returns its row."""
        if self._by_name is None:
            self._by_name = {}
            for place, row in self._places.items():
                own = place.rpartition(b"/")[2]
                if ROLES[self._survey.role[row]] in (Role.ORIGINAL, Role.OTHER):
                    for key in {name_key(own), name_key(own.rpartition(b".")[0] or own)}:
                        self._by_name.setdefault(key, []).append(row)
        rows = self._by_name.get(name_key(os.fsencode(name)), [])
        if len(rows) != 1:
            return None
        self._sets.setdefault(rows[0], set()).add(number)
        self._found.keeps_name.add(rows[0])
        return rows[0]

    def _keep_name(self, meant: Meant) -> None:
        """A frame of a sequence cannot get another name, in the library or outside."""
        if meant.place is not None and meant.place in self._places:
            self._found.keeps_name.add(self._places[meant.place])
        elif meant.path in self._outside:
            self._outside[meant.path].frame = True

    def _use(
        self,
        number: int,
        meant: Meant,
        as_written: str,
        last: Last = _NEVER_SEEN,
        named: bool = False,
    ) -> None:
        if meant.refused:
            self._found.not_media.append((number, as_written, meant.refused))
        elif meant.place is not None:
            row = self._places.get(meant.place)
            if row is not None:
                self._sets.setdefault(row, set()).add(number)
        else:
            outside = self._outside_file(meant, last)
            outside.used_by.add(number)
            outside.named = outside.named or named

    def _outside_file(self, meant: Meant, last: Last) -> Outside:
        known = self._outside.get(meant.path)
        if known is None:
            known = self._outside[meant.path] = self._new_outside(meant)
            if meant.standing is Standing.LOOSE and (kind := kind_named(meant.path)):
                known.role = Role.DOCUMENT
                self._found.documents.append(Document(b"", kind, path=meant.path))
        if last[0] and not known.size and known.standing is not Standing.LOOSE:
            known.size, known.digest, known.mtime_ns = last
        return known

    def _new_outside(self, meant: Meant) -> Outside:
        name = meant.path.rpartition(b"/")[2]
        folder = meant.path.rpartition(b"/")[0]
        if folder not in self._folder_roles:
            self._folder_roles[folder] = self._rule.of_folder(
                self._below(meant.path).rpartition(b"/")[0]
            )
        role = self._folder_roles[folder] or self._rule.of_name(name)
        s = meant.status
        if s is None:
            size, digest, mtime_ns = self._expected.get(meant.path, _NEVER_SEEN)
            return Outside(meant.path, meant.standing, role, size, digest, mtime_ns=mtime_ns)
        return Outside.there(meant.path, meant.standing, role, s)

    def _below(self, path: bytes) -> bytes:
        """A path in the library relative to it, any other unchanged."""
        return path[len(self._root) + 1 :] if path.startswith(self._root + b"/") else path

    def _alias(self, way: Target, folder: bytes, meant: Meant) -> None:
        """Records another name of a file in a document, for rewriting the document.

        Only the reading that led to the file counts: another reading of the same target may be the
        name of another file.
        """
        if meant.refused:
            return
        if meant.status is None and meant.place is None:
            known = self._found.lost_names
        else:
            known = self._found.aliases
        path = os.fsencode(way.path)
        if path == meant.path:
            return
        if not way.foreign:
            path = _absolute(way, folder)
        if path != meant.path and path not in known:
            known[path] = meant.path

    def _follow_links(self) -> None:
        """A link that leads out of the library is a reference too."""
        for place, target in sorted(self._links.items()):
            folder = self._root + b"/" + place.rpartition(b"/")[0]
            meant = self._where.at(os.path.join(folder.rstrip(b"/"), target))
            number = len(self._found.documents)
            self._found.leads[place] = Leads(array("q", [self._lead(meant)]))
            if meant.refused or meant.place == place:
                document = Document(place, LINK, 1)
                self._found.documents.append(document)
                self._found.not_media.append(
                    (number, os.fsdecode(target), meant.refused or tr("it leads to itself"))
                )
            elif meant.place is None:
                self._found.documents.append(Document(place, LINK, 1))
                self._use(number, meant, os.fsdecode(target))
                if _is_lost(meant):
                    self._found.lost.append(LostReference(number, 0, meant.path))
                self._alias(Target(os.fsdecode(target)), folder, meant)
                self._sets.setdefault(self._places[place], set()).add(number)
            else:
                self._pass_on(place, meant.place)

    def _pass_on(self, place: bytes, inner: bytes) -> None:
        """A document that uses a link uses the file in the library to which it leads."""
        row, target = self._places[place], self._places.get(inner)
        if target is not None and row in self._sets:
            self._sets.setdefault(target, set()).update(self._sets[row])

    # -- standings ---------------------------------------------------------------------------------

    def _conclude(self) -> None:
        found, survey = self._found, self._survey
        read = any(not d.trouble and d.kind.works for d in found.documents)
        found.standing = bytearray([_UNUSED if read else _HELD]) * len(survey)
        tuples: dict[frozenset[int], tuple[int, ...]] = {}
        for row, numbers in self._sets.items():
            key = frozenset(numbers)
            found.used_by[row] = tuples.setdefault(key, tuple(sorted(key)))
            found.standing[row] = _HELD
        for row, folder, place in survey.rows() if read else ():
            if survey.is_own(folder) or survey.kind(row) is not Kind.FILE or database_of(place):
                found.standing[row] = _HELD
        for document in found.documents:
            if document.place:
                found.standing[self._places[document.place]] = _HELD
        for place in (*found.unknown, *found.databases):
            found.standing[self._places[place]] = _HELD
        self._sidecars()
        found.outside = sorted(self._outside.values(), key=lambda o: o.path)
        self._loose_sidecars()

    def _sidecars(self) -> None:
        """A sidecar has the standing of its photo; without a photo it is an orphan."""
        survey, found = self._survey, self._found
        for folder in survey.folders:
            names = survey.names_in(folder)
            if survey.is_own(folder) or not _has_companion(names):
                continue
            rows = dict(zip(names, range(folder.first, folder.end), strict=True))
            for sidecar, photos in companions(names).items():
                row = rows[sidecar]
                held = [rows[p] for p in photos if found.standing[rows[p]] == _HELD]
                found.standing[row] = _HELD if held else _UNUSED
                users = sorted({n for h in held for n in found.used_by.get(h, ())})
                if users:
                    found.used_by[row] = tuple(users)
                if not photos:
                    found.orphans.append(join(folder.place, sidecar))

    def _loose_sidecars(self) -> None:
        """Sidecars beside loose media are copied with it."""
        by_folder: dict[bytes, dict[bytes, Outside]] = {}
        for o in self._found.outside:
            if o.standing is Standing.LOOSE:
                folder, _, name = o.path.rpartition(b"/")
                by_folder.setdefault(folder, {})[name] = o
        for folder, used in by_folder.items():
            try:
                names = os.listdir(folder or b"/")
            except OSError:
                # It can be passed through but not listed: its other files are not known.
                continue
            for sidecar, photos in companions(names).items():
                mine = [used[p] for p in photos if p in used]
                if mine and folder + b"/" + sidecar not in self._outside:
                    self._add_sidecar(folder + b"/" + sidecar, mine)

    def _add_sidecar(self, path: bytes, owned_by: list[Outside]) -> None:
        try:
            status = os.lstat(path)
        except OSError:
            return
        if stat.S_ISREG(status.st_mode):
            sidecar = self._new_outside(Meant(Standing.LOOSE, path, status=status))
            sidecar.role, sidecar.named = Role.SIDECAR, True
            for photo in owned_by:
                photo.named = True
            sidecar.used_by = {n for o in owned_by for n in o.used_by}
            self._outside[path] = sidecar
            self._found.outside.append(sidecar)


class _Following(Struct, frozen=True):
    """A document whose references are followed; relative ones count from ``folder``."""

    number: int
    document: Document
    folder: bytes
    leads: Leads


def _is_plain_media(ending: bytes) -> bool:
    """True for an ending by which a file is not a document, known or unknown."""
    name = b"x." + ending
    return kind_named(name) is None and not is_candidate(name)


def _all_plain(names: list[bytes], plain: Callable[[bytes], bool]) -> bool:
    """True if all names are of media: nearly all in a library have one of a few endings."""
    return all(ending[:1] == b"." and plain(ending[1:]) for ending in _endings(names))


def _has_companion(names: list[bytes]) -> bool:
    """True if a sidecar is among the names: nearly all have one of a few endings."""
    return any(is_companion(b"x" + ending) for ending in _endings(names) if ending[:1] == b".")


def _endings(names: list[bytes]) -> set[bytes]:
    """The endings of names, with the dot; for a name without a dot its last letter."""
    return {name[name.rfind(b".") :] for name in names}


def _absolute(way: Target, folder: bytes) -> bytes:
    path = os.fsencode(way.path)
    return os.path.normpath(path if way.absolute else folder + b"/" + path)


def _is_lost(meant: Meant) -> bool:
    return not meant.refused and meant.standing in (Standing.MISSING, Standing.AWAY)
