"""How well motion is measured in interlaced footage, against whole pictures of the same moments."""

from __future__ import annotations

import json
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.cli.commands import main as keen
from keen_horizon.core.media.probe import scan
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.simulated.take import Take

from .films import coded
from .rows import Row, say

SIZE, RATE = (720, 576), 25


def interlaced(folder: Path) -> list[Row]:
    say("interlaced footage")
    take = quay_walk(figure=False)
    moments = [cv2.resize(picture, SIZE, interpolation=cv2.INTER_AREA) for picture in take.frames()]
    moments = moments[: len(moments) // 2 * 2]
    woven = []
    for first, after in zip(moments[::2], moments[1::2], strict=True):
        picture = after.copy()
        picture[::2] = first[::2]
        woven.append(picture)
    plain = _error(take, _written(folder / "whole.mpg.ts", moments[::2], {}), 2)
    rows = []
    for name, options in (("flagged", {"flags": "+ilme+ildct", "top": "1"}), ("not flagged", {})):
        path = _written(folder / f"{name}.ts", woven, options)
        told = scan(path).probe
        pairs = _error(take, path, 2, "--first-field", "upper")
        fields = _error(take, path, 1, "--fields", "field", "--first-field", "upper")
        recognised = told.interlaced and told.first_field in ("upper", "file")
        rows.append(
            Row(f"interlaced 576i, {name}: recognised; background points from frame to frame",
                "≤ 1.5 × the progressive one's",
                f"{'yes' if recognised else 'no'}; {pairs / plain:.2f} × ({pairs:.3f} px, "
                f"{plain:.3f} px); each field a frame {fields:.3f} px",
                recognised and pairs <= 1.5 * plain)
        )  # fmt: skip
    return rows


def _written(path: Path, pictures: list[NDArray[np.uint8]], options: dict[str, str]) -> Path:
    chosen = {"b": "9M", "g": "12", **options}
    return coded(path, "mpegts", "mpeg2video", pictures, chosen, RATE)


def _error(take: Take, path: Path, apart: int, *options: str) -> float:
    """Rms px by which measured steps miss background points in view; ``apart`` moments a step."""
    told = path.with_suffix(".json")
    assert keen(["measure", str(path), "--model", "similarity", "--json", str(told), *options]) == 0
    steps = [np.array(f["previous_to_this"]) for f in json.loads(told.read_text())["frames"]]
    truth, points = take.truth, take.background()
    scale = np.array(SIZE) / (truth.camera.width, truth.camera.height)
    missed = []
    for k in range(1, len(steps)):
        before, now = ((truth.project(points, apart * at) + 0.5) * scale - 0.5 for at in (k - 1, k))
        inside = ((before > 0) & (before < SIZE) & (now > 0) & (now < SIZE)).all(axis=1)
        seen = np.hstack([before[inside], np.ones((int(inside.sum()), 1))]) @ steps[k].T
        missed.append(np.linalg.norm(seen[:, :2] / seen[:, 2:] - now[inside], axis=1))
    return float(np.sqrt(np.mean(np.concatenate(missed) ** 2)))
