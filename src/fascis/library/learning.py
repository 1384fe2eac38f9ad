"""Learning where a document of unknown make keeps its paths, and remembering what was confirmed."""

from __future__ import annotations

import os
import posixpath
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from fascis.documents.learned.containers import (
    OpenedDatabase,
    Packed,
    TextContents,
    contents_of,
    is_database,
)
from fascis.documents.learned.existing import Existing
from fascis.documents.learned.inner import WithInner
from fascis.documents.learned.reading import Followed, Reading
from fascis.documents.learned.rewriting import edits_for, prove_paths
from fascis.documents.learned.search import Found, Left, Search
from fascis.documents.learned.stored import Stored, marks_of
from fascis.documents.learned.tables import Unreadable
from fascis.documents.model import NotUnderstood
from fascis.documents.registry import kind_named
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import Damaged, EnvironmentTrouble, Refused
from fascis.files.names import shown
from fascis.library.identity import OWN, READINGS
from fascis.library.references.reading import PathSource
from fascis.workspace import Workspace

MOST_FILES = 3_000_000
_EXAMPLES = 3
_LARGEST = 4 << 20
_ELSEWHERE = "/moved by way of trial"


@dataclass(slots=True)
class Learnt:
    """What was learnt of one document.

    Attributes:
        container: what it is packed in; nothing where it could not be opened.
        fields: where it keeps its paths.
        left: what looks like paths and is left as it is.
        verdict: ``readable``, ``uncertain``, or ``refused``; ``why`` in a sentence.
        state: ``none``, ``proposed``, or ``confirmed``.
    """

    document: Path
    container: str = ""
    fields: list[Found] = field(default_factory=list)
    left: list[Left] = field(default_factory=list)
    verdict: str = "refused"
    why: str = ""
    state: str = "none"
    shape: bytes = b""
    marks: tuple[bytes, ...] = ()


def learn(
    workspace: Workspace, document: Path, search: Sequence[Path] = (), control: Control = UNSTOPPED
) -> Learnt:
    """Looks where a document keeps its paths. Changes nothing.

    Args:
        search: folders in which its media may be, besides its library's own.

    Raises:
        Refused: it is a document that is understood already, or none.
        EnvironmentTrouble: it cannot be read.
    """
    if not document.is_file():
        raise Refused(Code.LIBRARY_MISSING, f"There is no file {shown(str(document))}.")
    if kind_named(os.fsencode(document.name)):
        raise Refused(
            Code.WRONG_STATE,
            f"{shown(document.name)} is of a make that is understood. Nothing is to be learnt.",
        )
    learnt = Learnt(document)
    with PathSource(bytes(document.absolute()), workspace.private) as source:
        try:
            contents = _opened(source)
        except NotUnderstood as error:
            learnt.why = str(error)
            return learnt
        try:
            _look(learnt, contents, source, workspace, search, control)
        finally:
            if isinstance(contents, OpenedDatabase):
                contents.database.close()
    return learnt


def _opened(source: PathSource) -> OpenedDatabase | TextContents | Packed:
    if is_database(source.head()):
        return OpenedDatabase(source.private_copy())
    with source.stream() as stream:
        return contents_of(stream.read())


def _look(
    learnt: Learnt,
    contents: OpenedDatabase | TextContents | Packed,
    source: PathSource,
    workspace: Workspace,
    search: Sequence[Path],
    control: Control,
) -> None:
    document = learnt.document.absolute()
    learnt.container, learnt.shape = contents.container, contents.shape()
    folders = [library_of(workspace, document), *search]
    drives = {d.uuid: str(d.mount) for d in workspace.drives.connected() if d.connected and d.uuid}
    existing = Existing(
        _files(folders, control), os.path.realpath(bytes(document.parent)), drives, os.path.isfile
    )
    looking = Search(WithInner(contents), existing, control)
    try:
        learnt.fields = looking.fields()
        learnt.left = looking.left(learnt.fields)
    except Unreadable as error:
        learnt.why = str(error)
        return
    told = _travelled(folders[0], learnt.shape)
    if told and (taken := _as_told(contents, told, existing)):
        learnt.fields = taken
    learnt.fields = _each_by_itself(learnt.fields)
    for one in learnt.fields:
        one.examples = _examples(one, existing.folder)
    sure = [one for one in learnt.fields if one.is_sure]
    learnt.marks = marks_of(source.head(), contents.container, [f.reading for f in learnt.fields])
    register = workspace.register
    known = _known(workspace, learnt.shape) if register.path.exists() else None
    if not learnt.fields:
        learnt.verdict, learnt.why = "uncertain", "No place in it was found that names files."
    elif why := _refusal(source, contents, [f.reading for f in learnt.fields], drives):
        learnt.verdict, learnt.why = "refused", why
    elif len(sure) == len(learnt.fields):
        learnt.verdict, learnt.state = "readable", "proposed"
    else:
        learnt.verdict, learnt.state, learnt.why = "uncertain", "proposed", _doubt(learnt.fields)
    if known is not None:
        learnt.state = "confirmed"
    elif told and learnt.verdict != "refused":
        learnt.why = "On another computer somebody said yes to this."


def _each_by_itself(fields: Sequence[Found]) -> list[Found]:
    """Fields that say the same stand beside each other, each contested by the others."""
    found: list[Found] = []
    for one in fields:
        same = [one, *one.contested_by]
        for each in same:
            each.contested_by = [other for other in same if other is not each]
        found += same
    return found


def _travelled(library: Path, shape: bytes) -> Stored | None:
    """What was confirmed on another computer, and came with the library; a hint only."""
    path = library / os.fsdecode(READINGS) / f"{shape.hex()}.json"
    try:
        with open(path, encoding="utf-8", errors="surrogateescape") as file:
            stored = Stored.from_text(file.read(_LARGEST), path)
    except (OSError, Damaged):
        return None
    return stored if stored.shape == shape else None


def _as_told(
    contents: OpenedDatabase | TextContents | Packed, told: Stored, existing: Existing
) -> list[Found]:
    """The fields that somebody took elsewhere, followed here; none where they lead nowhere."""
    inner = WithInner(contents, {reading.table for reading in told.readings})
    found = []
    for reading in told.readings:
        try:
            followed = Followed(inner, reading, existing.drives)
            evidence = followed.evidence(existing)
        except Unreadable:
            return []
        if not evidence.found:
            return []
        found.append(Found(reading, evidence, followed))
    return found


def _known(workspace: Workspace, shape: bytes) -> Stored | None:
    register = workspace.register
    every = Stored.understood(register.readings(), register.path)
    return next((one for one in every if one.shape == shape), None)


def _doubt(fields: Sequence[Found]) -> str:
    for gone in (one.gone for one in fields if one.gone):
        return (
            f"Nothing is where it says. If {shown(gone.old)} is {shown(gone.new)} now, "
            f"{gone.found} of {gone.values} are found."
        )
    if any(one.contested_by for one in fields):
        return "Two places in it say the same; which its program follows is not known."
    return "Too few of its paths lead to files that exist to be sure."


def _refusal(
    source: PathSource,
    opened: OpenedDatabase | TextContents | Packed,
    readings: Sequence[Reading],
    drives: dict[str, str],
) -> str:
    """Why it could not be written anew; nothing where it could: tried on a private copy."""

    def moved(_row: int, path: str) -> str:
        return _ELSEWHERE + path if path.startswith("/") else path

    try:
        names = {reading.table for reading in readings}
        if not isinstance(opened, OpenedDatabase):
            # The whole proof comes when it is written anew.
            within = WithInner(opened, names)
            opened.filled(
                within.outer(edits_for(within, readings, [moved] * len(readings), drives))
            )
            return ""
        contents = WithInner(_opened(source), names)
        followed = [Followed(contents, reading, drives) for reading in readings]
        before = [list(one.paths()) for one in followed]
        wants = [moved] * len(readings)
        edits = edits_for(contents, readings, wants, drives)
        if edits:
            new = contents.rewritten(edits)
            anew = contents_of(new) if isinstance(new, bytes) else OpenedDatabase(new)
            again = WithInner(anew, names)
            prove_paths(again, readings, before, wants, drives)
    except NotUnderstood as error:
        return str(error)
    return ""


def confirm(workspace: Workspace, learnt: Learnt, choice: Sequence[int] = ()) -> None:
    """Remembers where a document keeps its paths: from now on its like is understood.

    Args:
        choice: of fields that say the same those that are taken, by their numbers from 0. All that
            are contested by none are taken too: what they name must not be forgotten.

    Raises:
        Refused: nothing of it may be confirmed.
    """
    chosen = [learnt.fields[n] for n in choice if learnt.fields[n].contested_by]
    taken = [one for one in learnt.fields if not one.contested_by] + chosen
    asked = {id(x) for one in chosen for x in (one, *one.contested_by)}
    open_ = [one for one in learnt.fields if one.contested_by and id(one) not in asked]
    if learnt.verdict == "refused" or not taken or open_:
        raise Refused(
            Code.WRONG_STATE,
            f"{shown(learnt.document.name)} is left as it is: {learnt.why or 'nothing was found.'}",
        )
    stored = Stored(
        learnt.container,
        learnt.shape,
        learnt.marks,
        tuple(one.reading for one in taken),
        workspace.clock(),
    )
    workspace.register.put_reading(stored.shape, stored.as_text())
    workspace.use_readings()
    learnt.state = "confirmed"


def forget(workspace: Workspace, learnt: Learnt) -> bool:
    """Forgets what was confirmed; False when nothing was."""
    found = workspace.register.path.exists() and workspace.register.forget_reading(learnt.shape)
    workspace.use_readings()
    learnt.state = "proposed" if learnt.fields else "none"
    return found


def library_of(workspace: Workspace, document: Path) -> Path:
    """The folder whose files a document may name: its library's, else its own."""
    register = workspace.register
    known = {one.root for one in register.libraries()} if register.path.exists() else set()
    for folder in document.parents:
        if folder in known or (folder / ".fascis/identity.json").is_file():
            return folder
    return document.parent


def _files(folders: Sequence[Path], control: Control) -> Iterator[bytes]:
    """Every file in some folders, absolute; no link is followed."""
    count = 0
    for folder in dict.fromkeys(map(os.path.realpath, map(bytes, folders))):
        for above, inner, names in os.walk(folder):
            control.checkpoint()
            inner[:] = [name for name in inner if name != OWN]
            for name in names:
                yield above + b"/" + name
            count += len(names)
            if count > MOST_FILES:
                raise EnvironmentTrouble(
                    f"There are more than {MOST_FILES} files in {shown(folder)}.", folder
                )


def _examples(found: Found, folder: str) -> list[tuple[str, str]]:
    """Some paths of a field, as they are written and where they lead."""
    said: list[tuple[str, str]] = []
    followed = found.followed
    for row in range(len(followed.table)):
        path = followed.path(row)
        if path is None:
            continue
        pieces = [followed.raw(level.cell(row)) for level in followed.levels if level.text(row)]
        whole = path if path.startswith("/") else posixpath.join(folder, path)
        said.append((" · ".join(pieces), whole))
        if len(said) == _EXAMPLES:
            break
    return said
