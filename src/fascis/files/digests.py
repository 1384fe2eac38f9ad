"""Digests that other hash lists use, computed beside BLAKE3 while a file is read once."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Collection
from concurrent.futures import ThreadPoolExecutor
from enum import StrEnum
from types import TracebackType
from typing import Any, Protocol, Self

import xxhash
from blake3 import blake3


class Algorithm(StrEnum):
    """An algorithm that a hash list can use."""

    BLAKE3 = "blake3"
    MD5 = "md5"
    SHA1 = "sha1"
    SHA256 = "sha256"
    SHA512 = "sha512"
    XXH64 = "xxh64"
    XXH128 = "xxh128"
    XXH3 = "xxh3"


class _Hasher(Protocol):
    def update(self, data: Any, /) -> object: ...
    def digest(self) -> bytes: ...


_MAKES: dict[Algorithm, Callable[[], _Hasher]] = {
    Algorithm.BLAKE3: blake3,
    # A checksum against damage, not against attacks.
    Algorithm.MD5: lambda: hashlib.md5(usedforsecurity=False),
    Algorithm.SHA1: lambda: hashlib.sha1(usedforsecurity=False),
    Algorithm.SHA256: hashlib.sha256,
    Algorithm.SHA512: hashlib.sha512,
    Algorithm.XXH64: xxhash.xxh64,
    Algorithm.XXH128: xxhash.xxh3_128,
    Algorithm.XXH3: xxhash.xxh3_64,
}
LENGTHS = {
    Algorithm.BLAKE3: 32,
    Algorithm.MD5: 16,
    Algorithm.SHA1: 20,
    Algorithm.SHA256: 32,
    Algorithm.SHA512: 64,
    Algorithm.XXH64: 8,
    Algorithm.XXH128: 16,
    Algorithm.XXH3: 8,
}


class Threads:
    """The threads that compute these digests, one for each algorithm."""

    def __init__(self, also: Collection[Algorithm]) -> None:
        self.also = tuple(sorted(set(also) - {Algorithm.BLAKE3}))
        self._pool = ThreadPoolExecutor(len(self.also), "digest") if self.also else None

    def close(self) -> None:
        """Ends them."""
        if self._pool:
            self._pool.shutdown(wait=True)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def begin(self) -> Digests:
        """For one file."""
        return Digests(self.also, self._pool)


class Digests:
    """The digests of one file, computed piece by piece."""

    def __init__(self, also: Collection[Algorithm], pool: ThreadPoolExecutor | None) -> None:
        self._own = blake3()
        self._others = {algorithm: _MAKES[algorithm]() for algorithm in also}
        self._pool = pool

    def update(self, piece: memoryview | bytes) -> None:
        """Takes the next piece, which may be changed afterwards."""
        if self._pool is None:
            self._own.update(piece)
            return
        work = [self._pool.submit(h.update, piece) for h in self._others.values()]
        self._own.update(piece)
        for one in work:
            one.result()

    def digest(self) -> bytes:
        """BLAKE3."""
        return self._own.digest()

    def others(self) -> dict[Algorithm, bytes]:
        """The digests of the other algorithms."""
        return {algorithm: h.digest() for algorithm, h in self._others.items()}
