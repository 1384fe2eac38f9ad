"""A plan as a sentence in a person's words, for window and command line.

Each sentence is one message of the translation. Its choices are inserted as a whole, and found in
it again, so that a language can put them anywhere.
"""

from __future__ import annotations

import re
from enum import StrEnum
from pathlib import Path

from msgspec import Struct

from fascis.crossing.model.afterwards import After, Shared
from fascis.crossing.plan.plan import Plan
from fascis.drives.model import Drive
from fascis.files.names import elided, shown
from fascis.library.roles import Role
from fascis.words.figures import listed, ready_at, size
from fascis.words.speech import tr, trn

_BEGINS, _MIDDLE, _ENDS = "\x01", "\x02", "\x03"
_PART = re.compile(f"{_BEGINS}([^{_MIDDLE}]*){_MIDDLE}([^{_ENDS}]*){_ENDS}")
# A name in the sentence; where it is chosen, all of it is shown.
_LONGEST = 44


class Choice(StrEnum):
    """The choices in a plan's sentence."""

    WHAT = "what"
    WHERE = "where"
    NAME = "name"
    ALONG = "along"
    SHARED = "shared"
    HOME = "home"
    ORIGINALS = "originals"
    GATHERED = "gathered"


class Run(Struct, frozen=True):
    """A piece of a sentence: plain text, or a choice."""

    text: str
    choice: Choice | None = None


class Sentence(Struct, frozen=True):
    """A sentence in pieces, in order."""

    runs: tuple[Run, ...]

    @property
    def text(self) -> str:
        """The whole sentence."""
        return "".join(run.text for run in self.runs)


def part(choice: Choice, text: str) -> str:
    """Marks a piece of a sentence as a choice, for :func:`parsed`."""
    return f"{_BEGINS}{choice}{_MIDDLE}{text}{_ENDS}"


def parsed(*sentences: str) -> Sentence:
    """Sentences, one after the other, with their choices."""
    text, runs, at = " ".join(filter(None, sentences)), list[Run](), 0
    for found in _PART.finditer(text):
        if found.start() > at:
            runs.append(Run(text[at : found.start()]))
        runs.append(Run(found[2], Choice(found[1])))
        at = found.end()
    if at < len(text):
        runs.append(Run(text[at:]))
    return Sentence(tuple(runs))


def plan_sentence(plan: Plan, ungather: bool | None = None) -> Sentence:
    """What a plan does, in a person's words.

    Args:
        ungather: for a library that comes back, whether gathered media returns to its loose path;
            None if there is none, or no choice.
    """
    if plan.update is not None:
        return parsed(_updates(plan))
    if plan.restores:
        return parsed(_brings_back(plan), _gathered(ungather))
    return parsed(_takes(plan), _shares(plan), _then(plan))


def _takes(plan: Plan) -> str:
    """What is copied, where, with which name and which files."""
    where = listed([part(Choice.WHERE, where_words(g.path, g.drive)) for g in plan.goals])
    if plan.choices.into:
        where = part(Choice.WHERE, where_words(plan.asked_for, plan.destination_drive))
    with_what = part(Choice.ALONG, along_words(plan))
    how_much = _how_much(plan)
    what = part(Choice.WHAT, elided(what_words(plan), _LONGEST))
    if names_it(plan):
        name = part(Choice.NAME, elided(shown(plan.name), _LONGEST))
        if plan.part or plan.of_catalog:
            return tr(
                "Take {what} of {library} to {where}, as {name}, with {things} ({size}).",
                what=what, library=library_words(plan), where=where, name=name, things=with_what,
                size=how_much,
            )  # fmt: skip
        return tr(
            "Take {what} to {where}, as {name}, with {things} ({size}).",
            what=what, where=where, name=name, things=with_what, size=how_much,
        )  # fmt: skip
    return tr(
        "Take {what} of {library} into {where}, with {things} ({size}).",
        what=what, library=library_words(plan), where=where, things=with_what, size=how_much,
    )  # fmt: skip


def names_it(plan: Plan) -> bool:
    """True if the copy gets a name that can be chosen; several folders keep theirs."""
    return not plan.choices.into or len(plan.choices.only) < 2


def library_words(plan: Plan) -> str:
    """The library to which a part belongs."""
    name = Path(plan.of_catalog).stem if plan.of_catalog else plan.source.name
    if plan.identity and not plan.of_catalog:
        name = plan.identity.name
    return elided(shown(name), _LONGEST)


def what_words(plan: Plan) -> str:
    """What is copied: the library, or its parts by name."""
    if plan.part:
        return listed([shown(n) for n in plan.part.names]) or tr("the rest")
    if plan.of_catalog:
        return shown(plan.source.name)
    return library_words(plan)


def where_words(folder: Path, drive: Drive | None) -> str:
    """A folder as its drive and the folders on it: ``Heron A / Archive / 2024``."""
    if drive is None:
        return shown(str(folder))
    inner = folder.relative_to(drive.mount).parts if folder.is_relative_to(drive.mount) else ()
    return " / ".join(elided(shown(name), 30) for name in (drive.label, *inner))


def along_words(plan: Plan) -> str:
    """How much of it is copied: everything, or everything except some files."""
    choices = plan.choices
    out = [role.words for role in Role if role in choices.leave_out | choices.discard]
    if not choices.gather and plan.gathering.left:
        out.append(tr("loose media"))
    if choices.leave_unused:
        out.append(tr("unused files"))
    if choices.leave_clashing:
        out.append(tr("files that the drive cannot store as they are"))
    if choices.without:
        out.append(trn("{n} strand", "{n} strands", len(choices.without)))
    some = plan.part is not None or bool(plan.of_catalog)
    if not out:
        return tr("all that it uses") if some else tr("everything")
    if some:
        return tr("all that it uses but {these}", these=listed(out))
    return tr("everything but {these}", these=listed(out))


def _how_much(plan: Plan) -> str:
    total = size(plan.totals.bytes)
    gathered = len(plan.gathering.items)
    if not gathered:
        return total
    return trn(
        "{size}, {n} loose file gathered", "{size}, {n} loose files gathered", gathered, size=total
    )


# -- a copy that is brought up to date, a library that comes back ----------------------------------


def _updates(plan: Plan) -> str:
    assert plan.update is not None
    facts = plan.update.facts
    name, drive = library_words(plan), where_words(plan.destination, plan.destination_drive)
    changes = [
        trn("{n} new file", "{n} new files", facts.added) if facts.added else "",
        trn("{n} changed file", "{n} changed files", facts.changed) if facts.changed else "",
        trn("{n} moved file", "{n} moved files", facts.moved) if facts.moved else "",
        trn("{n} removed file", "{n} removed files", facts.removed) if facts.removed else "",
    ]
    if not any(changes):
        return tr("The copy of {name} at {place} is up to date.", name=name, place=drive)
    return tr(
        "Bring the copy of {name} at {place} up to date: {changes} ({size} to copy).",
        name=name, place=drive, changes=listed([c for c in changes if c]),
        size=size(plan.goals[0].room),
    )  # fmt: skip


def _brings_back(plan: Plan) -> str:
    there = where_words(plan.source.parent, plan.source_drive)
    return tr(
        "Bring {name} back from {drive} to {place} ({size} to copy). Home moves back; the copy on "
        "{drive} stays.",
        name=library_words(plan), drive=there,
        place=where_words(plan.destination, plan.destination_drive), size=size(plan.totals.bytes),
    )  # fmt: skip


def _gathered(ungather: bool | None) -> str:
    if ungather is None:
        return ""
    return tr("Gathered media {goes}.", goes=part(Choice.GATHERED, gathered_words(ungather)))


def gathered_words(ungather: bool) -> str:
    """Where gathered media is after its library came back."""
    if ungather:
        return tr("goes back to where it was")
    return tr("stays with the library")


# -- what stays ------------------------------------------------------------------------------------


def asks_shared(plan: Plan) -> bool:
    """True if something that stays may need the copied files, so that there is a choice."""
    some = plan.part is not None or bool(plan.of_catalog)
    return some and plan.choices.after is not After.COPY and not plan.choices.rest


def _shares(plan: Plan) -> str:
    if not asks_shared(plan):
        return ""
    library = library_words(plan)
    if plan.followers.led:
        how = part(Choice.SHARED, tr("stays here and follows"))
        return tr("{library} {stays_and_follows}.", library=library, stays_and_follows=how)
    how = part(Choice.SHARED, tr("stays here too"))
    return tr("What it shares with {library} {stays_too}.", library=library, stays_too=how)


def shared_words(shared: Shared, library: str) -> str:
    """One of the two options for shared files, as a choice."""
    if shared is Shared.FOLLOWS:
        return tr("{library} follows: its documents then use the new place", library=library)
    return tr("what {library} uses too stays here as well", library=library)


# -- home and originals ----------------------------------------------------------------------------


def _then(plan: Plan) -> str:
    after = plan.choices.after
    if plan.part is not None:
        return tr("Then {act}.", act=part(Choice.ORIGINALS, part_after_words(after)))
    if after is After.COPY:
        return tr(
            "Home {stays_here}; this is one more copy.",
            stays_here=part(Choice.HOME, tr("stays here")),
        )
    there = where_words(plan.destination, plan.destination_drive)
    return tr(
        "Home {moves_there}; the originals {fate}.",
        moves_there=part(Choice.HOME, tr("moves to {place}", place=there)),
        fate=part(Choice.ORIGINALS, originals_words(after)),
    )


def originals_words(after: After) -> str:
    """What happens to the originals after home has moved."""
    return {
        After.KEEP: tr("stay here"),
        After.PARK: tr("are set aside"),
        After.RELEASE: tr("are deleted, after I have looked"),
    }[after]


def part_after_words(after: After) -> str:
    """What happens to a part's originals."""
    return {
        After.COPY: tr("leave everything here as it is"),
        After.KEEP: tr("keep the originals"),
        After.PARK: tr("set the originals aside"),
        After.RELEASE: tr("delete the originals, after I have looked"),
    }[after]


# -- when, and what it frees -----------------------------------------------------------------------


def ready_sentence(plan: Plan) -> str:
    """When it is whole, on each drive, as times of day."""
    places = [
        tr(
            "on {drive} at {time}",
            drive=shown(g.drive.label) if g.drive else shown(str(g.path)),
            time=ready_at(g.estimate.seconds),
        )
        for g in plan.goals
    ]
    return tr("Whole {places}.", places=listed(places))


def freed_sentence(plan: Plan) -> str:
    """How much room it frees, and when."""
    if plan.choices.after is After.COPY:
        return tr("Frees nothing.")
    freed = size(plan.frees)
    if not plan.frees:
        return tr("Frees nothing: all originals stay.")
    if plan.choices.after is After.RELEASE:
        return tr("Frees {size} once the originals are deleted.", size=freed)
    return tr("Frees nothing now, {size} when you delete the originals.", size=freed)


def kept_sentence(plan: Plan) -> str:
    """How many of the copied files stay here because others need them; or empty."""
    if not plan.shared or plan.choices.after is After.COPY:
        return ""
    users = sorted({_short_user(name) for who in plan.shared.values() for name in who})
    total = size(sum(plan.sizes_of(plan.shared).values()))
    first = users[0] if users else tr("other documents")
    if len(users) > 1:
        return trn(
            "{size} stay, needed by {first} and {n} other.",
            "{size} stay, needed by {first} and {n} others.",
            len(users) - 1,
            size=total,
            first=elided(first, _LONGEST),
        )
    return tr("{size} stay, needed by {first}.", size=total, first=elided(first, _LONGEST))


def _short_user(name: str) -> str:
    """Who needs something, in short: its library in brackets, or the document's own name."""
    if name.endswith(")") and " (" in name:
        return shown(name.rpartition(" (")[2][:-1])
    last = name.rpartition("/")[2]
    return shown(last.rpartition(".")[0] or last)
