"""Lenses on the command line: ``./keen lens`` with ``edges``, ``chart``, ``angle``, ``convert`` or
``print``."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from ..core.errors import BadSetting, KeenError, disk_errors
from ..core.geometry.angles import angles_of, focal_of
from ..core.geometry.canvas import Canvas
from ..core.geometry.distortion import Distortion
from ..core.geometry.lens import Lens, picture_width
from ..core.isolation import IsolatedProcess, TooMuch
from ..core.media.decode import eight_bits, frame_at
from ..core.media.photographs import is_photograph, read_photograph
from ..core.media.probe import scan
from ..core.stations.lens import LensSettings
from ..core.stations.lens.chart import Board, calibrate, chart_in_photograph
from ..core.stations.lens.edge_fit import fit_edges
from ..core.stations.lens.optics import distortion_of, to_settings
from ..core.stations.lens.printed import PAPERS, chart_pdf, chart_svg
from ..core.stations.lens.propose import proposals
from ..core.stations.lens.trace import gradients, trace_edge
from ..core.treatment.lens_profile import (
    LensProfile,
    profile_of,
    profile_schema,
    to_json,
    to_yaml,
)
from ..core.types import Luma
from .options import profile_at


def add_lens(verb: argparse.ArgumentParser) -> None:
    ways = verb.add_subparsers(required=True, metavar="way")

    way = ways.add_parser("edges", help="by straight edges of one frame, or of a photograph")
    way.add_argument("input", type=Path)
    way.add_argument("--frame", type=int, default=0)
    way.add_argument(
        "--edge", action="append", default=[], metavar="X0,Y0,X1,Y1",
        help="two points near the ends of an edge, px; without any, edges are proposed",
    )  # fmt: skip
    way.add_argument("--model", choices=["division", "brown", "fisheye"])
    _with_profile(way)
    way.set_defaults(run=_edges)

    way = ways.add_parser("chart", help="by photographs of a chessboard")
    way.add_argument("photos", type=Path, nargs="+")
    _with_board(way)
    _with_profile(way)
    way.set_defaults(run=_chart)

    way = ways.add_parser("angle", help="by its angle of view from corner to corner")
    way.add_argument("degrees", type=float)
    way.add_argument("--size", default="1920x1080", metavar="WxH")
    _with_profile(way)
    way.set_defaults(run=_angle)

    way = ways.add_parser("convert", help="a profile to JSON, or to OpenCV's YAML")
    way.add_argument("input", type=Path)
    way.add_argument("output", type=Path)
    way.set_defaults(run=_convert)

    way = ways.add_parser("print", help="a chessboard to print")
    way.add_argument("output", type=Path, help="a .pdf or .svg")
    _with_board(way)
    way.add_argument("--paper", choices=list(PAPERS), default="A4")
    way.set_defaults(run=_print)

    way = ways.add_parser("schema", help="the JSON schema of a profile")
    way.set_defaults(run=lambda options: print(json.dumps(profile_schema(), indent=2)))


def _with_profile(way: argparse.ArgumentParser) -> None:
    way.add_argument("--name", default="lens")
    way.add_argument("--out", type=Path, required=True, metavar="LENS.json|.yml")


def _with_board(way: argparse.ArgumentParser) -> None:
    way.add_argument("--corners", default="9x6", metavar="CxR", help="inner corners")


def _pair(text: str, what: str) -> tuple[int, int]:
    parts = text.lower().split("x")
    if len(parts) != 2 or not all(part.isdigit() for part in parts):
        raise BadSetting(f"{what} cannot be {text}; write it as 9x6.")
    return int(parts[0]), int(parts[1])


def _edges(options: argparse.Namespace) -> None:
    luma, canvas = _still(options.input, options.frame)
    if options.edge:
        slopes = gradients(luma)
        edges = [trace_edge(slopes, _ends(text)).points for text in options.edge]
    else:
        edges = [trace.points for trace in proposals(luma)]
    if not edges:
        raise KeenError(
            "no long edge was found in this picture.", file=options.input,
            remedy="Give --edge yourself.",
        )  # fmt: skip
    fit = fit_edges(edges, canvas, options.model)
    for k, residual in enumerate(fit.residuals, 1):
        print(f"edge {k}: {residual:.2f} px", file=sys.stderr)
    for words in fit.words:
        print(words, file=sys.stderr)
    optics = to_settings(fit.distortion, fit.focal)
    settings = LensSettings(**optics, found_by="edges", residual=round(fit.residual, 4))
    _write(options, settings, canvas)


def _still(path: Path, frame: int) -> tuple[Luma, Canvas]:
    """Grey pixels of a photograph, or of one frame of a recording, and their canvas."""
    try:
        with path.open("rb") as stream:
            start = stream.read(16)
    except OSError:
        start = b""  # the scan says what is wrong with it
    if is_photograph(start):
        if frame:
            raise BadSetting("--frame is for recordings; a photograph has one picture only.")
        luma = read_photograph(path, path.name)
        return luma, Canvas(luma.shape[1], luma.shape[0])
    found = scan(path)
    if not 0 <= frame < found.probe.frame_count:
        raise KeenError(
            f"frame {frame} does not exist; the recording has {found.probe.frame_count}.", file=path
        )
    picture = frame_at(path, found, frame, luma_only=True)
    return eight_bits(picture.planes[0]), found.probe.canvas


def _ends(text: str) -> list[tuple[float, float]]:
    try:
        x0, y0, x1, y1 = (float(v) for v in text.split(","))
    except ValueError as error:
        raise BadSetting(f"--edge cannot be {text}; write X0,Y0,X1,Y1.") from error
    return [(x0, y0), (x1, y1)]


def _chart(options: argparse.Namespace) -> None:
    board = Board(*_pair(options.corners, "--corners"))
    views, size = [], None
    with IsolatedProcess() as process:
        for path in options.photos:
            try:
                corners, own = process.call(chart_in_photograph, path, board)
            except TooMuch as error:
                raise error.renamed(path.name) from error
            size = size or own
            if own != size:
                raise KeenError(
                    f"is {own[0]} x {own[1]}, the first is {size[0]} x {size[1]}.",
                    file=path, remedy="Use photographs of one size.",
                )  # fmt: skip
            if corners is None:
                print(f"{path.name}: no whole chart in it", file=sys.stderr)
            else:
                views.append(corners)
    assert size is not None
    fit = calibrate(views, board, *size)
    for words in fit.words:
        print(words, file=sys.stderr)
    optics = to_settings(fit.distortion, fit.focal, (fit.centre_x, fit.centre_y))
    settings = LensSettings(**optics, found_by="chart", residual=round(fit.residual, 4))
    _write(options, settings, Canvas(*size))


def _angle(options: argparse.Namespace) -> None:
    if not 20 <= options.degrees <= 179:
        raise BadSetting("an angle of view is a number from 20 to 179 degrees.")
    width, height = _pair(options.size, "--size")
    focal = focal_of(options.degrees, 1.0, height / width, Distortion("fisheye"))
    settings = LensSettings(model="fisheye", focal=focal, found_by="angle")
    _write(options, settings, Canvas(width, height))


def _write(options: argparse.Namespace, settings: LensSettings, canvas: Canvas) -> None:
    profile = profile_of(options.name, settings, canvas)
    _save(options.out, profile)
    focal = settings.focal * picture_width(canvas)
    told = angles_of(Lens(canvas, distortion_of(settings), focal))
    print(
        f"{settings.model}, {told.across:.1f}° × {told.updown:.1f}°, {told.diagonal:.1f}° diagonal"
        + (f", residual {settings.residual:.3f} px" if settings.residual is not None else "")
    )


def _save(path: Path, profile: LensProfile) -> None:
    kinds = {".json": to_json, ".yml": to_yaml, ".yaml": to_yaml}
    write = kinds.get(path.suffix.lower())
    if write is None:
        raise KeenError("a lens is written as .json or .yml.", file=path)
    with disk_errors(path):
        path.write_text(write(profile), "utf-8")


def _convert(options: argparse.Namespace) -> None:
    _save(options.output, profile_at(options.input))


def _print(options: argparse.Namespace) -> None:
    board = Board(*_pair(options.corners, "--corners"))
    match options.output.suffix.lower():
        case ".pdf":
            options.output.write_bytes(chart_pdf(board, options.paper))
        case ".svg":
            options.output.write_text(chart_svg(board, options.paper), "utf-8")
        case _:
            raise KeenError("a chart is printed as .pdf or .svg.", file=options.output)
