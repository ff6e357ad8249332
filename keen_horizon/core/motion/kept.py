"""Camera motion as a file, so that it is fitted once a measure."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from ..geometry.similarity import Similarities
from .camera import CameraMotion, Model


def motion_path(folder: Path, model: Model) -> Path:
    return folder / f"motion-{model}.npz"


def write_motion(motion: CameraMotion, folder: Path) -> None:
    """Keep ``motion`` in a measure's folder."""
    np.savez(
        motion_path(folder, motion.model),
        a=motion.steps.a,
        b=motion.steps.b,
        marks=motion.marks,
        confidence=motion.confidence,
        residual=motion.residual,
        steering=np.packbits(motion.steering),
        records=np.int64(len(motion.steering)),
        times=motion.times,
        cuts=motion.cuts,
        first=np.int64(motion.first),
    )


def read_motion(folder: Path, model: Model) -> CameraMotion:
    """The motion kept by :func:`write_motion`."""
    with np.load(motion_path(folder, model), allow_pickle=False) as kept:
        return CameraMotion(
            model=model,
            steps=Similarities(kept["a"], kept["b"]),
            marks=kept["marks"],
            confidence=kept["confidence"],
            residual=kept["residual"],
            steering=np.unpackbits(kept["steering"], count=int(kept["records"])).astype(bool),
            times=kept["times"],
            cuts=kept["cuts"],
            first=int(kept["first"]),
        )
