"""Documents of made-up makes, in many styles, each with a reader of its own.

Nothing here is of the product: a document is written from what it refers to, and read again by
whoever wrote it. The studio's river is in all of them.
"""

from __future__ import annotations

import csv
import gzip
import io
import json
import plistlib
import random
import sqlite3
import zipfile
from collections.abc import Callable, Iterable
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote, unquote
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

WORDS = ["weir", "salmon", "heron", "reed", "stone", "ford", "mill", "otter", "alder", "gravel"]


@dataclass(frozen=True)
class Style:
    """How a make keeps its paths.

    Attributes:
        write: makes a document at a path from absolute paths of media, below a root.
        read: what the document refers to, in the order that was written; absolute.
    """

    name: str
    ending: str
    write: Callable[[Path, list[str], str, random.Random], None]
    read: Callable[[Path], list[str]]
    sure: bool = True


STYLES: list[Style] = []


def style(
    name: str, ending: str, read: Callable[[Path], list[str]], sure: bool = True
) -> Callable[[Callable[..., None]], Callable[..., None]]:
    def known(write: Callable[..., None]) -> Callable[..., None]:
        STYLES.append(Style(name, ending, write, read, sure))
        return write

    return known


def _split(path: str, root: str) -> tuple[str, str]:
    """Folder below the root, and name."""
    folder, _, name = path.rpartition("/")
    return folder.removeprefix(root).strip("/"), name


def media(root: Path, numbers: random.Random, count: int) -> list[str]:
    """Media below a root, made up; absolute paths."""
    found: list[str] = []
    # Cameras begin to count again: files of one name lie in several folders.
    alike = numbers.random() < 0.5
    for n in range(count):
        folder = root / numbers.choice(WORDS) / f"{numbers.choice(WORDS)} {numbers.randrange(3)}"
        folder.mkdir(parents=True, exist_ok=True)
        name = (
            f"{numbers.choice(WORDS).title()}_{n:04}.{numbers.choice(['mov', 'jpg', 'wav', 'mov'])}"
        )
        if numbers.random() < 0.1:
            name = f"été & {name}"
        if alike and not (folder / f"Clip_{n % 4}.mov").exists():
            name = f"Clip_{n % 4}.mov"
        (folder / name).write_bytes(numbers.randbytes(20 + n))
        found.append(str(folder / name))
    return found


# -- databases -------------------------------------------------------------------------------------


def _db(path: Path, script: str, rows: Iterable[tuple[str, Iterable[tuple[object, ...]]]]) -> None:
    with closing(sqlite3.connect(path)) as db:
        db.executescript(script)
        for sql, values in rows:
            db.executemany(sql, values)
        db.commit()


def _ask(path: Path, sql: str) -> list[tuple[object, ...]]:
    with closing(sqlite3.connect(path)) as db:
        return db.execute(sql).fetchall()


def _first(path: Path, sql: str) -> list[str]:
    return [str(row[0]) for row in _ask(path, sql)]


@style("whole paths", "db", lambda p: _first(p, "SELECT w FROM item ORDER BY n"))
def _whole(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = [(n, f, numbers.randrange(5), f"note {n}") for n, f in enumerate(files)]
    _db(
        path,
        "CREATE TABLE item(n INTEGER PRIMARY KEY, w TEXT, stars INTEGER, note TEXT)",
        [("INSERT INTO item VALUES(?,?,?,?)", rows)],
    )


@style(
    "folder and name",
    "db",
    lambda p: _first(p, "SELECT d.p||'/'||f.l FROM f JOIN d ON d.i=f.d ORDER BY f.i"),
)
def _folders(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    folders = sorted({f.rpartition("/")[0] for f in files})
    rows = [
        (n, folders.index(f.rpartition("/")[0]) + 1, f.rpartition("/")[2], numbers.randrange(99))
        for n, f in enumerate(files)
    ]
    _db(
        path,
        "CREATE TABLE d(i INTEGER PRIMARY KEY, p TEXT); "
        "CREATE TABLE f(i INTEGER PRIMARY KEY, d INTEGER REFERENCES d(i), l TEXT, s INTEGER)",
        [
            ("INSERT INTO d VALUES(?,?)", enumerate(folders, 1)),
            ("INSERT INTO f VALUES(?,?,?,?)", rows),
        ],
    )


@style(
    "root, folder, name",
    "db",
    lambda p: _first(
        p,
        "SELECT r.a||'/'||CASE f.b WHEN '' THEN '' ELSE f.b||'/' END||n.c FROM n JOIN f ON f.k=n.f "
        "JOIN r ON r.k=f.r ORDER BY n.k",
    ),
)
def _roots(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    folders = sorted({_split(f, root)[0] for f in files})
    rows = [(n, folders.index(_split(f, root)[0]), _split(f, root)[1]) for n, f in enumerate(files)]
    _db(
        path,
        "CREATE TABLE r(k INTEGER PRIMARY KEY, a TEXT, made TEXT); "
        "CREATE TABLE f(k INTEGER PRIMARY KEY, r INTEGER, b TEXT); "
        "CREATE TABLE n(k INTEGER PRIMARY KEY, f INTEGER, c TEXT)",
        [
            ("INSERT INTO r VALUES(?,?,?)", [(7, root, "2026")]),
            ("INSERT INTO f VALUES(?,7,?)", enumerate(folders)),
            ("INSERT INTO n VALUES(?,?,?)", rows),
        ],
    )


def _read_tree(path: Path) -> list[str]:
    folders = {i: (up, n) for i, up, n in _ask(path, "SELECT i, up, n FROM t")}
    found = []
    for folder, name in _ask(path, "SELECT t, n FROM m ORDER BY i"):
        parts = [name]
        at = folder
        while at is not None:
            at, called = folders[at]
            parts.append(called)
        found.append("/".join(map(str, reversed(parts))))
    return found


@style("tree of folders", "db", _read_tree)
def _tree(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    known: dict[str, int] = {}
    rows: list[tuple[object, ...]] = []

    def number(folder: str) -> int:
        if folder not in known:
            up = None if folder == root else number(folder.rpartition("/")[0])
            known[folder] = len(known) + 1
            rows.append((known[folder], up, folder if up is None else folder.rpartition("/")[2]))
        return known[folder]

    some = [(n, number(f.rpartition("/")[0]), f.rpartition("/")[2]) for n, f in enumerate(files)]
    _db(
        path,
        "CREATE TABLE t(i INTEGER PRIMARY KEY, up INTEGER, n TEXT); "
        "CREATE TABLE m(i INTEGER PRIMARY KEY, t INTEGER, n TEXT)",
        [("INSERT INTO t VALUES(?,?,?)", rows), ("INSERT INTO m VALUES(?,?,?)", some)],
    )


@style(
    "ending apart",
    "db",
    lambda p: _first(p, "SELECT d.p||b.s||'.'||b.e FROM b JOIN d ON d.i=b.d ORDER BY b.i"),
)
def _apart(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    folders = sorted({f.rpartition("/")[0] + "/" for f in files})
    rows = []
    for n, f in enumerate(files):
        folder, _, name = f.rpartition("/")
        stem, _, ending = name.rpartition(".")
        rows.append((n, folders.index(folder + "/"), stem, ending, stem))
    _db(
        path,
        "CREATE TABLE d(i INTEGER PRIMARY KEY, p TEXT); "
        "CREATE TABLE b(i INTEGER PRIMARY KEY, d INTEGER, s TEXT, e TEXT, title TEXT)",
        [
            ("INSERT INTO d VALUES(?,?)", enumerate(folders)),
            ("INSERT INTO b VALUES(?,?,?,?,?)", rows),
        ],
    )


@style(
    "file URLs",
    "db",
    lambda p: [
        unquote(u.removeprefix("file://")) for u in _first(p, "SELECT u FROM x ORDER BY rowid")
    ],
)
def _urls(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = [(f"id{n:05}", "file://" + quote(f)) for n, f in enumerate(files)]
    _db(path, "CREATE TABLE x(k TEXT UNIQUE, u TEXT)", [("INSERT INTO x VALUES(?,?)", rows)])


@style(
    "settings and names",
    "db",
    lambda p: _first(p, "SELECT (SELECT v FROM s WHERE k='base')||'/'||c.p FROM c ORDER BY c.i"),
)
def _settings(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = [(n, f.removeprefix(root + "/")) for n, f in enumerate(files)]
    _db(
        path,
        "CREATE TABLE s(k TEXT PRIMARY KEY, v TEXT) WITHOUT ROWID; "
        "CREATE TABLE c(i INTEGER PRIMARY KEY, p TEXT)",
        [
            ("INSERT INTO s VALUES(?,?)", [("base", root), ("colour", "green"), ("level", "3")]),
            ("INSERT INTO c VALUES(?,?)", rows),
        ],
    )


@style("lower case beside", "db", lambda p: _first(p, "SELECT w FROM g ORDER BY i"))
def _lower(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = [(n, f, f.lower()) for n, f in enumerate(files)]
    _db(
        path,
        "CREATE TABLE g(i INTEGER PRIMARY KEY, w TEXT, low TEXT)",
        [("INSERT INTO g VALUES(?,?,?)", rows)],
    )


@style(
    "came from",
    "db",
    lambda p: _first(p, "SELECT d.p||'/'||f.l FROM f JOIN d ON d.i=f.d ORDER BY f.i"),
)
def _history(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    folders = sorted({f.rpartition("/")[0] for f in files})
    rows = [
        (
            n,
            folders.index(f.rpartition("/")[0]),
            f.rpartition("/")[2],
            f"/media/card {n % 3}/DCIM/{f.rpartition('/')[2]}",
        )
        for n, f in enumerate(files)
    ]
    _db(
        path,
        "CREATE TABLE d(i INTEGER PRIMARY KEY, p TEXT); "
        "CREATE TABLE f(i INTEGER PRIMARY KEY, d INTEGER, l TEXT, came TEXT)",
        [
            ("INSERT INTO d VALUES(?,?)", enumerate(folders)),
            ("INSERT INTO f VALUES(?,?,?,?)", rows),
        ],
    )


def _read_cells(path: Path) -> list[str]:
    rows = _ask(path, "SELECT said FROM asset ORDER BY id")
    return [json.loads(str(said))["source"]["url"] for (said,) in rows]


@style("JSON in a cell", "db", _read_cells)
def _cells(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = [
        (n, f"asset {n}", json.dumps({"v": 2, "source": {"url": f, "w": 1920}, "marks": [1, n]}))
        for n, f in enumerate(files)
    ]
    _db(
        path,
        "CREATE TABLE asset(id INTEGER PRIMARY KEY, label TEXT, said TEXT)",
        [("INSERT INTO asset VALUES(?,?,?)", rows)],
    )


def _read_cell_parts(path: Path) -> list[str]:
    found = []
    for folder, said in _ask(path, "SELECT b.dir, c.more FROM c JOIN b ON b.k=c.b ORDER BY c.k"):
        found += [f"{folder}/{one['n']}" for one in json.loads(str(said))]
    return found


@style("names in a cell", "db", _read_cell_parts)
def _cell_parts(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    by_folder: dict[str, list[str]] = {}
    for f in files:
        by_folder.setdefault(f.rpartition("/")[0], []).append(f.rpartition("/")[2])
    bins = list(enumerate(sorted(by_folder), 1))
    rows = [
        (k, k, json.dumps([{"n": name} for name in by_folder[folder]], ensure_ascii=False))
        for k, folder in bins
    ]
    _db(
        path,
        "CREATE TABLE b(k INTEGER PRIMARY KEY, dir TEXT); "
        "CREATE TABLE c(k INTEGER PRIMARY KEY, b INTEGER, more TEXT)",
        [("INSERT INTO b VALUES(?,?)", bins), ("INSERT INTO c VALUES(?,?,?)", rows)],
    )


@style("two whole paths", "db", lambda p: _first(p, "SELECT a FROM q ORDER BY i"), sure=False)
def _twice(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = [(n, f, f) for n, f in enumerate(files)]
    _db(
        path,
        "CREATE TABLE q(i INTEGER PRIMARY KEY, a TEXT, b TEXT)",
        [("INSERT INTO q VALUES(?,?,?)", rows)],
    )


# -- JSON ------------------------------------------------------------------------------------------


@style(
    "JSON list", "json", lambda p: [c["src"]["path"] for c in json.loads(p.read_text())["clips"]]
)
def _json_list(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    clips = [
        {"id": n, "src": {"path": f, "kind": "media"}, "tags": ["a"]} for n, f in enumerate(files)
    ]
    path.write_text(json.dumps({"name": "river", "clips": clips}, indent=numbers.choice([None, 2])))


@style(
    "JSON bins",
    "json",
    lambda p: [
        f"{b['folder']}/{i['file']}" for b in json.loads(p.read_text())["bins"] for i in b["items"]
    ],
)
def _json_bins(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    bins: dict[str, list[dict[str, object]]] = {}
    for f in sorted(files):
        folder, _, name = f.rpartition("/")
        bins.setdefault(folder, []).append({"file": name, "len": numbers.random()})
    said = {"bins": [{"folder": k, "items": v} for k, v in sorted(bins.items())]}
    path.write_text(json.dumps(said, ensure_ascii=False).replace("/", numbers.choice(["/", "\\/"])))


@style("JSON map", "json", lambda p: [v["at"] for v in json.loads(p.read_text())["media"].values()])
def _json_map(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    said = {"media": {f"m{n:04}": {"at": f, "n": n} for n, f in enumerate(files)}}
    path.write_text(json.dumps(said))


@style(
    "JSON base",
    "json",
    lambda p: [
        f"{json.loads(p.read_text())['base']}/{x}" for x in json.loads(p.read_text())["files"]
    ],
)
def _json_base(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    said = {"base": root, "files": [f.removeprefix(root + "/") for f in files], "made": "2026"}
    path.write_text(json.dumps(said, indent=1), "utf-8")


@style(
    "JSON from here", "json", lambda p: [str(p.parent / c["p"]) for c in json.loads(p.read_text())]
)
def _json_here(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    here = str(path.parent) + "/"
    path.write_text(json.dumps([{"p": f.removeprefix(here), "w": 5} for f in files]))


@style(
    "JSON in gzip",
    "jz",
    lambda p: [c["p"] for c in json.loads(gzip.decompress(p.read_bytes()))["c"]],
)
def _json_gzip(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    said = {"c": [{"p": f, "n": n} for n, f in enumerate(files)]}
    path.write_bytes(gzip.compress(json.dumps(said).encode(), mtime=5))


# -- markup and pairs in cells ---------------------------------------------------------------------


def _read_markup(path: Path) -> list[str]:
    found = []
    for (said,) in _ask(path, "SELECT said FROM shot ORDER BY id"):
        element = ElementTree.fromstring(str(said))
        found.append(f"{element.find('from').attrib['dir']}/{element.findtext('from/name')}")
    return found


@style("markup in a cell", "db", _read_markup)
def _markup_cells(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = []
    for n, f in enumerate(files):
        folder, _, name = f.rpartition("/")
        said = f"<shot n='{n}'><from dir={quoteattr(folder)}><name>{escape(name)}</name></from>"
        rows.append((n, f"{said}<tone warm='yes'/></shot>"))
    _db(
        path,
        "CREATE TABLE shot(id INTEGER PRIMARY KEY, said TEXT)",
        [("INSERT INTO shot VALUES(?,?)", rows)],
    )


def _read_lists(path: Path) -> list[str]:
    cells = _ask(path, "SELECT said FROM reel ORDER BY id")
    return [str(e.text) for (said,) in cells for e in ElementTree.fromstring(str(said)).iter("f")]


@style("lists in markup in a cell", "db", _read_lists)
def _markup_lists(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = []
    for n in range(0, len(files), 2):
        items = "".join(f"<f><![CDATA[{f}]]></f>" for f in files[n : n + 2])
        rows.append((n, f"<reel>\n <of>{items}</of>\n</reel>"))
    _db(
        path,
        "CREATE TABLE reel(id INTEGER PRIMARY KEY, said TEXT)",
        [("INSERT INTO reel VALUES(?,?)", rows)],
    )


def _pairs(text: str, separator: str) -> dict[str, str]:
    return dict(p.split("=", 1) for p in text.split(separator) if p)


def _read_pairs(path: Path) -> list[str]:
    return [
        _pairs(str(said), "\n")["source"] for (said,) in _ask(path, "SELECT a FROM x ORDER BY k")
    ]


@style("pairs in a cell", "db", _read_pairs)
def _pair_cells(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    rows = [(n, f"speed=25\nsource={f}\nkeep=yes\n") for n, f in enumerate(files)]
    _db(
        path, "CREATE TABLE x(k INTEGER PRIMARY KEY, a TEXT)", [("INSERT INTO x VALUES(?,?)", rows)]
    )


def _read_short_pairs(path: Path) -> list[str]:
    found = []
    for base, said in _ask(path, "SELECT d.p, x.a FROM x JOIN d ON d.k=x.d ORDER BY x.k"):
        found.append(f"{base}/{_pairs(str(said), ';')['name']}")
    return found


@style("names in pairs in a cell", "db", _read_short_pairs)
def _short_pairs(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    folders = sorted({f.rpartition("/")[0] for f in files})
    keys = {folder: k for k, folder in enumerate(folders, 1)}
    rows = [
        (n, keys[f.rpartition("/")[0]], f"name={f.rpartition('/')[2]};mark={n};fps=25")
        for n, f in enumerate(files)
    ]
    _db(
        path,
        "CREATE TABLE d(k INTEGER PRIMARY KEY, p TEXT);"
        "CREATE TABLE x(k INTEGER PRIMARY KEY, d INTEGER REFERENCES d(k), a TEXT)",
        [
            ("INSERT INTO d VALUES(?,?)", [(k, f) for f, k in keys.items()]),
            ("INSERT INTO x VALUES(?,?,?)", rows),
        ],
    )


@style("property list by path", "plist", lambda p: list(plistlib.loads(p.read_bytes())["known"]))
def _plist_map(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    known = {f: {"stars": n % 5, "note": "calm"} for n, f in enumerate(files)}
    path.write_bytes(plistlib.dumps({"v": 3, "known": known}, sort_keys=False))


# -- XML -------------------------------------------------------------------------------------------


@style(
    "XML attributes", "xm", lambda p: [e.attrib["where"] for e in ElementTree.parse(p).iter("shot")]
)
def _xml_attributes(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    shots = "\n".join(
        f"  <shot n=\"{n}\" where={quoteattr(f)} note='calm'/>" for n, f in enumerate(files)
    )
    path.write_text(f'<?xml version="1.0"?>\n<film title="river">\n{shots}\n</film>\n', "utf-8")


@style(
    "XML elements",
    "xm",
    lambda p: [
        f"{e.findtext('at/dir')}/{e.findtext('at/called')}"
        for e in ElementTree.parse(p).iter("thing")
    ],
)
def _xml_elements(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    parts = []
    for f in files:
        folder, _, name = f.rpartition("/")
        cdata = numbers.random() < 0.3
        text = f"<![CDATA[{folder}]]>" if cdata else escape(folder)
        parts.append(
            f"<thing><at><dir>{text}</dir><called>{escape(name)}</called></at><x>1</x></thing>"
        )
    encoding = numbers.choice(["utf-8", "utf-16"])
    said = f'<?xml version="1.0" encoding="{encoding}"?><all>{"".join(parts)}</all>'
    path.write_bytes(said.encode(encoding))


@style(
    "XML URLs",
    "xm",
    lambda p: [
        unquote((e.text or "").removeprefix("file://localhost"))
        for e in ElementTree.parse(p).iter("url")
    ],
)
def _xml_urls(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    parts = "".join(
        f"<clip><name>c{n}</name><url>{escape('file://localhost' + quote(f))}</url></clip>\n"
        for n, f in enumerate(files)
    )
    path.write_text(f"<!-- river --><seq>\n{parts}</seq>", "utf-8")


@style(
    "property list", "pl", lambda p: [c["Place"] for c in plistlib.loads(p.read_bytes())["Things"]]
)
def _plist(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    said = {"Things": [{"Place": f, "Stars": n % 5} for n, f in enumerate(files)], "V": 3}
    path.write_bytes(plistlib.dumps(said))


def _read_zip(path: Path) -> list[str]:
    with zipfile.ZipFile(path) as packed:
        return [e.attrib["p"] for e in ElementTree.fromstring(packed.read("main.xml")).iter("i")]


@style("XML in ZIP", "pk", _read_zip)
def _zip(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    said = "<r>" + "".join(f"<i p={quoteattr(f)}/>" for f in files) + "</r>"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("main.xml", said)
        packed.writestr("thumb.png", bytes(range(256)))
        packed.writestr("notes.json", '{"a": 1}')


# -- plain text ------------------------------------------------------------------------------------


@style("lines", "ls", lambda p: p.read_text().splitlines()[1:])
def _lines(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    path.write_text("\n".join(["# what we filmed", *files]) + "\n", "utf-8")


def _read_csv(path: Path) -> list[str]:
    return [r["file"] for r in csv.DictReader(io.StringIO(path.read_bytes().decode("utf-8-sig")))]


@style("records", "csv", _read_csv)
def _csv(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator=numbers.choice(["\n", "\r\n"]))
    writer.writerow(["n", "file", "note"])
    writer.writerows([n, f, "a, b"] for n, f in enumerate(files))
    path.write_bytes(numbers.choice([b"", b"\xef\xbb\xbf"]) + out.getvalue().encode())


def _read_ini(path: Path) -> list[str]:
    lines = path.read_text().splitlines()
    return [line.partition("=")[2] for line in lines if line.startswith("file=")]


@style("settings", "ini", _read_ini)
def _ini(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    sections = "\n".join(f"[clip {n}]\nfile={f}\nstars={n % 5}\n" for n, f in enumerate(files))
    path.write_text(f"; river\n[main]\nname=x\n\n{sections}", "utf-8")


def _read_numbered(path: Path) -> list[str]:
    lines = path.read_text().splitlines()
    return [line.partition(" = ")[2] for line in lines if line.startswith("File")]


@style("numbered keys", "ini", _read_numbered)
def _numbered(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    said = "\n".join(f"File{n} = {f}\nLength{n} = {n}" for n, f in enumerate(files, 1))
    path.write_text(f"[list]\n{said}\nCount = {len(files)}\n", "utf-8")


def _read_items(path: Path) -> list[str]:
    folder, found = "", []
    for line in path.read_text().splitlines():
        key, _, value = line.strip().removeprefix("- ").partition(": ")
        if key == "folder":
            folder = value.strip('"')
        elif key == "file":
            found.append(f"{folder}/{value.strip(chr(34))}")
    return found


@style("indented", "ym", _read_items)
def _items(path: Path, files: list[str], root: str, numbers: random.Random) -> None:
    lines = ["project: river", "items:"]
    for f in files:
        folder, _, name = f.rpartition("/")
        lines += [f'  - folder: "{folder}"', f'    file: "{name}"', "    stars: 2"]
    path.write_text("\n".join(lines) + "\n", "utf-8")
