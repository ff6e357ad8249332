"""Errors that are meant to be read by the person whose file it is."""

from __future__ import annotations

import errno
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


@contextmanager
def disk_errors(path: Path) -> Iterator[None]:
    """Turn what the system says while ``path`` is written into a message. Removes nothing."""
    try:
        yield
    except OSError as error:
        if error.errno in (errno.ENOSPC, errno.EDQUOT, errno.EFBIG):
            raise NoRoom(
                "the disk is full; the unfinished file was removed.",
                file=path,
                remedy="Make room and try again.",
            ) from error
        if isinstance(error, PermissionError | FileNotFoundError | IsADirectoryError):
            raise KeenError(
                f"cannot be written ({error.strerror}).", file=path, remedy="Choose another place."
            ) from error
        raise
