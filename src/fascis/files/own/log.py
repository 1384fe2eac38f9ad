"""The log: what the program did, one JSON object a line, to understand a report.

Every module uses ``logging.getLogger(__name__)``; if the log was not started, nothing is stored.
The message of a record is separate from the names and paths in it, so that a report can leave these
out.
"""

from __future__ import annotations

import json
import logging
import os
import traceback
from collections.abc import Iterator
from datetime import UTC, datetime
from io import TextIOWrapper
from logging.handlers import RotatingFileHandler
from pathlib import Path
from types import TracebackType
from typing import Any

from fascis.files.errors import EnvironmentTrouble
from fascis.files.own.private import make_private

NAME = "fascis.log"
# Bytes of each file, and the number of earlier files.
_BYTES, _KEPT = 1 << 20, 3
_TOP = logging.getLogger("fascis")
_TOP.addHandler(logging.NullHandler())


class _File(RotatingFileHandler):
    """The file, readable only by the person, and never through a link."""

    def _open(self) -> TextIOWrapper:
        return open(
            self.baseFilename,
            "a",
            encoding="utf-8",
            opener=lambda path, flags: os.open(path, flags | os.O_NOFOLLOW, 0o600),
        )


class _Lines(logging.Formatter):
    """A record as one line of JSON."""

    def format(self, record: logging.LogRecord) -> str:
        """The line.

        ``says`` is the same for all records of one line of code; ``with`` has the values.
        """
        line: dict[str, Any] = {
            "at": datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds"),
            "level": record.levelname.lower(),
            "where": record.name.removeprefix("fascis."),
            "says": str(record.msg),
        }
        if record.args:
            given = record.args if isinstance(record.args, tuple) else (record.args,)
            line["with"] = [str(a) for a in given]
        if record.exc_info and record.exc_info[1]:
            kind, error, trace = record.exc_info
            assert kind
            line |= {"error": kind.__name__, "words": str(error), "trace": _steps(trace)}
        return json.dumps(line, ensure_ascii=True)


def _steps(trace: TracebackType | None) -> list[str]:
    """Where an error came from, without the program's own folder."""
    return [
        f"{step.filename.rpartition('fascis/')[2].rpartition('site-packages/')[2]}:{step.lineno} "
        f"{step.name}"
        for step in traceback.extract_tb(trace)
    ]


def begin(folder: Path) -> None:
    """Starts the log in a folder of the person's own, once. If that fails, there is none."""
    path = folder / NAME
    for handler in list(_TOP.handlers):
        if isinstance(handler, _File):
            if handler.baseFilename == str(path):
                return
            _TOP.removeHandler(handler)
            handler.close()
    try:
        make_private(folder)
        handler = _File(path, maxBytes=_BYTES, backupCount=_KEPT)
    except (OSError, EnvironmentTrouble):
        return
    handler.setFormatter(_Lines())
    _TOP.addHandler(handler)
    _TOP.setLevel(logging.INFO)
    # A full disk ends the log, but not the work.
    logging.raiseExceptions = False


def records(folder: Path, most: int = 2_000) -> Iterator[dict[str, Any]]:
    """The last records, oldest first; unreadable lines are left out."""
    lines: list[str] = []
    for number in range(_KEPT, -1, -1):
        path = folder / (f"{NAME}.{number}" if number else NAME)
        try:
            lines += path.read_text("utf-8", "replace").splitlines()
        except OSError:
            continue
    for line in lines[-most:]:
        try:
            record = json.loads(line)
        except ValueError:
            continue
        if isinstance(record, dict):
            yield record
