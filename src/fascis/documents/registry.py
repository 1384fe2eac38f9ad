"""The known kinds of documents.

Only this module decides what in a library is a document, a sidecar or a database's journal.
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
    """Makes a kind of document known everywhere.

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
    """The endings of documents that a person edits: in lower case and without the dot."""
    return [ending for ending, kind in _BY_EXTENSION.items() if kind.works]


def companion_endings() -> list[bytes]:
    """The endings of sidecars: in lower case and without the dot."""
    return [ending for ending, kind in _BY_EXTENSION.items() if kind.companion]


def kind_named(name: bytes) -> DocumentKind | None:
    """The kind, edited by a person, whose names have this ending; or None.

    A hint: the content decides, see :func:`kind_of`.
    """
    _, dot, extension = name.rpartition(b".")
    kind = _BY_EXTENSION.get(extension.lower()) if dot else None
    return kind if kind is not None and kind.works else None


def kind_of(name: bytes, head: bytes) -> DocumentKind | None:
    """The kind of a document: by its content, otherwise by its ending; None for anything else.

    Args:
        head: its first bytes, at most ``HEAD``.
    """
    named = kind_named(name)
    if named is not None and named.recognises(head):
        return named
    found = next((kind for kind in _KINDS if kind.recognises(head)), named)
    if named is not None and isinstance(found, (LearnedText, LearnedDatabase)):
        # A document named like a known kind is never read by a learned reading.
        return named
    return found


def is_companion(name: bytes) -> bool:
    """True for the name, or path, of a file that belongs to the files beside it: a sidecar."""
    stem, dot, extension = name.rpartition(b"/")[2].rpartition(b".")
    kind = _BY_EXTENSION.get(extension.lower()) if dot and stem else None
    return kind is not None and kind.companion


def companions(names: Iterable[bytes]) -> dict[bytes, list[bytes]]:
    """The sidecars among the names in one folder, and whose each is; nobody's for an orphan.

    A photo and a clip of the same name, or a raw picture beside its developed one, can share one.
    """
    there = list(names)
    found: dict[bytes, list[bytes]] = {}
    for kind in _KINDS:
        if kind.companion:
            found |= kind.owners(there)
    return found


def database_of(name: bytes) -> bytes | None:
    """The database to which a journal beside it belongs, by its name.

    None for any other file.
    """
    ending = next((j for j in _JOURNALS if name.endswith(j) and len(name) > len(j)), None)
    return None if ending is None else name[: -len(ending)]


def journals() -> tuple[bytes, ...]:
    """The endings of journals that lie beside a database and are part of it."""
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
