"""Timelines in OpenTimelineIO JSON (file format specification of OpenTimelineIO).

Read with the standard ``json``. The position of a target is found in the bytes: outside a string,
the bytes ``"target_url"`` can only be a key. Nothing is written back from the parsed ``json``. Each
parsed object is dropped when it is closed, except for the few figures that references need, so that
reading takes little more memory than the document itself.
"""

from __future__ import annotations

import codecs
import json
import re
from array import array
from collections.abc import Iterator
from collections.abc import Sequence as PySequence
from typing import Any, BinaryIO

from msgspec import Struct

from fascis.documents.model import Length, Means, NotUnderstood, Reference, Sequence
from fascis.documents.targets import can_be_text, is_elsewhere
from fascis.documents.text import SMALL, TextKind
from fascis.words.speech import tr

_KEYS = frozenset(("target_url", "target_url_base"))
_FIGURES = frozenset(
    (
        "OTIO_SCHEMA",
        "available_range",
        "duration",
        "frame_step",
        "frame_zero_padding",
        "name_prefix",
        "name_suffix",
        "rate",
        "start_frame",
        "start_time",
        "target_url",
        "target_url_base",
        "value",
    )
)
_KEY = re.compile(rb'"(target_url|target_url_base)"[ \t\r\n]*:[ \t\r\n]*')
_STRING = re.compile(rb'"(?:[^"\\]|\\.)*"', re.DOTALL)
_MOST_FRAMES = 10_000_000
_CHUNK = 1 << 20
_MARK = codecs.BOM_UTF8.decode("latin-1")
_BYTE_ESCAPED = re.compile(rb"\\u00[89A-Fa-f]")
_RAW = re.compile("[\x80-\xff]+")

Pairs = list[tuple[str, Any]]


class Otio(TextKind):
    """The format ``.otio``."""

    name = "otio"
    extensions = frozenset(("otio",))

    def recognises(self, head: bytes) -> bool:
        """By the schema that every object in it names."""
        text = head.removeprefix(codecs.BOM_UTF8).lstrip()
        return text.startswith(b"{") and b'"OTIO_SCHEMA"' in head

    def read(self, stream: BinaryIO) -> Iterator[Reference]:
        """References of ``ExternalReference`` and ``ImageSequenceReference``, at any depth."""
        for span, mention in _mentions(stream):
            if mention.text is not None:
                means = Means.ELSEWHERE if is_elsewhere(mention.text) else Means.PATH
                yield Reference(span, mention.text, means, mention.sequence)

    def literal(self, text: str) -> bytes:
        """A JSON string."""
        return json.dumps(text, ensure_ascii=False).encode()

    def can_be_plain(self, target: str) -> bool:
        """True for a path that reads back as itself."""
        return can_be_text(target)

    def lengths(self, stream: BinaryIO) -> list[Length | None]:
        """From each reference's ``available_range``.

        Where its use begins, from the ``source_range`` of its clip.
        """
        return [mention.length for _, mention in _mentions(stream) if mention.text is not None]


class _Mention(Struct):
    """One of the keys in an object.

    Attributes:
        text: its text; None if it is not a reference.
        available: the ``available_range`` beside it, until its clip is closed.
    """

    text: str | None = None
    sequence: Sequence | None = None
    available: Any = None
    length: Length | None = None


class _Kept(Struct, frozen=True):
    """What is kept of an object with these keys in it or below it.

    Of the mentions, ``own`` are those of the object itself, ``direct`` those of its members,
    ``all`` every one in the order of the text.
    """

    schema: Any
    own: PySequence[_Mention]
    direct: PySequence[_Mention]
    all: PySequence[_Mention]


def _mentions(stream: BinaryIO) -> Iterator[tuple[tuple[int, int], _Mention]]:
    """Each of the keys with a string as value, and its position."""
    content = stream.read()
    starts, ends = _spans(content)
    try:
        # A letter of a large text takes one byte, not the four of its widest; only needed parts are
        # decoded. An escape that looks like such a byte prevents this.
        if len(content) > SMALL and not _BYTE_ESCAPED.search(content):
            _check_utf8(content)
            text, hook = content.decode("latin-1").removeprefix(_MARK), _exactly
        else:
            text, hook = content.decode("utf-8-sig"), _closed
        del content
        tree = json.loads(text, object_pairs_hook=hook)
        del text
    except UnicodeDecodeError as error:
        raise NotUnderstood(
            tr("It is not valid UTF-8 at byte {start}.", start=error.start), error.start
        ) from error
    except json.JSONDecodeError as error:
        raise NotUnderstood(
            tr("It is not valid JSON at line {lineno}: {msg}.", lineno=error.lineno, msg=error.msg),
            error.pos,
        ) from error
    except RecursionError as error:
        raise NotUnderstood(tr("It is nested too deeply for a timeline.")) from error
    except ValueError as error:  # A number with thousands of digits.
        raise NotUnderstood(
            tr("It holds a number that a timeline cannot have ({error}).", error=error)
        ) from error
    schema = tree.get("OTIO_SCHEMA") if isinstance(tree, dict) else getattr(tree, "schema", None)
    if not isinstance(schema, str):
        raise NotUnderstood(tr("It is JSON, but not a timeline: it has no OTIO_SCHEMA."))
    found = tree.all if isinstance(tree, _Kept) else ()
    if len(starts) != len(found):
        raise _twice()
    for start, end, mention in zip(starts, ends, found, strict=True):
        if start >= 0:
            yield (start, end), mention


def _spans(content: bytes) -> tuple[array[int], array[int]]:
    """The start and end of the keys' values, in order; -1 for a value that is not a string."""
    starts, ends = array("q"), array("q")
    for found in _KEY.finditer(content):
        before = found.start() - 1
        while before >= 0 and content[before] == 0x5C:
            before -= 1
        if (found.start() - 1 - before) % 2:
            # The quote is escaped: this is inside a string.
            continue
        value = _STRING.match(content, found.end())
        starts.append(value.start() if value else -1)
        ends.append(value.end() if value else -1)
    return starts, ends


def _twice() -> NotUnderstood:
    return NotUnderstood(
        tr(
            "The same name appears twice in one object of this timeline; which one "
            "counts is not known."
        )
    )


def _check_utf8(content: bytes) -> None:
    """Raises ``UnicodeDecodeError`` if it is not UTF-8, as decoding it at once would."""
    decoder = codecs.getincrementaldecoder("utf-8")()
    at = 0
    with memoryview(content) as view:
        try:
            while at < len(view):
                decoder.decode(view[at : at + _CHUNK], at + _CHUNK >= len(view))
                at += _CHUNK
        except UnicodeDecodeError as error:
            start = max(at + error.start, 0)
            raise UnicodeDecodeError("utf-8", b"", start, start + 1, error.reason) from error


def _closed(pairs: Pairs) -> _Kept | dict[str, Any] | None:
    """What is kept of an object at its end: everything kept below it, or its figures.

    Raises:
        NotUnderstood: the same name stands twice in it, and which one counts is not known.
    """
    # JSON has no subclasses of these: comparing types is quicker, and this runs for every object.
    for key, value in pairs:
        kind = type(value)
        if kind is _Kept or (kind is list and value) or key in _KEYS:
            break
    else:
        return {k: v for k, v in pairs if k in _FIGURES} or None
    own: list[_Mention] = []
    direct: list[_Mention] = []
    every: list[_Mention] = []
    for key, value in pairs:
        if key in _KEYS:
            mention = _mention(key, pairs)
            own.append(mention)
            every.append(mention)
        kind = type(value)
        if kind is _Kept:
            direct += value.own
            every += value.all
        elif kind is list:
            for inner in _kept_in(value):
                every += inner.all
    if not every:
        return {k: _no_list(v) for k, v in pairs if k in _FIGURES} or None
    members = dict(pairs)
    if len(members) != len(pairs):
        raise _twice()
    one, several = members.get("media_reference"), members.get("media_references")
    for mention in (
        *(one.own if isinstance(one, _Kept) else ()),
        *(several.direct if isinstance(several, _Kept) else ()),
    ):
        mention.length = _length(mention.available, members.get("source_range"))
        mention.available = None
    return _Kept(members.get("OTIO_SCHEMA"), own or (), direct or (), every)


def _mention(key: str, pairs: Pairs) -> _Mention:
    """The value of one of the keys in its object."""
    object = {k: _no_list(v) for k, v in pairs if k in _FIGURES}
    text = object[key]
    if not _is_reference(key, object) or not isinstance(text, str):
        return _Mention()
    sequence = _sequence(object) if key == "target_url_base" else None
    available = object.get("available_range")
    return _Mention(text, sequence, available, _length(available, None))


def _exactly(pairs: Pairs) -> _Kept | dict[str, Any] | None:
    """The same for a large text, whose non-ASCII letters are still bytes.

    Objects of other formats are not kept.

    Of an object that is none of this format's nothing is kept.
    """
    exact = [(k, _exact(v) if isinstance(v, str) and k in _FIGURES else v) for k, v in pairs]
    closed = _closed(exact)
    if isinstance(closed, dict) and "OTIO_SCHEMA" not in closed:
        return None
    return closed


def _exact(text: str) -> str:
    return text if text.isascii() else _RAW.sub(_as_utf8, text)


def _as_utf8(raw: re.Match[str]) -> str:
    return raw[0].encode("latin-1").decode("utf-8")


def _no_list(value: Any) -> Any:
    """A figure is never a list: only that it was a list is kept."""
    return [] if isinstance(value, list) else value


def _kept_in(value: Any) -> Iterator[_Kept]:
    """What is kept of a value: of an object itself, of a list the kept parts in it."""
    if isinstance(value, _Kept):
        yield value
    elif isinstance(value, list):
        for inner in value:
            yield from _kept_in(inner)


def _is_reference(key: str, object: dict[str, Any]) -> bool:
    schema = str(object.get("OTIO_SCHEMA", "")).partition(".")[0]
    return (schema, key) in (
        ("ExternalReference", "target_url"),
        ("ImageSequenceReference", "target_url_base"),
    )


def _length(available: Any, used: Any) -> Length | None:
    """The length of the media; None if the figures are not usable."""
    try:
        seconds, rate = _seconds(available["duration"]), float(available["duration"]["rate"])
        begins = _seconds(used["start_time"]) - _seconds(available["start_time"]) if used else 0.0
    except (TypeError, ValueError, KeyError, ZeroDivisionError, OverflowError):
        return None
    if not (0 < seconds < 1e7 and 0 < rate < 1e6):
        return None
    return Length(seconds, begins if 0 <= begins <= seconds else 0.0, rate)


def _seconds(time: dict[str, Any]) -> float:
    return float(time["value"]) / float(time["rate"])


def _sequence(object: dict[str, Any]) -> Sequence:
    try:
        first, step = int(object.get("start_frame", 1)), int(object.get("frame_step", 1))
        padding, rate = int(object.get("frame_zero_padding", 0)), float(object.get("rate", 1))
        length = (object.get("available_range") or {}).get("duration") or {}
        frames = round(
            float(length.get("value", 0)) / float(length.get("rate", rate)) * rate
        ) // max(abs(step), 1)
    except (TypeError, ValueError, ZeroDivisionError, OverflowError, AttributeError) as error:
        raise NotUnderstood(
            tr("An image sequence in it has frame numbers that are not valid.")
        ) from error
    if not 0 <= frames <= _MOST_FRAMES or not 0 <= padding <= 64:
        raise NotUnderstood(
            tr(
                "An image sequence in it would have {frames} frames of {padding} digits.",
                frames=frames,
                padding=padding,
            )
        )
    return Sequence(
        str(object.get("name_prefix", "")),
        str(object.get("name_suffix", "")),
        first,
        step,
        padding,
        frames,
    )
