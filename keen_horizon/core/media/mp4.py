"""A film under construction: its part file, its sound, and the moment it gets its name.

The container is MP4, or its elder brother QuickTime where the name asks for it.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import TracebackType
from typing import Self

import av
import av.container
import numpy as np

from ..errors import disk_errors
from .probe import Scan, open_input, sound_stream
from .sound import SoundTrack
from .sphere_boxes import tag_film
from .spherical import SphereTag, ambisonic_box

CONTAINERS = {".mp4": "mp4", ".m4v": "mp4", ".mov": "mov"}


class Mp4File:
    """Frames ``first`` to ``last`` of ``scan`` on their way into ``<path>.part``.

    The file gets its name only when it is whole; the first frame becomes time zero. Use as a
    context manager: on any error, the part file is removed. Pictures are put into :attr:`target`
    by whoever has them, at the source's times less :attr:`zero`; the stream of pictures comes
    first, then :meth:`add_sound`.
    """

    sphere: SphereTag | None = None  # what the file is to say of being one
    size: tuple[int, int] = (0, 0)  # of its picture, then

    def __init__(self, path: Path, scan: Scan, first: int, last: int) -> None:
        self.path = path
        self.part = path.with_name(path.name + ".part")
        self.scan = scan
        self.zero = int(scan.pts[first])
        self._last = last
        self._sound_source: av.container.InputContainer | None = None
        self._sound: SoundTrack | None = None
        self._ambisonic = b""
        with disk_errors(path):
            self.target = av.open(
                str(self.part), "w", format=CONTAINERS[path.suffix.lower()],
                options={"movflags": "+faststart"},
            )  # fmt: skip

    def add_sound(self, source: Path, *, always_encode: bool = False) -> None:
        """Carry along the sound of the range from ``source``, if it has any."""
        if self.scan.probe.sound is None:
            return
        self._sound_source = open_input(source)
        wanted = sound_stream(self._sound_source)
        assert wanted is not None
        base = float(self.scan.time_base)
        step = float(np.median(np.diff(self.scan.pts))) * base
        self._sound = SoundTrack(
            self._sound_source, wanted, self.target, self.zero * base,
            int(self.scan.pts[self._last]) * base + step, always_encode=always_encode,
        )  # fmt: skip
        if self._sound.copied:
            self._ambisonic = ambisonic_box(source, self._sound_source.format.name)

    @property
    def sound_note(self) -> str:
        """What became of the sound, in words."""
        return self._sound.said if self._sound else "The clip has no sound that can be read."

    def sound_until(self, pts: int) -> None:
        """Write the sound up to the picture at the source's ``pts``: players want both close."""
        if self._sound is not None:
            self._sound.advance(pts * float(self.scan.time_base))

    def finish(self) -> None:
        """Write the rest of the sound, and give the file its name."""
        with disk_errors(self.path):
            if self._sound is not None:
                self._sound.finish()
            self.target.close()
            if self.sphere is not None:
                tag_film(self.part, self.sphere, self.size, self._ambisonic)
            with self.part.open("rb") as written:
                os.fsync(written.fileno())
            self.part.replace(self.path)

    @contextmanager
    def removed_on_error(self) -> Iterator[None]:
        """For what happens before the ``with`` statement has hold of the file."""
        try:
            yield
        except BaseException:
            self._give_up()
            raise

    def _give_up(self) -> None:
        try:
            self.target.close()
        except (OSError, ValueError):
            pass  # the first error is the one to report
        self.part.unlink(missing_ok=True)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        if self._sound_source is not None:
            self._sound_source.close()
        if kind is not None:
            self._give_up()
