"""The work of ``release``; imported only when it runs."""

from __future__ import annotations

import sys
from contextlib import redirect_stdout
from itertools import islice

import typer

from fascis.commands.crossing_work import do_step, leave, open_crossing
from fascis.commands.progress import stoppable
from fascis.commands.split_work import list_release as list_split
from fascis.commands.split_work import release as release_split
from fascis.commands.split_work import the_split
from fascis.commands.telling import INTERRUPTED, REFUSED, interactive, put, say
from fascis.crossing.status.deleting import Deleting, deleting_now
from fascis.crossing.status.report import deleting_object, refusal_object
from fascis.files.codes import Code
from fascis.files.control import Control
from fascis.files.errors import FascisError, Refused
from fascis.files.names import shown
from fascis.words.figures import number, size
from fascis.words.speech import tr, trn
from fascis.workspace import from_environment

# How many of the files that would be deleted are listed before the question.
_MOST_LINES = 40


def list_release(crossing: str, as_json: bool) -> None:
    """Lists what a release would delete now, and what would stay; deletes nothing."""
    if (split := the_split(from_environment(), crossing, as_json)) is not None:
        list_split(split, as_json)
        return
    found = _deleting(crossing, as_json)
    if as_json:
        put(deleting_object(found))
    else:
        tell_deleting(found, len(found.places))


def _deleting(id: str, as_json: bool) -> Deleting:
    """Finds out what a release would delete; exits with a message if that is not possible."""
    found = open_crossing(from_environment(), id, as_json)
    control = Control()
    try:
        return stoppable(lambda: deleting_now(found, control), control)
    except FascisError as error:
        if as_json:
            put(refusal_object(error))
        say(str(error))
        leave(REFUSED if isinstance(error, Refused) else INTERRUPTED, error)
    finally:
        found.close()


def tell_deleting(found: Deleting, most: int) -> None:
    """Prints what would be deleted and what stays; of the former at most so many lines."""
    print(
        trn(
            "Goes: {n} file, {size} long.",
            "Goes: {n} files, {size} long.",
            found.files,
            size=size(found.bytes),
        )
    )
    for place, length in islice(zip(found.places, found.lengths, strict=True), most):
        print(f"  {shown(place)}  {size(length)}")
    if found.files > most:
        print(
            tr(
                "  and {count} more; release --list shows all of them",
                count=number(found.files - most),
            )
        )
    if found.stays:
        print(trn("Stays: {n} file.", "Stays: {n} files.", len(found.stays)))
    for one in found.stays:
        print(f"  {shown(one.place)}  {size(one.bytes)}  ({one.told})")
    print(tr("Deleting these frees {size}.", size=size(found.frees)))


def release(crossing: str, yes: bool, compared: bool, as_json: bool) -> None:
    """Deletes the originals whose copies are verified, and frees their space."""
    if not yes and not _asked_release(crossing, as_json):
        error = Refused(
            Code.NOT_CONFIRMED,
            tr("Deleting the originals needs your confirmation: --yes. Nothing was deleted."),
        )
        if as_json:
            put(refusal_object(error))
        say(str(error))
        raise typer.Exit(REFUSED)
    if (split := the_split(from_environment(), crossing, as_json)) is not None:
        release_split(split, compared, as_json)
    do_step(crossing, as_json, "release", needs_switch=True, compared=compared)


def _asked_release(id: str, as_json: bool) -> bool:
    """Shows what would be deleted and what stays, then asks."""
    if not interactive():
        return False
    with redirect_stdout(sys.stderr):
        if (split := the_split(from_environment(), id, as_json)) is not None:
            list_split(split, False)
        else:
            tell_deleting(_deleting(id, as_json), _MOST_LINES)
    return typer.confirm(
        tr("Delete these originals of crossing {id}, whose copies are verified?", id=shown(id)),
        err=True,
    )
