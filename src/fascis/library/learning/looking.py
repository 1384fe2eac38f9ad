"""Examining a document. Nothing is changed; everything happens in a private copy."""

from __future__ import annotations

import copy
import os
import posixpath
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct, field

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
from fascis.documents.learned.search import Found, Search
from fascis.documents.learned.stored import Stored, marks_of
from fascis.documents.learned.tables import Unreadable, filled
from fascis.documents.model import NotUnderstood
from fascis.files.errors import EnvironmentTrouble
from fascis.files.names import shown
from fascis.library.learning.learnt import Field, Learnt
from fascis.library.own import OWN
from fascis.library.references.reading import PathSource
from fascis.words.speech import tr

MOST_FILES = 3_000_000
_EXAMPLES = 3
_ELSEWHERE = "/moved by way of trial"

Contents = OpenedDatabase | TextContents | Packed


class Where(Struct, frozen=True):
    """What documents are compared with.

    Attributes:
        existing: the existing files.
        told: confirmations from elsewhere, by shape: hints.
        private: a folder for copies.
        step: called with the current step.
    """

    existing: Existing
    told: Mapping[bytes, Stored] = field(default_factory=dict)
    private: Path = Path("/nowhere")
    step: Callable[[str], None] = lambda _: None


def existing_in(folders: Sequence[bytes], drives: Mapping[str, str]) -> Existing:
    """All files in some folders.

    Raises:
        EnvironmentTrouble: there are too many.
    """
    return Existing(_files(folders), b"", drives, os.path.isfile)


def look(document: Path, where: Where) -> Learnt:
    """Finds where a document keeps its paths.

    Raises:
        EnvironmentTrouble: it cannot be read.
    """
    learnt = Learnt(document)
    with PathSource(bytes(document), where.private) as source:
        where.step("reading")
        try:
            contents = _opened(source)
        except NotUnderstood as error:
            learnt.why = str(error)
            return learnt
        try:
            _look(learnt, contents, source, where)
        except Unreadable as error:
            learnt.fields, learnt.why = [], str(error)
        finally:
            if isinstance(contents, OpenedDatabase):
                contents.database.close()
    return learnt


def _opened(source: PathSource) -> Contents:
    if is_database(source.head()):
        return OpenedDatabase(source.private_copy())
    with source.stream() as stream:
        return contents_of(stream.read())


def _look(learnt: Learnt, contents: Contents, source: PathSource, where: Where) -> None:
    learnt.container, learnt.shape = contents.container, contents.shape()
    existing = copy.copy(where.existing)
    existing.folder = os.path.realpath(learnt.document.parent)
    inner = WithInner(contents)
    looking = Search(inner, existing)
    where.step("searching")
    found = looking.fields()
    learnt.left = looking.left(found)
    told = where.told.get(learnt.shape)
    if told is not None:
        found = _as_told(contents, told, existing, found)
        learnt.told = {one.reading for one in found} == set(told.readings)
    found = _each_by_itself(found)
    numbers = {id(one): n for n, one in enumerate(found)}
    learnt.fields = [_field(one, numbers, existing.folder) for one in found]
    readings = [one.reading for one in found]
    learnt.marks = marks_of(source.head(), contents.container, readings)
    learnt.filled = filled(inner)
    where.step("trying")
    if not found:
        learnt.verdict, learnt.why = "uncertain", tr("No place in it was found that names files.")
    elif why := _refusal(source, contents, readings, existing.drives):
        learnt.verdict, learnt.why = "refused", why
    elif all(one.sure for one in learnt.fields):
        learnt.verdict, learnt.state = "readable", "proposed"
    else:
        learnt.verdict, learnt.state, learnt.why = "uncertain", "proposed", _doubt(learnt.fields)


def _each_by_itself(fields: Sequence[Found]) -> list[Found]:
    """Fields with the same content stand beside each other, each contested by the others."""
    found: list[Found] = []
    for one in fields:
        same = [one, *one.contested_by]
        for each in same:
            each.contested_by = [other for other in same if other is not each]
        found += same
    return found


def _field(found: Found, numbers: Mapping[int, int], folder: str) -> Field:
    evidence = found.evidence
    columns = {(x.table.name, x.piece.column): None for x in found.followed.levels}
    return Field(
        " + ".join(f"{table}.{column}".strip(".") for table, column in columns),
        found.reading,
        evidence.values,
        evidence.found,
        evidence.files,
        _examples(found, folder),
        next(iter(evidence.dead), ""),
        found.gone,
        [numbers[id(other)] for other in found.contested_by],
        found.is_sure,
    )


def _examples(found: Found, folder: str) -> list[tuple[str, str]]:
    """Some paths of a field, as written and where they lead."""
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


def _as_told(
    contents: Contents, told: Stored, existing: Existing, found: Sequence[Found]
) -> list[Found]:
    """The fields confirmed elsewhere, applied here, and others found.

    Fields with the same names or content as one of them are left out: that was decided.
    """
    inner = WithInner(contents, {reading.table for reading in told.readings})
    taken = []
    for reading in told.readings:
        try:
            followed = Followed(inner, reading, existing.drives)
            evidence = followed.evidence(existing)
        except Unreadable:
            return list(found)
        if not evidence.found:
            return list(found)
        taken.append(Found(reading, evidence, followed))
    names = {_name_column(reading) for reading in told.readings}
    others = [
        one
        for one in found
        if not names.intersection(_name_column(x.reading) for x in (one, *one.contested_by))
    ]
    return taken + others


def _name_column(reading: Reading) -> tuple[str, str]:
    """The column with the names at the end of its paths."""
    return reading.table, reading.pieces[-1].column


def _doubt(fields: Sequence[Field]) -> str:
    for gone in (one.gone for one in fields if one.gone):
        return tr(
            "Nothing is where it says. If {old} is {new} now, {found} of {values} are found.",
            old=shown(gone.old),
            new=shown(gone.new),
            found=gone.found,
            values=gone.values,
        )
    if any(one.contested_by for one in fields):
        return tr("Two places in it say the same; which its program follows is not known.")
    return tr("Too few of its paths lead to existing files to be sure.")


def _refusal(
    source: PathSource, opened: Contents, readings: Sequence[Reading], drives: Mapping[str, str]
) -> str:
    """Why it could not be rewritten; empty if it could: tried on a private copy."""
    names = {reading.table for reading in readings}
    try:
        is_text = not isinstance(opened, OpenedDatabase)
        contents = WithInner(opened if is_text else _opened(source), names)
        followed = [Followed(contents, reading, drives) for reading in readings]
        before = [list(one.paths()) for one in followed]
        mounts = _mounts(readings, drives)
        after = [[_moved(path, mounts) for path in paths] for paths in before]
        edits = edits_for(followed, before, after, drives)
        if isinstance(opened, TextContents | Packed):
            # The full proof is made when it is rewritten.
            opened.filled(contents.outer(edits))
        elif edits:
            new = contents.rewritten(edits)
            assert isinstance(new, Path)
            with OpenedDatabase(new) as anew:
                prove_paths(WithInner(anew, names), readings, after, drives)
    except NotUnderstood as error:
        return str(error)
    return ""


def _mounts(readings: Sequence[Reading], drives: Mapping[str, str]) -> list[str]:
    """Where drives are mounted, the longest first, if the document names any by its identity."""
    if not any(piece.drive for reading in readings for piece in reading.pieces):
        return []
    return sorted((mount.rstrip("/") for mount in drives.values()), key=len, reverse=True)


def _moved(path: str | None, mounts: Sequence[str]) -> str | None:
    """A path's target in the trial: on its own drive, which alone has an identity like its own."""
    if not path or not path.startswith("/"):
        return path
    mount = next((m for m in mounts if path.startswith(m + "/")), "")
    return mount + _ELSEWHERE + path[len(mount) :]


def _files(folders: Sequence[bytes]) -> Iterator[bytes]:
    """Every file in some folders, absolute; no link is followed."""
    count = 0
    for folder in dict.fromkeys(map(os.path.realpath, folders)):
        for above, inner, names in os.walk(folder):
            inner[:] = [name for name in inner if name != OWN]
            for name in names:
                yield above + b"/" + name
            count += len(names)
            if count > MOST_FILES:
                raise EnvironmentTrouble(
                    tr(
                        "There are more than {most_files} files in {folder}.",
                        most_files=MOST_FILES,
                        folder=shown(folder),
                    ),
                    folder,
                )
