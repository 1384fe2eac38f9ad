"""Small libraries for tests: timelines by hand, files of a few bytes."""

import io
import json
import sqlite3
import subprocess
import sys
from contextlib import closing, contextmanager

from PIL import Image

from fascis.documents.catalog import TABLES


def write(path, content=b"made"):
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(content)
    return path


def timeline(*targets):
    """A timeline with one clip for each target."""
    clips = [
        {
            "OTIO_SCHEMA": "Clip.2",
            "name": f"clip {i}",
            "active_media_reference_key": "DEFAULT_MEDIA",
            "media_references": {
                "DEFAULT_MEDIA": {"OTIO_SCHEMA": "ExternalReference.1", "target_url": t}
            },
        }
        for i, t in enumerate(targets)
    ]
    track = {"OTIO_SCHEMA": "Track.1", "children": clips, "kind": "Video"}
    return json.dumps(
        {"OTIO_SCHEMA": "Timeline.1", "tracks": {"OTIO_SCHEMA": "Stack.1", "children": [track]}},
        ensure_ascii=False,
    ).encode()


def catalog_at(path, places, folders, photos):
    """A catalog by hand.

    Places as (drive, path), folders as (id, place, path), photos as (folder, name).
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    with closing(sqlite3.connect(path)) as db:
        db.executescript(
            f"PRAGMA application_id={0x46415343}; PRAGMA user_version=1;"
            + ";".join(
                f"CREATE TABLE {name}({', '.join(columns)})".replace(
                    "(id", "(id INTEGER PRIMARY KEY"
                )
                for name, columns in TABLES.items()
            )
        )
        db.executemany("INSERT INTO meta VALUES(?,?)", [("catalog_id", "c-1"), ("name", "Bell")])
        db.executemany("INSERT INTO place(drive_uuid, path) VALUES(?,?)", places)
        db.executemany("INSERT INTO folder VALUES(?,?,?)", folders)
        db.executemany("INSERT INTO photo(folder_id, file_name, rating) VALUES(?,?,3)", photos)
        db.execute("INSERT INTO keyword VALUES(1, 'heron')")
        db.execute("INSERT INTO photo_keyword VALUES(1, 1)")
        db.execute("INSERT INTO adjustment VALUES(1, '<x/>')")
        db.execute("INSERT INTO preview VALUES(1, x'ffd8')")
        db.commit()
    return path


def picture(format):
    """A real picture, of one colour."""
    out = io.BytesIO()
    Image.new("RGB", (40, 30), "teal").save(out, format)
    return out.getvalue()


@contextmanager
def open_by_another(path):
    """Another process has a file open meanwhile."""
    words = "import sys, time; f = open(sys.argv[1]); print(flush=True); time.sleep(60)"
    child = subprocess.Popen([sys.executable, "-c", words, str(path)], stdout=subprocess.PIPE)
    child.stdout.readline()
    try:
        yield
    finally:
        child.kill()
        child.communicate()
