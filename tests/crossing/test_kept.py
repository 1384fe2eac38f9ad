"""Documents made by others and kept as bytes cross to real drives.

Nothing but their target strings changes.


In them ``/ROOT`` stands for a folder as long as that name; the tests put a real one in its place.
"""

import hashlib
import os
import sqlite3
import subprocess
from contextlib import closing
from pathlib import Path

import opentimelineio as otio
import pytest

from fascis.crossing.crossing import Crossing
from fascis.crossing.model.states import State
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.scales import weigh
from fascis.documents.registry import kind_named
from tests.crossing.test_proof import real
from tests.documents.opened import TEXTS, read
from tests.judge import contents
from tests.library.making import write

KEPT = Path(__file__).parents[1] / "kept"
LOOSE = (
    "Field recordings/rain.wav",
    "Desktop/héron.jpg",
    "Desktop/100% rain.mov",
    "From the phone/walk/walk_01.jpg",
)
HELD = ("media/Day 01/weir_crest.mov", "media/Day 01/still.jpg", "proxies/weir_crest.mov",
        *(f"media/Scans/plan_{n:04}.png" for n in (1, 2, 3)))  # fmt: skip


@pytest.fixture
def made(bench, tmp_path):
    """A library of the kept documents with all they refer to, and the root written in them."""
    root = tmp_path
    lib = root / "lib"
    for place in HELD:
        write(lib / place, place.encode() * 40)
    for place in LOOSE:
        write(root / place, place.encode() * 40)
    for document in KEPT.iterdir():
        content = document.read_bytes()
        if document.suffix != ".fascat":
            write(lib / document.name, content.replace(b"/ROOT", os.fsencode(root)))
            continue
        write(lib / document.name, content)
        with closing(sqlite3.connect(lib / document.name)) as db:
            db.execute("UPDATE place SET path=replace(path, '/ROOT', ?)", (str(root),))
            db.commit()
    return lib


def digests(paths):
    return [hashlib.sha256(Path(p).read_bytes()).hexdigest() for p in paths]


def targets(document):
    """What opentimelineio finds in a timeline, as absolute paths; of sequences the first frame."""
    top = otio.adapters.read_from_file(str(document))
    for clip in (
        c
        for item in (top if isinstance(top, otio.schema.SerializableCollection) else [top])
        for c in item.find_clips()
    ):
        for reference in clip.media_references().values():
            if isinstance(reference, otio.schema.ExternalReference):
                yield document.parent / reference.target_url
            elif isinstance(reference, otio.schema.ImageSequenceReference):
                yield (
                    document.parent
                    / reference.target_url_base
                    / reference.target_url_for_image_number(0).rpartition("/")[2]
                )


@pytest.mark.lab
@pytest.mark.parametrize("filesystem", ["ext4", "exfat"])
def test_everything_is_found_on_a_real_drive_and_only_target_strings_differ(
    bench, made, mounted, filesystem
):
    workspace, to = real(bench).workspace, mounted(filesystem)
    before = (
        contents(made),
        contents(made.parent / "Desktop"),
        contents(made.parent / "Field recordings"),
    )
    surveyed = survey_library(workspace, made)
    assert surveyed.uses.not_understood == [] and surveyed.uses.not_media == []
    crossing = Crossing.start(
        workspace, make_plan(workspace, surveyed, to, Choices()), decided=True
    )
    assert crossing.run() is State.SETTLED, crossing.journal.attentions()
    assert weigh(crossing).even
    there = to / "lib"
    for name in ("feature.otio", "collection.otio"):
        found = list(targets(there / name))
        assert len(found) == 7
        assert [p for p in found if not p.is_file() or not p.resolve().is_relative_to(there)] == []
    assert digests(list(targets(there / "feature.otio"))[:4]) == digests(
        [made / HELD[0], made.parent / LOOSE[0], made.parent / LOOSE[1], made.parent / LOOSE[2]]
    )
    for document in sorted(p for p in made.iterdir() if kind_named(os.fsencode(p.name)) in TEXTS):
        assert only_targets_differ(document, there / document.name), document.name
    with closing(sqlite3.connect(there / "Bell.fascat")) as db:
        uuid = workspace.drives.at(to).uuid
        rows = db.execute(
            "SELECT p.drive_uuid, p.path || '/' || f.path || '/' || h.file_name FROM photo h"
            " JOIN folder f ON f.id=h.folder_id JOIN place p ON p.id=f.place_id"
        )
        assert [(d, (to / path).is_file()) for d, path in rows] == [(uuid, True)] * 2
    assert (
        subprocess.run(["b3sum", "--quiet", "--check", ".fascis/manifest.b3"], cwd=there).returncode
        == 0
    )
    assert (
        contents(made),
        contents(made.parent / "Desktop"),
        contents(made.parent / "Field recordings"),
    ) == before
    crossing.close()


def only_targets_differ(old, new):
    """True when two are equal, byte for byte, but for target strings, and differ in some."""

    def cut(content):
        parts, at = [], 0
        for start, end in sorted(
            r.locator for r in read(kind_named(os.fsencode(old.name)), content)
        ):
            parts.append(content[at:start])
            at = end
        return [*parts, content[at:]]

    one, other = old.read_bytes(), new.read_bytes()
    return one != other and cut(one) == cut(other)


def test_a_copy_that_nothing_leads_out_of_is_byte_for_byte_the_same(bench):
    """Where no target changes, no document does, and none is kept twice."""
    lib = bench.library
    for place in HELD:
        write(lib / place)
    write(lib / "inner.m3u8", b"#EXTM3U\r\nmedia/Day 01/weir_crest.mov\r\n")
    before = contents(lib)
    made = make_plan(bench.workspace, survey_library(bench.workspace, lib), bench.heron, Choices())
    crossing = Crossing.start(bench.workspace, made, decided=True)
    assert crossing.run() is State.SETTLED
    assert contents(bench.heron / "The Weir") == before
    assert not (bench.heron / "The Weir/.fascis/as-it-was").exists()
