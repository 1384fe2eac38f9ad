"""Documents of unknown make are recognised by their content: do they name existing files?"""

import gzip
import io
import json
import sqlite3
import zipfile
from contextlib import closing
from urllib.parse import quote

import pytest

from fascis.crossing.scope.surveyed import survey_library
from tests.commands.test_commands import fascis
from tests.library.making import write


@pytest.fixture
def lib(bench):
    for name in ("media/Day 01/crest.mov", "media/h\u00e9ron.jpg", "media/a & b.wav"):
        write(bench.library / name, name.encode() * 20)
    return bench.library


def unknown(bench, lib):
    return [p.decode() for p in survey_library(bench.workspace, lib).uses.unknown]


def database(path, *values):
    with closing(sqlite3.connect(path)) as db:
        db.execute("CREATE TABLE t(a, b)")
        db.execute("INSERT INTO t VALUES(?, ?)", values)
        db.commit()
    return path


def packed(content):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        made.writestr("inner/project.json", content)
    return out.getvalue()


def by_absolute(lib):
    return json.dumps({"clip": f"{lib}/media/Day 01/crest.mov"}).encode()


WAYS = {
    "absolute.thing": by_absolute,
    "relative.json": lambda _: b'{"clip": "media/Day 01/crest.mov"}',
    "escaped.json": lambda lib: by_absolute(lib).replace(b"/", b"\\/"),
    "letters.json": lambda _: json.dumps({"clip": "media/h\u00e9ron.jpg"}).encode(),
    "url.proj": lambda lib: f"file://{quote(str(lib))}/media/Day%2001/crest.mov\n".encode(),
    "apart.json": lambda _: b'{"folder": "D:\\\\footage", "name": "crest.mov"}',
    "markup.xml": lambda _: b"<p><f>media</f><n>a &amp; b.wav</n></p>",
    "plain.ini": lambda _: b"[clips]\nfirst = media/Day 01/crest.mov, used twice\n",
    "wide.bin": lambda _: "\x01\x02media/Day 01/crest.mov\x00".encode("utf-16-le"),
    "packed.gz": lambda lib: gzip.compress(by_absolute(lib)),
    "project": lambda lib: gzip.compress(by_absolute(lib)),
    "packed.bundle": lambda lib: packed(by_absolute(lib)),
    "elsewhere/relative.json": lambda _: b'{"clip": "../media/Day 01/crest.mov"}',
}


@pytest.mark.parametrize("name", WAYS)
def test_what_names_files_that_exist_is_a_document(bench, lib, name):
    write(lib / name, WAYS[name](lib))
    assert unknown(bench, lib) == [name]


@pytest.mark.parametrize("name", ["work.store", "work.sqlite", "work"])
def test_a_database_that_names_files_is_a_document_whatever_its_name(bench, lib, name):
    database(lib / name, "media/Day 01", "crest.mov")
    assert unknown(bench, lib) == [name]


NONE = {
    "settings.json": b'{"volume": 0.5, "last": "2024-08-01", "theme": "dusk.css"}',
    "gone.json": b'{"clip": "media/Day 09/nothing.mov"}',
    "readme.txt": b"Begin with crest.mov, it is the best.",
    "media/Day 01/crest.json": b'{"clip": "crest.mov", "iso": 800}',
    "sums.b3": b"ab" * 32 + b"  media/Day 01/crest.mov\n",
    "damaged.zip": b"PK\x03\x04 and nothing more",
    "damaged.gz": b"\x1f\x8b and nothing more",
    "empty": b"",
}


@pytest.mark.parametrize("name", NONE)
def test_settings_notes_and_lists_of_digests_are_none(bench, lib, name):
    write(lib / name, NONE[name])
    assert unknown(bench, lib) == []


def test_a_cache_that_names_nothing_is_reported_as_a_database_only(bench, lib):
    database(lib / "thumbs.db", b"\xff\xd8 picture", 7)
    assert unknown(bench, lib) == [] and survey_library(bench.workspace, lib).uses.databases == [
        b"thumbs.db"
    ]


def test_a_library_with_a_document_of_unknown_make_is_never_released_unattended(bench, lib):
    write(lib / "project.thing", by_absolute(lib))
    words = ("relocate", lib, "--to", bench.heron, "--after", "release", "--json")
    status, said, _ = fascis(bench, *words)
    assert (
        status == 3
        and {p["code"]: p["severity"] for p in said["problems"]}["not-understood"] == "decision"
    )
    status, said, _ = fascis(bench, *words, "--yes")
    assert (status, said["state"]) == (0, "switched") and (lib / "media/Day 01/crest.mov").exists()
    # fmt: skip
    assert {"path": "project.thing", "format": "not understood", "references": 0} in fascis(
        bench, "survey", lib, "--json"
    )[1]["documents"]
