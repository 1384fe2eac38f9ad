"""Acts: relinking in a library.

Each act is recorded, is done completely or not at all, and can be undone. The record is written
before anything changes. Every document's new content is written beside it and read back before the
first one is swapped in; the old one is kept beside it, named by the act's id. The next start undoes
interrupted acts, by the digests in the record.
"""

from __future__ import annotations

import fcntl
import json
import os
import stat
import uuid
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack, closing, contextmanager
from pathlib import Path
from typing import Literal

from msgspec import Struct
from pydantic import BaseModel, ConfigDict

from fascis.drives.connected import Drives
from fascis.files.codes import Code
from fascis.files.disk.digest import digest_of, digest_of_bytes
from fascis.files.disk.door import Proven
from fascis.files.disk.medium import Medium, PosixMedium
from fascis.files.disk.writer import write_whole
from fascis.files.errors import EnvironmentTrouble, Refused, told
from fascis.files.names import fsname, listed, shown, unlisted
from fascis.files.own.private import make_private
from fascis.library.known.drive_roots import drive_roots
from fascis.library.references.reading import PathSource
from fascis.library.references.uses import Outside, Uses
from fascis.library.references.whereabouts import DriveRoots
from fascis.library.replacing import is_protected, kept_name, mend, not_in_use, swap, write_beside
from fascis.relink.retarget import Retarget, changed, new_content
from fascis.words.speech import tr
from fascis.workspace import Workspace

FORMAT = 1
_LOCK = "lock"
# Bytes of a record: hundreds of thousands of documents.
_LARGEST = 64 << 20


class Changed(BaseModel):
    """One document of an act.

    Its path, the name of its earlier version, and the digests (hex) before and after.
    """

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)
    path: str
    path_encoding: Literal["utf-8", "percent"]
    before: str
    after: str
    references: int
    link: bool = False


class Known(BaseModel):
    """What was known of a lost file: size in bytes, digest (hex) or empty, time in ns.

    Undoing an act must not lose it.
    """

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)
    path: str
    path_encoding: Literal["utf-8", "percent"]
    size: int
    digest: str
    mtime_ns: int


class Act(BaseModel):
    """The record of one act; ``state`` is its progress.

    ``crossing`` is the id of the crossing that updated documents with it, or empty.
    """

    model_config = ConfigDict(extra="ignore", frozen=True, defer_build=True)
    format: int = FORMAT
    id: str
    library: str
    name: str
    when: float
    files: int
    state: Literal["writing", "done", "undone"]
    documents: tuple[Changed, ...]
    lost: tuple[Known, ...] = ()
    crossing: str = ""


class Acts(Struct, frozen=True):
    """Where acts are recorded, and what applying them needs.

    Attributes:
        folder: the folder of the records.
        cache: a private folder for copies of catalogs.
        step: called at every point where the program can be killed.
        crossing: the crossing that does them, if any.
    """

    folder: Path
    cache: Path
    drives: Drives
    roots: DriveRoots
    clock: Callable[[], float]
    step: Callable[[str], None] = lambda _name: None
    crossing: str = ""

    # -- doing -------------------------------------------------------------------------------------

    def apply(
        self,
        library: str,
        name: str,
        root: Path,
        files: int,
        wanted: Sequence[Retarget],
        lost: Iterable[Outside] = (),
    ) -> Act:
        """Relinks every document, or none.

        Args:
            library: its id; ``name`` as displayed; ``root`` its folder, which is locked meanwhile.
            files: how many lost files it finds.
            lost: what is known of lost files, to be restored when it is undone.

        Raises:
            Refused: a document is protected, open, or not what was surveyed; nothing was changed.
            NotUnderstood: a target cannot be written in a document; nothing was changed.
            EnvironmentTrouble: a drive failed; what was changed was taken back.
        """
        with self._alone(), _held(root), ExitStack() as stack:
            self._recover()
            for one in wanted:
                check_writable(one)
            id = _free_id(wanted)
            new = [self._prepared(one, stack) for one in wanted]
            act = Act(
                id=id,
                library=library,
                name=name,
                when=self.clock(),
                files=files,
                state="writing",
                documents=tuple(_record(w, n) for w, n in zip(wanted, new, strict=True)),
                lost=tuple(_known(o) for o in lost if o.size),
                crossing=self.crossing,
            )
            self._write(act)
            self.step("relink-recorded")
            try:
                for one, content, record in zip(wanted, new, act.documents, strict=True):
                    self._write_new(one, content, record, act)
                for one, record in zip(wanted, act.documents, strict=True):
                    self._swap(one, record, act)
            except BaseException:
                self._take_back(act)
                raise
            act = act.model_copy(update={"state": "done"})
            self._write(act)
            self.step("relink-done")
        return act

    def _prepared(self, one: Retarget, stack: ExitStack) -> bytes | Path:
        """A document's new content; for a link, its new target."""
        source = stack.enter_context(PathSource(bytes(one.path), self.cache))
        return new_content(one, source, self.drives, self.roots)

    def _write_new(self, one: Retarget, content: bytes | Path, record: Changed, act: Act) -> None:
        with _at(one.path) as (medium, name):
            kept = kept_name(name, act.id)
            try:
                if record.link:
                    assert isinstance(content, bytes)
                    medium.make_link(content, kept)
                else:
                    write_beside(medium, kept, content, medium.status(name))
                medium.sync_folder(b"")
            except OSError as error:
                raise told(error, tr("write the document"), bytes(one.path)) from error
        self.step("relink-written")

    def _swap(self, one: Retarget, record: Changed, act: Act) -> None:
        with _at(one.path) as (medium, name):
            if _digest(medium, name, record.link) != record.before:
                raise changed(one.path)
            try:
                swap(medium, name, kept_name(name, act.id))
                medium.sync_folder(b"")
            except OSError as error:
                raise told(error, tr("write the document"), bytes(one.path)) from error
        self.step("relink-swapped")

    # -- taking back -------------------------------------------------------------------------------

    def undo(self, prefix: str) -> Act:
        """Restores the earlier bytes of every document of an act, and removes what it wrote.

        Raises:
            Refused: there is no such act, it is undone already, or a document was worked in since;
                nothing was changed.
        """
        with self._alone():
            self._recover()
            act = self.find(prefix)
            if act is None or act.state != "done":
                raise Refused(
                    Code.NOTHING_TO_UNDO,
                    tr("There is no such relinking, or it was undone already."),
                )
            if act.crossing:
                raise Refused(
                    Code.NOTHING_TO_UNDO,
                    tr(
                        "These documents were led to the new place by crossing "
                        "{crossing}; undo that instead. Nothing was changed.",
                        crossing=act.crossing,
                    ),
                )
            return self._undo(act)

    def undo_crossing(self, held: Path | None = None) -> list[Act]:
        """Restores the documents that were updated for this crossing.

        Several acts are undone from the last to the first; nothing happens if all are undone
        already. Returns these acts.

        Args:
            held: a folder that the caller has locked already.

        Raises:
            Refused: a document was worked in since; it stays, and so do those of earlier acts.
            EnvironmentTrouble: a drive is away or failed.
        """
        with self._alone():
            self._recover()
            return [self._undo(act, held) for act in self.of_crossing()]

    def of_crossing(self) -> list[Act]:
        """The acts of this crossing that are not undone, latest first."""
        return [a for a in self.all() if a.crossing == self.crossing and a.state == "done"]

    def _undo(self, act: Act, held: Path | None = None) -> Act:
        if act.crossing:
            # A document that somebody deleted since needs nothing.
            there = tuple(d for d in act.documents if not _is_deleted(_path(d)))
            act = act.model_copy(update={"documents": there})
        with nothing_runs_above([_path(record) for record in act.documents], held):
            for record in act.documents:
                self._check_undo(record, act)
            # If it is interrupted from here on, the next start continues it.
            self._write(act.model_copy(update={"state": "writing"}))
            self.step("undo-recorded")
            return self._take_back(act)

    def _check_undo(self, record: Changed, act: Act) -> None:
        path = _path(record)
        kept = path.with_name(os.fsdecode(kept_name(fsname(path.name), act.id)))
        if not os.path.lexists(path) or not os.path.lexists(kept):
            raise Refused(
                Code.NOTHING_TO_UNDO,
                tr("{name} is not where it was; nothing was changed.", name=shown(path.name)),
            )
        if not record.link:
            not_in_use(path)
        with _at(path) as (medium, name):
            if _digest(medium, name, record.link) != record.after:
                raise Refused(
                    Code.DOCUMENT_CHANGED,
                    tr(
                        "{name} was worked in since it was relinked, and stays; as it was "
                        "before, it is {name_2}. Nothing was changed.",
                        name=shown(path.name),
                        name_2=shown(kept.name),
                    ),
                )
            if _digest(medium, fsname(kept.name), record.link) != record.before:
                raise Refused(
                    Code.DOCUMENT_CHANGED,
                    tr(
                        "{name} is not what it was any more. Nothing was changed.",
                        name=shown(kept.name),
                    ),
                )

    def _take_back(self, act: Act) -> Act:
        """Restores everything that was swapped, and removes what the act wrote.

        Each only by its digest.
        """
        for record in act.documents:
            path = _path(record)
            if not path.parent.is_dir():
                raise EnvironmentTrouble(
                    tr(
                        "{name} cannot be reached; connect its drive. Its content from before is "
                        "beside it.",
                        name=shown(path.name),
                    ),
                    bytes(path),
                )
            with _at(path) as (medium, name):
                kept = kept_name(name, act.id)
                try:
                    mend(medium, name, kept)
                    if not medium.exists(kept):
                        continue
                    proven = Proven.by(medium.status(kept), stable=False)
                    here, there = (_digest(medium, n, record.link) for n in (name, kept))
                    if (here, there) == (record.after, record.before):
                        swap(medium, name, kept)
                        medium.sync_folder(b"")
                        self.step("undo-swapped")
                        proven = Proven.by(medium.status(kept), stable=False)
                        here, there = (_digest(medium, n, record.link) for n in (name, kept))
                    ours = there == record.after or (
                        act.state == "writing" and there != record.before
                    )
                    if here == record.before and ours:
                        # Written, completely or partly, by this act: the document is unchanged.
                        medium.unlink(kept, proven)
                    medium.sync_folder(b"")
                except OSError as error:
                    raise told(error, tr("put back the document"), bytes(path)) from error
            self.step("undo-document")
        act = act.model_copy(update={"state": "undone"})
        self._write(act)
        return act

    def recover(self) -> list[EnvironmentTrouble]:
        """Undoes interrupted acts.

        If a document cannot be reached, its act stays recorded and is reported. Called at the
        start.
        """
        if not any(a.state == "writing" for a in self.all()):
            return []
        with self._alone():
            return self._recover()

    def _recover(self) -> list[EnvironmentTrouble]:
        troubles = []
        for act in self.all():
            if act.state == "writing":
                try:
                    self._take_back(act)
                except EnvironmentTrouble as error:
                    troubles.append(error)
        return troubles

    # -- records -----------------------------------------------------------------------------------

    def all(self) -> list[Act]:
        """All acts, latest first; a damaged record is skipped."""
        found = []
        for file in self.folder.glob("*.json") if self.folder.is_dir() else ():
            try:
                if file.stat().st_size <= _LARGEST:
                    found.append(Act.model_validate(json.loads(file.read_bytes())))
            except (
                ValueError,
                RecursionError,
                OSError,
            ):  # what it is validated by is one of the first
                continue
        return sorted(found, key=lambda a: -a.when)

    def find(self, prefix: str) -> Act | None:
        """The act whose id begins like this, if there is only one."""
        found = [a for a in self.all() if a.id.startswith(prefix)] if len(prefix) >= 4 else []
        return found[0] if len(found) == 1 else None

    def latest(self, library: str) -> Act | None:
        """The last act of a library that can be undone."""
        done = (a for a in self.all() if a.state == "done" and not a.crossing)
        return next((a for a in done if a.library == library), None)

    def _write(self, act: Act) -> None:
        fd = os.open(self.folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            write_whole(
                fd, fsname(f"{act.id}.json"), json.dumps(act.model_dump(), indent=1).encode()
            )
        finally:
            os.close(fd)

    @contextmanager
    def _alone(self) -> Iterator[None]:
        """Allows one act at a time on this machine; the lock ends with the program."""
        try:
            make_private(self.folder)
            fd = os.open(self.folder / _LOCK, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
        except OSError as error:
            raise told(error, tr("write the record of relinking"), bytes(self.folder)) from error
        try:
            try:
                fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                raise Refused(
                    Code.BUSY, tr("Another window relinks just now; try again in a moment.")
                ) from error
            yield
        finally:
            os.close(fd)


@contextmanager
def _held(root: Path) -> Iterator[None]:
    """Locks a library like a crossing, so that none runs meanwhile.

    Writes nothing; the lock ends with the program.
    """
    try:
        fd = os.open(root, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    except OSError as error:
        raise told(error, tr("open the folder"), bytes(root)) from error
    try:
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError as error:
            raise Refused(
                Code.HELD_BY_ANOTHER,
                tr(
                    "A crossing of {name} is running; wait for it. Nothing was changed.",
                    name=shown(root.name),
                ),
            ) from error
        except OSError:
            pass  # a file system without locks
        yield
    finally:
        os.close(fd)


@contextmanager
def nothing_runs_above(documents: Iterable[Path], held: Path | None = None) -> Iterator[None]:
    """Locks every folder above some documents, so that no crossing of these starts or runs.

    Args:
        held: a folder that the caller locks itself.

    Raises:
        Refused: one runs.
    """
    but = os.path.realpath(held) if held else ""
    with ExitStack() as stack:
        for folder in sorted({above for path in documents for above in path.parents}):
            if os.path.realpath(folder) == but:
                continue
            try:
                fd = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
            except OSError:
                # Fascis cannot open it: no crossing of Fascis is there.
                continue
            stack.callback(os.close, fd)
            try:
                fcntl.flock(fd, fcntl.LOCK_SH | fcntl.LOCK_NB)
            except BlockingIOError as error:
                raise Refused(
                    Code.HELD_BY_ANOTHER,
                    tr(
                        "A crossing of {name} is running; wait for it. Nothing was changed.",
                        name=shown(folder.name),
                    ),
                ) from error
            except OSError:
                continue  # a file system without locks
        yield


def _free_id(wanted: Sequence[Retarget]) -> str:
    """An id whose names are all free.

    Files with its names are later this act's own.
    """
    while True:
        id = uuid.uuid4().hex
        if not any(
            os.path.lexists(one.path.with_name(os.fsdecode(kept_name(fsname(one.path.name), id))))
            for one in wanted
        ):
            return id


def check_writable(one: Retarget) -> None:
    """Checks everything that can be known before anything is written.

    Raises:
        Refused: the document is protected, or open.
        EnvironmentTrouble: it cannot be looked at.
    """
    try:
        status = os.lstat(one.path)
        protected = is_protected(one.path if one.document.kind.is_file else one.path.parent)
    except OSError as error:
        raise told(error, tr("look at the document"), bytes(one.path)) from error
    if protected:
        raise Refused(
            Code.DOCUMENT_PROTECTED,
            tr(
                "{name} may not be written: it, its folder or its drive is read-only. "
                "Nothing was changed.",
                name=shown(one.path.name),
            ),
        )
    if one.document.kind.is_file:
        if not stat.S_ISREG(status.st_mode):
            raise Refused(
                Code.DOCUMENT_PROTECTED,
                tr("{name} is not a regular file. Nothing was changed.", name=shown(one.path.name)),
            )
        not_in_use(one.path)


def _record(one: Retarget, content: bytes | Path) -> Changed:
    text, encoding = listed(bytes(one.path))
    link = not one.document.kind.is_file
    with _at(one.path) as (medium, name):
        before = _digest(medium, name, link)
    if isinstance(content, bytes):
        after = digest_of_bytes(content).hex()
    else:
        with open(content, "rb", buffering=0) as file:
            after = digest_of(file).hex()
    return Changed(
        path=text,
        path_encoding=encoding,
        before=before,
        after=after,
        references=len(one.to),
        link=link,
    )


def _known(lost: Outside) -> Known:
    text, encoding = listed(lost.path)
    return Known(
        path=text,
        path_encoding=encoding,
        size=lost.size,
        digest=lost.digest.hex(),
        mtime_ns=lost.mtime_ns,
    )


def recall(uses: Uses, act: Act) -> None:
    """Restores what was known of lost files before an act that is undone."""
    known = {unlisted(k.path, k.path_encoding): k for k in act.lost}
    for o in uses.outside:
        if not o.size and (k := known.get(o.path)) is not None:
            o.size, o.digest, o.mtime_ns = k.size, bytes.fromhex(k.digest), k.mtime_ns


def _is_deleted(path: Path) -> bool:
    """True if a document is gone and its folder exists: its drive is not away."""
    return not os.path.lexists(path) and path.parent.is_dir()


def _path(record: Changed) -> Path:
    return Path(os.fsdecode(unlisted(record.path, record.path_encoding)))


@contextmanager
def _at(path: Path) -> Iterator[tuple[Medium, bytes]]:
    """The folder of a document, and its name there."""
    with closing(PosixMedium.at(path.parent)) as medium:
        yield medium, fsname(path.name)


def _digest(medium: Medium, name: bytes, link: bool) -> str:
    """The digest (hex) of a document, or of a link's target; empty if it does not exist."""
    try:
        if link:
            return digest_of_bytes(medium.read_link(name)).hex()
        with closing(medium.open(name)) as file:
            return digest_of(file).hex()
    except FileNotFoundError:
        return ""
    except OSError as error:
        raise told(error, tr("read the document"), name) from error


def acts_of(workspace: Workspace) -> Acts:
    """The acts on this machine, and what they need."""
    folder = workspace.state / "relinks"
    return Acts(
        folder,
        workspace.private,
        workspace.drives,
        drive_roots(workspace),
        workspace.clock,
        workspace.step,
    )
