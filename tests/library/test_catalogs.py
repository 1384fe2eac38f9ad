"""New catalogs over folders of photos, and photos added to one.

What photos say is read, and nothing of theirs is written.
"""

import io
import os
import sqlite3
from contextlib import closing

import pytest
from PIL import Image

from fascis.crossing.scope.surveyed import survey_library
from fascis.documents.catalog import TABLES
from fascis.documents.making import new_catalog
from fascis.documents.model import NotUnderstood
from fascis.documents.photo_facts import Facts, facts_of
from fascis.files.errors import Cancelled, EnvironmentTrouble, Refused
from fascis.library.catalogs import catalog_folders
from fascis.library.standing import Standing
from tests.judge import contents
from tests.library.making import write
from tests.stopping import StopsWhen

XMP = """<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF
 xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">
<rdf:Description xmlns:xmp="http://ns.adobe.com/xap/1.0/"
 xmlns:dc="http://purl.org/dc/elements/1.1/" xmp:Rating="4">
<dc:subject><rdf:Bag><rdf:li>heron</rdf:li>
<rdf:li>high water</rdf:li></rdf:Bag></dc:subject></rdf:Description></rdf:RDF></x:xmpmeta>"""


def photo(width=60, height=40, taken="2024:05:03 06:12:09", **more):
    exif = Image.Exif()
    if taken:
        exif[0x0132] = taken
    if "turned" in more:
        exif[0x0112] = 6
    out = io.BytesIO()
    Image.new("RGB", (width, height), "teal").save(
        out, "JPEG", exif=exif, **({"xmp": more["xmp"].encode()} if "xmp" in more else {})
    )
    return out.getvalue()


@pytest.fixture
def bell(bench):
    lib = bench.library
    write(lib / "shoots/a.jpg", photo())
    write(lib / "shoots/a.xmp", XMP.encode())
    write(
        lib / "shoots/2024/b.jpg",
        photo(turned=True, xmp=XMP.replace('"4"', '"2"').replace("heron", "salmon")),
    )
    write(lib / "shoots/2024/broken.jpg", b"no picture")
    write(lib / "shoots/2024/notes.txt", b"none")
    return lib


def make(bench, path, *folders, **more):
    return catalog_folders(
        bench.workspace.drives, path, list(folders), bench.root / "cache", **more
    )


def rows(path, sql):
    with closing(sqlite3.connect(path)) as db:
        return db.execute(sql).fetchall()


def test_a_new_catalog_knows_its_photos(bench, bell):
    before = contents(bell)
    done = make(bench, bell / "Bell.fascat", bell / "shoots")
    assert (done.added.photos, done.before) == (3, None)
    assert rows(bell / "Bell.fascat",
    "SELECT file_name, width, height, captured_at, rating FROM photo ORDER BY 1") == [
        ("a.jpg", 60, 40, "2024-05-03T06:12:09", 4), ("b.jpg", 40, 60, "2024-05-03T06:12:09", 2),
        ("broken.jpg", None, None, None, None),
    ]  # fmt: skip
    assert rows(bell / "Bell.fascat", "SELECT drive_uuid, path FROM place") == [
        ("uuid-inside", "The Weir/shoots")
    ]
    said = rows(
        bell / "Bell.fascat",
        "SELECT p.file_name, k.name FROM photo_keyword JOIN photo p ON p.id=photo_id"
        " JOIN keyword k ON k.id=keyword_id ORDER BY 1, 2",
    )
    assert said == [
        ("a.jpg", "heron"),
        ("a.jpg", "high water"),
        ("b.jpg", "high water"),
        ("b.jpg", "salmon"),
    ]
    now = contents(bell)
    assert {k: v for k, v in now.items() if k != b"Bell.fascat"} == before
    found = survey_library(bench.workspace, bell).uses
    assert [d.references for d in found.documents] == [3] and found.of(Standing.MISSING) == []


def test_adding_keeps_everything_and_the_earlier_one(bench, bell, tmp_path):
    path = bell / "Bell.fascat"
    make(bench, path, bell / "shoots")
    with closing(sqlite3.connect(path)) as db:
        db.execute("UPDATE photo SET rating=5 WHERE file_name='a.jpg'")
        db.execute("INSERT INTO adjustment VALUES(1, '<x/>')")
        db.commit()
    before, kept = path.read_bytes(), rows(path, "SELECT * FROM photo ORDER BY id")
    write(tmp_path / "phone/c.jpg", photo(taken=None))
    done = make(bench, path, tmp_path / "phone", bell / "shoots")
    assert (done.added.photos, done.added.known) == (1, 3)
    assert done.before.read_bytes() == before
    assert rows(path, "SELECT * FROM photo ORDER BY id")[:3] == kept and rows(
        path, "SELECT * FROM adjustment"
    ) == [(1, "<x/>")]
    assert rows(path, "SELECT count(*) FROM keyword") == [(3,)]


@pytest.mark.parametrize("trouble", ["journal", "open", "not one", "cancelled", "no folder"])
def test_a_catalog_that_cannot_be_changed_stays_as_it_was(bench, bell, trouble):
    path = bell / "Bell.fascat"
    make(bench, path, bell / "shoots")
    error, more, folder = Refused, {}, bell / "shoots"
    if trouble == "journal":
        write(bell / "Bell.fascat-wal")
    elif trouble == "not one":
        path.write_bytes(b"rubbish" * 900)
        error = NotUnderstood
    elif trouble == "cancelled":
        error, more = Cancelled, {"control": StopsWhen()}
    elif trouble == "no folder":
        error, folder = EnvironmentTrouble, bell / "nowhere"
    before = contents(bell)
    if trouble == "open":
        from tests.library.making import open_by_another

        with open_by_another(path), pytest.raises(error):
            make(bench, path, folder)
    else:
        with pytest.raises(error):
            make(bench, path, folder, **more)
    assert contents(bell) == before


def test_existing_files_are_never_made_again(bell):
    there = write(bell / "there.fascat", b"mine")
    with pytest.raises(EnvironmentTrouble):
        new_catalog(there, "Bell")
    assert there.read_bytes() == b"mine"


def test_an_empty_catalog_is_as_the_format_says(tmp_path):
    new_catalog(tmp_path / "x.fascat", "Bell")
    for table, columns in TABLES.items():
        assert [r[1] for r in rows(tmp_path / "x.fascat", f"PRAGMA table_info({table})")] == list(
            columns
        )
    assert rows(tmp_path / "x.fascat", "PRAGMA application_id") == [(0x46415343,)]


@pytest.mark.parametrize(
    "sidecar",
    ["<!DOCTYPE x [<!ENTITY e 'e'>]><x>&e;</x>", "<x", XMP.replace('"4"', '"99"'),
    XMP.replace('"4"', '"lots"'), "\0" * 100],
)  # fmt: skip
def test_a_hostile_sidecar_says_nothing_and_the_photo_is_read(tmp_path, sidecar):
    one = write(tmp_path / "a.jpg", photo())
    two = write(tmp_path / "a.xmp", sidecar.encode())
    with open(one, "rb") as p, open(two, "rb") as s:
        (facts,) = facts_of([(p.fileno(), s.fileno())])
    assert (facts.width, facts.rating) == (60, None)


def test_a_child_that_dies_takes_one_photo_with_it(tmp_path, monkeypatch):
    from fascis.documents import photo_facts

    asked = []
    ask = photo_facts._Child.ask

    def dying(self, photo, sidecar, clips):
        asked.append(self)
        if len(asked) == 2:
            self._process.kill()
            self._process.wait()
        return ask(self, photo, sidecar, clips)

    monkeypatch.setattr(photo_facts._Child, "ask", dying)
    one = write(tmp_path / "a.jpg", photo())
    with open(one, "rb") as p:
        found = list(facts_of([(p.fileno(), None)] * 3))
    assert (
        [f.width for f in found] == [60, None, 60]
        and found[1] == Facts()
        and len({id(c) for c in asked}) == 2
    )


def test_names_that_are_not_text_are_left_out_and_counted(bench, bell):
    (bell / "shoots").joinpath(os.fsdecode(b"caf\xe9.jpg")).write_bytes(photo())
    done = make(bench, bell / "Bell.fascat", bell / "shoots")
    assert (done.added.photos, done.added.unwritable) == (3, 1)
