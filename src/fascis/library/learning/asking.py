"""Examining a document, confirming the result, and storing the confirmation."""

from __future__ import annotations

import json
import logging
import os
import select
import subprocess
import sys
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from fascis.documents.learned.stored import CONFIRMED, Stored
from fascis.documents.registry import kind_named
from fascis.files.codes import Code
from fascis.files.control import UNSTOPPED, Control
from fascis.files.errors import Damaged, EnvironmentTrouble, Refused
from fascis.files.names import shown
from fascis.library.learning.agreed import agree, known_readings, library_of, take_back
from fascis.library.learning.learnt import Learnt
from fascis.library.own import READINGS
from fascis.library.references.reading import PathSource
from fascis.words.speech import tr
from fascis.workspace import Workspace

_LOG = logging.getLogger(__name__)

CHILD = "fascis.library.learning.child"
_LARGEST, _MOST_READINGS = 4 << 20, 200
_LOOK_SECONDS = 0.1
_ENDED = tr(
    "It could not be looked through within the time and memory that a document may take here."
)
_UNEXPECTED = tr(
    "Something unexpected happened while it was looked through; the log has it. It is as it was."
)
_ELSEWHERE = tr("In another library, or on another computer, somebody said yes to this.")

# Called with the current step, and the document's number, from 0.
Step = Callable[[str, int], None]


def _quiet(_step: str, _number: int) -> None:
    return


def learn(
    workspace: Workspace,
    document: Path,
    search: Sequence[Path] = (),
    control: Control = UNSTOPPED,
    step: Step = _quiet,
) -> Learnt:
    """Finds where a document keeps its paths, in a child process. Changes nothing.

    Args:
        search: folders that may contain its media, besides its library's own.

    Raises:
        Refused: it is a document that is understood already, or none.
        EnvironmentTrouble: it cannot be read.
        Cancelled: ``control`` was stopped.
    """
    if not document.is_file():
        raise Refused(
            Code.LIBRARY_MISSING, tr("There is no file {document}.", document=shown(str(document)))
        )
    if kind_named(os.fsencode(document.name)):
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "{name} is of a make that is understood. There is nothing to learn.",
                name=shown(document.name),
            ),
        )
    (learnt,) = learn_all(workspace, [document.absolute()], search, control, step)
    if isinstance(learnt, EnvironmentTrouble):
        raise learnt
    return learnt


def learn_all(
    workspace: Workspace,
    documents: Sequence[Path],
    search: Sequence[Path] = (),
    control: Control = UNSTOPPED,
    step: Step = _quiet,
) -> list[Learnt | EnvironmentTrouble]:
    """The same for several documents of one library, one after the other.

    If a document exceeds the limits, that is its result, and the next one is examined.
    """
    if not documents:
        return []
    library, id = library_of(workspace, documents[0])
    known = known_readings(workspace)
    told = {**_travelled(library), **known}
    drives = workspace.drives.mounts()
    workspace.use_readings()
    found: list[Learnt | EnvironmentTrouble] = []
    with PathSource(bytes(documents[0]), workspace.private) as source:
        task: dict[str, Any] = {
            "folders": [str(library), *map(str, search)],
            "drives": drives,
            "told": [one.as_text() for one in told.values()],
            "private": str(source.private_folder()),
        }
        while len(found) < len(documents):
            task["documents"] = list(map(str, documents[len(found) :]))
            for said in _answers(task, control, lambda s: step(s, len(found))):
                document = documents[len(found)]
                if "stops" in said:
                    # None of them can be examined.
                    rest = documents[len(found) :]
                    return found + [EnvironmentTrouble(said["stops"], bytes(d)) for d in rest]
                if "trouble" in said:
                    found.append(EnvironmentTrouble(said["trouble"], bytes(document)))
                elif "unexpected" in said:
                    _LOG.error("%s: %s", shown(document.name), said["unexpected"])
                    found.append(EnvironmentTrouble(_UNEXPECTED, bytes(document)))
                else:
                    learnt = Learnt.from_json(document, said["learnt"])
                    found.append(_with_state(learnt, known.get(learnt.shape), id))
            if len(found) < len(documents):
                # It ended at this one.
                found.append(Learnt(documents[len(found)], why=_ENDED))
    return found


def _with_state(learnt: Learnt, known: Stored | None, library: str) -> Learnt:
    """A document with an earlier confirmation of its make, here or elsewhere."""
    more = {one.reading for one in learnt.fields}.difference(known.readings if known else ())
    if known and not more and CONFIRMED.holds(known, bytes(learnt.document), library):
        learnt.state = "confirmed"
    elif learnt.told and learnt.verdict != "refused":
        learnt.why = _ELSEWHERE
    return learnt


def _answers(
    task: dict[str, Any], control: Control, step: Callable[[str], None]
) -> Iterator[dict[str, Any]]:
    """A child's results for one document after the other, until it ends."""
    child = subprocess.Popen(
        # -P: no module is imported from the current folder.
        [sys.executable, "-P", "-m", CHILD],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    assert child.stdin and child.stdout
    try:
        with child.stdin as told:
            told.write(json.dumps(task).encode())
        for line in _lines(child.stdout.fileno(), control):
            said = json.loads(line)
            if "step" in said:
                step(said["step"])
            else:
                yield said
    except BrokenPipeError:
        return
    finally:
        child.kill()
        child.stdout.close()
        child.wait()


def _lines(handle: int, control: Control) -> Iterator[bytes]:
    """Complete lines, as they arrive."""
    begun = b""
    answers = select.poll()
    answers.register(handle, select.POLLIN)
    while True:
        control.checkpoint()
        if not answers.poll(1000 * _LOOK_SECONDS):
            continue
        more = os.read(handle, 1 << 16)
        if not more:
            return
        *whole, begun = (begun + more).split(b"\n")
        yield from whole


def _travelled(library: Path) -> dict[bytes, Stored]:
    """Confirmations from other computers that came with the library; only hints."""
    folder = library / os.fsdecode(READINGS)
    found: dict[bytes, Stored] = {}
    try:
        names = sorted(os.listdir(folder))[:_MOST_READINGS]
    except OSError:
        return found
    for name in names:
        try:
            with open(folder / name, encoding="utf-8", errors="surrogateescape") as file:
                stored = Stored.from_text(file.read(_LARGEST), folder / name)
        except (OSError, Damaged):
            continue
        found[stored.shape] = stored
    return found


def confirm(workspace: Workspace, learnt: Learnt, choice: Sequence[int] = ()) -> None:
    """Stores where a document keeps its paths: from now on similar documents are understood here.

    Args:
        choice: the chosen ones of fields that contain the same, by their numbers from 0. All
            uncontested fields are used too.

    Raises:
        Refused: nothing of it may be confirmed.
    """
    every = learnt.fields
    chosen = {n for n in choice if every[n].contested_by}
    asked = chosen.union(*(every[n].contested_by for n in chosen))
    taken = [f for n, f in enumerate(every) if n in chosen or not f.contested_by]
    is_open = any(f.contested_by and n not in asked for n, f in enumerate(every))
    if learnt.verdict == "refused" or not taken or is_open:
        raise Refused(
            Code.WRONG_STATE,
            tr(
                "{name} is left as it is: {value}",
                name=shown(learnt.document.name),
                value=learnt.why or tr("nothing was found."),
            ),
        )
    stored = Stored(
        learnt.container,
        learnt.shape,
        learnt.marks,
        tuple(one.reading for one in taken),
        workspace.clock(),
        learnt.filled,
    )
    agree(workspace, stored, learnt.document.absolute())
    learnt.state = "confirmed"


def forget(workspace: Workspace, learnt: Learnt) -> bool:
    """Removes the confirmation for the library of a document; False if there was none."""
    found = take_back(workspace, learnt.shape, learnt.document.absolute())
    learnt.state = "proposed" if learnt.fields else "none"
    return found
