"""How tests make crossings."""

from __future__ import annotations

from fascis.crossing.crossing import Crossing
from fascis.crossing.plan import After, Choices, make_plan, survey_library


def plan_of(bench, after=After.KEEP, to=None, name="", leave_out=(), library=None, also=None, discard=()):
    surveyed = survey_library(bench.workspace, library or bench.library)
    return make_plan(
        bench.workspace,
        surveyed,
        to or bench.heron,
        Choices(name, frozenset(leave_out), after, frozenset(discard)),
        also,
    )


def codes(plan):
    return {p.code: p.severity.value for p in plan.problems}


def started(bench, after=After.KEEP, decided=True, **more):
    return Crossing.start(
        bench.workspace, plan_of(bench, after, **more), decided=decided, consent=after is After.RELEASE
    )


def settled(bench, after=After.KEEP, **more):
    crossing = started(bench, after, **more)
    assert crossing.run().value == "settled", crossing.journal.attentions()
    return crossing


def switched(bench, **more):
    crossing = settled(bench, **more)
    crossing.switch()
    return crossing
