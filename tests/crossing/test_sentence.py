"""A plan as a sentence: whole, in parts, into a folder, twice, and its choices found again."""

import pytest
from msgspec.structs import replace

from fascis.crossing.model.afterwards import After, Shared
from fascis.crossing.model.problems import Problem
from fascis.crossing.plan.answers import Turn, answers
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.sentence import (
    Choice,
    freed_sentence,
    kept_sentence,
    parsed,
    part,
    plan_sentence,
    ready_sentence,
)
from fascis.crossing.scope.surveyed import survey_library
from fascis.files.codes import Code, Severity
from fascis.library.roles import Role
from tests.library.making import timeline, write


@pytest.fixture
def studio(bench):
    """Two projects that share a clip."""
    write(bench.library / "media/shared.mov", b"shared" * 9000)
    write(bench.library / "media/spring.mov", b"spring" * 8000)
    for name in ("Spring", "Autumn"):
        clips = ("../../media/shared.mov", "../../media/spring.mov")[: 2 if name == "Spring" else 1]
        write(bench.library / f"projects/{name}/{name}.otio", timeline(*clips))
    bench.add_drive("egret")
    return bench


def sentence(bench, choices, to=None, also=None):
    surveyed = survey_library(bench.workspace, bench.library)
    plan = make_plan(bench.workspace, surveyed, to or bench.heron, choices, also)
    return plan, plan_sentence(plan).text.replace("\xa0", " ")


def test_a_whole_library_with_a_second_copy(studio):
    plan, text = sentence(studio, Choices(), also=studio.drives / "egret")
    assert text.startswith("Take The Weir to heron and egret, as The Weir, with everything (")
    assert text.endswith("Home moves to heron; the originals stay here.")
    assert ready_sentence(plan).count(" at ") == 2
    assert freed_sentence(plan).startswith("Frees nothing now, ")
    chosen = {run.choice for run in plan_sentence(plan).runs if run.choice}
    assert chosen == {
        Choice.WHAT,
        Choice.WHERE,
        Choice.NAME,
        Choice.ALONG,
        Choice.HOME,
        Choice.ORIGINALS,
    }


def test_one_more_copy_never_speaks_of_home_going_anywhere(studio):
    plan, text = sentence(studio, Choices(after=After.COPY))
    assert text.endswith("Home stays here; this is one more copy.")
    assert "moves" not in text and "originals" not in text
    assert freed_sentence(plan) == "Frees nothing." and kept_sentence(plan) == ""


def test_what_is_left_out_is_named(studio):
    choices = Choices(leave_out=frozenset([Role.PREVIEW, Role.PROXY]), leave_unused=True)
    _, text = sentence(studio, choices)
    assert "with everything but proxies, previews and unused files (" in text


def test_a_part_says_of_what_and_what_stays(studio):
    choices = Choices(only=frozenset(["Autumn"]), after=After.RELEASE)
    plan, text = sentence(studio, choices)
    assert text.startswith("Take Autumn of The Weir to heron, as Autumn, with all that it uses (")
    assert "What it shares with The Weir stays here too." in text
    assert text.endswith("Then delete the originals, after I have looked.")
    assert "needed by" in kept_sentence(plan) and "Spring" in kept_sentence(plan)
    _, text = sentence(studio, replace(choices, shared=Shared.FOLLOWS))
    assert "The Weir stays here and follows." in text


def test_a_folder_into_a_folder(studio):
    into = studio.heron / "Archive/2024"
    into.mkdir(parents=True)
    choices = Choices(only=frozenset(["media"]), into=True)
    plan, text = sentence(studio, choices, into)
    assert "Take media of The Weir to heron / Archive / 2024, as media, " in text
    assert not plan.stopped


def test_names_never_end_a_choice_early(studio):
    """A name may hold anything that a file system takes, our own marks among them."""
    odd = studio.library.with_name("We\x02ir\x03 {name}")
    studio.library.rename(odd)
    surveyed = survey_library(studio.workspace, odd)
    plan = make_plan(studio.workspace, surveyed, studio.heron, Choices())
    text = plan_sentence(plan).text
    assert "We\\u0002ir\\u0003 {name}" in text


def test_a_choice_is_found_wherever_a_language_puts_it():
    said = parsed(f"{part(Choice.NAME, 'B')} zuerst, dann {part(Choice.WHAT, 'A')}.", "", "Ende.")
    assert [(r.text, r.choice) for r in said.runs] == [
        ("B", Choice.NAME),
        (" zuerst, dann ", None),
        ("A", Choice.WHAT),
        (". Ende.", None),
    ]


@pytest.mark.parametrize("code", [c for c in Code if c.severity is Severity.DECISION])
def test_every_decision_can_be_answered(code):
    """By going on, or by a choice that answers it; a problem that stops offers no going on."""
    given = answers(Choices(), Problem(code, "It is so."))
    assert 1 <= len(given) <= 2
    assert any(a.turn in (Turn.ACCEPT, Turn.CHANGE) for a in given)
    stops = answers(Choices(), Problem(code, "It is so.", severity_here=Severity.STOPS))
    assert stops and all(a.turn is not Turn.ACCEPT for a in stops)
    assert answers(Choices(), Problem(code, "It is so.", severity_here=Severity.NOTE)) == ()


def test_taking_along_what_is_left_out_undoes_each_way_of_leaving_it():
    chosen = Choices(
        leave_out=frozenset([Role.ORIGINAL, Role.PROXY]), without=frozenset([(b"", Role.OTHER, "")])
    )
    take = answers(chosen, Problem(Code.USED_LEFT_OUT, "It is so."))[0]
    after = replace(chosen, **take.changes)
    assert after.leave_out == {Role.PROXY} and not after.without
