"""Lost files.

One entry for every referenced file, or image sequence, that is missing or away.
"""

from __future__ import annotations

import os
from pathlib import Path

from msgspec import Struct, field

from fascis.documents.model import Length, NotUnderstood, Sequence
from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import Cancelled, EnvironmentTrouble
from fascis.library.references.reading import PathSource
from fascis.library.references.uses import Document, LostReference, Outside, Uses
from fascis.library.roles import STILLS, Role
from fascis.library.standing import Standing
from fascis.words.speech import tr


class Lost(Struct):
    """One lost file, or an image sequence as one.

    ``0``, empty or None mean unknown.

    Attributes:
        path: absolute, as in the documents; for a sequence its folder and pattern.
        name: the file's name; for a sequence that of its first frame.
        folder: absolute, where it should be.
        size: in bytes, of the file or of the first frame; ``digest``, ``mtime_ns``, ``captured``
            (ISO 8601), ``length`` likewise.
        references: the references to it.
        frames: the names of all frames of a sequence; ``files`` is the number of lost ones,
            otherwise 1.
    """

    path: bytes
    name: bytes
    folder: bytes
    standing: Standing
    role: Role
    size: int = 0
    digest: bytes = b""
    mtime_ns: int = 0
    captured: str = ""
    length: Length | None = None
    references: list[LostReference] = field(default_factory=list)
    frames: tuple[bytes, ...] = ()
    files: int = 1


def lost_of(uses: Uses) -> list[Lost]:
    """Everything lost, by path. A sequence is one entry, whatever the number of lost frames."""
    outside = {o.path: o for o in uses.outside if o.standing in (Standing.MISSING, Standing.AWAY)}
    found: dict[tuple[bytes, Sequence | None], Lost] = {}
    framed: set[bytes] = set()
    for reference in uses.lost:
        key = reference.path, reference.sequence
        known = found.get(key)
        if known is None:
            if reference.sequence:
                known = _sequence(reference, outside)
            else:
                known = _single(outside[reference.path])
            found[key] = known
        known.references.append(reference)
        known.captured = known.captured or reference.captured
        framed.update(reference.path + b"/" + name for name in reference.frames)
    alone = [lost for (path, sequence), lost in found.items() if sequence or path not in framed]
    return sorted(alone, key=lambda lost: lost.path)


def _single(o: Outside) -> Lost:
    folder, _, name = o.path.rpartition(b"/")
    return Lost(o.path, name, folder or b"/", o.standing, o.role, o.size, o.digest, o.mtime_ns)


def _sequence(reference: LostReference, outside: dict[bytes, Outside]) -> Lost:
    assert reference.sequence
    frames = tuple(os.fsencode(name) for name in reference.sequence.names())
    first = outside[reference.path + b"/" + reference.frames[0]]
    known = outside.get(reference.path + b"/" + frames[0])
    path = reference.path + b"/" + pattern_of(reference.sequence)
    lost = Lost(
        path,
        frames[0],
        reference.path,
        first.standing,
        first.role,
        frames=frames,
        files=len(reference.frames),
    )
    if known is not None:
        lost.size, lost.digest, lost.mtime_ns = known.size, known.digest, known.mtime_ns
    return lost


def pattern_of(sequence: Sequence) -> bytes:
    """The names of a sequence as one, with the number as in ``printf`` (ISO C)."""
    number = f"%0{sequence.padding}d" if sequence.padding else "%d"
    return os.fsencode(f"{sequence.prefix}{number}{sequence.suffix}")


def path_of_document(root: Path, document: Document) -> bytes:
    """The path of a document.

    Args:
        root: the library's folder.
    """
    return document.path or os.path.realpath(bytes(root)).rstrip(b"/") + b"/" + document.place


def add_lengths(
    lost: list[Lost], uses: Uses, root: Path, cache: Path, control: Control = UNSTOPPED
) -> None:
    """Finds the lengths of lost clips in the documents.

    Of several references to one file, the first with a length counts.

    Args:
        root: the library's folder.
        cache: a private folder for copies.

    Raises:
        Cancelled: when ``control`` was stopped.
    """
    asked: dict[int, list[tuple[int, Lost]]] = {}
    for entry in lost:
        # Any size.
        still = entry.frames or entry.name.rpartition(b".")[2].lower() in STILLS
        for reference in entry.references if not still else ():
            asked.setdefault(reference.document, []).append((reference.at, entry))
    for number, entries in sorted(asked.items()):
        if control.stopped:
            raise Cancelled(tr("Looking was stopped; nothing was changed."))
        document = uses.documents[number]
        try:
            source = PathSource(path_of_document(root, document), cache)
            with source, document.kind.open(source) as opened:
                lengths = opened.lengths()
        except (NotUnderstood, EnvironmentTrouble):
            # It is examined again, and reported, before anything is written.
            continue
        for at, entry in entries:
            if at < len(lengths) and entry.length is None:
                entry.length = lengths[at]
