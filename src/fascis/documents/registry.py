"""The kinds of documents that are understood.

What of a library is a document, a sidecar or a database's journal is told here and nowhere else.
"""

from __future__ import annotations

from collections.abc import Iterable

from fascis.documents.catalog import PhotoCatalog
from fascis.documents.learned.kind import LearnedDatabase, LearnedText
from fascis.documents.lines import Edl, M3u8
from fascis.documents.link import Link
from fascis.documents.model import DocumentKind
from fascis.documents.otio import Otio
from fascis.documents.sidecars import Sidecar
from fascis.documents.xspf import Xspf

LINK = Link()

_KINDS: list[DocumentKind] = []
_BY_EXTENSION: dict[bytes, DocumentKind] = {}
_JOURNALS: list[bytes] = []


def register(kind: DocumentKind) -> None:
    """From now on documents of this kind are known everywhere.

    Raises:
        ValueError: another kind has one of its endings.
    """
    endings = [extension.encode() for extension in kind.extensions]
    if taken := [e for e in endings if e in _BY_EXTENSION]:
        raise ValueError(f"documents that end in {taken[0].decode()} are of another kind")
    _KINDS.append(kind)
    _BY_EXTENSION.update(dict.fromkeys(endings, kind))
    _JOURNALS.extend(j for j in kind.journals if j not in _JOURNALS)


def kinds() -> tuple[DocumentKind, ...]:
    """All kinds."""
    return tuple(_KINDS)


def endings() -> list[bytes]:
    """How names of documents end in which somebody works: in lower case and without the dot."""
    return [ending for ending, kind in _BY_EXTENSION.items() if kind.works]


def companion_endings() -> list[bytes]:
    """How names of sidecars end: in lower case and without the dot."""
    return [ending for ending, kind in _BY_EXTENSION.items() if kind.companion]


def kind_named(name: bytes) -> DocumentKind | None:
    """The kind whose documents a person works in and whose names end so; or None.

    A hint: what a document is says its content, see :func:`kind_of`.
    """
    _, dot, extension = name.rpartition(b".")
    kind = _BY_EXTENSION.get(extension.lower()) if dot else None
    return kind if kind is not None and kind.works else None


def kind_of(name: bytes, head: bytes) -> DocumentKind | None:
    """What a document is: by its content, else by how its name ends; None for anything else.

    Args:
        head: its first bytes, at most ``HEAD``.
    """
    named = kind_named(name)
    if named is not None and named.recognises(head):
        return named
    found = next((kind for kind in _KINDS if kind.recognises(head)), named)
    if named is not None and isinstance(found, (LearnedText, LearnedDatabase)):
        # What is called like a document of a known make is never read by a reading.
        return named
    return found


def is_companion(name: bytes) -> bool:
    """True for the name, or path, of what belongs to the files beside it: a sidecar."""
    stem, dot, extension = name.rpartition(b"/")[2].rpartition(b".")
    kind = _BY_EXTENSION.get(extension.lower()) if dot and stem else None
    return kind is not None and kind.companion


def companions(names: Iterable[bytes]) -> dict[bytes, list[bytes]]:
    """The sidecars among the names in one folder, and whom each belongs to; nobody, for an orphan.

    A photo and a clip of the same name, or a raw picture beside its developed one, may share one.
    """
    there = list(names)
    found: dict[bytes, list[bytes]] = {}
    for kind in _KINDS:
        if kind.companion:
            found |= kind.owners(there)
    return found


def database_of(name: bytes) -> bytes | None:
    """The database that a journal file beside it belongs to, by its name.

    None for any other file.
    """
    ending = next((j for j in _JOURNALS if name.endswith(j) and len(name) > len(j)), None)
    return None if ending is None else name[: -len(ending)]


def journals() -> tuple[bytes, ...]:
    """How journals end that lie beside a database and are part of it."""
    return tuple(_JOURNALS)


register(PhotoCatalog())
register(Otio())
register(Edl())
register(Xspf())
register(M3u8())
register(Sidecar())
register(LINK)
register(LearnedText())
register(LearnedDatabase())
