"""A helper that summarises folders: ``python -m fascis.library.looking.seer SOCKET``."""

from __future__ import annotations

from typing import Any

from fascis.files.own.serving import serve
from fascis.library.looking.seeing import Eyes
from fascis.library.looking.seers import answers


def main() -> None:
    """Summarises the folders that the parent names."""
    eyes: dict[tuple[int, int | None], Eyes] = {}

    def answer(job: tuple[Any, ...]) -> list[tuple[int, int, object]]:
        device, mount, folders = job
        mine = eyes.setdefault((device, mount), Eyes(device, mount))
        return answers(mine, folders)

    serve(answer)


if __name__ == "__main__":
    main()
