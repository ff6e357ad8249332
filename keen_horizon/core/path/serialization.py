"""A solution as a file: solved once, drawn and exported many times."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..geometry.bend import DisplacementGrid, RollingShutterWarp
from ..geometry.canvas import Canvas
from ..geometry.chain import View, WarpChain
from ..geometry.reshape import Shape, Swell
from ..geometry.similarity import Similarities
from ..motion.serialization import packed, unpacked
from .solution import Solution


def write_solution(solution: Solution, path: Path) -> None:
    chain = solution.chain
    view = chain.view
    rest = {
        "scale": view.scale,
        "output": [view.output.width, view.output.height, view.output.pixel_aspect],
        "report": solution.report,
        "pixel_aspect": chain.source.pixel_aspect,
        "swell": None
        if view.shape is None or view.shape.swell is None
        else [view.shape.swell.rim, view.shape.swell.twin],
    }
    arrays = {
        "a": chain.steady.a,
        "b": chain.steady.b,
        "zoom": np.asarray(view.zoom, float),
        "offset": np.asarray(view.offset, complex),
        "zooms": solution.zooms,
        "room": solution.room,
    } | packed(solution.motion)
    if chain.bend is not None:
        arrays["bend"] = chain.bend.nodes
    if chain.rows is not None:
        arrays["rows_a"], arrays["rows_b"] = chain.rows.a, chain.rows.b
    if view.shape is not None:
        arrays |= _shape_arrays(view.shape)
    np.savez(path, allow_pickle=False, rest=np.array(json.dumps(rest)), **arrays)


def read_solution(path: Path, source: Canvas) -> Solution:
    """The solution kept by :func:`write_solution`, for pictures of size ``source``."""
    with np.load(path, allow_pickle=False) as kept:
        rest = json.loads(str(kept["rest"]))
        source = replace(source, pixel_aspect=rest["pixel_aspect"])
        motion = unpacked({name: kept[name] for name in kept.files}, source)
        zoom, offset = kept["zoom"], kept["offset"]
        view = View(
            Canvas(*rest["output"]),
            zoom if zoom.ndim else float(zoom),
            rest["scale"],
            offset if offset.ndim else complex(offset),
            _shape({name: kept[name] for name in kept.files}, source, rest["swell"]),
        )
        chain = WarpChain(
            source,
            view,
            Similarities(kept["a"], kept["b"]),
            DisplacementGrid(source, kept["bend"]) if "bend" in kept else None,
            RollingShutterWarp(source, kept["rows_a"], kept["rows_b"], motion.lens)
            if "rows_a" in kept
            else None,
            motion.lens,
        )
        return Solution(chain, motion, kept["zooms"], kept["room"], rest["report"])


def _shape_arrays(shape: Shape) -> dict[str, NDArray[Any]]:
    arrays: dict[str, NDArray[Any]] = {"shape": np.zeros(0)}
    if shape.homography is not None:
        arrays["shape_square"] = shape.homography
    if shape.pulls is not None:
        arrays["shape_pulls"] = shape.pulls
    if shape.swell is not None:
        swell = shape.swell
        arrays |= {
            "swell_centre": swell.centre,
            "swell_radius": swell.radius,
            "swell_strength": swell.strength,
        }
    return arrays


def _shape(
    kept: dict[str, NDArray[Any]], source: Canvas, swell: tuple[float, bool] | None
) -> Shape | None:
    if "shape" not in kept:
        return None
    disc = None
    if swell is not None:
        disc = Swell(
            kept["swell_centre"], kept["swell_radius"], kept["swell_strength"], swell[0], swell[1]
        )
    return Shape(source, kept.get("shape_square"), kept.get("shape_pulls"), disc)
