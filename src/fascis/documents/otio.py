"""Timelines in OpenTimelineIO JSON (file format specification of OpenTimelineIO).

Read with the standard ``json``; where a target stands is found in the bytes: outside a string, the
bytes ``"target_url"``
can be a key only. Nothing is ever written back from what ``json`` made of it.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any

from fascis.documents.model import LARGEST, Length, Means, NotUnderstood, Reference, Sequence
from fascis.documents.targets import as_uri, can_be_text, is_elsewhere

_KEYS = ("target_url", "target_url_base")
_KEY = re.compile(rb'"(target_url|target_url_base)"[ \t\r\n]*:[ \t\r\n]*')
_STRING = re.compile(rb'"(?:[^"\\]|\\.)*"', re.DOTALL)
_MOST_FRAMES = 10_000_000


class Otio:
    """The format ``.otio``."""

    name = "otio"
    extensions = frozenset(("otio",))
    uris = False

    def read(self, content: bytes) -> list[Reference]:
        """References of ``ExternalReference`` and ``ImageSequenceReference``, at any depth."""
        tree = _parse(content)
        spans = list(_spans(content))
        mentions = list(_mentions(tree))
        if len(spans) != len(mentions):
            raise NotUnderstood(
                "The same name stands twice in one object of this timeline; which one counts is "
                "not known."
            )
        return [
            _reference(span, mention, key)
            for span, (key, mention) in zip(spans, mentions, strict=True)
            if span and _is_reference(key, mention)
        ]

    def written(self, target: str, url: bool = False) -> bytes:
        """A JSON string: the path as it is where it can be text, else as a URI reference."""
        return self.literal(target if not url and self.can_be_plain(target) else as_uri(target))

    def literal(self, text: str) -> bytes:
        """A JSON string."""
        return json.dumps(text, ensure_ascii=False).encode()

    def can_be_plain(self, target: str) -> bool:
        """True for a path that reads back as itself."""
        return can_be_text(target)

    def lengths(self, content: bytes) -> list[Length | None]:
        """From each reference's ``available_range``.

        Where its use begins from the ``source_range`` of its clip.
        """
        tree = _parse(content)
        spans = _spans(content)
        used = _used_ranges(tree)
        return [
            _length(mention, used.get(id(mention)))
            for span, (key, mention) in zip(spans, _mentions(tree), strict=True)
            if span and _is_reference(key, mention)
        ]


def _parse(content: bytes) -> Any:
    if len(content) > LARGEST:
        raise NotUnderstood(f"It is {len(content)} bytes long, too large for a timeline.")
    try:
        tree = json.loads(content.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        raise NotUnderstood(f"It is not UTF-8 at byte {error.start}.", error.start) from error
    except json.JSONDecodeError as error:
        raise NotUnderstood(
            f"It is no JSON at line {error.lineno}: {error.msg}.", error.pos
        ) from error
    except RecursionError as error:
        raise NotUnderstood("It is nested too deep to be a timeline.") from error
    except ValueError as error:  # a number of thousands of digits
        raise NotUnderstood(f"It holds a number that is none of a timeline ({error}).") from error
    if not isinstance(tree, dict) or not isinstance(tree.get("OTIO_SCHEMA"), str):
        raise NotUnderstood("It is JSON, but no timeline: it has no OTIO_SCHEMA.")
    return tree


def _spans(content: bytes) -> Iterator[tuple[int, int] | None]:
    """Where the values of the keys stand, in order; None for a value that is no string."""
    for found in _KEY.finditer(content):
        before = found.start() - 1
        while before >= 0 and content[before] == 0x5C:
            before -= 1
        if (found.start() - 1 - before) % 2:
            continue  # the quote is escaped: this is inside a string
        value = _STRING.match(content, found.end())
        yield value.span() if value else None


def _mentions(tree: Any) -> Iterator[tuple[str, dict[str, Any]]]:
    """``(key, object)`` for every such key of every object, in the order of the text."""
    stack: list[Iterator[Any]] = [iter((tree,))]
    while stack:
        for value in stack[-1]:
            if isinstance(value, dict):
                stack.append(
                    _members(value) if any(k in value for k in _KEYS) else iter(value.values())
                )
                break
            if isinstance(value, list):
                stack.append(iter(value))
                break
            if isinstance(value, _Found):
                yield value.key, value.object
        else:
            stack.pop()


class _Found:
    """Marks, among an object's values, that one of the keys stood here."""

    __slots__ = ("key", "object")

    def __init__(self, key: str, object: dict[str, Any]) -> None:
        self.key, self.object = key, object


def _members(object: dict[str, Any]) -> Iterator[Any]:
    for key, value in object.items():
        if key in _KEYS:
            yield _Found(key, object)
        yield value


def _is_reference(key: str, object: dict[str, Any]) -> bool:
    schema = str(object.get("OTIO_SCHEMA", "")).partition(".")[0]
    return (schema, key) in (
        ("ExternalReference", "target_url"),
        ("ImageSequenceReference", "target_url_base"),
    )


def _reference(span: tuple[int, int], object: dict[str, Any], key: str) -> Reference:
    text = str(object[key])
    means = Means.ELSEWHERE if is_elsewhere(text) else Means.PATH
    return Reference(span, text, means, _sequence(object) if key == "target_url_base" else None)


def _used_ranges(tree: Any) -> dict[int, Any]:
    """The ``source_range`` of the clip that each reference (by its ``id()``) belongs to."""
    found: dict[int, Any] = {}
    pending = [tree]
    while pending:
        value = pending.pop()
        if isinstance(value, list):
            pending += value
        elif isinstance(value, dict):
            pending += value.values()
            references = value.get("media_references")
            several = list(references.values()) if isinstance(references, dict) else []
            for reference in [value.get("media_reference"), *several]:
                found[id(reference)] = value.get("source_range")
    return found


def _length(reference: dict[str, Any], used: Any) -> Length | None:
    """How long the media is; None where that does not stand there in good figures."""
    try:
        available = reference["available_range"]
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
            f"An image sequence in it has figures that are none ({error})."
        ) from error
    if not 0 <= frames <= _MOST_FRAMES or not 0 <= padding <= 64:
        raise NotUnderstood(
            f"An image sequence in it would have {frames} frames of {padding} digits."
        )
    return Sequence(
        str(object.get("name_prefix", "")),
        str(object.get("name_suffix", "")),
        first,
        step,
        padding,
        frames,
    )
