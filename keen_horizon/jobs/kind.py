"""What a kind of work is, and what it is given to do it with."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path
from typing import Any

from ..core.media.probe import Scan
from ..core.pipeline import Progress
from ..store.database import Database
from ..store.media_store import MediaStore
from ..store.models import Recording
from ..store.scans import stored_scan
from .lifecycle import Run
from .solutions import Solver

QUICK, SLOW, HELP = "quick", "slow", "help"  # the queues


@dataclass(frozen=True)
class Task:
    """One piece of work: the ``run`` that has claimed it, the recording it is about, and the
    ``details`` that it was asked for with."""

    run: Run
    recording: Recording
    details: dict[str, Any]
    export_id: int | None
    database: Database
    store: MediaStore
    solver: Solver
    ask_help: Callable[[int], None]  # of so many other workers, if they have nothing else to do

    @property
    def progress(self) -> Progress:
        """To be called after frames; raises if the work is to stop."""
        return self.run.progress

    @cached_property
    def source(self) -> Path:
        """The recording's file."""
        return self.store.path(self.recording.source_key)

    @cached_property
    def scan(self) -> Scan:
        """What is known of the file since it was taken in."""
        return stored_scan(self.recording, self.store)


@dataclass(frozen=True)
class JobKind:
    """A kind of work, declared where its function is and listed in :data:`.kinds.KINDS`.

    ``title`` says what is being done, before the clip's name, and ``ending`` what is still done
    once all frames are counted. Of a ``replaceable`` kind nobody waits for the earlier request once
    a clip makes another; one that is ``passing`` is of no interest once it is done. ``can_wait``
    says that whatever else its queue has goes first. Where others can ``help``, that is what they
    do. ``counts`` is what its progress counts.
    """

    name: str
    queue: str
    title: str
    do: Callable[[Task], None]
    replaceable: bool = False
    passing: bool = False
    can_wait: bool = False
    ending: str = ""
    help: Callable[[Task], None] | None = None
    counts: str = "frames"
