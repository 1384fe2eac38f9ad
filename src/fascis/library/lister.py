"""A helper that lists folders: ``python -m fascis.library.lister SOCKET ROOT``."""

from __future__ import annotations

import sys

from fascis.files.own.serving import own_handle, serve
from fascis.library.listing import Lists


def main() -> None:
    """Lists the folders that the parent names below the handle ``ROOT``."""
    lists = Lists(own_handle(int(sys.argv[2])))
    serve(lambda job: [lists.answer(place) for place in job[0]])


if __name__ == "__main__":
    main()
