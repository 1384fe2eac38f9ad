"""Unexpected errors: stored in the log, reported as a sentence, never shown as a traceback."""

from __future__ import annotations

import logging
from pathlib import Path

from fascis.files.errors import FascisError
from fascis.files.own import log
from fascis.words.speech import tr

_LOG = logging.getLogger(__name__)


def told_unexpected(error: Exception, folder: Path) -> FascisError:
    """The error as a sentence; its place in the code is stored in the log.

    Args:
        folder: of the program's state; created if needed. If that fails, nothing is stored.
    """
    log.begin(folder)
    _LOG.error("unexpected", exc_info=error)
    path = folder / log.NAME
    told = tr(
        "Something happened that Fascis did not expect ({name}). It stopped at once; what was "
        "copied and verified is kept and written down, and a crossing that was begun goes on with "
        "fascis resume.",
        name=type(error).__name__,
    )
    if path.exists():
        told = f"{told} {tr('What is needed for a report is in {path}.', path=path)}"
    return FascisError(told)
