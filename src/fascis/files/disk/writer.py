"""The one atomic writer, for Fascis's own files (identity, manifest, receipt, settings).

The only place that can replace a file. Never used for a person's file.
"""

from __future__ import annotations

import os
import secrets
from types import TracebackType
from typing import BinaryIO, Self

from fascis.files.disk import kernel
from fascis.files.disk.door import delete_own
from fascis.files.errors import told
from fascis.words.speech import tr


class AtomicWriter:
    """Writes new content of ``name`` in the folder ``dir_fd``, whole or not at all.

    A temporary file beside the target is created exclusively, flushed and renamed onto the target,
    and the folder is flushed. Leaving the ``with`` block without :meth:`commit` keeps the old
    content.
    """

    def __init__(self, dir_fd: int, name: bytes, mode: int = 0o644) -> None:
        self._dir_fd, self._name, self._mode = dir_fd, name, mode
        self._temporary = b"." + name[:200] + b"." + secrets.token_hex(6).encode() + b".new"
        self._file: BinaryIO | None = None

    def __enter__(self) -> Self:
        try:
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            fd = os.open(self._temporary, flags, self._mode, dir_fd=self._dir_fd)
        except OSError as error:
            raise told(error, tr("write"), self._name) from error
        kernel.set_mode(fd, self._mode)
        self._file = os.fdopen(fd, "wb")
        return self

    @property
    def file(self) -> BinaryIO:
        """The stream for the new content."""
        if self._file is None:
            raise ValueError("not open")
        return self._file

    def commit(self) -> None:
        """Makes the new content durable and visible."""
        try:
            self.file.flush()
            os.fsync(self.file.fileno())
            self.file.close()
            os.replace(  # noqa: TID251
                self._temporary, self._name, src_dir_fd=self._dir_fd, dst_dir_fd=self._dir_fd
            )
            os.fsync(self._dir_fd)
        except OSError as error:
            raise told(error, tr("write"), self._name) from error
        self._file = None

    def abort(self) -> None:
        """Removes the temporary file; can be called more than once."""
        if self._file is not None:
            self._file.close()
            self._file = None
            # Missing if only flushing the folder failed.
            delete_own(self._dir_fd, self._temporary)

    def __exit__(
        self,
        kind: type[BaseException] | None,
        value: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.abort()


def write_whole(dir_fd: int, name: bytes, content: bytes) -> None:
    """Replaces or creates one small file of Fascis's own, atomically and durably."""
    with AtomicWriter(dir_fd, name) as writer:
        writer.file.write(content)
        writer.commit()
