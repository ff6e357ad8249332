"""Errors that are meant to be read by the person whose file it is."""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


class KeenError(Exception):
    """What happened, to which file, and what to do about it.

    ``str()`` gives one line: ``name: reason remedy``.
    """

    def __init__(self, reason: str, *, file: str | Path | None = None, remedy: str = "") -> None:
        self.reason = reason
        self.file = Path(file).name if file is not None else None
        self.remedy = remedy
        super().__init__(self.message)

    @property
    def message(self) -> str:
        head = f"{self.file}: " if self.file else ""
        tail = f" {self.remedy}" if self.remedy else ""
        return f"{head}{self.reason}{tail}"

    def renamed(self, name: str) -> KeenError:
        """The same error about the file under the name its owner knows it by."""
        return type(self)(self.reason, file=name, remedy=self.remedy)


class MediaError(KeenError):
    """A file that cannot be used as footage."""


class DamagedMedia(MediaError):
    """A file that is footage, but broken or cut short."""


class NoRoom(KeenError):
    """The disk is full."""


class BadSetting(KeenError):
    """A treatment value that is unknown or out of range."""


class Cancelled(KeenError):
    """Work that was stopped because somebody asked for it."""


FULL = (errno.ENOSPC, errno.EDQUOT, errno.EFBIG)
UNWRITABLE = (
    errno.EACCES, errno.EPERM, errno.EROFS, errno.ENOENT, errno.ENOTDIR, errno.EISDIR, errno.EIO,
)  # fmt: skip


@contextmanager
def disk_errors(path: Path, about: str | Path | None = None) -> Iterator[None]:
    """Turn what the system says while a file or folder ``path`` is written into a message, about
    ``about`` if that is what its owner knows. Removes nothing; errors of reading other files pass.
    """
    try:
        yield
    except OSError as error:
        named = about if about is not None else path
        if error.errno in FULL:
            raise NoRoom(
                "the disk is full, so it could not be finished.", file=named,
                remedy="Make room and try again.",
            ) from error  # fmt: skip
        if error.errno in UNWRITABLE and _concerns(error, path):
            raise KeenError(
                f"cannot be written ({error.strerror}).", file=named,
                remedy="Choose another place, or let this user write there.",
            ) from error  # fmt: skip
        raise


def _concerns(error: OSError, path: Path) -> bool:
    """Whether an error is about ``path``, or something in it; one that names no file is taken to
    be about what is being written."""
    if error.filename is None:
        return True
    try:
        named = Path(os.fsdecode(error.filename)).absolute()
    except (TypeError, ValueError):
        return False
    return named.is_relative_to(path.absolute()) or path.absolute().is_relative_to(named)
