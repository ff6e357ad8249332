"""Uploads that may break off and go on: what has come of a file so far, kept until all of it has.

Each is a folder of the store, named by chance: ``told.json`` says what is coming, ``part`` is what
has come. Once it is whole, its clip's number stays there for a while, for whoever did not hear.
"""

from __future__ import annotations

import fcntl
import json
import os
import secrets
import shutil
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import BinaryIO

from ..core.errors import KeenError, disk_errors
from .library import NotFound
from .media_store import MediaStore

PIECE = 1 << 20
FORGOTTEN = 24 * 3600.0  # seconds without a byte, after which an upload is given up
MOST_OPEN = 200  # uploads that are under way
_LETTERS = 32


class OutOfStep(KeenError):
    """Bytes that do not go on where the last ones ended, or that somebody else is sending."""


@dataclass(frozen=True)
class Upload:
    """What is coming: ``size`` bytes of a file of a ``name``, for a shoot; ``clip`` is what it
    became, 0 until then."""

    number: str
    shoot: int
    name: str
    size: int
    clip: int = 0


class Uploads:
    """The uploads of a store."""

    def __init__(self, store: MediaStore) -> None:
        self._root = store.root / "uploads"

    def begin(self, shoot: int, name: str, size: int) -> Upload:
        """Expect a file. Raises KeenError if too many are expected already."""
        with disk_errors(self._root, about=name):
            self._root.mkdir(parents=True, exist_ok=True)
            if len(list(self._root.glob("*/part"))) >= MOST_OPEN:
                raise KeenError("too many uploads are under way.", remedy="Let some of them end.")
            upload = Upload(secrets.token_hex(_LETTERS // 2), shoot, name, size)
            folder = self._root / upload.number
            folder.mkdir()
            (folder / "part").touch()
            self._tell(upload)
        return upload

    def find(self, number: str) -> Upload:
        """Raises NotFound for one that is not, or no longer, expected."""
        try:
            told = json.loads((self._folder(number) / "told.json").read_text())
        except (OSError, ValueError) as error:
            raise NotFound("this upload is not known any more.", remedy="Send the file again.") \
                from error  # fmt: skip
        return Upload(**told)

    def come(self, upload: Upload) -> int:
        """Bytes that have come."""
        if upload.clip:
            return upload.size
        return self.part(upload).stat().st_size

    def part(self, upload: Upload) -> Path:
        """What has come."""
        return self._folder(upload.number) / "part"

    def append(self, upload: Upload, at: int, stream: BinaryIO) -> int:
        """Write what comes from byte ``at`` on, until the stream ends or breaks; returns how many
        bytes there are then. Raises OutOfStep, and NoRoom when the disk is full; what has been
        written stays."""
        with self._alone(upload), self.part(upload).open("ab") as out:
            if (have := out.tell()) != at:
                raise OutOfStep(f"the file is there up to byte {have}.", file=upload.name)
            with disk_errors(self.part(upload), about=upload.name):
                try:
                    while have < upload.size:
                        piece = stream.read(min(PIECE, upload.size - have))
                        if not piece:
                            break
                        out.write(piece)
                        out.flush()
                        have += len(piece)
                except (ConnectionError, TimeoutError):
                    pass  # whoever sends asks how far it came, and goes on from there
                os.fsync(out.fileno())
        return have

    def step_back(self, upload: Upload) -> None:
        """Let the last byte come once more: what was to be done with the whole could not be done.
        One whose bytes are gone is forgotten, and has to come anew."""
        part = self.part(upload)
        if not part.exists():
            self.forget(upload)
        elif part.stat().st_size == upload.size:
            os.truncate(part, upload.size - 1)

    def became(self, upload: Upload, clip: int) -> None:
        """It is whole, and a clip."""
        self.part(upload).unlink(missing_ok=True)
        self._tell(Upload(**{**asdict(upload), "clip": clip}))

    def forget(self, upload: Upload) -> None:
        shutil.rmtree(self._folder(upload.number), ignore_errors=True)

    def sweep(self) -> None:
        """Give up what nobody has sent anything of for a day."""
        for folder in self._root.glob("*"):
            latest = max((path.stat().st_mtime for path in folder.glob("*")), default=0.0)
            if time.time() - latest > FORGOTTEN:
                shutil.rmtree(folder, ignore_errors=True)

    def _folder(self, number: str) -> Path:
        if len(number) != _LETTERS or not all(c in "0123456789abcdef" for c in number):
            raise NotFound("there is no such upload.")
        return self._root / number

    def _tell(self, upload: Upload) -> None:
        target = self._folder(upload.number) / "told.json"
        part = target.with_suffix(".new")
        part.write_text(json.dumps(asdict(upload)))
        part.replace(target)

    @contextmanager
    def _alone(self, upload: Upload) -> Iterator[None]:
        """One sender at a time. Raises OutOfStep for another."""
        with (self._folder(upload.number) / "lock").open("w") as lock:
            try:
                fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as error:
                raise OutOfStep("it is being sent already.", file=upload.name) from error
            yield
