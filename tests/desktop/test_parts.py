"""Parts in the window: ticked, dragged onto a library, landing in what exists, split by project."""

import os

import pytest
from PyQt6.QtCore import QPointF, Qt
from PyQt6.QtTest import QTest
from PyQt6.QtWidgets import QLabel

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.plan.sentence import Choice
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.tour.pictures import PartDrag, drop_part
from tests.judge import contents
from tests.library.making import catalog_at, timeline, write
from tests.worlds import oracle

LEFT = Qt.MouseButton.LeftButton
TRIP = "photos/2024 trip"


def files(folder):
    return {os.fsdecode(place) for place in contents(folder)}


def words(window):
    found = "\n".join(x.text() for x in window.panel.findChildren(QLabel) if x.isVisible())
    return found.replace("\xa0", " ")


@pytest.fixture
def river(bench):
    """A catalog with two folders of photos, and an archive that has some of one."""
    lib = bench.library
    for place in ("photos/2023/a.jpg", f"{TRIP}/heron.jpg", f"{TRIP}/weir.jpg"):
        write(lib / place, place.encode() * 4000)
    catalog_at(
        lib / "River.fascat",
        [("uuid-inside", f"{lib.name}/photos")],
        [(1, 1, "2023"), (2, 1, "2024 trip")],
        [(1, "a.jpg"), (2, "heron.jpg"), (2, "weir.jpg")],
    )
    there = bench.heron / "Archive/2024/2024 trip"
    write(there / "weir.jpg", (lib / TRIP / "weir.jpg").read_bytes())
    write(there / "heron.jpg", b"another heron")
    remember(bench.workspace, survey_library(bench.workspace, lib))
    return lib


@pytest.fixture
def studio(bench):
    """Two projects that share a clip."""
    lib = bench.library
    write(lib / "media/shared.mov", b"shared" * 9000)
    for name in ("Spring", "Autumn"):
        write(lib / f"media/{name}.mov", name.encode() * 8000)
        clips = (f"../../media/{name}.mov", "../../media/shared.mov")
        write(lib / f"projects/{name}/{name}.otio", timeline(*clips))
    remember(bench.workspace, survey_library(bench.workspace, lib))
    return lib


def planned(window, hands, name):
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the shelves")
    QTest.mouseClick(view, LEFT, pos=view.block_of(name).center().toPoint())
    hands.press("Plan the crossing")
    hands.wait(lambda: window.drafting.plan is not None, "the plan")


def to_the_end(window, hands):
    """From the start to the release, each step by its button."""
    hands.press("Start")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    hands.press("Open it from")
    hands.press("I have looked")
    hands.press("Switch over")
    hands.wait(lambda: window.conducting.steps.list is not None, "the list")


def test_a_trip_is_ticked_in_strands_and_goes_into_its_year(bench, river, open_window):
    mounts = {f"uuid-{n}": str(bench.drives / n) for n in ("inside", "heron")}
    plays = oracle.plays(river / "River.fascat", mounts)
    window, hands = open_window(bench)
    planned(window, hands, river.name)
    window.go_to(3)
    bundle = window.strands.bundle
    hands.wait(lambda: bundle.isVisible() and bundle.layout_.rights, "strands")
    QTest.mouseClick(bundle, LEFT, pos=bundle.switch_point.toPoint())
    hands.wait(lambda: any(e.part for e in bundle.layout_.rights), "folders", 200)
    end = next(e.words for e in bundle.layout_.rights if "2024" in e.words)
    QTest.mouseClick(bundle, LEFT, pos=bundle.box_of(end).toPoint())
    hands.wait(lambda: window.drafting.plan and window.drafting.plan.part is not None, "a part")
    assert "The Weir stays here and follows." in hands.sentence().accessibleName()
    window.drafting.choose_folder(bench.heron / "Archive/2024")  # the folder dialog's answer
    hands.open(Choice.WHERE)
    hands.wait(lambda: hands.radio("into 2024") is not None, "the folder")
    hands.choose("into 2024")
    hands.wait(lambda: bool(window.drafting.plan and window.drafting.plan.apart.stands), "landing")
    hands.wait(lambda: "1 file is there already" in words(window), "what stands there")
    assert hands.button("Start") is None
    hands.press("1\xa0decision first")
    hands.press("Give other names")
    hands.wait(
        lambda: window.drafting.plan.choices.taken is not None and hands.button("Start"), "decided"
    )
    hands.open(Choice.ORIGINALS)
    hands.choose("Delete the originals")
    hands.wait(lambda: window.drafting.plan.choices.after.value == "release", "the choice")
    to_the_end(window, hands)
    hands.press("Set the originals aside")
    hands.wait(lambda: window.conducting.current.state is State.PARKED, "set aside")
    hands.press("Delete")
    hands.press("Delete")
    hands.wait(lambda: window.conducting.current.state is State.RELEASED, "released")
    there = bench.heron / "Archive/2024/2024 trip"
    assert files(there) == {"heron.jpg", "heron (2).jpg", "weir.jpg"}
    assert (there / "heron.jpg").read_bytes() == b"another heron"
    assert oracle.plays(river / "River.fascat", mounts) == plays and not (river / TRIP).exists()


def test_keys_tick_a_folder_in_strands_and_take_the_tick_away(bench, river, open_window):
    window, hands = open_window(bench)
    planned(window, hands, river.name)
    window.go_to(3)
    bundle = window.strands.bundle
    hands.wait(lambda: bundle.isVisible() and bundle.layout_.rights, "strands")
    bundle.set_by_project(True)
    bundle.setFocus()
    QTest.keyClick(bundle, Qt.Key.Key_Right)
    QTest.keyClick(bundle, Qt.Key.Key_Space)
    hands.wait(lambda: window.drafting.plan and window.drafting.plan.part is not None, "a part")
    hands.open(Choice.WHAT)
    hands.tick("All of")
    hands.wait(lambda: window.drafting.plan and window.drafting.plan.part is None, "all of it")


def archive_of(bench):
    """A library that stands on Heron, with the shared clip."""
    old = bench.drives / "inside/Archive"
    write(old / "media/shared.mov", (bench.library / "media/shared.mov").read_bytes())
    write(old / "projects/Winter/winter.otio", timeline("../../media/shared.mov"))
    plan = make_plan(bench.workspace, survey_library(bench.workspace, old), bench.heron, Choices())
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    crossing.run()
    crossing.switch()
    crossing.close()
    return bench.heron / "Archive"


def test_a_project_is_put_onto_a_library_and_becomes_part_of_it(bench, studio, open_window):
    there = archive_of(bench)
    before = contents(there)
    window, hands = open_window(bench)
    planned(window, hands, studio.name)
    hands.open(Choice.WHAT)
    hands.wait(lambda: hands.button("Split by") is not None, "the parts")
    assert "3 files; 54.0 kB of them also used by Autumn" in words(window)
    view = window.shelves
    block = next(
        b.rect for b in view._blocks if b.standing.root == there and b.standing.name == "Archive"
    )
    assert drop_part(view, "projects/Spring", block.center())
    hands.wait(lambda: window.drafting.plan and window.drafting.plan.choices.into, "into it")
    plan = window.drafting.plan
    assert plan.goals[0].landing.folder == there and len(plan.apart.stands) == 1
    hands.press("Start")
    hands.wait(lambda: window.conducting.steps.balance is not None, "the scales")
    assert contents(there).items() >= before.items()
    assert (there / "Spring/Spring.otio").exists()
    assert not drop_part(view, "projects/Spring", QPointF(3, 3)), "nothing is there"


def test_a_part_is_put_into_a_folder_of_a_drive(bench, river, open_window):
    """Held over a drive its folders are shown, held over one of these those in it."""
    (bench.heron / ".hidden").mkdir()
    window, hands = open_window(bench)
    view = window.shelves
    hands.wait(lambda: view.selected is not None, "the shelves")
    QTest.mouseClick(view, LEFT, pos=view.block_of(river.name).center().toPoint())
    hands.press("Take a part of it")
    hands.wait(lambda: bool(window.drafting.parts), "the parts")
    shelf = view.shelf_of("heron")
    empty = QPointF(shelf.right() - 200, shelf.center().y())
    drag = PartDrag(view, TRIP, empty)
    assert drag.over(empty)
    hands.wait(lambda: painted(view, "Archive"), "its folders")
    assert not painted(view, ".hidden")
    assert drag.over(view.folder_at("Archive"))
    hands.wait(lambda: painted(view, "Archive / 2024"), "the folders in it")
    assert drag.drop(view.folder_at("Archive / 2024"))
    hands.wait(lambda: window.drafting.plan and window.drafting.plan.choices.into, "into it")
    plan = window.drafting.plan
    assert plan.asked_for == bench.heron / "Archive/2024" and len(plan.apart.stands) == 1
    assert not painted(view, "Archive"), "nothing is held over it any more"


def painted(view, words):
    view.repaint()
    return view.folder_at(words)


def test_a_part_that_waits_says_which_documents_still_lead_where(bench, river, open_window):
    surveyed = survey_library(bench.workspace, river)
    choices = Choices(only=frozenset([TRIP]), into=True)
    plan = make_plan(bench.workspace, surveyed, bench.heron, choices)
    crossing = Crossing.start(bench.workspace, plan, decided=True)
    crossing.close()
    window, hands = open_window(bench)
    window.go_to(1)
    hands.wait(lambda: hands.button("Continue") is not None, "the crossing")
    assert "River.fascat leads to the old place until home goes to heron." in words(window)


def test_split_by_project_and_one_release_for_all(bench, studio, open_window):
    window, hands = open_window(bench)
    planned(window, hands, studio.name)
    hands.open(Choice.WHAT)
    hands.press("Split by project")
    hands.wait(lambda: hands.button("Start the split") is not None, "the split")
    assert "2 new libraries" in words(window) and "used by several" in words(window)
    hands.press("Start the split")
    hands.wait(
        lambda: (
            len(window.conducting.crossings) == 2
            and all(c.state is State.SETTLED for c in window.conducting.crossings)
        ),
        "both there",
    )
    for row in window.conducting.rows():
        window.conducting.choose(row.id)
        hands.press("Open it from")
        hands.press("I have looked")
        hands.press("Switch over")
        hands.wait(lambda: window.conducting.current.state is State.SWITCHED, "home is there")
    hands.wait(lambda: window.conducting.steps.list is not None, "the list")
    assert window.conducting.steps.list.stays == []
    hands.press("Delete")
    hands.press("Delete")
    hands.wait(
        lambda: all(c.state is State.RELEASED for c in window.conducting.crossings), "both released"
    )
    assert files(studio) == set()
    for name in ("Spring", "Autumn"):
        assert None not in oracle.plays(bench.heron / f"{name}/projects/{name}/{name}.otio", {})
