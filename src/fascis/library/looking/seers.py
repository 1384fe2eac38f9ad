"""Summarising folders: in this process, and, if there are many, in helpers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fascis.files.control import Control
from fascis.files.own.helper import Helper
from fascis.files.own.in_order import InOrder
from fascis.library.looking.seeing import Answer, Eyes, Seen

_MODULE = "fascis.library.looking.seer"

Folder = tuple[bytes, int]
"""Its path, and the time in ns for which it is known what lies in it."""


def seers(eyes: Eyes, control: Control) -> InOrder[Folder, Answer]:
    """Summarises folders in the order in which they are given."""
    return InOrder(
        lambda: Helper(_MODULE), lambda folder: eyes.see(*folder), _answered, control, eyes.below
    )


def _answered(folder: Folder, row: Any) -> Answer:
    kind, mtime_ns, packed = row
    return kind, mtime_ns, Seen(folder[0], mtime_ns, *packed) if packed else None


def answers(eyes: Eyes, job: Sequence[Folder]) -> list[tuple[int, int, object]]:
    """A helper's answer to a job."""
    found = [eyes.see(path, known) for path, known in job]
    return [(kind, mtime, seen.packed() if seen else None) for kind, mtime, seen in found]
