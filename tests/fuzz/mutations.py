"""Mutations of real inputs: of bytes, lines, JSON trees and the cells of databases.

The same seed gives the same.
"""

import copy
import json
import random
import sqlite3
from contextlib import closing, suppress

_TOKENS = [
    b"\x00", b"\xff\xfe", b"\xef\xbb\xbf", b"..", b"/", b"//", b"file://", b"%00", b"%2e%2e%2f",
    b"\\", b"\\ud83d", b'"', b"]]>", b"<!DOCTYPE x [<!ENTITY a 'b'>]>",
    b"&a;", b"\r", b"\n", b"\t", b",", b"-1", b"99999999999999999999", b"1e999", b"NaN", b"null",
    b"\xc3", b"\xe2\x80\xae", b"{", b"[" * 300, b"(" * 300,
]  # fmt: skip
_VALUES = [
    None, True, 0, -1, 1, 2**31, 2**63, -(2**63) - 1, 2**200, 1.5, 1e308, "", "x", "\ud83d",
    "a\x00b", "../../etc", "/", "//", "é", "e\u0301", "x" * 5000,
    "file:///dev/zero", "/proc/self/mem", "2300-01-01T00:00:00Z", "10000000000-01-01", [], [[]], {},
    {"": None}, [None] * 50,
]  # fmt: skip
# fmt: skip
_CELLS = [
    None,
    0,
    -1,
    2**63 - 1,
    -(2**63),
    1.5,
    float("inf"),
    "",
    "x",
    "a\x00b",
    "../..",
    "/",
    "é" * 200,
    b"",
    b"\x00\xff",
    b"x" * 3000,
    "[]",
    "{}",
    "null",
    '"x"',
    "[[1]]",
]


def bytes_mutated(content: bytes, rng: random.Random) -> bytes:
    """Some bytes flipped, cut out, doubled, moved, or replaced by what parsers stumble over."""
    out = bytearray(content)
    for _ in range(rng.choice((1, 1, 2, 4, 16))):
        at = rng.randrange(len(out) + 1)
        length = rng.choice((1, 2, 8, 64, 512))
        match rng.randrange(6):
            case 0 if out:
                out[min(at, len(out) - 1)] ^= 1 << rng.randrange(8)
            case 1:
                del out[at : at + length]
            case 2:
                out[at:at] = out[at : at + length] * rng.choice((1, 2, 20))
            case 3:
                out[at:at] = rng.choice(_TOKENS)
            case 4:
                part = out[at : at + length]
                del out[at : at + length]
                to = rng.randrange(len(out) + 1)
                out[to:to] = part
            case _:
                out[at : at + length] = rng.randbytes(length)
    return bytes(out[: 1 << 20])


def lines_mutated(content: bytes, rng: random.Random) -> bytes:
    """Lines dropped, doubled, swapped, joined, and tokens within them."""
    lines = content.split(b"\n")
    for _ in range(rng.choice((1, 2, 5))):
        i, j = rng.randrange(len(lines)), rng.randrange(len(lines))
        match rng.randrange(5):
            case 0:
                lines[i], lines[j] = lines[j], lines[i]
            case 1:
                lines[i:i] = [lines[j]] * rng.choice((1, 3, 200))
            case 2 if len(lines) > 1:
                del lines[i]
            case 3:
                fields = lines[i].split(rng.choice((b",", b" ", b"\t", b":")))
                fields[rng.randrange(len(fields))] = rng.choice(_TOKENS)
                lines[i] = rng.choice((b",", b" ", b"\t", b":")).join(fields)
            case _:
                lines[i] = bytes_mutated(lines[i], rng)
    return b"\n".join(lines)[: 1 << 20]


def json_mutated(content: bytes, rng: random.Random) -> bytes:
    """Nodes of the tree replaced by other values, taken out, doubled or nested deeply."""
    try:
        tree = json.loads(content)
    except ValueError:
        return bytes_mutated(content, rng)
    for _ in range(rng.choice((1, 1, 2, 4))):
        tree = _changed(tree, rng)
    text = json.dumps(tree)
    if rng.random() < 0.05:
        text = "[" * 3000 + text + "]" * 3000
    return text.encode() if len(text) < 1 << 20 else bytes_mutated(content, rng)


def _changed(tree, rng):
    holders = [tree] if isinstance(tree, (dict, list)) else []
    for holder in holders:
        if len(holders) < 2000:
            inner = holder.values() if isinstance(holder, dict) else holder
            holders.extend(v for v in inner if isinstance(v, (dict, list)))
    holders = [h for h in holders if h]
    if not holders or rng.random() < 0.03:
        return copy.deepcopy(rng.choice(_VALUES))
    holder = rng.choice(holders)
    key = rng.choice(list(holder)) if isinstance(holder, dict) else rng.randrange(len(holder))
    match rng.randrange(4):
        case 0:
            holder[key] = copy.deepcopy(rng.choice(_VALUES))
        case 1:
            del holder[key]
        case 2 if isinstance(holder, list):
            holder.extend([holder[key]] * rng.choice((1, 100)))
        case 2:
            holder[str(rng.choice(_VALUES))] = copy.deepcopy(holder[key])
        case _:
            nested = holder[key]
            for _ in range(rng.choice((1, 50))):
                nested = [nested] if rng.random() < 0.5 else {"x": nested}
            holder[key] = nested
    return tree


def database_mutated(path, rng: random.Random) -> None:
    """Cells, columns, tables, versions or bytes of a database changed where it lies."""
    if rng.random() < 0.25:
        path.write_bytes(bytes_mutated(path.read_bytes(), rng))
        return
    with suppress(sqlite3.Error), closing(sqlite3.connect(path, isolation_level=None)) as db:
        db.execute("PRAGMA writable_schema=1")
        for _ in range(rng.choice((1, 1, 2, 5))):
            tables = [
                r[0]
                for r in db.execute(
                    "SELECT name FROM sqlite_master WHERE type='table' AND name NOT LIKE 'sqlite%'"
                )
            ]
            if not tables:
                return
            table = rng.choice(tables)
            columns = [r[1] for r in db.execute(f'PRAGMA table_info("{table}")')]
            column = rng.choice(columns)
            with suppress(sqlite3.Error):
                match rng.randrange(8):
                    case 0:
                        db.execute(f'ALTER TABLE "{table}" DROP COLUMN "{column}"')
                    case 1:
                        db.execute(f'DROP TABLE "{table}"')
                    case 2:
                        db.execute(f"PRAGMA user_version={rng.choice((0, 1, 2, 5, 99, -1))}")
                    case 3:
                        db.execute(
                            f'DELETE FROM "{table}" WHERE rowid % 2 = ?', (rng.randrange(2),)
                        )
                    case _:
                        value = rng.choice(_CELLS)
                        some = rng.choice(
                            (
                                "1",
                                "rowid=(SELECT min(rowid) FROM {t})",
                                "rowid=(SELECT max(rowid) FROM {t})",
                            )
                        ).format(t=f'"{table}"')
                        try:
                            db.execute(f'UPDATE "{table}" SET "{column}"=? WHERE {some}', (value,))
                        except sqlite3.Error:
                            db.execute(f'UPDATE OR IGNORE "{table}" SET "{column}"=?', (value,))
