"""What every document of a world plays, and what happened to every file.

Imports nothing from fascis: it looks as anybody can.
"""

from __future__ import annotations

import hashlib
import json
import os
import re
import sqlite3
import stat
import xml.etree.ElementTree as ElementTree
from contextlib import closing
from pathlib import Path
from urllib.parse import unquote_to_bytes

DOCUMENTS = (".otio", ".m3u8", ".xspf", ".edl", ".fascat")
OWN = ".fascis"


def content(path):
    """A digest of a regular file's content; None if there is none."""
    try:
        if not stat.S_ISREG(os.stat(path).st_mode):
            return None
        return hashlib.sha1(Path(os.fsdecode(path)).read_bytes()).hexdigest()
    except (OSError, ValueError):
        return None


def targets(path):
    """The targets in a document, in order, with True for URIs by the format's standard."""
    text = Path(path).read_bytes()
    if path.suffix == ".otio":
        return list(_urls(json.loads(text))), False
    if path.suffix == ".m3u8":
        lines = text.decode("utf-8", "surrogateescape").splitlines()
        return [x.strip() for x in lines if x.strip() and not x.startswith("#")], False
    if path.suffix == ".edl":
        found = re.findall(r"\* SOURCE FILE: (.*)", text.decode("utf-8", "surrogateescape"))
        return [x.strip() for x in found], False
    return [
        e.text.strip() for e in ElementTree.fromstring(text).iter("{http://xspf.org/ns/0/}location")
    ], True


def _urls(tree):
    if isinstance(tree, dict):
        if str(tree.get("OTIO_SCHEMA", "")).startswith("ExternalReference"):
            yield tree["target_url"]
        for value in tree.values():
            yield from _urls(value)
    elif isinstance(tree, list):
        for value in tree:
            yield from _urls(value)


def leads(text, folder, is_uri):
    """The content that a target leads to: as it is written, then percent-decoded.

    A file URL decoded.
    """
    raw = os.fsencode(text)
    if raw.startswith(b"file://"):
        ways = [unquote_to_bytes(raw[7:])]
    else:
        ways = [unquote_to_bytes(raw)] if is_uri else [raw, unquote_to_bytes(raw)]
    for way in ways:
        found = content(os.path.join(os.fsencode(folder), way))
        if found is not None:
            return found
    return None


def plays(path, mounts):
    """What every reference of a document leads to, in order; for a catalog by photo."""
    path = Path(path)
    if path.suffix == ".fascat":
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True)) as db:
            rows = db.execute(
                "SELECT p.drive_uuid, p.path, f.path, h.file_name FROM photo h JOIN folder f ON "
                "f.id=h.folder_id"
                " JOIN place p ON p.id=f.place_id ORDER BY h.id"
            ).fetchall()
        return [
            content(os.path.join(mounts.get(uuid, "/"), place, folder, name))
            for uuid, place, folder, name in rows
        ]
    found, is_uri = targets(path)
    return [leads(t, path.parent, is_uri) for t in found]


def documents(root, mounts):
    """Every document below a folder and what it plays, without Fascis's own: path → contents."""
    found = {}
    for folder, folders, names in os.walk(root):
        folders[:] = [f for f in folders if f != OWN and not f.startswith(".fascis-crossing-")]
        for name in names:
            path = Path(folder, name)
            if path.suffix in DOCUMENTS and path.is_file() and not path.is_symlink():
                found[path] = plays(path, mounts)
    return found


def files(root):
    """Every regular file below a folder, Fascis's own left out.

    Path → (content, inode, names, bytes on the drive).
    """
    found = {}
    for folder, folders, names in os.walk(root):
        folders[:] = [f for f in folders if f != OWN and not f.startswith(".fascis-crossing-")]
        for name in names:
            path = Path(folder, name)
            s = path.lstat()
            if stat.S_ISREG(s.st_mode) and name != "stand-in.json":
                found[path] = (content(path), s.st_ino, s.st_nlink, s.st_blocks * 512)
    return found


def freed(before, after):
    """Room that came free: of files all of whose names are gone, of Fascis's own records too."""
    inodes = {}
    for path, (_, inode, links, room) in before.items():
        inodes.setdefault(inode, [0, links, room])[0] += path not in after
    return sum(room for gone, links, room in inodes.values() if gone >= links)


def files_with_own(root):
    """Every regular file below a folder, Fascis's own records too.

    Path → (content, inode, names, bytes on the drive).
    """
    found = {}
    for folder, _, names in os.walk(root):
        for name in names:
            path = Path(folder, name)
            s = path.lstat()
            if stat.S_ISREG(s.st_mode):
                found[path] = (content(path), s.st_ino, s.st_nlink, s.st_blocks * 512)
    return found
