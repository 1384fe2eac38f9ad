"""Documents of unknown make with a confirmed reading: a kind like all others."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from blake3 import blake3

from fascis.documents.catalog import JOURNALS
from fascis.documents.learned.changing import Copies
from fascis.documents.learned.containers import (
    LARGEST,
    OpenedDatabase,
    Packed,
    TextContents,
    contents_of,
)
from fascis.documents.learned.inner import WITHIN, WithInner
from fascis.documents.learned.reading import Followed
from fascis.documents.learned.rewriting import copies_in, edits_for, prove_paths
from fascis.documents.learned.spelling import Mode, decoded
from fascis.documents.learned.stored import CONFIRMED, Stored
from fascis.documents.learned.tables import Unreadable
from fascis.documents.model import (
    KnownBy,
    Length,
    Members,
    NotUnderstood,
    OpenDocument,
    Reference,
    Source,
    Wanted,
    Works,
)
from fascis.documents.targets import Syntax, Target, readings
from fascis.files.names import shown
from fascis.words.speech import tr

_LONGEST = 4096
_ENDS = re.compile(r"\.[A-Za-z][A-Za-z0-9]{1,4}$|\.[0-9][A-Za-z]{2}$")
_UNASKED = tr(
    "Documents of its make are read in another library. Whether they are to "
    "be read so in this one too nobody has said: fascis learn asks."
)
_OTHER = tr(
    "It is not as the document of its make that was looked at: where it "
    "keeps its paths is not known. fascis learn looks at it."
)


class _Learned(Works):
    """Common parts of both kinds."""

    name = "learned"
    extensions: frozenset[str] = frozenset()
    syntax = Syntax.EXACT
    stays_absolute = True
    _database: bool

    def recognises(self, head: bytes) -> bool:
        """True for a document that may have a confirmed shape; opening it shows this."""
        return CONFIRMED.may_fit(head, self._database)

    def readings(self, as_written: str) -> list[Target]:
        """Unchanged: a reading gives plain paths."""
        return readings(as_written, Syntax.EXACT)

    def spellings(self, target: str) -> Iterator[str]:
        """Unchanged."""
        yield target


class LearnedText(_Learned):
    """A text: JSON, XML, settings, lines; packed or not."""

    known_by = KnownBy.DIGEST
    _database = False

    def open(self, source: Source) -> OpenDocument:
        """Opens a document; it is read at once."""
        if source.size > LARGEST:
            raise NotUnderstood(
                tr("It is {size} bytes long, too large for a document.", size=source.size)
            )
        with source.stream() as stream:
            content = stream.read(LARGEST + 1)
        contents = contents_of(content)
        return LearnedDocument(contents, _stored(contents), blake3(content).digest(), source)


class LearnedDatabase(_Learned):
    """A database."""

    journals = tuple(end.encode() for end in JOURNALS if end)
    known_by = KnownBy.LOOK
    _database = True

    def open(self, source: Source) -> OpenDocument:
        """Opens a private copy."""
        look = source.look()
        contents = OpenedDatabase(source.private_copy())
        try:
            return LearnedDocument(contents, _stored(contents), look, source)
        except BaseException:
            contents.database.close()
            raise


def _stored(contents: OpenedDatabase | TextContents | Packed) -> Stored:
    stored = CONFIRMED.of_shape(contents.shape())
    if stored is None:
        raise NotUnderstood(_OTHER)
    return stored


def check_agreed(document: OpenDocument, path: bytes, library: str = "") -> None:
    """Checks the confirmation: a reading counts only in libraries for which a person confirmed it.

    Args:
        path: of the document, absolute.
        library: the id of its library, if known.

    Raises:
        NotUnderstood: nobody said yes for this one.
    """
    if not isinstance(document, LearnedDocument):
        return
    if not CONFIRMED.holds(document.stored, path, library):
        raise NotAgreed(_UNASKED)


class NotAgreed(NotUnderstood):
    """A document could be read, but nobody confirmed that."""


class LearnedDocument:
    """An open document whose reading was confirmed.

    Attributes:
        stored: what was confirmed.

    Raises:
        Unreadable: the reading is not followed in it.
    """

    def __init__(
        self,
        contents: OpenedDatabase | TextContents | Packed,
        stored: Stored,
        seen: bytes,
        source: Source,
    ) -> None:
        # A private copy is removed with its source.
        self._source = source
        self._opened, self.stored, self.seen = contents, stored, seen
        self._drives: Mapping[str, str] = CONFIRMED.drives
        self._names = {reading.table for reading in stored.readings}
        self._contents = WithInner(contents)
        self._followed = [Followed(self._contents, r, self._drives) for r in stored.readings]
        self._refuse_what_nobody_saw()
        self._refuse_what_else_is_named()

    def __enter__(self) -> LearnedDocument:
        return self

    def __exit__(self, *_: object) -> None:
        if isinstance(self._opened, OpenedDatabase):
            self._opened.database.close()

    def _refuse_what_nobody_saw(self) -> None:
        """Refuses columns that were empty when a person looked: nobody judged these.

        Raises:
            Unreadable: there are paths, or names of media, in such a column now.
        """
        seen = self.stored.filled
        if seen is None:
            return
        for table in self._contents.tables():
            for name in table.columns():
                where = f"{table.name}.{name}"
                if where not in seen and any(map(_may_name_media, table.column(name).all())):
                    raise Unreadable(
                        tr(
                            "What stands in {where} may be paths, and nothing stood there in the "
                            "document that was looked at. fascis learn looks at it again.",
                            where=shown(where),
                        )
                    )

    def _refuse_what_else_is_named(self) -> None:
        """Refuses paths in other columns: these may have come into use with the same shape.

        Raises:
            Unreadable: a path stands where nobody said that there are any, and its file exists.
        """
        used = {column for followed in self._followed for column in followed.used()}
        covered: set[str | None] = set()
        for table in self._contents.tables():
            for name in table.columns():
                if (table.name, name) in used:
                    continue
                for path in filter(None, map(_path_in, table.column(name).all())):
                    if path in covered or not Path(path).is_file():
                        continue
                    covered = covered or {p for f in self._followed for p in f.paths()}
                    if path not in covered:
                        raise Unreadable(
                            tr(
                                "It names {path} too, in a place that was not looked at: what else "
                                "it refers to is not known. fascis learn looks at it again.",
                                path=shown(path),
                            )
                        )

    def references(self) -> Iterator[Reference]:
        """All of them, reading by reading, in the order of rows."""
        for number, followed in enumerate(self._followed):
            for row, path in enumerate(followed.paths()):
                if path is not None:
                    yield Reference((number, row), path)

    def members(self) -> Iterator[Members]:
        """None: each has its own path."""
        return iter(())

    def lengths(self) -> list[Length | None]:
        """Not known."""
        return []

    def picture(self, number: int) -> bytes | None:
        """None is stored."""
        return None

    def retargeted(self, wanted: Wanted, title: str | None = None) -> bytes | Path | None:
        """The document with some paths changed, and proven."""
        before = [list(followed.paths()) for followed in self._followed]
        copies = copies_in(self._followed, before)
        self._forget_the_rest(copies)
        after: list[list[str | None]] = []
        number = 0
        for which, paths in enumerate(before):
            new: list[str | None] = []
            for row, path in enumerate(paths):
                change = None
                if path is not None:
                    change = wanted(number, Reference((which, row), path))
                    number += 1
                new.append(path if change is None else posixpath.normpath(change.target))
            after.append(new)
        if before == after:
            return None
        edits = edits_for(self._followed, before, after, self._drives, copies)
        del before
        written = self._contents.rewritten(edits)
        self._prove(written, after)
        return written

    def _forget_the_rest(self, copies: Sequence[Copies]) -> None:
        """For a text, which may be large, frees all columns that do not change.

        If rows are joined by keys, all may be needed.
        """
        pieces = [piece for reading in self.stored.readings for piece in reading.pieces]
        by_keys = any(hop != "in" for piece in pieces for hop in (*piece.hops, piece.tree) if hop)
        within = any(WITHIN in name for name in self._names)
        if by_keys or within or not isinstance(self._opened, TextContents):
            return
        used = {column for followed in self._followed for column in followed.used()}
        used |= {(copy.table, copy.column) for some in copies for copy in some.follow}
        self._opened.forget_all_but(used)

    def _prove(self, new: bytes | Path, after: list[list[str | None]]) -> None:
        if isinstance(new, bytes):
            read = getattr(self._opened, "after", None) or contents_of(new)
            again = WithInner(read, self._names)
            prove_paths(again, self.stored.readings, after, self._drives)
            return
        with OpenedDatabase(new) as contents:
            if contents.shape() != self.stored.shape:
                raise Unreadable(tr("It would no longer be the same document."))
            again = WithInner(contents, self._names)
            prove_paths(again, self.stored.readings, after, self._drives)


def _path_in(text: str | None) -> str | None:
    """The absolute path in a text, as it is or as a URL; None if it is not one."""
    if not text or len(text) > _LONGEST or "\0" in text or text[0] not in "/fF":
        return None
    path = text if text[0] == "/" else decoded(text, Mode.URL)
    return path if path and path[0] == "/" else None


def _may_name_media(text: str | None) -> bool:
    """True for text that looks like a path or a file name."""
    if not text:
        return False
    return "/" in text or "\\" in text or bool(_ENDS.search(text))
