"""Every foreign input, mutated for a while.

``FASCIS_FUZZ``: seconds for each; ``FASCIS_FUZZ_SEED``: where it begins.

Not among them are ``plan.csv`` and receipts: Fascis writes them and never reads them.
"""

import io
import json
import os
import random
import resource
import shutil
import time
from contextlib import closing, suppress
from pathlib import Path

import pytest

from fascis.copies.verifying.verifying import verify
from fascis.crossing.arrival.landing.new_folder import prove_staging
from fascis.crossing.journal.glance import promised, yet_to_copy
from fascis.crossing.plan.choices import Choices
from fascis.crossing.plan.making import make_plan
from fascis.crossing.receipts.receipt import receipt_html, receipt_json, receipt_of
from fascis.crossing.scope.surveyed import survey_library
from fascis.crossing.status.queue import all_crossings, crossed_away
from fascis.crossing.status.report import crossing_object, plan_object
from fascis.documents.catalog import Catalog, copy_of
from fascis.documents.model import Means
from fascis.drives.connected import Drives
from fascis.drives.system.blocks import parse_blocks
from fascis.drives.system.mounts import parse_mounts
from fascis.files.disk.medium import PosixMedium
from fascis.files.errors import FascisError
from fascis.files.inventory import read_inventory
from fascis.files.manifest import read_manifest
from fascis.library.identity import parse_identity
from fascis.library.references.unknown import Names, recognised
from fascis.library.register import Register
from fascis.relink.acts import acts_of
from tests.clock import within
from tests.conftest import usual
from tests.crossing.ways import settled
from tests.documents.opened import TEXTS, read, rewritten
from tests.fuzz.mutations import bytes_mutated, database_mutated, json_mutated, lines_mutated
from tests.library.making import catalog_at, timeline
from tests.thorough import FUZZ_SECONDS

SECONDS = FUZZ_SECONDS
SEED = int(os.environ.get("FASCIS_FUZZ_SEED", "1"))
SOON = 5.0  # seconds that one input may take
pytestmark = pytest.mark.timeout(SECONDS + 120)

OTIO = timeline("media/Day 01/weir_01.mov", "file:///x/two%20herons.wav", "../../else.wav")
EDL = (
    b"TITLE: Weir\nFCM: NON-DROP FRAME\n001  AX       V     C        00:00:00:00 00:00:05:00 "
    b"01:00:00:00 01:00:05:00\n* FROM CLIP NAME: weir_01.mov\n* SOURCE FILE: media/Day "
    b"01/weir_01.mov\n"
)
XSPF = (
    b'<?xml version="1.0" encoding="UTF-8"?>\n<playlist version="1" '
    b'xmlns="http://xspf.org/ns/0/"><trackList><track><location>media/Day%2001/weir_01.mov</location></track></trackList></playlist>\n'
)
M3U = "#EXTM3U\n#EXTINF:12,Weir\nmedia/Day 01/weir_01.mov\n#EXTVLCOPT:x\nfile:///x/é.wav\n".encode()
MOUNTINFO = (
    Path("/proc/self/mountinfo").read_bytes()
    + b"99 1 8:1 / /media/heron\\040two rw,relatime shared:1 - ext4 /dev/sda1 rw\n"
)
LSBLK = json.dumps(
    {
        "blockdevices": [
            {"name": "/dev/sda", "maj:min": "8:0", "type": "disk", "tran": "usb", "rota": True,
            "size": 1000, "model": "Heron", "serial": "1",
             "children": [{"name": "/dev/sda1", "maj:min": "8:1", "type": "part", "fstype": "ext4",
             "uuid": "u", "label": "Heron", "size": 900, "rm": True, "ro": False,
             "pkname": "/dev/sda"}]}
        ]
    }
).encode()  # fmt: skip


def fuzzed(name, inputs, mutate, feed, share=1.0):
    """Feeds mutated inputs for a while.

    Tells the seed of the first that ends otherwise than in an answer or a sentence.
    """
    until, seed = time.monotonic() + SECONDS * share, SEED
    while time.monotonic() < until:
        rng = random.Random(f"{name} {seed}")
        content = mutate(rng.choice(inputs), rng) if inputs else mutate(rng)
        begun = time.monotonic()
        try:
            feed(content)
        except FascisError as error:
            assert str(error)
        except BaseException as error:
            pytest.fail(
                f"{name}, seed {seed}: {type(error).__name__}: "
                f"{error}\n{content[:2000] if content else ''!r}",
                pytrace=True,
            )
        within(begun, SOON, f"{name}, seed {seed}")
        seed += 1
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10
    print(f"{name}: {seed - SEED} inputs from seed {SEED} on, at most {peak} MB")


@pytest.mark.parametrize(
    ("format", "content"), [(f, c) for f, c in zip(TEXTS, (OTIO, EDL, XSPF, M3U), strict=True)]
)
def test_documents(format, content):
    def feed(content):
        references = read(format, content)
        targets = {r.locator: "/new/place é.mov" for r in references if r.means is Means.PATH}
        if targets:
            again = read(format, rewritten(format, content, targets))
            assert len(again) == len(references)

    fuzzed(
        type(format).__name__,
        [content],
        json_mutated if content is OTIO else lines_mutated,
        feed,
        0.5,
    )
    fuzzed(type(format).__name__ + " bytes", [content], bytes_mutated, feed, 0.5)


def test_catalogs(tmp_path):
    good = catalog_at(
        tmp_path / "good.fascat", [(None, str(tmp_path)), ("uuid-x", "Photos")], [(1, 1, "stills"),
        (2, 2, "2024/é")],
        [(1, "heron.jpg"), (1, "b.jpg"), (2, "c.jpg")],
    )  # fmt: skip

    def mutate(rng):
        shutil.copyfile(good, tmp_path / "bad.fascat")
        database_mutated(tmp_path / "bad.fascat", rng)

    def feed(_content):
        (tmp_path / "cache").mkdir(exist_ok=True)
        with closing(Catalog(copy_of(tmp_path / "bad.fascat", tmp_path / "cache"))) as catalog:
            list(catalog.places()), list(catalog.folders()), list(catalog.photos())

    fuzzed("catalog", None, mutate, feed)


DIGEST = "ab" * 32
IDENTITY = json.dumps(
    {"format": 1, "library_id": "6a0f9a52-0000-4000-8000-000000000001", "name": "The Weir",
    "kind": "library", "home": {"drive": "d", "path": "p"},
     "roles": {"media": "proxy"}, "history": [{"id": "00", "when": "2026-01-01T00:00:00Z",
     "from": "a", "to": "b", "token": "x"}]}
).encode()  # fmt: skip
MANIFEST = f"{DIGEST}  media/a.mov\n\\{DIGEST}  media/b\\nc.mov\n".encode()
INVENTORY = (
    "path,path_encoding,size_bytes,mtime_ns,blake3,role\r\n"
    f"media/a.mov,,12,1690000000000000000,{DIGEST},original\r\n"
).encode()


def inventory(content):
    return list(
        read_inventory(
            io.TextIOWrapper(io.BytesIO(content), "utf-8", newline="", errors="surrogateescape"),
            "x",
        )
    )


@pytest.mark.parametrize(
    ("name", "content", "mutate", "feed"),
    [
        ("identity", IDENTITY, json_mutated, lambda c: parse_identity(c, "x")),
        ("manifest", MANIFEST, lines_mutated, lambda c: list(read_manifest(io.BytesIO(c), "x"))),
        ("inventory", INVENTORY, lines_mutated, inventory),
        (
            "mountinfo",
            MOUNTINFO,
            lines_mutated,
            lambda c: list(parse_mounts(c.decode("utf-8", "surrogateescape"))),
        ),
        (
            "lsblk",
            LSBLK,
            json_mutated,
            lambda c: parse_blocks(c.decode("utf-8", "surrogateescape")),
        ),
    ],
)
def test_lists(name, content, mutate, feed):
    fuzzed(name, [content], mutate, feed)


def test_a_whole_library_with_everything_foreign_in_it(bench):
    library = usual(bench)
    catalog_at(
        library / "trip.fascat", [(None, str(library / "stills"))], [(1, 1, "")], [(1, "heron.jpg")]
    )
    for name, content in (("a.otio", OTIO), ("b.edl", EDL), ("c.xspf", XSPF), ("d.m3u8", M3U)):
        (library / name).write_bytes(content)
    (library / "unknown.json").write_bytes(b'{"clips": ["media/Day 01/weir_01.mov"]}')
    crossing = settled(bench)
    there = crossing.places.target
    crossing.close()
    good = bench.root / "good"
    shutil.copytree(there, good, symlinks=True)
    places = [
        "a.otio",
        "b.edl",
        "c.xspf",
        "d.m3u8",
        "unknown.json",
        "trip.fascat",
        "stills/heron.xmp",
        ".fascis/identity.json",
        ".fascis/inventory.csv",
        ".fascis/manifest.b3",
    ]
    mutated = {
        ".otio": json_mutated,
        ".json": json_mutated,
        ".edl": lines_mutated,
        ".m3u8": lines_mutated,
        ".csv": lines_mutated,
        ".b3": lines_mutated,
    }

    def mutate(rng):
        place = rng.choice(places)
        mutate.last = place
        if place.endswith("fascat"):
            database_mutated(there / place, rng)
        else:
            (there / place).write_bytes(
                mutated.get(Path(place).suffix, bytes_mutated)((good / place).read_bytes(), rng)
            )

    def feed(_content):
        try:
            surveyed = survey_library(bench.workspace, there)
            plan = make_plan(bench.workspace, surveyed, bench.drives / "inside" / "back", Choices())
            json.dumps(plan_object(plan))
            with closing(bench.workspace.drives.open(there)) as medium:
                verify(medium, there)
        finally:
            (there / mutate.last).write_bytes((good / mutate.last).read_bytes())

    (bench.drives / "inside" / "back").mkdir()
    fuzzed("library", None, mutate, feed)


def test_unknown_documents(tmp_path):
    medium = PosixMedium.at(tmp_path)
    names = Names(os.fsencode(tmp_path), lambda: iter([b"media/a.mov", b"x"]))
    inputs = [
        b'{"clips": ["media/a.mov"], "n": 1}',
        XSPF,
        M3U,
        b"PK\x03\x04" + bytes(200),
        b"\x1f\x8b\x08" + bytes(100),
        "media/a.mov".encode("utf-16"),
    ]

    def feed(content):
        (tmp_path / "doc.xyz").write_bytes(content)
        recognised(medium, b"doc.xyz", len(content), names)

    fuzzed("unknown", inputs, bytes_mutated, feed)
    medium.close()


def test_journals(bench):
    usual(bench)
    crossing = settled(bench)
    path = crossing.journal.path
    crossing.journal.note(b"a.mov", "heron", "odd", 1.0)
    crossing.close()
    good = path.read_bytes()

    def mutate(rng):
        for end in ("-wal", "-shm"):
            with suppress(FileNotFoundError):
                os.unlink(f"{path}{end}")
        path.write_bytes(good)
        database_mutated(path, rng)

    def feed(_content):
        found, damaged = all_crossings(bench.workspace)
        assert len(found) + len(damaged) <= 1 and all(str(d) for d in damaged)
        promised(bench.workspace.crossings)
        with suppress(FascisError):
            list(yet_to_copy(path))
        for crossing in found:
            try:
                record = receipt_of(crossing.journal)
                receipt_json(record), receipt_html(record), crossing_object(crossing)
            finally:
                crossing.close()
        crossed_away(bench.workspace)

    fuzzed("journal", None, mutate, feed)


def test_the_register(bench):
    usual(bench)
    crossing = settled(bench)
    crossing.switch()
    crossing.close()
    path = bench.workspace.register.path
    good = path.read_bytes()

    def mutate(rng):
        path.write_bytes(good)
        database_mutated(path, rng)

    def feed(_content):
        register = Register(path)
        for library in register.libraries():
            (
                register.copies(library.id),
                register.expected(library.id),
                register.used_outside(library.id),
            )
        (
            register.drives(),
            register.former(),
            register.hardware(),
            register.find("a"),
            register.library_at(bench.library),
        )
        register.used_in(b"/", ""), register.used_below(b"/")

    fuzzed("register", None, mutate, feed)


def test_the_token_of_a_staging_folder(bench):
    usual(bench)
    crossing = settled(bench)
    staging = bench.heron / os.fsdecode(crossing.places.staging)
    staging.mkdir()
    token = json.dumps(
        {k: v for k, v in crossing.places.header.as_json().items() if k != "decisions"}
    ).encode()
    medium = bench.workspace.drives.open(bench.heron)

    def feed(content):
        (staging / "crossing.json").write_bytes(content)
        prove_staging(medium, crossing.places)

    fuzzed("token", [token], json_mutated, feed, 0.5)
    fuzzed("token bytes", [token], bytes_mutated, feed, 0.5)
    medium.close()
    crossing.close()


def test_records_of_relinking(bench):
    acts = acts_of(bench.workspace)
    acts.folder.mkdir(parents=True)
    record = json.dumps(
        {"id": "abcd" * 8, "library": "l", "name": "n", "when": 1.0, "files": 1, "state": "done",
         "documents": [{"path": "/a.otio", "path_encoding": "utf-8", "before": "ab" * 32,
         "after": "cd" * 32, "references": 1}], "lost": []}
    ).encode()  # fmt: skip

    def feed(content):
        (acts.folder / "abcd.json").write_bytes(content)
        acts.all(), acts.find("abcd"), acts.latest("l")
        acts.recover()

    fuzzed("relinking", [record], json_mutated, feed)


def test_descriptions_of_stand_ins(tmp_path):
    folder = tmp_path / "heron"
    folder.mkdir()
    good = json.dumps(
        {
            "uuid": "u",
            "label": "heron",
            "filesystem": "ext4",
            "capacity_bytes": 1000,
            "faults": [{"kind": "full", "after_bytes": 1}],
        }
    ).encode()

    def feed(content):
        (folder / "stand-in.json").write_bytes(content)
        drives = Drives(tmp_path, real=False)
        drives.connected()
        drives.at(folder)

    fuzzed("stand-in", [good], json_mutated, feed)
