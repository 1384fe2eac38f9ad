"""A process that examines documents, one after the other, within its limits.

It reads its orders as JSON from its input, and reports its progress and its results line by line,
as JSON. It changes only private copies in a folder that it is given.
"""

from __future__ import annotations

import json
import os
import resource
import sys
import traceback
from pathlib import Path
from typing import Any

from fascis.documents.learned.stored import Stored
from fascis.files.errors import EnvironmentTrouble
from fascis.library.learning.learnt import Learnt
from fascis.library.learning.looking import Where, existing_in, look
from fascis.words.speech import tr

# For one document: seconds of processor time, and bytes of memory of the whole process.
SECONDS, MEMORY = 240, 3 << 30
_TOO_LARGE = tr("To look through it takes more memory than a document may take here.")


def main() -> None:
    """Examines all documents named in its input."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    task = json.load(sys.stdin)
    _say(step="listing")
    try:
        existing = existing_in([os.fsencode(f) for f in task["folders"]], task["drives"])
    except EnvironmentTrouble as error:
        _say(stops=str(error))
        return
    told = Stored.understood(task["told"], tr("a reading"))
    where = Where(
        existing,
        {one.shape: one for one in told},
        Path(task["private"]),
        lambda step: _say(step=step),
    )
    for document in task["documents"]:
        used = resource.getrusage(resource.RUSAGE_SELF)
        until = int(used.ru_utime + used.ru_stime) + SECONDS
        resource.setrlimit(resource.RLIMIT_CPU, (until, resource.RLIM_INFINITY))
        try:
            _say(learnt=look(Path(document), where).as_json())
        except EnvironmentTrouble as error:
            _say(trouble=str(error))
        except (MemoryError, RecursionError):
            _say(learnt=Learnt(Path(document), why=_TOO_LARGE).as_json())
        except Exception:
            # Our own mistake must not be reported as one of the document's.
            _say(unexpected=traceback.format_exc())


def _say(**said: Any) -> None:
    sys.stdout.write(json.dumps(said) + "\n")
    sys.stdout.flush()


if __name__ == "__main__":
    main()
