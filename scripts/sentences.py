"""The sentences that people read: lists them, makes their template, finds those that are not ready.

    python scripts/sentences.py             every sentence with its place
    python scripts/sentences.py --check     those that cannot be translated, or are glued from parts
    python scripts/sentences.py --template  writes the template for translations, and what is new
                                            into each catalog

A sentence is a message of ``tr`` or ``trn``. What else has several words in it, and is shown to
nobody, is known by where it stands: documentation, logs, keys, comparisons, SQL, patterns. Where it
is not, the line says ``# for programs``, and so does one above a longer literal.
"""

from __future__ import annotations

import argparse
import ast
import io
import re
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import cast

from babel.messages.catalog import Catalog
from babel.messages.pofile import read_po, write_po

SOURCE = Path(__file__).parent.parent / "src"
TEMPLATE = SOURCE / "fascis/words/locale/fascis.pot"
# Literals read only by programs: names in the demo, styles, statements.
_NO_WORDS = ("demo", "tour", "words")
_CALLS = ("tr", "trn")
# What typer heads its help with; it asks gettext for these.
_OF_TYPER = (
    "Arguments",
    "Options",
    "Commands",
    "required",
    "default: {default}",
    "No such command {name!r}.",
)
# Arguments of these are read by a program, or go into a log.
_FOR_PROGRAMS = frozenset(
    [
        "compile",
        "execute",
        "executemany",
        "executescript",
        "setObjectName",
        "setStyleSheet",
        "property",
        "setProperty",
        "startswith",
        "endswith",
        "partition",
        "rpartition",
        "split",
        "rsplit",
        "strip",
        "lstrip",
        "rstrip",
        "replace",
        "step",
        "getattr",
        "hasattr",
        "setattr",
        "strftime",
        "strptime",
        "fullmatch",
        "match",
        "search",
        "sub",
        "findall",
        "finditer",
        "TypeVar",
        "debug",
        "info",
        "warning",
        "exception",
        "error",
        "log",
        "encode",
        "getenv",
        "date_text",
        "local_text",
        "read",
        "write",
        "open",
        "ValueError",
        "TypeError",
        "KeyError",
        "AssertionError",
        "RuntimeError",
        "NotImplementedError",
        "LookupError",
        "import_module",
        "Path",
        "Font",
        "QFont",
        "find",
        "path",
        "files",
        "count",
        "index",
    ]
)
_SQL = re.compile(
    r"\b(SELECT|INSERT|UPDATE|DELETE FROM|FROM|WHERE|CREATE|PRAGMA|ALTER|VALUES|JOIN|ORDER BY|AND"
    r"|OR|IS|NULL|CASE|INTEGER|TEXT|BLOB)\b|\bIN \(|coalesce\("
)
_MARKUP = re.compile(r"<[a-z!/]|\{\{|^[-#/%]|://|\bbody\{")


@dataclass(frozen=True, slots=True)
class Wrong:
    """A text that is not ready to be translated."""

    place: str
    line: int
    text: str
    why: str


def _texts(node: ast.expr) -> str:
    """The text of a literal, without inserted values."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(_texts(v) if isinstance(v, ast.Constant) else "\0" for v in node.values)
    return ""


def _is_sentence(text: str) -> bool:
    words = re.findall(r"[A-Za-z]{2,}", text)
    several = " " in text.strip() and any(c.islower() for c in text)
    return several and bool(words) and not _SQL.search(text) and not _MARKUP.search(text)


def _is_message(node: ast.AST) -> bool:
    return isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in _CALLS


class _Finder(ast.NodeVisitor):
    """Walks a module, and knows the nodes above the present one."""

    def __init__(self, place: str, lines: list[str]) -> None:
        self.place, self.wrong, self._above = place, list[Wrong](), list[ast.AST]()
        self._lines = lines

    def visit(self, node: ast.AST) -> None:
        """Visits a node, then its children."""
        if isinstance(node, (ast.Constant, ast.JoinedStr)):
            self._literal(node)
        if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
            self._sum(node)
        if _is_message(node):
            self._message(cast(ast.Call, node))
        self._above.append(node)
        if not isinstance(node, ast.JoinedStr):
            self.generic_visit(node)
        else:
            for value in node.values:
                if isinstance(value, ast.FormattedValue):
                    self.visit(value.value)
        self._above.pop()

    def _literal(self, node: ast.expr) -> None:
        text = _texts(node)
        glued = isinstance(node, ast.JoinedStr) and any(
            isinstance(v, ast.FormattedValue) and _is_message(v.value) for v in node.values
        )
        if glued and re.search(r"[A-Za-z]{2,}", text):
            self._note(node, text, "glued from parts")
        elif _is_sentence(text) and not self._for_programs(node):
            self._note(node, text, "not a message")

    def _sum(self, node: ast.BinOp) -> None:
        sides = (node.left, node.right)
        if any(map(_is_message, sides)):
            self._note(node, ast.unparse(node)[:80], "glued from parts")

    def _message(self, node: ast.Call) -> None:
        count = 2 if cast(ast.Name, node.func).id == "trn" else 1
        if not all(isinstance(a, ast.Constant) for a in node.args[:count]):
            self._note(node, ast.unparse(node)[:80], "not written out")
        for said in map(_texts, node.args):
            if _SQL.search(said):
                # Translated, a program would read something else.
                self._note(node, said, "a message that a program reads")

    def _note(self, node: ast.expr, text: str, why: str) -> None:
        near = self._lines[max(0, node.lineno - 3) : node.end_lineno]
        if any("# for programs" in line for line in near):
            return
        self.wrong.append(Wrong(self.place, node.lineno, text.replace("\0", "…"), why))

    def _for_programs(self, node: ast.expr) -> bool:
        child: ast.AST = node
        for above in reversed(self._above):
            if _is_message(above):
                return True
            if isinstance(above, (ast.Compare, ast.Assert, ast.Subscript)):
                return True
            if isinstance(above, ast.AnnAssign) and above.value is not child:
                return True
            if isinstance(above, ast.Dict) and child in above.keys:
                return True
            if isinstance(above, ast.Call) and _called(above) in _FOR_PROGRAMS:
                return True
            if isinstance(above, ast.Expr):
                # Documentation.
                return above.value is node
            if isinstance(above, (ast.stmt, ast.mod)):
                return False
            child = above
        return False


def _called(node: ast.Call) -> str:
    if isinstance(node.func, ast.Attribute):
        return node.func.attr
    return node.func.id if isinstance(node.func, ast.Name) else ""


def not_ready() -> Iterator[Wrong]:
    """What people read and no translation can change."""
    for path in sorted(SOURCE.rglob("*.py")):
        place = path.relative_to(SOURCE)
        if place.parts[1] not in _NO_WORDS:
            text = path.read_text()
            finder = _Finder(str(place), text.splitlines())
            finder.visit(ast.parse(text))
            yield from finder.wrong


def _extracted() -> Iterator[tuple[str, int, str | tuple[str, ...]]]:
    """Every message with its place and line; one inside another too, which Babel does not see."""
    for path in sorted(SOURCE.rglob("*.py")):
        calls = (n for n in ast.walk(ast.parse(path.read_text())) if isinstance(n, ast.Call))
        found = []
        for call in filter(_is_message, calls):
            texts = [a.value for a in call.args if isinstance(a, ast.Constant)]
            wanted = texts[: 2 if cast(ast.Name, call.func).id == "trn" else 1]
            found.append((call.lineno, call.col_offset, wanted))
        for line, _column, texts in sorted(found):
            yield str(path.relative_to(SOURCE)), line, texts[0] if len(texts) == 1 else (*texts,)


def template() -> Catalog:
    """All messages, with their places, and those of the command-line library."""
    catalog = Catalog(project="Fascis", charset="utf-8", fuzzy=False)
    for message in _OF_TYPER:
        catalog.add(message, locations=[("typer", 0)])
    for place, _line, message in _extracted():
        catalog.add(message, locations=[(place, 0)])
    return catalog


def template_text() -> bytes:
    """The template as it is written: without times and lines, which change for nothing."""
    written = io.BytesIO()
    write_po(written, template(), omit_header=True, include_lineno=False, width=100)
    return written.getvalue()


def bring_up_to_date(translated: Path) -> None:
    """Adds new messages to a catalog, still untranslated, and removes old ones."""
    header, _, _ = translated.read_text().partition("\n\n")
    with translated.open("rb") as text:
        catalog = read_po(text, locale=translated.parent.parent.name)
    catalog.update(template(), no_fuzzy_matching=True)
    catalog.obsolete.clear()
    written = io.BytesIO()
    write_po(written, catalog, omit_header=True, include_lineno=False, width=100)
    translated.write_text(f"{header}\n\n{written.getvalue().decode()}")


def sentences() -> Iterator[tuple[str, int, str]]:
    """Every message with its place and line."""
    for place, line, message in _extracted():
        yield place, line, message if isinstance(message, str) else " | ".join(message)


def main() -> int:
    """Does what the command line says; 1 if a sentence is not ready."""
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument("--check", action="store_true")
    parser.add_argument("--template", action="store_true")
    wanted = parser.parse_args()
    if wanted.template:
        TEMPLATE.parent.mkdir(parents=True, exist_ok=True)
        TEMPLATE.write_bytes(template_text())
        for translated in TEMPLATE.parent.glob("*/LC_MESSAGES/*.po"):
            bring_up_to_date(translated)
        return 0
    if not wanted.check:
        for place, line, message in sentences():
            print(f"{place}:{line}: {message!r}")
        return 0
    wrong = list(not_ready())
    for one in wrong:
        print(f"{one.place}:{one.line}: {one.why}: {one.text!r}", file=sys.stderr)
    if not TEMPLATE.exists() or TEMPLATE.read_bytes() != template_text():
        print("The template is not what the sources say: --template makes it.", file=sys.stderr)
        return 1
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
