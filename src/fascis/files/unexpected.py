"""What nobody expected: kept for a report, told as a sentence, never shown as a traceback."""

from __future__ import annotations

import os
import traceback
from pathlib import Path

from fascis.files.errors import FascisError
from fascis.files.private import make_private

_MOST = 1 << 20  # bytes of the log; then it begins anew


def told_unexpected(error: Exception, folder: Path) -> FascisError:
    """The error as a sentence.

    Where it happened is kept in ``unexpected.log`` in a folder of the person's own.

    Args:
        folder: of the program's state; made when it is not there. Nothing is kept where that cannot
            be.
    """
    log = folder / "unexpected.log"
    where = f" What is needed for a report is in {log}."
    try:
        make_private(folder)
        begin = os.O_TRUNC if log.exists() and log.stat().st_size > _MOST else 0
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC | begin
        with os.fdopen(
            os.open(log, flags, 0o600), "w", encoding="utf-8", errors="backslashreplace"
        ) as out:
            out.write("".join(traceback.format_exception(error)) + "\n")
    except OSError:
        where = ""
    return FascisError(
        f"Something happened that Fascis did not expect ({type(error).__name__}). It stopped at "
        "once; what was copied and verified is kept and written down, and a crossing that was "
        f"begun goes on with fascis resume.{where}"
    )
