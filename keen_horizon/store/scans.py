"""What is known of a recording since it was taken in: its probe, and its exact frame times, kept
beside it so that nobody scans the file again."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np

from ..core.errors import KeenError
from ..core.media.probe import Probe, Scan
from .media_store import MediaStore
from .models import Recording


def write_timing(scan: Scan, path: Path) -> None:
    base = scan.time_base
    np.savez(path, pts=scan.pts, base=np.array([base.numerator, base.denominator], np.int64))


def probe_of(recording: Recording) -> Probe:
    """What a file says of itself. Raises KeenError while it has not been taken in."""
    if recording.probe is None:
        if recording.refusal:
            raise KeenError("this file cannot be used.", remedy=recording.refusal)
        raise KeenError("the recording is still being taken in.", remedy="Try again in a moment.")
    return Probe.from_json(recording.probe)


def stored_scan(recording: Recording, store: MediaStore) -> Scan:
    """The scan of a recording. Raises KeenError while it has not been taken in."""
    probe = probe_of(recording)
    assert recording.timing_key is not None
    with np.load(store.path(recording.timing_key), allow_pickle=False) as kept:
        numerator, denominator = (int(v) for v in kept["base"])
        return Scan(probe, kept["pts"], Fraction(numerator, denominator))
