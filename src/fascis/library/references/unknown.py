"""Documents of unknown make, recognised by content: does a file name existing files?

Its name and maker do not matter: a database, a project in JSON or XML, packed with gzip or zip. A
file that names others by absolute or relative paths, whole or with folder and name apart, refers to
them, and it is not known what happens to it when they move. Settings, caches and thumbnails that
name none do not matter. No format is understood here: the bytes are searched for anything that
looks like a file name, and the name is looked up.
"""

from __future__ import annotations

import html
import io
import os
import re
import sqlite3
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import closing
from functools import cache
from urllib.parse import quote, unquote_to_bytes

from msgspec import Struct, field

from fascis.documents.model import DocumentKind
from fascis.documents.registry import endings, is_companion, kind_named, kind_of
from fascis.files.disk.looks import is_file
from fascis.files.disk.medium import Medium, MediumFile
from fascis.files.names import join, name_key, parent
from fascis.library.roles import MEDIA

HEAD = 1 << 16
# Bytes that are searched, unpacked or not; the beginning of a larger file.
MOST = 64 << 20
# For files that are neither text nor a known container.
_MOST_BINARY = 8 << 20
_MOST_MEMBERS = 500
_MOST_TOKENS = 20_000
_LONGEST = 4096
_SQLITE = b"SQLite format 3\0"
_TWO_BYTE = (b"\xff\xfe", b"\xfe\xff")  # Byte order marks of UTF-16.
_GZIP, _ZIP = b"\x1f\x8b", b"PK\x03\x04"
_ANY_NAME = re.compile(rb"[/\\][^/\\\n]{1,200}?\.[A-Za-z0-9]{1,8}(?![A-Za-z0-9])")
_ESCAPED = re.compile(rb"\\u([0-9A-Fa-f]{4})")
# Bytes that no name contains become line ends.
_BREAKS = bytes(0x0A if c < 0x20 or c == 0x7F or c in b'"<>|' else c for c in range(256))
_CUTS = re.compile(rb"[\s=',;:(\[{]+")
_HASH_LINE = re.compile(
    rb"(?:\xef\xbb\xbf)?\\?[0-9A-Fa-f]{16,128} [ *]\S|[A-Z0-9-]{3,12} \(.+\) = [0-9A-Fa-f]{16,128}"
)
# For people: names are words there.
_NOTES = frozenset((b"txt", b"md", b"rst", b"log", b"rtf", b"pdf", b"odt", b"eml", b"vtt", b"srt"))


def _media_name() -> re.Pattern[bytes]:
    """The ending of media or of a known document."""
    return _ending_in(frozenset(endings()))


@cache
def _ending_in(documents: frozenset[bytes]) -> re.Pattern[bytes]:
    # Of two endings with the same beginning, the longer first.
    either = b"|".join(sorted(MEDIA | documents, reverse=True))
    return re.compile(rb"\.(?:" + either + rb")(?![A-Za-z0-9])", re.IGNORECASE)


class Names(Struct):
    """A library's names, for lookups; the sets are made at the first lookup.

    Attributes:
        root: its folder (real path).
        places: returns all its places.
    """

    root: bytes
    places: Callable[[], Iterator[bytes]]
    _places: set[bytes] = field(default_factory=set)
    _names: set[str] = field(default_factory=set)

    def _load(self) -> None:
        if not self._places:
            self._places = set(self.places())
            self._names = {name_key(p.rpartition(b"/")[2]) for p in self._places}

    def has_name(self, name: bytes) -> bool:
        """True if some file of the library has that name, in any case or normal form."""
        self._load()
        return name_key(name) in self._names

    def has_path(self, path: bytes, folder: bytes) -> bool:
        """True if a path leads to a file: from the document, from the library, or absolute."""
        self._load()
        if path.startswith(b"/"):
            below = self.root.rstrip(b"/") + b"/"
            return (path.startswith(below) and path[len(below) :] in self._places) or is_file(path)
        for base in (folder, b""):
            place = os.path.normpath(join(base, path))
            if place in self._places:
                return True
            if place.startswith(b"../") and is_file(os.path.normpath(self.root + b"/" + place)):
                return True
        return False


def is_candidate(name: bytes) -> bool:
    """True for a file whose content may name files.

    Not for media, documents or sidecars by their names.
    """
    _, dot, ending = name.rpartition(b".")
    extension = ending.lower() if dot else b""
    return extension not in MEDIA and not is_companion(name) and kind_named(name) is None


def recognised(medium: Medium, place: bytes, size: int, names: Names) -> DocumentKind | bool:
    """The known kind of a file with an unknown ending.

    Otherwise True if it names existing files, or is a container too large to be searched.

    Raises:
        OSError: it cannot be read.
    """
    with closing(medium.open(place)) as file:
        head = _read(file, min(size, HEAD))
        if (kind := kind_of(b"", head)) is not None:
            return kind
        most = _most(head)
        if not most:
            return False
        whole = head + _read(file, min(size, most) - len(head)) if size > len(head) else head
    seen = _Search(place, names)
    if any(seen.found_in(part) for part in _parts(whole)):
        return True
    return size > most > _MOST_BINARY


def paths_named(content: bytes, library: bytes, folder: bytes) -> Iterator[bytes]:
    """Absolute paths in a file's content that contain the name of a library's folder.

    For a file outside that library.

    Args:
        library: the name of the library's folder: content without it names nothing of the library.
        folder: the file's folder, absolute.
    """
    if not _most(content[:HEAD]):
        return
    for part in _parts(content):
        plain = part.replace(b"\\/", b"/")
        needles = {library, quote(library).encode()}
        if not any(n + end in plain for n in needles for end in (b"/", b"\\")):
            continue
        lines = plain.translate(_BREAKS)
        for found in _endings(lines):
            begin = lines.rfind(b"\n", max(0, found - _LONGEST), found) + 1
            for text in _spellings(lines[max(begin, found - _LONGEST) : found]):
                for candidate in _candidates(text):
                    if b"/" in candidate:
                        yield os.path.normpath(os.path.join(folder, candidate))


def _read(file: MediumFile, size: int) -> bytes:
    content = bytearray(size)
    view, filled = memoryview(content), 0
    while filled < size and (count := file.readinto(view[filled:])):
        filled += count
    return bytes(view[:filled])


def _most(head: bytes) -> int:
    """How much of a file is searched, by its first bytes.

    0 for lists of digests, which name files without referring to them.
    """
    if _HASH_LINE.match(head) or b"<hashlist" in head[:2000]:
        return 0
    if head.startswith((_SQLITE, _GZIP, _ZIP, *_TWO_BYTE)) or b"\0" not in head:
        return MOST
    return _MOST_BINARY


def _parts(content: bytes) -> Iterator[bytes]:
    """The content in all forms that can contain names.

    Unpacked, and without the zeros of two-byte letters.
    """
    if content.startswith(_GZIP):
        content = _unzipped(content)
    if content.startswith(_ZIP):
        yield from _members(content)
        return
    if content.startswith(_SQLITE) and (values := _values(content)) is not None:
        yield values
        return
    yield content
    if b"\0" in content:
        yield content.replace(b"\0", b"")


def _values(content: bytes) -> bytes | None:
    """Every text of a database, one a line; None if it cannot be read as one.

    In the file itself nothing separates them. It is read in memory: none of it is executed, no view
    and no trigger, and nothing is written beside it.
    """
    plain = bytearray(content)
    # Not with a write-ahead log, which is searched separately.
    plain[18:20] = b"\x01\x01"
    parts: list[bytes] = []
    size = 0
    try:
        with closing(sqlite3.connect(":memory:")) as db:
            db.deserialize(bytes(plain))
            db.text_factory = bytes
            db.execute("PRAGMA trusted_schema=OFF")
            tables = [
                r[0]
                for r in db.execute(
                    "SELECT name FROM sqlite_schema WHERE type='table' AND rootpage>0"
                )
            ]
            for table in tables:
                name = table.decode("utf-8", "surrogateescape").replace('"', '""')
                for row in db.execute(f'SELECT * FROM "{name}"'):
                    texts = [v for v in row if isinstance(v, bytes) and v]
                    parts += texts
                    size += sum(map(len, texts))
                    if size > MOST:
                        break
    except (sqlite3.Error, UnicodeError):
        # Damaged, locked by a password, or with an unknown schema: its bytes are searched.
        return None
    return b"\n".join(parts)


def _unzipped(content: bytes) -> bytes:
    try:
        return zlib.decompressobj(31).decompress(content, MOST)
    except zlib.error:
        return b""


def _members(content: bytes) -> Iterator[bytes]:
    left = MOST
    try:
        with zipfile.ZipFile(io.BytesIO(content)) as packed:
            for member in packed.infolist()[:_MOST_MEMBERS]:
                if member.is_dir() or not is_candidate(
                    member.filename.encode("utf-8", "surrogateescape")
                ):
                    continue
                with packed.open(member) as file:
                    part = file.read(min(left, MOST))
                left -= len(part)
                yield part
                if left <= 0:
                    return
    except (
        zipfile.BadZipFile,
        zlib.error,
        OSError,
        RuntimeError,
        NotImplementedError,
        EOFError,
        ValueError,
    ):
        # Damaged, locked by a password, or packed differently.
        return


class _Search:
    """Searches one document for names."""

    def __init__(self, place: bytes, names: Names) -> None:
        self._folder, self._names = parent(place), names
        name = place.rpartition(b"/")[2]
        self._stem = name_key(name.partition(b".")[0])
        self._for_people = name.rpartition(b".")[2].lower() in _NOTES

    def found_in(self, content: bytes) -> bool:
        """True if it names an existing file."""
        lines = content.replace(b"\\/", b"/").translate(_BREAKS)
        seen: set[bytes] = set()
        for found in _endings(lines):
            begin = max(lines.rfind(b"\n", max(0, found - _LONGEST), found) + 1, found - _LONGEST)
            token = lines[begin:found]
            if token in seen:
                continue
            seen.add(token)
            if len(seen) > _MOST_TOKENS:
                # So many names: it is a document of some kind, and not understood.
                return True
            if self._names_one(token):
                return True
        return False

    def _names_one(self, token: bytes) -> bool:
        for text in _spellings(token):
            for candidate in _candidates(text):
                if self._is_named(candidate):
                    return True
        return False

    def _is_named(self, candidate: bytes) -> bool:
        """True for the path or name of an existing file, except that of a note's own picture."""
        name = re.split(rb"[/\\]", candidate)[-1]
        if not name or len(name) > 255:
            return False
        if (
            name_key(name.partition(b".")[0]) == self._stem
            and b"/" not in candidate
            and b"\\" not in candidate
        ):
            return False
        if b"/" in candidate and self._names.has_path(candidate, self._folder):
            return True
        return (
            not self._for_people and bool(_media_name().search(name)) and self._names.has_name(name)
        )


def _endings(lines: bytes) -> Iterator[int]:
    """The ends of texts that look like file names."""
    for found in _media_name().finditer(lines):
        yield found.end()
    if b"/" in lines:
        for found in _ANY_NAME.finditer(lines):
            yield found.end()


def _spellings(token: bytes) -> Iterator[bytes]:
    """A token as it is, and without the escapes of JSON, XML and URLs."""
    yield token
    if b"\\u" in token:
        token = _ESCAPED.sub(lambda m: chr(int(m[1], 16)).encode("utf-8", "surrogatepass"), token)
        yield token
    if b"&" in token:
        token = html.unescape(token.decode("utf-8", "surrogateescape")).encode(
            "utf-8", "surrogateescape"
        )
        yield token
    if b"%" in token:
        yield unquote_to_bytes(token)


def _candidates(text: bytes) -> Iterator[bytes]:
    """The parts of a token that can be a path.

    All of it, and the rest after anything that can precede a path.
    """
    at = text.find(b"file://")
    if at >= 0:
        path = text[at + 7 :]
        yield path[path.find(b"/") :] if b"/" in path else path
    yield text.strip().strip(b"'")
    starts = [m.end() for m in _CUTS.finditer(text)]
    for start in starts[-12:]:
        yield text[start:]
    if b"/" in text and not text.startswith(b"/"):
        yield text[text.find(b"/") :]
