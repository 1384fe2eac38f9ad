"""Random worlds and random acts.

Every reference plays what it played, nothing that is needed goes, promises are kept.

``FASCIS_WORLDS=5000`` makes more of them, ``FASCIS_WORLD=seed`` one. The oracle imports nothing
from fascis.
"""

import os
import random
from collections import Counter
from contextlib import suppress
from pathlib import Path

import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.afterwards import After, Shared, Taken
from fascis.crossing.model.problems import Severity
from fascis.crossing.model.states import ARRIVED, State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.parts import NotOnePart
from fascis.crossing.scope.surveyed import remember, survey_library
from fascis.crossing.split import NewLibrary, Split, one_for_each, plan_split
from fascis.crossing.status.queue import all_crossings, find_crossing, find_split, unfinished
from fascis.crossing.status.report import crossing_object, exit_status
from fascis.documents.model import NotUnderstood
from fascis.files.control import Control
from fascis.files.errors import FascisError, Refused
from fascis.library.roles import Role
from fascis.relink.acts import acts_of
from fascis.relink.contents import Contents
from fascis.relink.index import look_in
from tests.crossing.test_crash_points import Killed, Killer
from tests.library.making import write
from tests.thorough import WORLDS
from tests.worlds import oracle
from tests.worlds.generator import World

GOAL = {
    After.COPY: State.SETTLED,
    After.KEEP: State.SWITCHED,
    After.PARK: State.PARKED,
    After.RELEASE: State.RELEASED,
}
SHARES = 8  # so that several workers divide them


class Run:
    """One world, with its state before anything was done."""

    def __init__(self, root, seed):
        self.random = random.Random(seed)
        self.world = World(root, self.random)
        self.bench, self.top = self.world.bench, root / "drives"
        self.told = []
        self._look()
        self.gone_by_choice = set()  # contents of what the person discarded

    def _look(self):
        self.before = oracle.files(self.top)
        self.plays = oracle.documents(self.top, self.world.mounts)

    # -- what a person does ------------------------------------------------------------------------

    def act(self):
        acts = [self.cross] * 6 + [
            self.split,
            self.survey_other,
            self.undo,
            self.rename_and_relink,
            self.survey_copy,
        ]
        self.random.choice(acts)()

    def libraries(self):
        inside = self.world.inside
        found = [self.world.library, inside / "Second", inside / "Beside", inside / "Loose"]
        found += [*inside.glob("*.fascat"), *self.world.library.glob("cut*")]
        return [p for p in found if p.exists()]

    def survey_other(self):
        if not self.libraries():
            return
        library = self.random.choice(self.libraries())
        self.told.append(f"survey {library.name}")
        surveyed = survey_library(self.bench.workspace, library)
        if surveyed.survey.folders:
            remember(self.bench.workspace, surveyed)

    def survey_copy(self):
        copies = [
            p.parent.parent
            for n in ("heron", "otter")
            for p in (self.top / n).glob("*/.fascis/identity.json")
        ]
        if copies:
            copy = self.random.choice(copies)
            homes = {x.id: x.root for x in self.bench.workspace.register.libraries()}
            remember(self.bench.workspace, survey_library(self.bench.workspace, copy))
            now = {x.id: x.root for x in self.bench.workspace.register.libraries()}
            assert all(now[i] == root for i, root in homes.items()), "a survey made a home"

    def undo(self):
        crossings, _ = all_crossings(self.bench.workspace)
        for crossing in crossings:
            if crossing.state in (State.SWITCHED, State.PARKED):
                self.told.append(f"undo {crossing.id}")
                try:
                    crossing.undo()
                except FascisError as error:
                    self.told.append(str(error))
                break
        for crossing in crossings:
            crossing.close()

    def rename_and_relink(self):
        loose = self.world.inside / "Loose"
        if not loose.exists() or (self.world.inside / "Loose renamed").exists():
            return
        self.told.append("rename Loose, relink")
        loose.rename(loose.with_name("Loose renamed"))
        moved = {p: Path(str(p).replace("/Loose/", "/Loose renamed/")) for p in self.before}
        self.before = {moved[p]: f for p, f in self.before.items()}
        surveyed = survey_library(self.bench.workspace, self.world.library)
        if surveyed.survey.folders:
            key = remember(self.bench.workspace, surveyed)
            relinking = surveyed.relinking(self.bench.workspace)
            match = relinking.match(look_in([self.world.inside / "Loose renamed"]), Contents())
            changes = relinking.retargets(match)
            if changes:
                try:
                    acts_of(self.bench.workspace).apply(
                        key, "x", surveyed.source, 1, changes, relinking.known()
                    )
                except (FascisError, NotUnderstood) as error:
                    self.told.append(str(error))
        now = oracle.documents(self.top, self.world.mounts)
        for path, was in self.plays.items():
            for old, new in zip(was, now.get(path, was), strict=True):
                assert new is None or new == old or old is None, (
                    f"{path} was relinked to other content: {self.told}"
                )
        self._look()

    def cross(self):
        r, bench = self.random, self.bench
        library = r.choice([self.world.library] * 4 + self.libraries())
        if not library.exists():
            return
        surveyed = survey_library(bench.workspace, library)
        only = frozenset()
        if library == self.world.library and r.random() < 0.35:
            parts = (
                sorted(p.name for p in (library / "projects").glob("*"))
                if (library / "projects").exists()
                else []
            )
            parts += [f for f in ("media", "stills", "projects") if (library / f).exists()]
            only = frozenset([r.choice(parts)]) if parts else only
        choices = Choices(
            name=f"There {r.randint(0, 10**6)}",
            leave_out=frozenset([Role.PROXY]) if r.random() < 0.15 else frozenset(),
            after=r.choice(
                (After.COPY, After.KEEP, After.PARK, After.RELEASE, After.RELEASE, After.RELEASE)
            ),
            discard=frozenset([Role.PROXY]) if r.random() < 0.1 else frozenset(),
            gather=r.random() < 0.8,
            leave_unused=r.random() < 0.15,
            only=only,
            loose_too=r.random() < 0.3,
            shared=r.choice((None, None, Shared.STAYS, Shared.FOLLOWS)),
            into=r.random() < 0.35,
            taken=r.choice((Taken.RENAMED, Taken.LEFT_OUT)),
        )
        to = bench.drives / r.choice(("heron", "otter"))
        if choices.into:
            to = self.place_there(to)
        self.told.append(f"cross {library.name} {sorted(only)} to {to.name}: {choices}")
        try:
            plan = make_plan(bench.workspace, surveyed, to, choices)
        except NotOnePart:
            return
        if plan.stopped:
            self.told.append(
                "; ".join(p.sentence for p in plan.problems if p.severity is Severity.STOPS)
            )
            return
        crossing = Crossing.start(bench.workspace, plan, decided=True, consent=True)
        crossing.looked()
        before, id = oracle.files_with_own(self.top), crossing.id
        crossing.close()
        killed = r.random() < 0.25
        bench.step = Killer(r.randint(0, 120)) if killed else (lambda _name: None)
        self._go_on(id)
        if killed:
            bench.step = lambda _name: None
            bench.again()
            for unended in unfinished(bench.workspace):
                self._go_on(unended)
        self._judge_crossing(id, plan, before, killed)

    def place_there(self, drive):
        """A folder on a drive to land in: a new one, one with some of the same names, a library."""
        r = self.random
        libraries = [p.parent.parent for p in drive.glob("**/.fascis/identity.json")]
        if libraries and r.random() < 0.5:
            library = r.choice(libraries)
            inner = [library, *(p for p in library.glob("*") if p.is_dir() and p.name != ".fascis")]
            return r.choice(inner)
        years = drive / "Years"
        if not years.exists():
            years.mkdir()
            for _ in range(r.randint(0, 4)):
                like = r.choice(self.world.media)
                if not like.exists():
                    continue
                inner = like.relative_to(self.top / like.relative_to(self.top).parts[0])
                top = r.choice(("", self.world.library.name))
                place = years / top / Path(*inner.parts[1:] if top else inner.parts[-2:])
                content = like.read_bytes() if r.random() < 0.5 else b"stands there"
                if not place.exists() and not (place.parent.exists() and not place.parent.is_dir()):
                    write(place, content)
            self._look()
        return years

    def split(self):
        """A library is split by its projects, perhaps interrupted, and resumed."""
        r, bench = self.random, self.bench
        library = self.world.library
        if not library.exists():
            return
        surveyed = survey_library(bench.workspace, library)
        to = bench.drives / r.choice(("heron", "otter")) / f"Split {r.randint(0, 10**6)}"
        to.mkdir(parents=True)
        after = r.choice((After.KEEP, After.PARK, After.RELEASE, After.RELEASE))
        libraries = one_for_each(surveyed)
        if libraries and r.random() < 0.4:
            projects = tuple(p for one in libraries for p in one.projects)
            libraries.append(NewLibrary("Rest", projects, rest=True))
        self.told.append(f"split {library.name} into {to}: {after.value} {libraries}")
        plan = plan_split(bench.workspace, surveyed, to, libraries, after)
        if plan.stopped:
            self.told += [p.sentence for p in plan.problems if p.severity is Severity.STOPS]
            return
        id = plan.plans[0].split.id
        if r.random() < 0.4:
            bench.step = Killer(r.randint(0, 400))
        with suppress(Killed):
            self._go_on_splitting(Split.start(bench.workspace, plan, consent=True))
        bench.step = lambda _name: None
        bench.again()
        found = find_split(bench.workspace, id)
        if found and found.complete:
            self._go_on_splitting(found)
            found = find_split(bench.workspace, id)
            assert found.state is GOAL[after], f"it did not go as far as planned: {self.told}"
            found.close()
        elif found:
            found.undo()
            found.close()

    def _go_on_splitting(self, split):
        try:
            for part in split.parts:
                part.looked()
            split.run(Crossing.run)
            split.advance(True, Control())
        except Refused as error:
            self.told.append(f"refused {error.code}: {error}")
        finally:
            split.close()

    def _go_on(self, id):
        try:
            crossing = find_crossing(self.bench.workspace, id)
        except (Killed, FascisError):
            return
        try:
            state = crossing.run()
            if state is State.SETTLED or state in (State.SWITCHED, State.PARKED):
                crossing.advance(consent=True)
        except Killed:
            self.told.append("killed")
        except Refused as error:
            self.told.append(f"refused {error.code}: {error}")
        finally:
            crossing.close()

    # -- what must hold ----------------------------------------------------------------------------

    def _judge_crossing(self, id, plan, before, killed):
        crossing = find_crossing(self.bench.workspace, id)
        record, state = crossing_object(crossing), crossing.state
        self.told.append(f"{state.value}, exit {exit_status(record)}")
        if not killed:
            assert state is GOAL[plan.choices.after], (
                f"it did not go as far as planned: {self.told}"
            )
        if state in ARRIVED:
            self._judge_copy(crossing, plan, record)
        now = oracle.files_with_own(self.top)
        for path, (what, *_) in before.items():
            elsewhere = self.world.inside not in path.parents and ".fascis" not in path.parts
            mine = plan.choices.loose_too or path.suffix in oracle.DOCUMENTS
            if elsewhere and not mine:
                assert now.get(path, (None,))[0] == what, f"{path} stood there: {self.told}"
        if state is State.RELEASED and not killed:
            after = oracle.files_with_own(self.top)
            measured, gone = (
                oracle.freed(before, after),
                sorted(str(p) for p in before if p not in after),
            )
            assert plan.frees == measured, (
                f"promised {plan.frees}, freed {measured}: {gone} {self.told}"
            )
        if plan.choices.discard and state is State.RELEASED:
            self.gone_by_choice |= {f[0] for p, f in self.before.items() if "proxies" in p.parts}
        crossing.close()

    def _judge_copy(self, crossing, plan, record):
        """Every document of the copy plays what its original played, except files left out."""
        target, library = crossing.places.target, plan.source
        there = oracle.documents(target, self.world.mounts)
        with_same_content = {}
        for path, (what, *_) in self.before.items():
            with_same_content.setdefault(what, []).append(path)
        left = (
            {self.before[p][0] for p in self.before if "proxies" in p.parts}
            if plan.choices.leave_out | plan.choices.discard
            else set()
        )

        def copy_at(place):
            raw = os.fsencode(place)
            return target / os.fsdecode(plan.apart.stands.get(raw) or plan.apart.there(raw))

        for path, was in self.plays.items():
            if library not in path.parents:
                continue
            place = str(path.relative_to(library))
            now = there.get(copy_at(place))
            if now is None:
                continue  # it was not part of it, or was left out
            for old, new in zip(was, now, strict=True):
                fine = new == old or (new is None and old in left)
                assert fine, (
                    f"{place} plays other content in the copy at {target}: {was} became {now}: "
                    f"{self.told}"
                )

    def judge(self):
        """Nothing that somebody needs is gone; everything that stays plays what it played."""
        after = oracle.files(self.top)
        contents = Counter(f[0] for f in after.values())
        kept = {f[0] for f in oracle.files_with_own(self.top).values()}
        for path, (what, *_) in self.before.items():
            if path not in after and what not in contents and what not in self.gone_by_choice:
                assert what in kept, f"{path} is gone, and no copy of it is anywhere: {self.told}"
        now = oracle.documents(self.top, self.world.mounts)
        for path, was in self.plays.items():
            if path not in now:
                continue  # it crossed and was released, or is set aside; its copy was judged
            for old, new in zip(was, now[path], strict=True):
                fine = new == old or (old in self.gone_by_choice and new is None)
                assert fine, (
                    f"{path} stays, and does not play what it played: {was} became {now[path]}: "
                    f"{self.told}"
                )


def run_world(root, seed):
    run = Run(root, seed)
    try:
        for _ in range(run.random.randint(1, 3)):
            run.act()
            run.judge()
    except (AssertionError, Exception) as error:
        raise AssertionError(f"seed {seed}: {run.told}") from error


@pytest.mark.parametrize("share", range(SHARES))
def test_every_reference_plays_what_it_played_and_nothing_needed_goes(tmp_path, share):
    one = os.environ.get("FASCIS_WORLD")
    seeds = [int(one)] if one else range(share, WORLDS, SHARES)
    if one and share:
        return
    for seed in seeds:
        root = tmp_path / str(seed)
        root.mkdir()
        run_world(root, seed)
