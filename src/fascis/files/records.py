"""CSV records (RFC 4180), many at a time."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from typing import cast


def records(columns: Sequence[Sequence[str] | Sequence[int]]) -> str:
    """Records as text, from their fields column by column: two columns or more.

    Nearly always no field needs quotes; checking each letter of each field would take ten times as
    long.
    """
    texts = [_texts(column) for column in columns]
    count = len(texts[0])
    lines = "\r\n".join(map(",".join, zip(*texts, strict=True)))
    # No field has a mark if there are as many as stand between fields and between records.
    if (
        '"' not in lines
        and lines.count(",") == count * (len(texts) - 1)
        and lines.count("\r") == lines.count("\n") == count - 1
    ):
        return f"{lines}\r\n"
    out = io.StringIO()
    csv.writer(out, lineterminator="\r\n").writerows(zip(*texts, strict=True))
    return out.getvalue()


def _texts(column: Sequence[str] | Sequence[int]) -> Sequence[str]:
    if column and isinstance(column[0], int):
        return list(map(str, column))
    return cast(Sequence[str], column)
