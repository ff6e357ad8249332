"""A recording's exact frame times, kept beside it so that nobody scans the file again."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import numpy as np

from ..core.media.probe import Probe, Scan
from .media_store import MediaStore
from .models import Recording


def write_timing(scan: Scan, path: Path) -> None:
    base = scan.time_base
    np.savez(path, pts=scan.pts, base=np.array([base.numerator, base.denominator], np.int64))


def stored_scan(recording: Recording, vault: MediaStore) -> Scan:
    """The scan of a recording that has been taken in."""
    assert recording.probe is not None
    assert recording.timing_key is not None
    with np.load(vault.path(recording.timing_key), allow_pickle=False) as kept:
        numerator, denominator = (int(v) for v in kept["base"])
        return Scan(Probe.from_json(recording.probe), kept["pts"], Fraction(numerator, denominator))
