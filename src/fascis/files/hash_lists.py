"""Hash lists from elsewhere: lines of digests, BagIt manifests, media hash lists.

Formats: lines of ``md5sum``, ``sha1sum``, ``sha256sum``, ``sha512sum``, ``b3sum`` and ``xxhsum``
(digest first, or ``NAME (path) = digest``), manifests of RFC 8493, and media hash lists in XML of
the published schemas 1.1 and 2.0. A list can come from anybody: every path must stay in the list's
own folder, and errors in it are counted and ignored.
"""

from __future__ import annotations

import codecs
import json
import os
import re
import unicodedata
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO, NamedTuple
from urllib.parse import unquote_to_bytes
from xml.parsers import expat

from msgspec import Struct, field

from fascis.files.digests import LENGTHS, Algorithm
from fascis.files.errors import Damaged
from fascis.files.names import safe_place, shown
from fascis.words.speech import tr

_LONGEST_LINE = 1 << 20
_CHUNK = 1 << 20
_HEAD = 1 << 16
_MEANING = tr("Nothing was changed; the files are as they were.")
_BSD = re.compile(rb"^\\?([A-Za-z0-9_/-]{2,12}) ?\((.*)\) ?= ?([0-9A-Fa-f]{8,128})$", re.DOTALL)
_GNU = re.compile(rb"^(?:XXH3_)?([0-9A-Fa-f]{8,128})(?:  ?\*?|\t+)(.+)$", re.DOTALL)
_BAG = re.compile(r"^(?:tag)?manifest-([a-z0-9]+)\.txt$")
_NAMES = {
    "md5": Algorithm.MD5,
    "sha1": Algorithm.SHA1,
    "sha256": Algorithm.SHA256,
    "sha512": Algorithm.SHA512,
    "b3": Algorithm.BLAKE3,
    "blake3": Algorithm.BLAKE3,
    "xxh64": Algorithm.XXH64,
    "xxh128": Algorithm.XXH128,
    "xxh3": Algorithm.XXH3,
    "xxh364": Algorithm.XXH3,
    "xxhash64be": Algorithm.XXH64,
    "xxhash64": Algorithm.XXH64,
}
_ENDINGS = {"md5", "sha1", "sha256", "sha512", "b3", "blake3", "xxh64", "xxh128", "xxh3", "mhl"}
_SUMS = re.compile(r"^(md5|sha1|sha256|sha512|b3|xxh64|xxh128|xxh3)sums?(\.txt)?$", re.IGNORECASE)
_SCHEMA_2 = "urn:ASC:MHL:v2.0"

_FITTING = {
    length: [a for a, one in LENGTHS.items() if one == length] for length in LENGTHS.values()
}

Choice = tuple[tuple[Algorithm, bytes], ...]


class Listed(NamedTuple):
    """What a list states about one file.

    Attributes:
        place: from the list's own folder.
        wanted: for each choice, one digest must match. A digest without a named algorithm is a
            choice of several.
        size: in bytes, if the list has it.
    """

    place: bytes
    wanted: tuple[Choice, ...]
    size: int | None = None

    def as_text(self) -> str:
        """The statements about the file, without its place."""
        # JSON, made by hand: a list may have ten million lines, and nothing here needs an escape.
        choices = (
            ",".join(f'["{a.value}","{d.hex()}"]' for a, d in choice) for choice in self.wanted
        )
        wanted = ",".join(f"[{choice}]" for choice in choices)
        return f"[[{wanted}],{'null' if self.size is None else self.size}]"

    @classmethod
    def from_text(cls, place: bytes, text: str) -> Listed:
        """The reverse.

        Raises:
            ValueError: it makes no sense.
        """
        wanted, size = json.loads(text)
        choices = [tuple((Algorithm(a), bytes.fromhex(d)) for a, d in choice) for choice in wanted]
        return cls(place, tuple(choices), size)

    def algorithms(self) -> set[Algorithm]:
        """The algorithms needed for comparing."""
        return {algorithm for choice in self.wanted for algorithm, _ in choice}

    def holds(self, digests: dict[Algorithm, bytes], size: int) -> bool:
        """True if a file with these digests matches the list."""
        if self.size is not None and self.size != size:
            return False
        return all(any(digests.get(a) == d for a, d in choice) for choice in self.wanted)


class HashList(Struct):
    """One list while it is read.

    Attributes:
        path: the list; its places count from ``base``.
        good: how many lines or files could be read.
        bad: how many could not; ``first_bad`` is the number of the first.
        leads_out: how many paths leave the list's folder: they are not followed.
        unknown: unknown algorithms.
    """

    path: Path
    base: Path
    good: int = 0
    bad: int = 0
    first_bad: int = 0
    leads_out: int = 0
    unknown: set[str] = field(default_factory=set)

    def told(self) -> list[str]:
        """Its problems, in sentences."""
        name, said = shown(self.path.name), []
        if self.bad:
            said.append(
                tr(
                    "{name}: {bad} lines do not belong to a hash list, line {first_bad} first; "
                    "the others are used.",
                    name=name,
                    bad=self.bad,
                    first_bad=self.first_bad,
                )
            )
        if self.leads_out:
            said.append(
                tr(
                    "{name}: {leads_out} paths leave its folder, and are not followed.",
                    name=name,
                    leads_out=self.leads_out,
                )
            )
        if self.unknown:
            algorithms = ", ".join(sorted(map(shown, self.unknown)))
            said.append(
                tr(
                    "{name}: {algorithms} is not known here; what it says is not compared.",
                    name=name,
                    algorithms=algorithms,
                )
            )
        return said

    def read(self) -> Iterator[Listed]:
        """Everything in it, as it is read.

        Raises:
            Damaged: it is no hash list, or cannot be read.
        """
        try:
            with open(self.path, "rb") as stream:
                head = stream.read(_HEAD)
                stream.seek(0)
                if head.removeprefix(codecs.BOM_UTF8).lstrip().startswith(b"<"):
                    yield from self._media(stream)
                else:
                    yield from self._lines(_text(stream, head))
        except OSError as error:
            raise Damaged(
                self.path, tr("it cannot be read ({strerror})", strerror=error.strerror), _MEANING
            ) from error
        if not self.good:
            raise Damaged(self.path, tr("it has no line of a hash list"), _MEANING)

    # -- lines -------------------------------------------------------------------------------------

    def _lines(self, lines: Iterable[bytes]) -> Iterator[Listed]:
        bag = _BAG.match(self.path.name)
        hint = _hinted(self.path.name)
        for number, line in enumerate(lines, 1):
            line = line.rstrip(b"\r\n")
            if not line.strip() or line.lstrip().startswith((b"#", b";")):
                continue
            said = _line(line, hint, bool(bag))
            if isinstance(said, str):
                self.unknown.add(said)
            elif said is None:
                self.bad += 1
                self.first_bad = self.first_bad or number
            else:
                yield from self._placed(*said)

    def _placed(
        self, raw: bytes, wanted: tuple[Choice, ...], size: int | None = None
    ) -> Iterator[Listed]:
        self.good += 1
        place = _place(raw)
        if place is None:
            self.leads_out += 1
        else:
            yield Listed(place, wanted, size)

    # -- media hash lists --------------------------------------------------------------------------

    def _media(self, stream: BinaryIO) -> Iterator[Listed]:
        reading = _Media(self)
        parser = expat.ParserCreate(namespace_separator=" ")
        parser.StartDoctypeDeclHandler = _no_doctype
        parser.StartElementHandler = reading.start
        parser.EndElementHandler = reading.end
        parser.CharacterDataHandler = reading.text.append
        parser.buffer_text = True
        try:
            while chunk := stream.read(_CHUNK):
                parser.Parse(chunk, False)
                for said in reading.taken():
                    yield from self._placed(*said)
            parser.Parse(b"", True)
        except (expat.ExpatError, ValueError) as error:
            raise Damaged(
                self.path, tr("it is no media hash list ({error})", error=error), _MEANING
            ) from error
        if not reading.is_list:
            raise Damaged(self.path, tr("it is no media hash list"), _MEANING)
        for said in reading.taken():
            yield from self._placed(*said)


class _Media:
    """The elements of a media hash list as they are read."""

    def __init__(self, into: HashList) -> None:
        self._into = into
        self._path: list[str] = []
        self.text: list[str] = []
        self.is_list = False
        self._file, self._size = "", ""
        self._wanted: list[Choice] = []
        self._taken: list[tuple[bytes, tuple[Choice, ...], int | None]] = []

    def taken(self) -> list[tuple[bytes, tuple[Choice, ...], int | None]]:
        """The files read since the last call."""
        taken, self._taken = self._taken, []
        return taken

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """An element starts."""
        space, _, local = name.rpartition(" ")
        if not self._path:
            version = attributes.get("version", "")
            self.is_list = local == "hashlist" and (
                (not space and version.startswith("1.")) or space == _SCHEMA_2
            )
            if not self.is_list:
                raise ValueError("another document")
        self._path.append(local)
        if len(self._path) > 100:
            raise ValueError("too deep")
        if local == "hash":
            self._file = self._size = ""
            self._wanted = []
        elif local == "path":
            self._size = attributes.get("size", "")
        self.text.clear()

    def end(self, name: str) -> None:
        """An element ends."""
        local = self._path.pop()
        text = "".join(self.text).strip()
        self.text.clear()
        if "hash" in self._path[-1:]:
            self._of_file(local, text)
        elif local == "hash" and self._path[-1:] in (["hashlist"], ["hashes"]):
            if self._file and self._wanted:
                size = int(self._size) if self._size.isdecimal() else None
                raw = self._file.encode("utf-8", "surrogateescape")
                self._taken.append((raw, tuple(self._wanted), size))
            elif not self._file:
                self._into.bad += 1

    def _of_file(self, local: str, text: str) -> None:
        if local in ("file", "path"):
            self._file = text
        elif local == "size":
            self._size = text
        elif (algorithm := _NAMES.get(local)) and _is_hex(text):
            digest = bytes.fromhex(text)
            if len(digest) == LENGTHS[algorithm]:
                # Some programs wrote the older kind with reversed bytes.
                other = ((algorithm, digest[::-1]),) if local == "xxhash64" else ()
                self._wanted.append(((algorithm, digest), *other))
        elif local not in ("lastmodificationdate", "creationdate", "hashdate", "null", "ignore",
                           "previousPath", "metadata"):  # fmt: skip
            self._into.unknown.add(local)


def _no_doctype(*_: object) -> None:
    raise ValueError("it declares a document type")


# -- parts of lines --------------------------------------------------------------------------------


def _line(
    line: bytes, hint: Algorithm | None, bag: bool
) -> tuple[bytes, tuple[Choice, ...]] | str | None:
    """``(path, digests)`` of a line, or the name of an unknown algorithm, or None.

    None if it cannot be read.
    """
    if bag:
        digest, _, path = line.partition(b" ")
        if not _is_hex(digest.decode("ascii", "replace")) or not path.strip():
            return None
        raw = unquote_to_bytes(path.lstrip(b" *\t")) if b"%" in path else path.lstrip(b" *\t")
        return _with_choice(raw, digest, hint)
    if found := _BSD.match(line):
        name = found[1].decode("ascii").lower()
        algorithm = _NAMES.get(re.sub(r"[^a-z0-9]", "", name))
        if algorithm is None:
            return name
        digest = bytes.fromhex(found[3].decode()) if len(found[3]) % 2 == 0 else b""
        named = _unescaped(found[2]) if line.startswith(b"\\") else bytes(found[2])
        if len(digest) != LENGTHS[algorithm] or named is None:
            return None
        return named, (((algorithm, digest),),)
    escaped = line.startswith(b"\\")
    found = _GNU.match(line[1:] if escaped else line)
    if not found:
        return None
    named = _unescaped(found[2]) if escaped else bytes(found[2])
    if named is None:
        return None
    if not escaped and b"\\" in named and b"/" not in named:
        # Written on another system.
        named = named.replace(b"\\", b"/")
    if line.startswith(b"XXH3_"):
        hint = Algorithm.XXH3
    return _with_choice(named, found[1], hint)


def _with_choice(
    path: bytes, digits: bytes, hint: Algorithm | None
) -> tuple[bytes, tuple[Choice, ...]] | str | None:
    if len(digits) % 2:
        return None
    digest = bytes.fromhex(digits.decode())
    fits = _FITTING.get(len(digest), [])
    if hint in fits:
        fits = [hint]
    if not fits:
        return tr("a digest of {digits} digits", digits=len(digits))
    return path, (tuple((algorithm, digest) for algorithm in fits),)


def _hinted(name: str) -> Algorithm | None:
    """The algorithm in a list's name."""
    parts = [
        p.removesuffix("sums").removesuffix("sum") for p in re.split(r"[^a-z0-9]+", name.lower())
    ]
    return next((_NAMES[p] for p in parts if p in _NAMES), None)


def _is_hex(text: str) -> bool:
    return bool(text) and len(text) % 2 == 0 and all(c in "0123456789abcdefABCDEF" for c in text)


def _unescaped(text: bytes) -> bytes | None:
    out, at = bytearray(), 0
    while at < len(text):
        if text[at] == 0x5C:
            meant = {b"n": b"\n", b"r": b"\r", b"\\": b"\\"}.get(text[at + 1 : at + 2])
            if meant is None:
                return None
            out += meant
            at += 2
        else:
            out.append(text[at])
            at += 1
    return bytes(out)


def _place(raw: bytes) -> bytes | None:
    """A path of a list as a place; None if it leaves the list's folder."""
    if safe_place(raw):
        return raw
    parts = [p for p in raw.split(b"/") if p not in (b"", b".")]
    place = b"/".join(parts)
    return place if not raw.startswith(b"/") and safe_place(place) else None


def _text(stream: BinaryIO, head: bytes) -> Iterator[bytes]:
    """The lines as UTF-8, or as raw bytes; UTF-16 is recognised by its mark."""
    if head.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        reader = codecs.getreader("utf-16")(stream, "surrogatepass")
        for line in reader:
            yield line.encode("utf-8", "surrogatepass")
        return
    if head.startswith(codecs.BOM_UTF8):
        stream.seek(len(codecs.BOM_UTF8))
    yield from iter(lambda: stream.readline(_LONGEST_LINE), b"")


# -- finding them ----------------------------------------------------------------------------------


def is_hash_list(name: str) -> bool:
    """True for a file named like a hash list."""
    ending = name.rpartition(".")[2].lower() if "." in name else "txt"
    # For nearly all names the ending decides.
    if ending != "txt":
        return ending in _ENDINGS
    return bool(_SUMS.match(name)) or bool(_BAG.match(name))


def found_lists(root: Path, most: int = 20) -> list[Path]:
    """Hash lists from elsewhere in a library's top folders."""
    found: list[Path] = []
    for folder in (root, *sorted(p for p in root.glob("*") if p.is_dir() and p.name[:1] != ".")):
        try:
            # A folder may have very many files.
            names = sorted(filter(is_hash_list, os.listdir(folder)))
        except OSError:
            continue
        found += (path for name in names if (path := folder / name).is_file())
    return found[:most]


def list_at(path: Path) -> HashList:
    """A hash list, and the folder from which its paths count.

    A media hash list of the second schema lies in a folder of its own below that.
    """
    base = path.parent
    if path.suffix.lower() == ".mhl" and base.name == "ascmhl":
        base = base.parent
    return HashList(path, Path(os.path.realpath(base)))


def place_key(place: bytes) -> bytes:
    """The key under which a place is searched: lists and drives write one name in several forms."""
    if place.isascii():
        return place
    try:
        return unicodedata.normalize("NFC", place.decode("utf-8")).encode()
    except UnicodeDecodeError:
        return place
