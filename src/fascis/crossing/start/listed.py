"""What other hash lists state about the entries of a plan."""

from __future__ import annotations

import os
from collections.abc import Iterator

from fascis.crossing.plan.plan import Plan
from fascis.files.hash_lists import HashList, place_key
from fascis.library.survey import Kind


def listed_rows(plan: Plan) -> Iterator[tuple[int, str]]:
    """``(entry, what the lists state)`` for everything in a list and in the plan.

    What is stated for one name of a file holds for all its names.

    Raises:
        Damaged: a list is none.
    """
    entries = _entries(plan)
    top = os.path.realpath(bytes(plan.source)) + b"/"
    for one in plan.lists:
        for listed in one.read():
            for path in (bytes(one.base) + b"/" + listed.place, top + listed.place):
                if found := entries.get(place_key(path)):
                    yield from ((entry, listed.as_text()) for entry in found)
                    break


def not_here(plan: Plan, one: HashList) -> list[bytes]:
    """Files in a list that are not in the plan."""
    entries = _entries(plan)
    top = os.path.realpath(bytes(plan.source)) + b"/"
    return [
        listed.place
        for listed in one.read()
        if place_key(bytes(one.base) + b"/" + listed.place) not in entries
        and place_key(top + listed.place) not in entries
    ]


def _entries(plan: Plan) -> dict[bytes, list[int]]:
    """The entries of a plan by their full paths; for a file with several names, all of them."""
    survey, names = plan.survey, dict[tuple[int, int], list[int]]()
    top, kinds = os.path.realpath(bytes(plan.source)) + b"/", plan.survey.kinds()
    found: dict[bytes, list[int]] = {}
    for row, folder, place in survey.rows():
        if kinds[row] != Kind.FILE:
            continue
        entries = [row]
        if survey.link_count[row] > 1:
            entries = names.setdefault((folder.device, survey.inode[row]), [])
            entries.append(row)
        found[place_key(top + place)] = entries
    for number, (_, loose) in enumerate(plan.gathering.items, len(survey)):
        found[place_key(loose.path)] = [number]
    return found
