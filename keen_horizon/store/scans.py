"""What is known of a recording since it was taken in: its probe, and its exact frame times, kept
beside it so that nobody scans the file again."""

from __future__ import annotations

import json
from fractions import Fraction
from pathlib import Path

import numpy as np

from ..core.errors import KeenError
from ..core.geometry.twin import Twin
from ..core.media.probe import Probe, Scan
from ..core.pipeline.sphere_source import whole_probe, whole_scan
from .media_store import MediaStore
from .models import Recording

TIMING, PROBE = "timing.npz", "probe.json"


def keep_scan(scan: Scan, folder: Path, kind: str, twin: Twin | None) -> None:
    """Keep what is known of a file that is still taken in, as a ``kind`` of clip, its exact frame
    times in a file of their own."""
    base = scan.time_base
    np.savez(
        folder / TIMING, pts=scan.pts, keys=np.array(scan.keys, np.int64),
        base=np.array([base.numerator, base.denominator], np.int64),
    )  # fmt: skip
    part = folder / "probe.part"
    told = {"probe": scan.probe.to_json(), "kind": kind, "twin": twin and twin.to_json()}
    part.write_text(json.dumps(told))
    part.rename(folder / PROBE)


def kept_scan(folder: Path) -> tuple[Scan, str] | None:
    """What :func:`keep_scan` kept: the scan of its pictures as they are worked on, and as which
    kind of clip; None if nothing was, or if it has been taken in meanwhile."""
    if not all((folder / name).exists() for name in (PROBE, TIMING)):
        return None
    told = json.loads((folder / PROBE).read_text())
    scan = _read(Probe.from_json(told["probe"]), folder / TIMING)
    twin = told["twin"] and Twin.from_json(told["twin"])
    return (whole_scan(scan, twin) if told["kind"] == "sphere" else scan), told["kind"]


def _read(probe: Probe, timing: Path) -> Scan:
    with np.load(timing, allow_pickle=False) as kept:
        numerator, denominator = (int(v) for v in kept["base"])
        keys = tuple(kept["keys"].tolist()) if "keys" in kept.files else ()
        return Scan(probe, kept["pts"], Fraction(numerator, denominator), keys)


def twin_of(recording: Recording) -> Twin | None:
    """The two lenses that a recording was made by, if it was made by two."""
    return None if recording.twin is None else Twin.from_json(recording.twin)


def probe_of(recording: Recording) -> Probe:
    """What is known of a recording's pictures, as they are worked on: all around, if it is worked
    on as a sphere. Raises KeenError while it has not been taken in."""
    probe = file_probe(recording)
    return whole_probe(probe, twin_of(recording)) if recording.kind == "sphere" else probe


def file_probe(recording: Recording) -> Probe:
    """What a file says of itself. Raises KeenError while it has not been taken in."""
    if recording.probe is None:
        if recording.refusal:
            raise KeenError("this file cannot be used.", remedy=recording.refusal)
        raise KeenError("the recording is still being taken in.", remedy="Try again in a moment.")
    return Probe.from_json(recording.probe)


def stored_scan(recording: Recording, store: MediaStore) -> Scan:
    """The scan of a recording, of its pictures as they are worked on. Raises KeenError while it has
    not been taken in."""
    probe = file_probe(recording)
    assert recording.timing_key is not None
    scan = _read(probe, store.path(recording.timing_key))
    return whole_scan(scan, twin_of(recording)) if recording.kind == "sphere" else scan
