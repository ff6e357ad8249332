"""A solution as a file: solved once, drawn and exported many times."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

from ..geometry.bend import Bend, RowMotion
from ..geometry.canvas import Canvas
from ..geometry.chain import View, WarpChain
from ..geometry.similarity import Similarities
from ..motion.kept import packed, unpacked
from .solution import Solution


def write_solution(solution: Solution, path: Path) -> None:
    chain = solution.chain
    view = chain.view
    rest = {
        "scale": view.scale,
        "output": [view.output.width, view.output.height, view.output.pixel_aspect],
        "report": solution.report,
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
    np.savez(path, allow_pickle=False, rest=np.array(json.dumps(rest)), **arrays)


def read_solution(path: Path, source: Canvas) -> Solution:
    """The solution kept by :func:`write_solution`, for pictures of size ``source``."""
    with np.load(path, allow_pickle=False) as kept:
        rest = json.loads(str(kept["rest"]))
        zoom, offset = kept["zoom"], kept["offset"]
        view = View(
            Canvas(*rest["output"]),
            zoom if zoom.ndim else float(zoom),
            rest["scale"],
            offset if offset.ndim else complex(offset),
        )
        chain = WarpChain(
            source,
            view,
            Similarities(kept["a"], kept["b"]),
            Bend(source, kept["bend"]) if "bend" in kept else None,
            RowMotion(source, kept["rows_a"], kept["rows_b"]) if "rows_a" in kept else None,
        )
        motion = unpacked({name: kept[name] for name in kept.files})
        return Solution(chain, motion, kept["zooms"], kept["room"], rest["report"])
