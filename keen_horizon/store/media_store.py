"""The media vault: files named by their content, written whole or not at all.

Everything else knows files by *key*; only this module knows where a key lies. A key is
``kind/ab/abcdef….suffix``.
"""

from __future__ import annotations

import hashlib
import os
import shutil
import socket
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from ..core.errors import KeenError, disk_errors

_PIECE = 1 << 20
LONGEST_SUFFIX = 7
_STALE = 24 * 3600.0  # seconds after which a workspace nobody cleared up is forgotten


class TooLarge(KeenError):
    """An upload over the limit."""


class MediaStore:
    """A folder of content-addressed files under ``root``."""

    def __init__(self, root: Path) -> None:
        self.root = root
        self._rooms = root / "workspaces"
        root.mkdir(parents=True, exist_ok=True)
        if root.stat().st_uid == os.geteuid():  # footage is its owner's business
            root.chmod(0o700)
        self._rooms.mkdir(exist_ok=True)

    def path(self, key: str) -> Path:
        """Where a key's file or folder lies. Raises ValueError for a key that leads elsewhere."""
        path = (self.root / key).resolve()
        if not path.is_relative_to(self.root.resolve()):
            raise ValueError("not a key of this vault")
        return path

    @contextmanager
    def workspace(self) -> Iterator[Path]:
        """A fresh folder on the vault's own disk, gone afterwards."""
        folder = Path(tempfile.mkdtemp(prefix=_owner(os.getpid()), dir=self._rooms))
        try:
            yield folder
        finally:
            shutil.rmtree(folder, ignore_errors=True)

    @contextmanager
    def room_of(self, work_id: int, attempt: int) -> Iterator[Path]:
        """A workspace that outlives a killed process: the next attempt takes it over as it is.

        An attempt that was only thought dead finds its folder gone, so it cannot disturb.
        """
        room = self.place_of(work_id, attempt)
        older = sorted(self._rooms.glob(f"work-{work_id}-*"), key=lambda p: p.stat().st_mtime)
        if older:
            older[-1].rename(room)
        room.mkdir(exist_ok=True)
        try:
            yield room
        finally:
            shutil.rmtree(room, ignore_errors=True)

    def place_of(self, work_id: int, attempt: int) -> Path:
        """Where the room of an attempt is, if there is one."""
        return self._rooms / f"work-{work_id}-{attempt}"

    @contextmanager
    def keeping(self, key: str) -> Iterator[Path]:
        """A file to write, which lies at ``key`` once it is whole. For what can be worked out again
        and is found by what it depends on instead of by its content."""
        target = self.path(key)
        with self.workspace() as room:
            part = room / target.name
            yield part
            target.parent.mkdir(parents=True, exist_ok=True)
            part.replace(target)

    def trim(self, kind: str, most: int) -> None:
        """Forget the oldest files of a kind that can be made again, until they take up no more than
        ``most`` bytes."""
        files = [(path.stat(), path) for path in (self.root / kind).glob("*/*") if path.is_file()]
        files.sort(key=lambda one: one[0].st_mtime, reverse=True)
        total = 0
        for known, path in files:
            total += known.st_size
            if total > most:
                path.unlink(missing_ok=True)

    def sweep(self, kind: str, named: set[str], just_now: float) -> int:
        """Remove what there is of a kind that is not among the keys ``named`` and came longer than
        ``just_now`` seconds ago; returns its bytes."""
        size = 0
        for path in (self.root / kind).glob("*/*"):
            known = path.stat()
            if path.relative_to(self.root).as_posix() in named:
                continue
            if time.time() - known.st_mtime < just_now:
                continue
            if path.is_dir():
                size += sum(part.stat().st_size for part in path.iterdir())
                shutil.rmtree(path, ignore_errors=True)
            else:
                size += known.st_size
                path.unlink(missing_ok=True)
        return size

    def clear_stale_workspaces(self) -> None:
        """Forget what killed processes left behind: at once what this machine's did, for nobody is
        there any more who could go on with it; what may be another's after a day."""
        for folder in self._rooms.iterdir():
            stale = time.time() - folder.stat().st_mtime > _STALE
            if stale or _is_orphan(folder.name):
                shutil.rmtree(folder, ignore_errors=True)

    def adopt(self, kind: str, path: Path, suffix: str | None = None) -> str:
        """Move a finished file in, under its own ``suffix`` or another; returns its key. The same
        content is kept once."""
        with path.open("rb") as stream:
            digest = hashlib.file_digest(stream, "sha256").hexdigest()
        return self._place(kind, digest, path, path.suffix.lower() if suffix is None else suffix)

    def adopt_folder(self, kind: str, folder: Path) -> str:
        """Move a finished folder of files in; returns its key."""
        total = hashlib.sha256()
        for part in sorted(folder.iterdir()):
            with part.open("rb") as stream:
                total.update(part.name.encode() + hashlib.file_digest(stream, "sha256").digest())
        return self._place(kind, total.hexdigest(), folder, "")

    def _place(self, kind: str, digest: str, path: Path, suffix: str) -> str:
        key = f"{kind}/{digest[:2]}/{digest}{suffix}"
        target = self.root / key
        with disk_errors(path):
            target.parent.mkdir(parents=True, exist_ok=True)
            if target.exists():
                os.utime(target)  # it is wanted again, and not to be swept away meanwhile
            else:
                path.replace(target)
        return key

    def receive(self, stream: BinaryIO, name: str, folder: Path, limit: int) -> tuple[Path, int]:
        """Write an incoming stream into ``folder``; returns path and size.

        Raises TooLarge as soon as the limit is passed, NoRoom when the disk is full.
        """
        target = folder / f"upload{suffix_of(name)}"
        size = 0
        with disk_errors(Path(name)), target.open("wb") as out:
            while piece := stream.read(_PIECE):
                size += len(piece)
                if size > limit:
                    raise too_large(name, limit)
                out.write(piece)
            out.flush()
            os.fsync(out.fileno())
        return target, size


def suffix_of(name: str) -> str:
    """What a file's name ends with, if that is a usual ending; nothing otherwise."""
    suffix = Path(name).suffix.lower()
    return suffix if suffix[1:].isalnum() and len(suffix) <= LONGEST_SUFFIX else ""


def _owner(process: int) -> str:
    """What the names of a process' workspaces begin with."""
    host = hashlib.sha256(socket.gethostname().encode()).hexdigest()[:8]
    return f"of-{host}-{process}-"


def _is_orphan(name: str) -> bool:
    """Whether a workspace is that of a process of this machine that is gone."""
    parts = name.split("-")
    if len(parts) < 4 or not parts[2].isdecimal() or not name.startswith(_owner(int(parts[2]))):
        return False
    return not Path(f"/proc/{parts[2]}").exists()


def too_large(name: str, limit: int) -> TooLarge:
    """The refusal of an upload over ``limit`` bytes."""
    return TooLarge(
        f"the file is larger than the limit of {limit / 1e9:.3g} GB.",
        file=name,
        remedy="Cut out the part you need first.",
    )
