"""How tests make crossings."""

from __future__ import annotations

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import find_crossing, unfinished
from tests.judge import contents


def plan_of(
    bench, after=After.KEEP, to=None, name="", leave_out=(), library=None, also=None, discard=()
):
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
        bench.workspace,
        plan_of(bench, after, **more),
        decided=decided,
        consent=after is After.RELEASE,
    )


def settled(bench, after=After.KEEP, **more):
    crossing = started(bench, after, **more)
    assert crossing.run().value == "settled", crossing.journal.attentions()
    return crossing


def switched(bench, **more):
    crossing = settled(bench, **more)
    crossing.switch()
    return crossing


def goes_on_to_the_end(bench, before, *drives):
    """An interrupted crossing resumes, is released, is whole on every drive, and leaves nothing
    else.
    """
    for id in unfinished(bench.workspace):
        crossing = find_crossing(bench.workspace, id)
        crossing.run()
        assert crossing.advance(consent=True).value == "released"
        crossing.close()
        for drive in drives:
            assert contents(drive / "The Weir") == before
            assert [p.name for p in drive.iterdir() if p.name.startswith(".fascis")] == []
        assert not bench.library.exists()
