"""The work of ``learn``."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import typer

from fascis.commands.progress import Saying, stoppable
from fascis.commands.telling import DONE, REFUSED, WRONG, put, say, usage
from fascis.files.control import Control
from fascis.files.names import shown
from fascis.library.learning.asking import confirm, forget
from fascis.library.learning.asking import learn as look
from fascis.library.learning.learnt import Field, Learnt
from fascis.words.figures import number
from fascis.words.speech import tr, trn
from fascis.workspace import from_environment

_STEPS = {
    "listing": tr("looking which files there are"),
    "reading": tr("reading it"),
    "searching": tr("looking for places that name files"),
    "trying": tr("checking whether it can be rewritten"),
}
_STATUS = {"readable": DONE, "uncertain": WRONG, "refused": REFUSED}


def learn(
    document: str, search: list[str], yes: bool, again: bool, choose: list[int], as_json: bool
) -> None:
    """Finds where a document of unknown make keeps its paths.

    Args:
        yes: confirm the result.
        again: forget an earlier confirmation.
        choose: numbers of the fields to use, from 1.
    """
    workspace = from_environment()
    for folder in search:
        if not Path(folder).is_dir():
            usage(tr("There is no folder {folder}.", folder=shown(folder)), as_json)
    control = Control()
    path, folders = Path(document), [Path(f) for f in search]
    with Saying(shown(path.name)) as saying:

        def step(one: str, _number: int) -> None:
            saying.tell(_STEPS[one])

        learnt = stoppable(lambda: look(workspace, path, folders, control, step), control)
    if any(n < 1 or n > len(learnt.fields) for n in choose):
        usage(
            trn(
                "It has {n} field, numbered from 1.",
                "It has {n} fields, numbered from 1.",
                len(learnt.fields),
            ),
            as_json,
        )
    contested = any(one.contested_by for one in learnt.fields)
    if again:
        if not forget(workspace, learnt):
            say(tr("Nothing was confirmed."))
    elif (yes or choose) and learnt.verdict != "refused" and (choose or not contested):
        confirm(workspace, learnt, [n - 1 for n in choose])
    if as_json:
        put(_as_json(learnt))
    else:
        _tell(learnt)
    status = _STATUS[learnt.verdict]
    if learnt.state == "confirmed" and status == WRONG:
        status = DONE
    if status != DONE:
        raise typer.Exit(status)


def _as_json(learnt: Learnt) -> dict[str, Any]:
    fields = []
    for one in learnt.fields:
        said: dict[str, Any] = {
            "where": shown(one.where),
            "means": _means(one),
            "values": one.values,
            "lead_to_files": one.found,
            "files": one.files,
            "examples": [
                {"written": shown(written), "leads_to": shown(leads)}
                for written, leads in one.examples
            ],
        }
        if one.contested_by:
            said["contested_by"] = [shown(learnt.fields[n].where) for n in one.contested_by]
        fields.append(said)
    return {
        "document": shown(str(learnt.document)),
        "container": learnt.container,
        "fields": fields,
        "not_read": [
            {
                "where": shown(f"{x.table}.{x.column}"),
                "why": tr("{alive} of {values} exist", alive=x.alive, values=x.values),
            }
            for x in learnt.left
        ],
        "verdict": learnt.verdict,
        "why": learnt.why,
        "state": learnt.state,
    }


def _means(found: Field) -> str:
    return tr("from the document's folder") if found.reading.from_folder else tr("whole paths")


def _tell(learnt: Learnt) -> None:
    for n, one in enumerate(learnt.fields, 1):
        pieces = len(one.reading.pieces)
        where = shown(one.where)
        if pieces > 1:
            where = tr("{where} (in {pieces} parts)", where=where, pieces=pieces)
        found = tr("{count} of {count_2}", count=number(one.found), count_2=number(one.values))
        print(
            trn(
                "{n_}. {where} keeps a path. {found} lead to files ({n} file).",
                "{n_}. {where} keeps a path. {found} lead to files ({n} files).",
                one.files,
                n_=n,
                where=where,
                found=found,
            )
        )
        for written, leads in one.examples:
            print(f"     {shown(written)}  →  {shown(leads)}")
        for other in one.contested_by:
            says = shown(learnt.fields[other].where)
            print(tr("   {says} says the same: which does its program follow?", says=says))
    for left in learnt.left:
        print(
            tr(
                "Looks like a path and is left: {table}.{column} ({alive} of {values} exist).",
                table=shown(left.table),
                column=shown(left.column),
                alive=left.alive,
                values=left.values,
            )
        )
    if learnt.state == "confirmed":
        print(tr("Confirmed: documents of this make are understood."))
    elif learnt.verdict == "refused":
        say(tr("It stays as it is. {why}", why=learnt.why))
    elif learnt.fields:
        question = tr("Are these the places where it keeps its media? --confirm says yes.")
        say(f"{learnt.why} {question}".strip())
    else:
        say(learnt.why)
