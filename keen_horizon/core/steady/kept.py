"""A solution as a file: solved once, drawn and exported many times."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np

from ..geometry.canvas import Canvas
from ..geometry.chain import View, WarpChain
from ..geometry.similarity import Similarities
from .solution import Solution


def write_solution(solution: Solution, path: Path) -> None:
    view = solution.chain.view
    rest = {
        "zoom": view.zoom,
        "scale": view.scale,
        "offset": [view.offset.real, view.offset.imag],
        "output": [view.output.width, view.output.height],
        "report": solution.report,
    }
    np.savez(
        path,
        a=solution.chain.steady.a,
        b=solution.chain.steady.b,
        zooms=solution.zooms,
        room=solution.room,
        rest=np.array(json.dumps(rest)),
    )


def read_solution(path: Path, source: Canvas) -> Solution:
    """The solution kept by :func:`write_solution`, for pictures of size ``source``."""
    with np.load(path, allow_pickle=False) as kept:
        rest = json.loads(str(kept["rest"]))
        width, height = rest["output"]
        output = Canvas(width, height, source.pixel_aspect)
        view = View(output, rest["zoom"], rest["scale"], complex(*rest["offset"]))
        chain = WarpChain(source, view, Similarities(kept["a"], kept["b"]))
        return Solution(chain, kept["zooms"], kept["room"], rest["report"])
