"""Compiles the catalogs of translations if needed: each ``.mo`` beside its ``.po``."""

from __future__ import annotations

from pathlib import Path

CATALOGS = Path(__file__).parent.parent / "src/fascis/words/locale"


def compile_all() -> None:
    """Compiles every catalog that changed since; without any, nothing is imported."""
    for source in sorted(CATALOGS.glob("*/LC_MESSAGES/*.po")):
        compiled = source.with_suffix(".mo")
        if not compiled.exists() or compiled.stat().st_mtime_ns < source.stat().st_mtime_ns:
            _compile(source, compiled)


def _compile(source: Path, compiled: Path) -> None:
    from babel.messages.mofile import write_mo
    from babel.messages.pofile import read_po

    with source.open("rb") as text:
        catalog = read_po(text, locale=source.parent.parent.name)
    with compiled.open("wb") as out:
        write_mo(out, catalog)


if __name__ == "__main__":
    compile_all()
