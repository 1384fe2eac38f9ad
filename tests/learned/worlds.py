"""Makes that nobody thought of: any layout of paths, in any container, among any other columns.

A world is tables of rows, written into a container and read back from it by what stands here, which
knows nothing of the product.
"""

from __future__ import annotations

import csv
import gzip
import io
import json
import random
import sqlite3
import string
from collections.abc import Callable
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote, unquote
from xml.etree import ElementTree
from xml.sax.saxutils import escape, quoteattr

Row = dict[str, str | int]
Tables = dict[str, list[Row]]
Decode = Callable[[Tables], list[str]]


def word(numbers: random.Random) -> str:
    return "".join(numbers.choice(string.ascii_lowercase) for _ in range(numbers.randrange(3, 9)))


def words(numbers: random.Random, count: int) -> list[str]:
    found: list[str] = []
    while len(found) < count:
        new = word(numbers)
        if new not in found:
            found.append(new)
    return found


# -- layouts ---------------------------------------------------------------------------------------


def whole(files: list[str], root: str, numbers: random.Random) -> tuple[Tables, Decode]:
    table, path = words(numbers, 2)
    return {table: [{path: f} for f in files]}, lambda t: [str(r[path]) for r in t[table]]


def url(files: list[str], root: str, numbers: random.Random) -> tuple[Tables, Decode]:
    table, path = words(numbers, 2)
    begin = numbers.choice(["file://", "file://localhost"])
    return (
        {table: [{path: begin + quote(f)} for f in files]},
        lambda t: [unquote(str(r[path]).removeprefix(begin)) for r in t[table]],
    )


def folders(files: list[str], root: str, numbers: random.Random) -> tuple[Tables, Decode]:
    table, other, key, path, ref, name = words(numbers, 6)
    slash = numbers.choice(["", "/"])
    known = sorted({f.rpartition("/")[0] for f in files})
    ids = numbers.sample(range(1, 5 * len(known) + 9), len(known))
    text = numbers.random() < 0.5
    id_of = {f: (f"{other}{i}" if text else i) for f, i in zip(known, ids, strict=True)}

    def decode(t: Tables) -> list[str]:
        where = {r[key]: str(r[path]) for r in t[other]}
        return [f"{where[r[ref]].rstrip('/')}/{r[name]}" for r in t[table]]

    rows: list[Row] = [
        {ref: id_of[f.rpartition("/")[0]], name: f.rpartition("/")[2]} for f in files
    ]
    return {other: [{key: id_of[f], path: f + slash} for f in known], table: rows}, decode


def base(files: list[str], root: str, numbers: random.Random) -> tuple[Tables, Decode]:
    table, other, path, name = words(numbers, 4)
    return (
        {other: [{path: root}], table: [{name: f.removeprefix(root + "/")} for f in files]},
        lambda t: [f"{t[other][0][path]}/{r[name]}" for r in t[table]],
    )


def apart(files: list[str], root: str, numbers: random.Random) -> tuple[Tables, Decode]:
    table, folder, stem, ending = words(numbers, 4)
    rows: list[Row] = []
    for f in files:
        above, _, name = f.rpartition("/")
        first, _, last = name.rpartition(".")
        rows.append({folder: above, stem: first, ending: last})
    return {table: rows}, lambda t: [f"{r[folder]}/{r[stem]}.{r[ending]}" for r in t[table]]


def beside(files: list[str], root: str, numbers: random.Random) -> tuple[Tables, Decode]:
    table, folder, name = words(numbers, 3)
    return (
        {table: [{folder: f.rpartition("/")[0], name: f.rpartition("/")[2]} for f in files]},
        lambda t: [f"{r[folder]}/{r[name]}" for r in t[table]],
    )


LAYOUTS = [whole, url, folders, base, apart, beside]


# -- what else stands there ------------------------------------------------------------------------


def noise(tables: Tables, files: list[str], numbers: random.Random) -> None:
    """Columns that are not paths, or look like paths without being followed."""
    for rows in tables.values():
        if len(rows) < 2:
            for row in rows:
                row[word(numbers)] = numbers.randrange(9)
            continue
        kinds = numbers.sample(
            ["number", "title", "note", "date", "colour", "came", "same", "count"], 3
        )
        names = [n for n in words(numbers, 3) if n not in rows[0]]
        for name, kind in zip(names, kinds, strict=False):
            for n, row in enumerate(rows):
                file = files[n % len(files)].rpartition("/")[2]
                row[name] = {
                    "number": numbers.randrange(100_000),
                    "title": file.rpartition(".")[0],
                    "note": f"cut from {file}, see /notes/{n}",
                    "date": f"2026-0{n % 9 + 1}-11T10:00:00Z",
                    "colour": numbers.choice(["green", "blue"]),
                    "came": f"/cards/{n % 4}/DCIM/{100 + n}.raw",
                    "same": "on/off",
                    "count": n,
                }[kind]


# -- containers ------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Container:
    name: str
    ending: str
    write: Callable[[Path, Tables, random.Random], None]
    read: Callable[[Path, Tables], Tables]
    most_tables: int = 9


def _write_db(path: Path, tables: Tables, numbers: random.Random) -> None:
    with closing(sqlite3.connect(path)) as db:
        for table, rows in tables.items():
            types = {c: "INTEGER" if isinstance(v, int) else "TEXT" for c, v in rows[0].items()}
            key = numbers.random() < 0.5
            columns = ", ".join(f'"{c}" {t}' for c, t in types.items())
            first = '"_row" INTEGER PRIMARY KEY, ' if key else ""
            db.execute(f'CREATE TABLE "{table}" ({first}{columns})')
            marks = ",".join("?" * len(types))
            names = ",".join(f'"{c}"' for c in types)
            db.executemany(
                f'INSERT INTO "{table}"({names}) VALUES({marks})', [tuple(r.values()) for r in rows]
            )
        db.commit()


def _read_db(path: Path, like: Tables) -> Tables:
    found: Tables = {}
    with closing(sqlite3.connect(path)) as db:
        for table, rows in like.items():
            names = list(rows[0])
            columns = ",".join(f'"{c}"' for c in names)
            got = db.execute(f'SELECT {columns} FROM "{table}" ORDER BY rowid').fetchall()
            found[table] = [dict(zip(names, r, strict=True)) for r in got]
    return found


def _write_json(path: Path, tables: Tables, numbers: random.Random) -> None:
    said = {"version": 3, **tables}
    path.write_text(
        json.dumps(said, indent=numbers.choice([None, 1]), ensure_ascii=numbers.random() < 0.5),
        "utf-8",
    )


def _read_json(path: Path, like: Tables) -> Tables:
    said = json.loads(path.read_text("utf-8"))
    return {table: said[table] for table in like}


def _write_gzip(path: Path, tables: Tables, numbers: random.Random) -> None:
    path.write_bytes(gzip.compress(json.dumps(tables).encode(), mtime=7))


def _read_gzip(path: Path, like: Tables) -> Tables:
    said = json.loads(gzip.decompress(path.read_bytes()))
    return {table: said[table] for table in like}


def _write_attributes(path: Path, tables: Tables, numbers: random.Random) -> None:
    parts = ["<?xml version='1.0' encoding='UTF-8'?>\n<doc>"]
    for table, rows in tables.items():
        parts.append(f"<{table}s>")
        for row in rows:
            said = " ".join(f"{c}={quoteattr(str(v))}" for c, v in row.items())
            parts.append(f"<{table} {said}/>")
        parts.append(f"</{table}s>")
    path.write_text("\n".join([*parts, "</doc>"]), "utf-8")


def _read_attributes(path: Path, like: Tables) -> Tables:
    root = ElementTree.parse(path).getroot()
    return {t: [_typed(e.attrib, rows[0]) for e in root.iter(t)] for t, rows in like.items()}


def _write_elements(path: Path, tables: Tables, numbers: random.Random) -> None:
    parts = ["<doc>"]
    for table, rows in tables.items():
        for row in rows:
            said = "".join(f"<{c}>{escape(str(v))}</{c}>" for c, v in row.items())
            parts.append(f"  <{table}>{said}</{table}>")
    path.write_text("\n".join([*parts, "</doc>"]), "utf-8")


def _read_elements(path: Path, like: Tables) -> Tables:
    root = ElementTree.parse(path).getroot()
    return {
        t: [_typed({c.tag: c.text or "" for c in e}, rows[0]) for e in root.findall(t)]
        for t, rows in like.items()
    }


def _typed(said: dict[str, str], like: Row) -> Row:
    return {c: int(said[c]) if isinstance(v, int) else said[c] for c, v in like.items()}


def _write_csv(path: Path, tables: Tables, numbers: random.Random) -> None:
    (rows,) = tables.values()
    out = io.StringIO()
    writer = csv.DictWriter(out, list(rows[0]), delimiter=numbers.choice(",;\t"))
    writer.writeheader()
    writer.writerows(rows)
    path.write_bytes(out.getvalue().encode())


def _read_csv(path: Path, like: Tables) -> Tables:
    ((table, rows),) = like.items()
    text = path.read_bytes().decode()
    head = text.split("\r\n", 1)[0]
    delimiter = next(d for d in ",;\t" if d in head)
    got = csv.DictReader(io.StringIO(text), delimiter=delimiter)
    return {table: [_typed(r, rows[0]) for r in got]}


def _write_ini(path: Path, tables: Tables, numbers: random.Random) -> None:
    parts = []
    for table, rows in tables.items():
        for n, row in enumerate(rows):
            parts.append(f"[{table} {n}]")
            parts += [f"{c} = {v}" for c, v in row.items()]
            parts.append("")
    path.write_text("\n".join(parts), "utf-8")


def _read_ini(path: Path, like: Tables) -> Tables:
    found: Tables = {t: [] for t in like}
    said: dict[str, str] = {}
    table = ""
    for line in [*path.read_text("utf-8").splitlines(), "[]"]:
        if line.startswith("["):
            if table:
                found[table].append(_typed(said, like[table][0]))
            table, said = line.strip("[]").partition(" ")[0], {}
        elif " = " in line:
            key, _, value = line.partition(" = ")
            said[key] = value
    return found


CONTAINERS = [
    Container("database", "db", _write_db, _read_db),
    Container("json", "json", _write_json, _read_json),
    Container("gzip", "jz", _write_gzip, _read_gzip),
    Container("attributes", "xm", _write_attributes, _read_attributes),
    Container("elements", "xm", _write_elements, _read_elements),
    Container("csv", "csv", _write_csv, _read_csv, 1),
    Container("ini", "ini", _write_ini, _read_ini),
]


@dataclass
class World:
    document: Path
    files: list[str]
    tables: Tables
    container: Container
    decode: Decode

    def read(self) -> list[str]:
        """What it refers to, in order."""
        return self.decode(self.container.read(self.document, self.tables))

    def cells(self) -> list[list[tuple[str, str | int]]]:
        """Every cell."""
        got = self.container.read(self.document, self.tables)
        return [list(r.items()) for rows in got.values() for r in rows]


def any_world(folder: Path, numbers: random.Random, files: list[str], root: str) -> World:
    container = numbers.choice(CONTAINERS)
    layouts = LAYOUTS if container.most_tables > 1 else [whole, url, apart, beside]
    tables, decode = numbers.choice(layouts)(files, root, numbers)
    noise(tables, files, numbers)
    if numbers.random() < 0.5:
        tables = dict(reversed(tables.items()))
    document = folder / f"{word(numbers)}.{container.ending}"
    container.write(document, tables, numbers)
    return World(document, files, tables, container, decode)
