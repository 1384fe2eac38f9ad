"""Who else needs the files that would be deleted.

Documents that stay, other known libraries, and folders near the library, read at that moment.
Nothing that a document still needs is set aside or deleted (rule 10). Every document counts that is
not moved itself: in this library, in every known library and copy that is connected, and near the
library on the same drive, within limits. For libraries that are away, and documents that cannot be
read, the register's memory counts. A library deleted long ago needs nothing any more. Every way of
reading a target counts, because another program may use it.
"""

from __future__ import annotations

import math
import os
import re
import stat
import time
import unicodedata
from collections import deque
from collections.abc import Collection, Iterable
from pathlib import Path
from urllib.parse import unquote_to_bytes

from msgspec import Struct

from fascis.crossing.journal.glance import yet_to_copy
from fascis.crossing.scope.kept import Lead, Needed
from fascis.documents.model import (
    KnownBy,
    Means,
    Members,
    NotUnderstood,
    OpenDocument,
    Reference,
    Sequence,
    names_of,
)
from fascis.documents.registry import kind_named, kind_of
from fascis.documents.targets import Target
from fascis.drives.system.mounts import other_ways, read_mounts
from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import DriveGone, EnvironmentTrouble
from fascis.files.names import STAGING, shown
from fascis.files.own.unexpected import told_unexpected
from fascis.library.known.drive_roots import drive_roots
from fascis.library.own import OWN
from fascis.library.references.reading import DocumentSource, PathSource, place_folder, read_outside
from fascis.library.references.summary import parse_summary
from fascis.library.references.unknown import is_candidate, paths_named
from fascis.library.register import KnownLibrary, root_now
from fascis.library.replacing import is_kept
from fascis.words.speech import tr
from fascis.workspace import Workspace

# Folders searched near a library.
MOST_FOLDERS = 20_000
# Seconds for searching near a library.
SECONDS = 4.0
# Bytes searched in a file of unknown make.
_MOST_UNKNOWN = 4 << 20
# Of those near a library: how many, how large, and for how many seconds.
_BESIDE_UNKNOWN = (2_000, 1 << 20, 1.5)
# Documents near a library that are read whatever their bytes show first.
_READ_WHOLE, _WHOLE = 400, 8 << 20  # How many, and up to how many bytes.
# Bytes of a large one searched at a time.
_PART = 1 << 20
_LOOK_AT_THE_CLOCK = 1024  # References.
_SYSTEM = frozenset(
    b"/" + n
    for n in (
        b"proc",
        b"sys",
        b"dev",
        b"run",
        b"usr",
        b"etc",
        b"boot",
        b"lib",
        b"var",
        b"opt",
        b"snap",
    )
)
_CANNOT_BE_READ = (NotUnderstood, EnvironmentTrouble, OSError, MemoryError)
# A document: its absolute path, and its name for messages.
_Who = tuple[bytes, str]


class Going(Struct, frozen=True):
    """The files that would be set aside or deleted: only these are searched for.

    Attributes:
        root: the library's real folder, without a slash at its end.
        library: its id in the register, or empty.
        loose: absolute paths of loose files that may be deleted too.
        but: folders that are not searched: made or set aside by this crossing.
        document: the library is a single document: other files in its folder do not belong to it.
        own: read the library's own documents too, not only those of others.
        crossing: the running crossing, if any: what all others have yet to copy is needed too.
        before: the folder's path before it was set aside, by which others name it.
        leads: also record which references of a document need something.
        also: documents and libraries searched besides the known ones.
    """

    root: bytes
    library: str
    loose: Collection[bytes] = frozenset()
    but: Collection[bytes] = frozenset()
    document: bool = False
    own: bool = True
    crossing: str = ""
    before: bytes = b""
    leads: bool = False
    also: Collection[bytes] = ()


def find_needed(
    workspace: Workspace, going: Going, control: Control = UNSTOPPED, seconds: float | None = None
) -> Needed:
    """Searches everything that may need the files that would be deleted. Writes nothing.

    Args:
        control: checked at every folder.
        seconds: for folders near the library; by default as long as a person waits.
    """
    return _Search(workspace, going, control, SECONDS if seconds is None else seconds).run()


def needed_by(workspace: Workspace, going: Going, documents: Iterable[bytes]) -> Needed:
    """What some documents alone need of these files; by their absolute paths. Writes nothing."""
    return _Search(workspace, going, UNSTOPPED, SECONDS).only(documents)


class _Search:
    """One search of everything that may need something."""

    def __init__(
        self, workspace: Workspace, going: Going, control: Control, seconds: float
    ) -> None:
        self._workspace, self._going, self._control = workspace, going, control
        self._seconds = seconds
        self._top = going.root.rstrip(b"/") + b"/"
        self._drives = drive_roots(workspace)
        self._real: dict[bytes, tuple[bytes, list[bytes]]] = {}
        self._found = Needed()
        # The reference of a document in question, and what it names of a sequence.
        self._reference: tuple[int, Sequence | None] | None = None
        self._looked: set[tuple[int, int]] = set()
        self._mounts = read_mounts()
        self._loose_folders = {p.rpartition(b"/")[0] for p in going.loose}
        own = (workspace.data, workspace.state, workspace.config, workspace.private)
        self._but = {os.path.realpath(b) for b in (*going.but, *map(bytes, own))} | _SYSTEM
        self._beside_read = 0
        # The search near the library ends then, even in the middle of a document.
        self._until = math.inf
        self._aside = going.before not in (b"", going.root) and not os.path.lexists(going.before)
        self._called = (going.before if self._aside else going.root).rpartition(b"/")[2]
        names = {self._called, *(p.rpartition(b"/")[2] for p in going.loose)}
        self._needles = {
            max(re.findall(rb"[a-z0-9]+", _composed(n).lower()), key=len, default=b"")
            for n in names
        }
        # Files of unknown make near the library: searched last.
        self._later: list[tuple[bytes, int]] = []

    def run(self) -> Needed:
        """Everything."""
        if self._going.own and not self._going.document:
            self._tree(self._going.root, "")
        for library in self._libraries():
            self._library(library)
        for path in self._going.also:
            self._known_tree(path, Path(os.fsdecode(path)).name)
        self._beside()
        self._look_into_later()
        self._yet_to_copy()
        return self._found

    def only(self, documents: Iterable[bytes]) -> Needed:
        """What these documents need, and nothing else."""
        for path in documents:
            if stat.S_ISLNK(_mode(path)):
                self._link(path, "")
            else:
                self._document(path, "")
        return self._found

    def _yet_to_copy(self) -> None:
        """Files that other queued or interrupted crossings have not copied yet.

        Their sources must not be removed.
        """
        for path in sorted(self._workspace.crossings.glob("*.sqlite")):
            if path.stem != self._going.crossing:
                for name, called in yet_to_copy(path):
                    wanted = self._where_now(called)
                    if wanted.startswith(self._top) or wanted in self._going.loose:
                        self._found.add(
                            wanted, b"", tr("{name}, which has yet to cross", name=shown(name))
                        )

    # -- known libraries ---------------------------------------------------------------------------

    def _libraries(self) -> list[KnownLibrary]:
        register = self._workspace.register
        return register.libraries() if register.path.exists() else []

    def _library(self, library: KnownLibrary) -> None:
        """A known library with its copies, as they are now.

        If it is away, as it was last seen.
        """
        register = self._workspace.register
        connected = self._workspace.drives.connected(measured=False)
        root = root_now(register, connected, library)
        there = {d.uuid for d in connected if d.connected}
        copies = [c for c in register.copies(library.id) if bytes(c.root) != bytes(root)]
        for copy in copies:
            if copy.drive in there:
                self._known_tree(bytes(copy.root), library.name)
        if library.id == self._going.library:
            return
        if self._known_tree(bytes(root), library.name):
            return
        away = (
            library.drive not in there
            or any(c.drive not in there for c in copies)
            or self._is_silent(root)
        )
        is_there = not self._is_silent(root) and os.path.lexists(root)
        if not away and not is_there:
            # It was deleted, and needs nothing any more.
            return
        self._remembered(library)
        if not is_there:
            self._found.away[library.name] = library.id
        summary = parse_summary(library.summary)
        if is_there or summary is None or not summary.standing or summary.not_understood:
            self._found.unknown.add(library.name)

    def _is_silent(self, path: Path) -> bool:
        try:
            self._workspace.drives.check_answers(path)
        except DriveGone:
            return True
        return False

    def _remembered(self, library: KnownLibrary) -> None:
        """What a library used when it was last surveyed."""
        for called in self._workspace.register.used_outside(library.id):
            path = self._where_now(called)
            if path.startswith(self._top) or path in self._going.loose:
                self._found.add(path, b"", library.name)

    def _known_tree(self, root: bytes, name: str) -> bool:
        """Searches a known library.

        False if it is not there, or cannot be searched completely.
        """
        path = Path(os.fsdecode(root))
        if self._is_silent(path) or not os.path.lexists(root):
            return False
        real = os.path.realpath(root)
        if not self._going.root.startswith(real + b"/"):
            for loose in self._going.loose:
                if loose.startswith(real + b"/"):
                    # It lies in that library, which keeps it.
                    self._found.add(loose, b"", name)
        if path.is_file():
            return self._document(real, name)
        return self._tree(real, name)

    # -- folders -----------------------------------------------------------------------------------

    def _tree(self, top: bytes, name: str) -> bool:
        """Reads every document below a folder; True if all could be read."""
        whole, waiting = True, [top]
        while waiting:
            self._control.checkpoint()
            inner, listed = self._folder(waiting.pop(), name, bool(name))
            waiting += inner
            whole = whole and listed
        return whole

    def _folder(self, folder: bytes, name: str, unknown: bool = False) -> tuple[list[bytes], bool]:
        """Reads the documents and links of one folder.

        Returns its folders, and True if all could be read.
        """
        inner, whole = [], True
        try:
            status = os.lstat(folder)
            others = not self._going.own and not self._going.document and folder == self._going.root
            if (status.st_dev, status.st_ino) in self._looked or folder in self._but or others:
                return [], True
            self._looked.add((status.st_dev, status.st_ino))
            with os.scandir(folder) as entries:
                listing = list(entries)
        except OSError:
            return [], False
        for entry in listing:
            if entry.is_dir(follow_symlinks=False):
                if entry.name != OWN and not entry.name.startswith(STAGING):
                    inner.append(entry.path)
            elif is_kept(entry.name):
                # The version of a document from before it was updated needs nothing.
                continue
            elif entry.is_symlink():
                self._link(entry.path, name)
            elif kind_named(entry.name):
                whole = self._document(entry.path, name) and whole
            elif is_candidate(entry.name):
                # Near the library there may be very many: these are searched later.
                inside = bool(name) or not unknown
                if inside and self._is_document(entry.path):
                    whole = self._document(entry.path, name) and whole
                elif unknown:
                    whole = self._candidate(entry, bool(name)) and whole
        return inner, whole

    def _beside(self) -> None:
        """Searches for documents near the library, and near loose files that would be deleted.

        The nearest folders first, on their drives.
        """
        looked = 0
        self._until = time.monotonic() + self._seconds
        starts = [self._going.root]
        if not self._going.document:
            starts = [self._going.root.rpartition(b"/")[0] or b"/"]
        starts += sorted({p.rpartition(b"/")[0] or b"/" for p in self._going.loose})
        for start in starts:
            device, top = _device(start), self._mount(start)
            above: bytes | None = start
            while above is not None and device is not None and _device(above) == device:
                waiting = deque([above])
                while waiting:
                    self._control.checkpoint()
                    if looked >= MOST_FOLDERS or self._ends_now():
                        self._found.bounds = tr(
                            "{looked} folders were looked into, up to {above}",
                            looked=looked,
                            above=shown(above),
                        )
                        return
                    folder = waiting.popleft()
                    if _device(folder) != device:
                        continue
                    looked += 1
                    inner = self._folder(folder, "", unknown=True)[0]
                    waiting += [f for f in inner if not f.rpartition(b"/")[2].startswith(b".")]
                above = None if above in (b"/", top) else above.rpartition(b"/")[0] or b"/"
        # In the middle of the last document.
        if self._ends_now():
            self._found.bounds = tr("{looked} folders were looked into", looked=looked)

    def _mount(self, folder: bytes) -> bytes:
        """The top folder of the drive that a folder is on."""
        try:
            return os.path.realpath(
                bytes(self._workspace.drives.at(Path(os.fsdecode(folder)), measured=False).mount)
            )
        except EnvironmentTrouble:
            return folder

    # -- documents ---------------------------------------------------------------------------------

    def _document(self, path: bytes, name: str) -> bool:
        """Records what one document needs.

        False if it cannot be read: then what is known of it counts.
        """
        who = path, self._told(path, name)
        self._reference = None
        try:
            with PathSource(path, self._workspace.private) as source:
                self._references(source, who)
        except _CANNOT_BE_READ:
            return False
        # One of many documents stops nothing; an error of ours is kept for a report.
        except Exception as error:
            told_unexpected(error, self._workspace.state)
            return False
        return True

    def _told(self, path: bytes, name: str) -> str:
        """The name of a document for messages.

        Its place in this library, with the library's name if it is another.
        """
        if path.startswith(self._top):
            return shown(path[len(self._top) :])
        return f"{shown(path)} ({name})" if name else shown(path)

    def _references(self, source: DocumentSource, who: _Who) -> None:
        path = source.name
        kind = kind_of(path, source.head())
        if kind is None:
            raise NotUnderstood(tr("This document's format is not known here."))
        beside = who[1] == shown(path)
        if beside and kind.known_by is KnownBy.DIGEST and self._says_nothing(source):
            return
        if beside and self._ends_now():
            # Some kinds are read completely before they return their first reference.
            return
        folder = path.rpartition(b"/")[0]
        with kind.open(source) as document:
            if self._all_members(document, who, beside):
                # It names files below folders, and no others.
                return
            for number, reference in enumerate(document.references()):
                if beside and number % _LOOK_AT_THE_CLOCK == 0 and self._ends_now():
                    return
                at = number if reference.number is None else reference.number
                self._reference = at, reference.sequence
                if reference.means is Means.BELOW:
                    self._below(reference, who)
                elif reference.means is Means.PATH:
                    for inner in names_of(reference):
                        for way in kind.readings(reference.as_written):
                            self._path(way, folder, os.fsdecode(inner), who)
        self._reference = None

    def _ends_now(self) -> bool:
        """True if there is no time left for folders near the library."""
        return time.monotonic() > self._until

    def _says_nothing(self, source: DocumentSource) -> bool:
        """Skips documents near a library that contain no name of these files.

        Of each name the longest run of letters and digits is searched for; documents that may spell
        even those in another way (percent forms of letters, character references, UTF-16) are read.
        """
        self._beside_read += 1
        if not all(self._needles):
            return False
        if self._beside_read <= _READ_WHOLE and source.size <= _WHOLE:
            return False
        # A searched name may be spelled in thirds.
        kept = max(map(len, self._needles), default=0) * 3
        before = b""
        with source.stream() as stream:
            while part := stream.read(_PART):
                text = before + part
                if self._may_name(text) or self._ends_now():
                    return False
                before = text[-kept:] if kept else b""
        return True

    def _may_name(self, text: bytes) -> bool:
        """True if a name of these files may occur in a part of a document."""
        if b"\0" in text or b"&#" in text or b"\\u" in text:
            return True
        low = text.lower()
        decoded = unquote_to_bytes(low) if b"%" in low else low
        return any(needle in low or needle in decoded for needle in self._needles)

    def _path(self, way: Target, folder: bytes, inner: str, who: _Who) -> None:
        path = os.fsencode(way.path if not inner else f"{way.path.rstrip('/')}/{inner}")
        if not way.foreign:
            self._need(path if way.absolute else folder + b"/" + path, who)
        if (way.foreign or way.absolute) and (
            mapped := self._drives.mapped(path.lstrip(b"/") if way.foreign else path)
        ):
            self._need(mapped[0], who)

    def _below(self, reference: Reference, who: _Who) -> None:
        top = reference.place
        above = place_folder(self._drives, top.drive_uuid, top.path)[0] if top else None
        if above is not None:
            self._need(above.rstrip(b"/") + b"/" + os.fsencode(reference.as_written), who)

    def _all_members(self, document: OpenDocument, who: _Who, beside: bool) -> bool:
        """The members of a document's folders; False if it has none."""
        found = False
        for members in document.members():
            found = True
            if beside and self._ends_now():
                break
            self._members(members, who)
        return found

    def _members(self, members: Members, who: _Who) -> None:
        """The members of one folder of a document: the folder is read once for all of them."""
        top = members.folder.place
        above = place_folder(self._drives, top.drive_uuid, top.path)[0] if top else None
        if above is None:
            return
        folder = above.rstrip(b"/") + b"/" + os.fsencode(members.folder.as_written)
        real, links = self._real_of(folder.rstrip(b"/"))
        for link in links if members.names else ():
            self._note(link, who)
        listed = self._listed(real)
        inside = (real + b"/").startswith(self._top) or real in self._loose_folders
        if listed is None:
            # It does not exist, and contains nothing.
            return
        for number, name in zip(members.numbers, members.names, strict=True):
            raw = os.fsencode(name)
            plain = listed.get(raw)
            if plain is None:
                # A link, or the drive treats another name as equal.
                self._reference = number, None
                self._need(folder.rstrip(b"/") + b"/" + raw, who)
            elif plain and inside:
                full = real.rstrip(b"/") + b"/" + raw
                if full.startswith(self._top) or full in self._going.loose:
                    self._found.add(full, *who)
                    self._lead(full, who[0], number, None)
        self._reference = None

    @staticmethod
    def _listed(folder: bytes) -> dict[bytes, bool] | None:
        """The names in a folder, True for those that may be needed; links are left out.

        None if it does not exist.
        """
        try:
            with os.scandir(folder) as entries:
                return {
                    e.name: not e.is_dir(follow_symlinks=False)
                    for e in entries
                    if not e.is_symlink()
                }
        except OSError:
            return None

    def _link(self, path: bytes, name: str) -> None:
        """A link is a document too: it needs the file to which it leads."""
        self._reference = 0, None
        self._need(path, (path, self._told(path, name)))
        self._reference = None

    def _is_document(self, path: bytes) -> bool:
        """True for a document, by its content, although its name does not show it."""
        try:
            with PathSource(path, self._workspace.private) as source:
                return kind_of(b"", source.head()) is not None
        except _CANNOT_BE_READ:
            return False

    def _candidate(self, entry: os.DirEntry[bytes], known: bool) -> bool:
        """A file that may be a document of unknown make.

        In a known library it is searched at once, near one later.

        Returns:
            False when it is in a known library and cannot be read.
        """
        try:
            size = entry.stat(follow_symlinks=False).st_size
        except OSError:
            return not known
        if known and size <= _MOST_UNKNOWN:
            return self._unknown(entry.path, size, known)
        if not known and 0 < size <= _BESIDE_UNKNOWN[1]:
            self._later.append((entry.path, size))
        return True

    def _look_into_later(self) -> None:
        until = time.monotonic() + min(self._seconds, _BESIDE_UNKNOWN[2])
        for number, (path, size) in enumerate(self._later):
            self._control.checkpoint()
            if number == _BESIDE_UNKNOWN[0] or time.monotonic() > until:
                far = tr(
                    "{number} of {later} other files beside it were looked into",
                    number=number,
                    later=len(self._later),
                )
                self._found.bounds = "; ".join(filter(None, (self._found.bounds, far)))
                return
            self._unknown(path, size, False)

    def _unknown(self, path: bytes, size: int, known: bool) -> bool:
        """A document of unknown make that names files of the library by their paths.

        In a known library also loose files by their names.

        Returns:
            False when it cannot be read.
        """
        if self._is_document(path):
            return self._document(path, "")
        who = path, shown(path)
        self._reference = None
        try:
            content = read_outside(path, size + 1)
            for named in paths_named(content, self._called, path.rpartition(b"/")[0]):
                self._need(named, who)
        except _CANNOT_BE_READ:
            return False
        except Exception as error:
            told_unexpected(error, self._workspace.state)
            return False
        for loose in self._going.loose:
            if (loose.rpartition(b"/")[2] if known else loose) in content:
                self._found.add(loose, *who)
        return True

    # -- files -------------------------------------------------------------------------------------

    def _need(self, path: bytes, who: _Who) -> None:
        """Records that a path is needed if it leads to a file that would be deleted."""
        if b"\0" in path:
            return
        folder, _, name = path.rpartition(b"/")
        if name in (b"", b".", b".."):
            return
        real, links = self._real_of(folder)
        for link in links:
            self._note(link, who)
        full = real.rstrip(b"/") + b"/" + name
        if stat.S_ISLNK(_mode(full)):
            self._note(full, who)
            above, _, name = os.path.realpath(full).rpartition(b"/")
            full = self._as_here(above).rstrip(b"/") + b"/" + name
        self._note(full, who)
        if self._going.leads and self._reference is not None and full in self._found.by:
            number, sequence = self._reference
            self._lead(full, who[0], number, sequence)

    def _lead(self, full: bytes, document: bytes, number: int, sequence: Sequence | None) -> None:
        """Records which reference of a document needs a file, if that is wanted."""
        if not self._going.leads:
            return
        leads = self._found.leads.setdefault(document, {})
        lead = leads.setdefault(number, Lead(sequence))
        if full not in lead.files:
            lead.files.append(full)

    def _real_of(self, folder: bytes) -> tuple[bytes, list[bytes]]:
        """A folder by its name in this library, with the links on the way to it."""
        if folder not in self._real:
            real = self._as_here(self._where_now(os.path.realpath(folder or b"/")))
            self._real[folder] = real, self._links_on_the_way(folder, real)
        return self._real[folder]

    def _where_now(self, path: bytes) -> bytes:
        """A path of the library by its old name, if it is set aside: its present path."""
        before = self._going.before
        if self._aside and (path + b"/").startswith(before + b"/"):
            return self._going.root + path[len(before) :]
        return path

    def _as_here(self, folder: bytes) -> bytes:
        """A folder by its name in this library, or among loose files.

        It keeps that name if it is mounted elsewhere too.
        """
        for way in (folder, *other_ways(folder, self._mounts)):
            if (way + b"/").startswith(self._top) or way in self._loose_folders:
                return way
        return folder

    def _links_on_the_way(self, folder: bytes, real: bytes) -> list[bytes]:
        """A link to a folder is needed by everything reached through it."""
        links = []
        while folder != real and folder.startswith(self._top):
            if stat.S_ISLNK(_mode(folder)):
                links.append(folder)
            folder = folder.rpartition(b"/")[0]
        return links

    def _note(self, full: bytes, who: _Who) -> None:
        if full.startswith(self._top) or full in self._going.loose:
            mode = _mode(full)
            if not mode or stat.S_ISDIR(mode):
                # It leads nowhere, or to a folder, and needs nothing.
                return
            self._found.add(full, *who)


def _mode(path: bytes) -> int:
    try:
        return os.lstat(path).st_mode
    except (OSError, ValueError):
        return 0


def _device(folder: bytes) -> int | None:
    try:
        return os.lstat(folder).st_dev
    except OSError:
        return None


def _composed(name: bytes) -> bytes:
    """A name whose letters and accents are combined.

    The letters before them are then the same in both forms.
    """
    return os.fsencode(unicodedata.normalize("NFC", os.fsdecode(name)))
