"""A library surveyed for planning.

Its contents, its references, and problems that prevent a crossing.
"""

from __future__ import annotations

import io
import os
import stat
from collections.abc import Callable, Mapping
from contextlib import closing
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct, field
from msgspec.structs import replace

from fascis.crossing.model.problems import Problem
from fascis.crossing.scope.gathering import below, find_equals
from fascis.crossing.scope.kept import Needed, add_named
from fascis.crossing.scope.needed import Going, find_needed
from fascis.documents.model import DocumentKind
from fascis.documents.registry import is_companion, journals, kind_named
from fascis.drives.model import Drive
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.disk.medium import Medium, as_stream
from fascis.files.errors import Damaged, DriveGone, EnvironmentTrouble
from fascis.files.inventory import WITH_BEFORE, Entry, read_inventory
from fascis.files.names import fsname, safe_place, shown
from fascis.library.identity import Identity, read_identity
from fascis.library.known.drive_roots import drive_roots
from fascis.library.own import INVENTORY, OWN
from fascis.library.references.finding import Expected, Known, find_uses
from fascis.library.references.summary import summary_of
from fascis.library.references.uses import LostReference, Outside, Uses
from fascis.library.roles import RoleRule
from fascis.library.standing import STANDINGS, Standing
from fascis.library.survey import Kind, Survey, survey, survey_some
from fascis.words.speech import tr, trn
from fascis.workspace import Workspace

if TYPE_CHECKING:
    from fascis.relink.relinking import Relinking


class Surveyed(Struct, dict=True):
    """A library surveyed for planning, kept while choices change.

    Attributes:
        source: its folder.
        document: for a library that is a single document, its name in the folder; otherwise empty.
        ties: lost files that were found, by path: the copy refers to the found files.
        before: place → its place before an earlier crossing changed its name for a drive.
        compared: comparisons with existing files at its new paths.
        also: documents checked besides the known ones: the catalog to which the folder belongs.
        of_catalog: the path of that catalog for messages; otherwise empty.
    """

    source: Path
    survey: Survey
    identity: Identity | None
    problems: list[Problem]
    uses: Uses = field(default_factory=Uses)
    document: bytes = b""
    equals: dict[bytes, bytes] | None = None
    ties: dict[bytes, bytes] = field(default_factory=dict)
    before: dict[bytes, bytes] = field(default_factory=dict)
    compared: dict[tuple[bytes, int, bytes, int], bool] = field(default_factory=dict)
    also: tuple[bytes, ...] = ()
    of_catalog: str = ""
    _attributed: dict[bytes, int] | None = None
    _needed: dict[tuple[bool, bool, tuple[bytes, ...]], Needed] = field(default_factory=dict)

    def attributed(self) -> dict[bytes, int]:
        """Places of the library's files with ``user.*`` extended attributes, and their bytes.

        Read once.
        """
        if self._attributed is None:
            top = bytes(self.source) + b"/"
            found = ((p, _attribute_bytes(top + p)) for _, p in self.survey.files())
            self._attributed = {p: length for p, length in found if length}
        return self._attributed

    def equal_files(self) -> dict[bytes, bytes]:
        """Loose files with the content of another; found once.

        See :func:`~fascis.crossing.scope.gathering.find_equals`.
        """
        if self.equals is None:
            self.equals = find_equals(self.survey, self.uses, self.source)
        return self.equals

    def needed(
        self,
        workspace: Workspace,
        loose_too: bool = False,
        leads: bool = False,
        also: tuple[bytes, ...] = (),
    ) -> Needed:
        """Its files that documents anywhere need, its own and others'; searched for once.

        Args:
            loose_too: its loose files too.
            leads: with the references that need it.
            also: other documents and libraries to check.
        """
        asked = loose_too, leads, also
        if asked not in self._needed:
            register = workspace.register
            known = register.library_at(self.root) if register.path.exists() else None
            if self.identity:
                library = self.identity.library_id
            elif known:
                library = known.id
            else:
                library = ""
            if loose_too:
                loose = frozenset(o.path for o in self.uses.of(Standing.LOOSE))
            else:
                loose = frozenset()
            needed = find_needed(
                workspace,
                Going(
                    self.below.rstrip(b"/"),
                    library,
                    loose,
                    document=bool(self.document),
                    leads=leads,
                    also=also,
                ),
            )
            add_named(needed, self.uses, self.survey, self.below)
            self._needed[asked] = needed
        return self._needed[asked]

    @cached_property
    def below(self) -> bytes:
        """The real path of its folder, with a slash at its end."""
        return below(self.source)

    @cached_property
    def rows(self) -> dict[bytes, int]:
        """The row of every place; computed once for all choices that are tried."""
        return {place: row for row, _, place in self.survey.rows()}

    @cached_property
    def paths(self) -> frozenset[bytes]:
        """The absolute path of every place."""
        return frozenset(self.below + place for place in self.rows)

    @cached_property
    def used_rows(self) -> dict[int, list[int]]:
        """The rows that each document uses, by the documents' numbers."""
        found: dict[int, list[int]] = {}
        for row, documents in self.uses.used_by.items():
            for document in documents:
                found.setdefault(document, []).append(row)
        return found

    @cached_property
    def names(self) -> dict[bytes, list[bytes]]:
        """The names of the files in each folder."""
        name = self.survey.name
        return {f.place: [name(r) for r in range(f.first, f.end)] for f in self.survey.folders}

    @cached_property
    def companions(self) -> list[bytes]:
        """The places of all sidecars."""
        return [place for place in self.rows if is_companion(place)]

    @cached_property
    def document_rows(self) -> dict[int, int]:
        """The numbers of a person's documents, by their rows."""
        numbers = {
            d.place: n for n, d in enumerate(self.uses.documents) if d.place and d.kind.works
        }
        return {self.rows[place]: n for place, n in numbers.items() if place in self.rows}

    @property
    def root(self) -> Path:
        """Its path in the register: its folder, or the single document."""
        return self.source / os.fsdecode(self.document) if self.document else self.source

    @property
    def name(self) -> str:
        """Its name for display."""
        if self.identity:
            return shown(self.identity.name)
        return shown(self.root.stem if self.document else self.root.name)

    def relinking(self, workspace: Workspace, control: Control = UNSTOPPED) -> Relinking:
        """Its lost files, to be searched for."""
        # This imports much, and few surveys lead to relinking.
        from fascis.relink.relinking import relinking_of

        return relinking_of(self.source, self.survey, self.uses, workspace, control)

    @property
    def kind(self) -> str:
        """The kind of library, as far as its documents show it."""
        if self.identity and self.identity.kind != "library":
            return self.identity.kind
        kinds = [d.kind for d in self.uses.documents if d.place]
        return next((kind.library for kind in sorted(kinds, key=_telling)), "library")


def _attribute_bytes(path: bytes) -> int:
    try:
        names = [n for n in os.listxattr(path, follow_symlinks=False) if n.startswith("user.")]
        return sum(len(n) + len(os.getxattr(path, n, follow_symlinks=False)) for n in names)
    except OSError:
        # The file system has none, or the file is gone: copying will show it.
        return 0


def survey_library(
    workspace: Workspace,
    source: Path,
    beat: Callable[[int], None] | None = None,
    control: Control = UNSTOPPED,
    literal: bool = False,
    looks: bool = True,
) -> Surveyed:
    """Surveys a library: a folder, or a single document.

    If it is unfit, this is returned as problems, not raised as errors.

    Args:
        literal: follow paths in documents as any program would: nowhere if a drive is mounted
            elsewhere now.
        looks: search files of other types for documents of unknown make.
    """

    def unfit(code: Code, sentence: str, remedy: str) -> Surveyed:
        return Surveyed(source, Survey(), None, [Problem(code, sentence, remedy)])

    workspace.use_readings()
    try:
        workspace.drives.check_answers(source)
    except DriveGone as error:
        return unfit(Code.DRIVE_SILENT, str(error), tr("Check the cable, or connect it again."))
    if source.is_symlink():
        # A library is where its folder is, not where a link to it lies.
        source = source.resolve()
    single = source.is_file() and is_document(source)
    if not os.path.lexists(source):
        return unfit(
            Code.LIBRARY_MISSING,
            tr("There is no folder {source}.", source=shown(str(source))),
            tr("Check the name, or connect its drive."),
        )
    if not source.is_dir() and not single:
        return unfit(
            Code.LIBRARY_NOT_A_FOLDER,
            tr(
                "{source} is neither a folder nor a document that Fascis understands.",
                source=shown(str(source)),
            ),
            tr("Name the library's own folder."),
        )
    folder = source.parent if single else source
    try:
        medium = workspace.drives.open(folder)
    except EnvironmentTrouble as error:
        return unfit(
            Code.LIBRARY_UNREADABLE,
            tr("{error} Nothing of it was changed.", error=error),
            tr("Check its permissions."),
        )
    problems: list[Problem] = []
    with closing(medium):
        try:
            if single:
                return _survey_document(
                    workspace, medium, folder, fsname(source.name), control, literal
                )
            identity = None
            try:
                identity = read_identity(medium, source / ".fascis/identity.json")
            except Damaged as error:
                problems.append(
                    Problem(Code.IDENTITY_DAMAGED, str(error), tr("Set the identity file aside."))
                )
            rule = RoleRule(dict(identity.roles) if identity else None)
            found = survey(medium, rule, beat, control)
            expected = _expected(workspace, source, identity)
            library = identity.library_id if identity else ""
            drives = drive_roots(workspace, literal)
            known = Known(drives, workspace.private, expected, looks, library)
            uses = _uses(medium, source, found, known, control)
            before = _names_before(medium)
        except EnvironmentTrouble as error:
            return unfit(
                Code.LIBRARY_UNREADABLE,
                tr("{error} Nothing of it was changed.", error=error),
                tr("Check its permissions."),
            )
    if found.unlistable:
        problems.append(
            Problem(
                Code.LIBRARY_UNREADABLE,
                trn(
                    "{n} folder of the library cannot be opened; what is in it is not known. "
                    "{first}",
                    "{n} folders of the library cannot be opened; what is in them is not known. "
                    "{first}",
                    len(found.unlistable),
                    first=found.unlistable[0],
                ),
                tr("Check their permissions."),
                tuple(t.place for t in found.unlistable[:1000]),
            )
        )
    elif not any(found.kind(row) is Kind.FILE for row in range(len(found))):
        problems.append(
            Problem(
                Code.LIBRARY_EMPTY,
                tr("{name} has no files.", name=shown(source.name)),
                tr("Name another folder."),
            )
        )
    return Surveyed(source, found, identity, problems, uses, before=before)


def with_ties(surveyed: Surveyed, ties: Mapping[bytes, bytes]) -> Surveyed:
    """A survey as if the documents led to found files.

    In the copy that a crossing makes, they do.

    Args:
        ties: lost path → found path, both absolute, for each frame.
    """
    if not ties:
        return surveyed
    old = surveyed.uses
    uses = replace(
        old,
        used_by=dict(old.used_by),
        standing=bytearray(old.standing),
        aliases=dict(old.aliases),
        relinked={},
    )
    rows = {surveyed.below + place: row for row, place in surveyed.survey.files()}
    outside = {o.path: o for o in old.outside}
    for path, found in ties.items():
        lost = outside.get(path)
        if lost is None or lost.standing not in (Standing.MISSING, Standing.AWAY):
            continue
        if (row := rows.get(found)) is not None:
            uses.used_by[row] = tuple(sorted({*uses.used_by.get(row, ()), *lost.used_by}))
            uses.standing[row] = STANDINGS.index(Standing.HELD)
        elif not _as_loose(outside, found, lost):
            continue
        del outside[path]
        uses.relinked[path] = found
    uses.relinked |= {n: uses.relinked[p] for n, p in old.lost_names.items() if p in uses.relinked}
    uses.aliases |= uses.relinked
    uses.outside = sorted(outside.values(), key=lambda o: o.path)
    uses.lost = [r for r in old.lost if _still_lost(r, outside)]
    return replace(surveyed, uses=uses, equals=None, ties=dict(ties), _needed={})


def _still_lost(reference: LostReference, outside: Mapping[bytes, Outside]) -> bool:
    if reference.sequence:
        paths = [reference.path + b"/" + f for f in reference.frames]
    else:
        paths = [reference.path]
    return any(p in outside for p in paths)


def _as_loose(outside: dict[bytes, Outside], found: bytes, lost: Outside) -> bool:
    """Counts a found file as loose media; False if it no longer exists."""
    known = outside.get(found)
    if known is None:
        try:
            s = os.lstat(found)
        except OSError:
            return False
        if not stat.S_ISREG(s.st_mode):
            return False
        known = outside[found] = Outside.there(found, Standing.LOOSE, lost.role, s)
    outside[found] = replace(
        known, named=known.named or lost.named, used_by=known.used_by | lost.used_by
    )
    return True


def _telling(kind: DocumentKind) -> tuple[bool, bool]:
    """Sorts kinds by how much they show about a library: catalogs, then projects, then links."""
    return not kind.works, not kind.journals


def is_document(path: Path) -> bool:
    """True for the name of a known kind of document: it can be a library by itself."""
    return kind_named(fsname(path.name)) is not None


def _survey_document(
    workspace: Workspace, medium: Medium, folder: Path, name: bytes, control: Control, literal: bool
) -> Surveyed:
    """A single document is a library with the files it refers to.

    Nothing else in its folder belongs to it.
    """
    own = [name, *(name + end for end in journals())]
    alone = survey_some(medium, own)
    drives = drive_roots(workspace, literal)
    known = Known(drives, workspace.private)
    first = find_uses(medium, folder, alone, known, control, nothing_inside=True)
    inside = below(folder)
    beside = [o.path[len(inside) :] for o in first.of(Standing.LOOSE) if o.path.startswith(inside)]
    found = survey_some(medium, {*own, *beside})
    root = folder / os.fsdecode(name)
    known = Known(drives, workspace.private, _expected(workspace, root, None))
    uses = _uses(medium, folder, found, known, control)
    return Surveyed(folder, found, None, [], uses, name)


def _expected(workspace: Workspace, root: Path, identity: Identity | None) -> Expected:
    """Sizes and times of missing files, from the register."""
    register = workspace.register
    # A dry run writes nothing, not even an empty register.
    if not register.path.exists():
        return {}
    if identity:
        return register.expected(identity.library_id)
    known = register.library_at(root)
    return register.expected(known.id) if known else {}


def _uses(medium: Medium, folder: Path, found: Survey, known: Known, control: Control) -> Uses:
    """The files it uses.

    Sizes of missing files come from the register or the library's own inventory.
    """
    uses = find_uses(medium, folder, found, known, control)
    inside = below(folder)
    unknown = {
        o.path: o for o in uses.of(Standing.MISSING) if not o.size and o.path.startswith(inside)
    }
    if unknown:
        for e in _recorded(medium):
            if (gone := unknown.get(inside + e.place)) is not None:
                gone.size, gone.digest, gone.mtime_ns = e.size, e.digest, e.mtime_ns
    return uses


def _recorded(medium: Medium) -> list[Entry]:
    """The library's own inventory; empty if it has none that can be read."""
    try:
        if not medium.exists(INVENTORY):
            return []
        with closing(medium.open(INVENTORY)) as file:
            text = io.TextIOWrapper(as_stream(file), "utf-8", "surrogateescape", newline="")
            return list(read_inventory(text, INVENTORY))
    except (OSError, EnvironmentTrouble, Damaged):
        # Told of when a crossing begins.
        return []


def _names_before(medium: Medium) -> dict[bytes, bytes]:
    """Files that an earlier crossing renamed, by the library's own inventory: place → place before.

    Most have nothing of it.
    """
    try:
        if not medium.exists(INVENTORY):
            return {}
        with closing(medium.open(INVENTORY)) as file:
            first = as_stream(file).readline(1024)
    except (OSError, EnvironmentTrouble):
        return {}
    wanted = first.rstrip().endswith(WITH_BEFORE[-1].encode())
    found: dict[bytes, bytes] = {}
    for entry in _recorded(medium) if wanted else ():
        now, before = entry.place.split(b"/"), entry.before.split(b"/")
        # Nothing is ever called as Fascis's own.
        own = now[0] == OWN or any(part.startswith(OWN) for part in before)
        if entry.before and len(now) == len(before) and not own:
            for depth in range(1, len(now) + 1):
                # The file's own; of its folders those that are called otherwise.
                own_name = depth == len(now)
                if own_name or now[depth - 1] != before[depth - 1]:
                    found.setdefault(b"/".join(now[:depth]), b"/".join(before[:depth]))
    return found


def _meet_home(workspace: Workspace, surveyed: Surveyed, drive: Drive) -> None:
    """Handles an unknown library whose identity says that home is on another drive: it is a copy.

    Home changes only by a switch: opening a copy on another computer does not make it home.
    """
    register, identity = workspace.register, surveyed.identity
    if identity is None or not identity.history or identity.home.drive == drive.uuid:
        return
    home = identity.home
    place = os.fsencode(home.path)
    known = {one.id for one in register.libraries()}
    if identity.library_id in known or not home.drive or not safe_place(place):
        # Anybody can edit what it says.
        return
    mounts = {d.uuid: d.mount for d in register.drives()}
    root = mounts.get(home.drive, Path("/")) / os.fsdecode(place)
    register.put_library(
        root, home.drive, surveyed.name, surveyed.kind, identity.library_id,
        summary_of(surveyed.survey, surveyed.uses),
    )  # fmt: skip
    register.put_copy(identity.library_id, drive, surveyed.root, identity.history[-1].id)


def remember(workspace: Workspace, surveyed: Surveyed) -> str:
    """Stores a survey's results in the register, and returns the library's id.

    Writes nothing into the library.
    """
    register, uses = workspace.register, surveyed.uses
    drive = workspace.drives.at(surveyed.source, measured=False)
    connected = [d for d in workspace.drives.connected(measured=False) if d.uuid != drive.uuid]
    # First: the library's may be mounted elsewhere than when it was last seen.
    register.put_drives([drive, *connected])
    id = surveyed.identity.library_id if surveyed.identity else None
    known = register.library_at(surveyed.root)
    _meet_home(workspace, surveyed, drive)
    key = register.meet_library(
        surveyed.root,
        drive.uuid,
        surveyed.name,
        surveyed.kind if surveyed.kind != "library" or known is None else known.kind,
        id,
        summary_of(surveyed.survey, uses),
    )
    home = register.library_at(surveyed.root)
    if home is None or home.id != key:
        # A copy: what its home uses is what is remembered of the library.
        return key
    held = (
        (
            surveyed.below + place,
            surveyed.survey.size[row],
            b"",
            False,
            surveyed.survey.mtime_ns[row],
        )
        for row, place in surveyed.survey.files()
        if row in uses.used_by
    )
    register.put_used(
        key, [*held, *((o.path, o.size, o.digest, True, o.mtime_ns) for o in uses.outside)]
    )
    return key
