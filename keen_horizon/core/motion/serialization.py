"""Camera motion as a file, so that it is fitted once a measure."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.canvas import Canvas
from ..geometry.similarity import Similarities
from ..lens.distortion import Distortion
from ..lens.lens import Lens
from .camera_motion import CameraMotion, PointTrack
from .robust_fit import Model

FIT = 4  # to be raised when motions come out differently: what is kept is then fitted anew


def motion_path(folder: Path, model: Model) -> Path:
    return folder / f"motion-{FIT}-{model}.npz"


def packed(motion: CameraMotion) -> dict[str, NDArray[Any]]:
    """What is kept of a motion: all but the fields that are only needed to solve."""
    kept: dict[str, NDArray[Any]] = {
        "motion_a": motion.steps.a,
        "motion_b": motion.steps.b,
        "marks": motion.marks,
        "confidence": motion.confidence,
        "residual": motion.residual,
        "steering": np.packbits(motion.steering),
        "records": np.array([len(motion.steering), len(motion.aside)]),
        "aside": np.packbits(motion.aside),
        "times": motion.times,
        "cuts": motion.cuts,
        "first": np.array(motion.first),
        "model": np.array(motion.model),
        "blurred": motion.blurred,
    }
    for name in ("wobble", "straight_wobble", "mesh"):
        if getattr(motion, name) is not None:
            kept[name] = getattr(motion, name)
    if motion.lens is not None:
        lens = motion.lens
        kept["lens"] = np.array(json.dumps(asdict(lens.distortion)))
        kept |= {
            f"lens_{name}": np.asarray(getattr(lens, name))
            for name in ("focal", "centre", "share", "scale")
        }
    for name in ("bent_residual", "straight_residual"):
        if getattr(motion, name) is not None:
            kept[name] = np.array(getattr(motion, name))
    if motion.held:
        kept["held"] = np.stack([track.places for track in motion.held])
        kept["held_sure"] = np.stack([track.sure for track in motion.held])
    return kept


def unpacked(kept: Mapping[str, NDArray[Any]], canvas: Canvas | None = None) -> CameraMotion:
    """The motion of :func:`packed`; ``canvas`` is the picture's, which its lens needs."""
    steering, aside = (int(n) for n in kept["records"])
    return CameraMotion(
        model="shift" if str(kept["model"]) == "shift" else "similarity",
        steps=Similarities(kept["motion_a"], kept["motion_b"]),
        marks=kept["marks"],
        confidence=kept["confidence"],
        residual=kept["residual"],
        steering=np.unpackbits(kept["steering"], count=steering).astype(bool),
        times=kept["times"],
        cuts=kept["cuts"],
        first=int(kept["first"]),
        aside=np.unpackbits(kept["aside"], count=aside).astype(bool),
        blurred=kept["blurred"],
        wobble=kept.get("wobble"),
        straight_wobble=kept.get("straight_wobble"),
        mesh=kept.get("mesh"),
        held=tuple(
            PointTrack(places, sure)
            for places, sure in zip(kept["held"], kept["held_sure"], strict=True)
        )
        if "held" in kept
        else (),
        lens=_lens(kept, canvas) if canvas is not None and "lens" in kept else None,
        bent_residual=_number(kept, "bent_residual"),
        straight_residual=_number(kept, "straight_residual"),
    )


def _number(kept: Mapping[str, NDArray[Any]], name: str) -> float | None:
    return float(kept[name]) if name in kept else None


def _lens(kept: Mapping[str, NDArray[Any]], canvas: Canvas) -> Lens:
    told = json.loads(str(kept["lens"]))
    parts = {name: kept[f"lens_{name}"] for name in ("focal", "centre", "share", "scale")}
    distortion = Distortion(told["model"], tuple(told["k"]), tuple(told["p"]))
    return Lens(canvas, distortion, **{n: v if v.ndim else v.item() for n, v in parts.items()})


def write_motion(motion: CameraMotion, folder: Path) -> None:
    """Keep ``motion`` in a measure's folder."""
    np.savez(motion_path(folder, motion.model), allow_pickle=False, **packed(motion))


def read_motion(folder: Path, model: Model) -> CameraMotion:
    """The motion kept by :func:`write_motion`."""
    with np.load(motion_path(folder, model), allow_pickle=False) as kept:
        return unpacked({name: kept[name] for name in kept.files})
