"""The identity file ``.fascis/identity.json``: the small file that travels inside a library."""

from __future__ import annotations

import io
import json
from collections.abc import Iterator
from contextlib import closing
from datetime import datetime
from typing import Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from fascis.files.disk.medium import Medium, as_stream, read_small
from fascis.files.errors import Damaged, EnvironmentTrouble, FascisError
from fascis.files.inventory import Entry, read_inventory
from fascis.library.own import IDENTITY, INVENTORY
from fascis.words.speech import tr

FORMAT = 1
_LIMIT = 1 << 20


def kind_words(kind: str) -> str:
    """The name of a kind of library for people; unchanged for an unknown kind."""
    words = {
        "library": tr("library"),
        "editing library": tr("editing library"),
        "photo catalog": tr("photo catalog"),
    }
    return words.get(kind, kind)


class Home(BaseModel):
    """Where a library is worked on: the drive's UUID and the path from the drive's root."""

    model_config = ConfigDict(extra="ignore", frozen=True)
    drive: str
    path: str


class Crossed(BaseModel):
    """One crossing in a library's history.

    ``token`` proves that a folder was made by that crossing. ``part_of`` is the id of the library
    of which this one was a part.
    """

    model_config = ConfigDict(extra="ignore", frozen=True, populate_by_name=True)
    id: str
    when: datetime
    from_: str = Field(alias="from")
    to: str
    token: str = ""
    part_of: str = ""


class Identity(BaseModel):
    """A library's identity; unknown fields are dropped, a newer format is refused."""

    model_config = ConfigDict(extra="ignore", frozen=True)
    format: Literal[1] = 1
    library_id: str = Field(min_length=8, max_length=64, pattern=r"^[0-9a-fA-F-]+$")
    name: str = Field(max_length=1024)
    kind: str = "library"
    home: Home
    roles: dict[
        str, Literal["original", "proxy", "render", "preview", "sidecar", "document", "other"]
    ] = Field(default={}, max_length=256)
    history: list[Crossed] = Field(default=[], max_length=10_000)


def parse_identity(content: bytes, path: object) -> Identity:
    """Parses an identity file.

    Raises:
        Damaged: it is none, or of a newer version.
    """
    meaning = tr("The library's files are as they were; nothing was changed.")
    try:
        raw = json.loads(content)
        if isinstance(raw, dict) and isinstance(raw.get("format"), int) and raw["format"] > FORMAT:
            raise Damaged(
                path,
                tr(
                    "it was written by a newer version (format {format}; this one knows "
                    "{format_2})",
                    format=raw["format"],
                    format_2=FORMAT,
                ),
                meaning,
            )
        return Identity.model_validate(raw)
    except (ValueError, RecursionError, ValidationError) as error:
        raise Damaged(path, tr("the identity file is damaged"), meaning) from error


def format_identity(identity: Identity) -> bytes:
    """The bytes of an identity file."""
    return (
        json.dumps(identity.model_dump(mode="json", by_alias=True), indent=2, ensure_ascii=False)
        + "\n"
    ).encode("utf-8", "backslashreplace")


def read_identity(medium: Medium, path: object) -> Identity | None:
    """The identity of a medium's library; None if it has none.

    Raises:
        Damaged: it has one that cannot be understood.
    """
    try:
        if not medium.exists(IDENTITY):
            return None
        return parse_identity(read_small(medium, IDENTITY, _LIMIT), path)
    except (OSError, EnvironmentTrouble) as error:
        if isinstance(error, FascisError):
            raise Damaged(
                path,
                tr("the identity file cannot be read ({error})", error=error),
                tr("Nothing was changed."),
            ) from error
        raise Damaged(
            path, tr("the identity file is not in a plain folder"), tr("Nothing was changed.")
        ) from error


def inventory_of(medium: Medium, path: object) -> Iterator[Entry]:
    """The contents of a library's inventory, as it is read.

    Raises:
        FileNotFoundError: it has none.
        OSError: it cannot be read.
        Damaged: it is not understood.
    """
    with closing(medium.open(INVENTORY)) as file:
        text = io.TextIOWrapper(as_stream(file), "utf-8", "surrogateescape", newline="")
        yield from read_inventory(text, path)
