"""Benchmarks of lenses: models, traced edges, charts, cover, and what motion gains by them."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np

from keen_horizon.core.geometry.angles import angles_of
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.distortion import Distortion
from keen_horizon.core.geometry.lens import Lens, scale_to_cover
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.motion.angle_of_view import angle_of_view
from keen_horizon.core.path.least_zoom import least_cover
from keen_horizon.core.path.zoom import outline, room_left
from keen_horizon.core.pipeline import solve
from keen_horizon.core.pipeline.estimate_motion import lens_at
from keen_horizon.core.stations.lens.chart import Board, calibrate, find_corners
from keen_horizon.core.stations.lens.edge_fit import EdgeFit, fit_edges, residuals_of
from keen_horizon.core.stations.lens.trace import gradients, trace_edge
from keen_horizon.core.treatment import Treatment, parse, with_settings
from keen_horizon.simulated.brindle_quay import (
    DECK_VIEW,
    SIZE,
    Take,
    deck_edges,
    engine_shed,
    loft_doorway,
    quay_walk,
    shed_edges,
    slip_descent,
    tender_deck,
)
from keen_horizon.simulated.charts import deck_camera, photographs
from keen_horizon.simulated.truth import away_from, measure_take, motion_left, pictured_edge

from .chains import chain_of, fitted
from .rows import Row, say, timed
from .steadying import shaky_motion

CANVAS = Canvas(*SIZE)
LENSES = {
    "Brown-Conrady": (Distortion("brown", (-0.28, 0.09, -0.012, 0.0), (0.002, -0.001)), 880.0),
    "fisheye": (Distortion("fisheye", (-0.012, 0.004, 0.001, -0.0005)), 566.0),
    "division": (Distortion("division", (-0.31, 0.0, 0.0, 0.0)), 800.0),
}
OFF = 8.0  # px that clicks are off an edge
CLICKS = 4  # pairs of clicks an edge


def lenses(folder: Path) -> list[Row]:
    say("lenses")
    return [
        *model_rows(), *edge_rows(), *chart_rows(), cover_row(), *motion_rows(folder),
        angle_row(folder), *live_rows(),
    ]  # fmt: skip


# --- models ---------------------------------------------------------------------------------------


def model_rows() -> list[Row]:
    worst, which = 0.0, ""
    agree = 0.0
    for name, (distortion, focal) in LENSES.items():
        lens = scale_to_cover(Lens(CANVAS, distortion, focal))
        x, y = np.meshgrid(np.linspace(0, 1279, 160), np.linspace(0, 719, 90))
        pixels = np.stack([x, y], axis=-1).reshape(-1, 2)
        z = CANVAS.to_scene(pixels)[None]
        straight = lens.undistort(z)
        off = float(np.abs(lens.distort(straight) - z).max())
        if off >= worst:
            worst, which = off, name
        theirs = opencv_bent(distortion, focal, straight[0] / float(lens.scale) / focal)
        if theirs is not None:
            agree = max(agree, float(np.abs(theirs - pixels).max()))
    return [
        Row("forward after inverse, every model, whole frame", "≤ 1e-4 px",
            f"{worst:.1e} px ({which})", worst <= 1e-4),
        Row("bent as OpenCV's projectPoints bends", "≤ 1e-3 px", f"{agree:.1e} px", agree <= 1e-3,
            "Brown-Conrady and fisheye; OpenCV has no division model"),
    ]  # fmt: skip


def opencv_bent(distortion: Distortion, focal: float, x: np.ndarray) -> np.ndarray | None:
    """Pixels at which OpenCV puts normalised straight points ``(m,)``."""
    rays = np.stack([x.real, x.imag, np.ones(len(x))], axis=-1)[:, None]
    matrix = np.array([[focal, 0, 639.5], [0, focal, 359.5], [0, 0, 1.0]])
    none = np.zeros(3)
    if distortion.model == "fisheye":
        seen, _ = cv2.fisheye.projectPoints(rays, none, none, matrix, np.array(distortion.k))
    elif distortion.model == "brown":
        k, p = distortion.k, distortion.p
        told = np.array([k[0], k[1], p[0], p[1], k[2]])
        seen, _ = cv2.projectPoints(rays, none, none, matrix, told)
    else:
        return None
    return np.asarray(seen.reshape(-1, 2))


# --- edges ----------------------------------------------------------------------------------------


def traced(
    take: Take, frame: int, edges: list[np.ndarray], seed: int = 5
) -> list[tuple[np.ndarray, np.ndarray]]:
    """Traces of pictured edges ``(m, 2)``, from clicks up to :data:`OFF` px beside their ends,
    each with the edge."""
    rng = np.random.default_rng(seed)
    slopes = gradients(np.asarray(cv2.cvtColor(take.frame(frame), cv2.COLOR_BGR2GRAY), np.uint8))
    found = []
    for line in edges:
        for _ in range(CLICKS):
            length, turn = rng.uniform(0, OFF, 2), rng.uniform(0, 2 * np.pi, 2)
            off = length[:, None] * np.stack([np.cos(turn), np.sin(turn)], axis=-1)
            ends = np.stack([line[2], line[-3]]) + off
            trace = trace_edge(slopes, [tuple(ends[0]), tuple(ends[1])])
            found.append((trace.points, line))
    return found


def shed() -> tuple[Take, list[np.ndarray]]:
    take = engine_shed(1.5)
    lines = [pictured_edge(take, edge, 30) for edge in shed_edges(120)]
    return take, [ln for ln in lines if len(ln) > 20 and np.hypot(*(ln[-1] - ln[0])) > 100]


def is_level(line: np.ndarray) -> bool:
    across, down = np.abs(line[-1] - line[0])
    return bool(across > down)


def edge_rows() -> list[Row]:
    take, lines = shed()
    level = [line for line in lines if is_level(line)]
    clicks = traced(take, 30, level)
    # Two edges of one stone are as near to a click as each other: either will do, but one alone.
    offs = [
        min((away_from(points, line) for line in level), key=lambda off: float((off**2).mean()))
        for points, _ in clicks
    ]
    snapped = float(np.sqrt(np.mean(np.concatenate(offs) ** 2)))
    upright = [line for line in lines if not is_level(line)]
    five = [clicks[0][0], clicks[2 * CLICKS][0]]
    five += [trace for trace, _ in traced(take, 30, upright[1::3])[::CLICKS]][:3]
    others = [line[::3] for line in (*level[4:], *upright)]
    fit = fit_edges(five, CANVAS)
    one = fit_edges(five, CANVAS, model="division")

    def left(found: EdgeFit) -> float:
        strays = residuals_of(others, CANVAS, found.distortion, found.focal)
        return float(np.sqrt((strays**2).mean()))

    deck = tender_deck(1.0, readout=0.0)
    edges = [pictured_edge(deck, edge, 10) for edge in deck_edges()]
    three = [points for points, _ in traced(deck, 10, edges)[::CLICKS]]
    fisheye = fit_edges(three, CANVAS)
    lens = Lens(CANVAS, fisheye.distortion, fisheye.focal * CANVAS.width)
    seen = angles_of(lens).diagonal
    off = abs(seen / DECK_VIEW - 1)
    return [
        Row("edge snapping: traced edge to true edge, clicks up to 8 px off", "≤ 0.5 px RMS",
            f"{snapped:.2f} px ({len(clicks)} traces)", snapped <= 0.5),
        Row("engine shed, five traced edges: straightness of others", "≤ 0.5 px RMS",
            f"{left(fit):.3f} px ({fit.distortion.model})",
            left(fit) <= 0.5 and left(one) > left(fit),
            f"by one parameter {left(one):.3f} px; on the traced five {fit.residual:.2f} against "
            f"{one.residual:.2f} px"),
        Row("tender deck, three edges: angle of view, fisheye recognised", "within 3 %",
            f"{seen:.1f}° of {DECK_VIEW:.0f}° ({100 * off:.1f} % off; {fisheye.distortion.model})",
            off <= 0.03 and fisheye.distortion.model == "fisheye"),
    ]  # fmt: skip


# --- charts ---------------------------------------------------------------------------------------


def chart_rows() -> list[Row]:
    camera, board = deck_camera(), Board()
    found = [find_corners(photo, board) for photo in photographs(camera)]
    views = [corners for corners in found if corners is not None]
    fit = calibrate(views, board, *SIZE)
    off = abs(fit.focal * SIZE[0] / camera.focal - 1)
    return [
        Row("chart calibration: reprojection residual", "≤ 0.2 px", f"{fit.residual:.3f} px",
            fit.residual <= 0.2, f"{len(views)} of {len(found)} photographs show the whole chart"),
        Row("chart calibration: focal length", "within 0.5 %", f"{100 * off:.2f} % off",
            off <= 0.005),
    ]  # fmt: skip


# --- cover ----------------------------------------------------------------------------------------


def cover_row() -> Row:
    """Against a search that tries zooms and positions one by one."""
    rng = np.random.default_rng(9)
    turn = np.exp(1j * np.radians(rng.uniform(-1.5, 1.5, 24)))
    shift = 14 * (rng.standard_normal(24) + 1j * rng.standard_normal(24)) + (20 - 9j)
    distortion, focal = LENSES["fisheye"]
    lens = scale_to_cover(Lens(CANVAS, distortion, focal, centre=18 - 11j))
    chain = chain_of(Similarities(turn, shift), lens, canvas=CANVAS)
    found = least_cover(chain)
    rim = outline(CANVAS, 1.0, chain)
    best, at, step = np.inf, 0j, 32.0
    while step > 0.02:
        tried = [at + step * (i + 1j * j) for i in range(-2, 3) for j in range(-2, 3)]
        zooms = [_least_zoom(chain, rim, place) for place in tried]
        k = int(np.argmin(zooms))
        if zooms[k] < best - 1e-9:
            best, at = zooms[k], tried[k]
        else:
            step /= 2
    off = abs(found.zoom / best - 1)
    return Row("least zoom of cover", "within 0.2 %",
               f"{100 * off:.3f} % off (× {found.zoom:.4f} of × {best:.4f})",
               off <= 0.002)  # fmt: skip


def _least_zoom(chain: WarpChain, rim: np.ndarray, place: complex) -> float:
    low, high = 0.3, 6.0
    for _ in range(22):
        middle = (low + high) / 2
        covers = (room_left(chain, rim, middle, place) >= 0).all()
        low, high = (low, middle) if covers else (middle, high)
    return high


# --- motion ---------------------------------------------------------------------------------------


def settings_of(take: Take) -> dict[str, object]:
    """The true lens of a take, as settings."""
    camera = take.truth.camera
    assert camera.glass is not None
    k = camera.glass.coefficients
    told: dict[str, object] = {"model": camera.glass.kind, "focal": camera.focal / camera.width}
    if camera.glass.kind == "fisheye":
        return told | {f"k{i + 1}": k[i] for i in range(4)}
    return told | {"k1": k[0], "k2": k[1], "p1": k[2], "p2": k[3], "k3": k[4]}


def motion_rows(folder: Path) -> list[Row]:
    take = slip_descent()
    measured = measure_take(take, folder / "slip")
    on = parse({"lens": settings_of(take), "motion": {"calm": 60.0, "model": "rotation"}})
    off = parse({"motion": {"calm": 60.0}})
    left = {}
    for name, treatment in (("on", on), ("off", off)):
        motion = fitted(measured.tracks, measured.canvas, treatment)
        left[name] = motion_left(take, solve(motion, measured.canvas, treatment).chain)
    still = slip_descent(shaken=False)
    lens = lens_at(on, CANVAS, 0, len(still.truth))
    none = Similarities.none(len(still.truth))
    meant = motion_left(still, chain_of(none, lens, canvas=CANVAS))
    cut = 100 * (1 - left["on"] / left["off"])
    return [
        Row("steadying slip descent: background motion left, lens on against off", "≥ 30 % lower",
            f"{cut:.0f} % lower ({left['off']:.2f} → {left['on']:.2f} px)", cut >= 30,
            f"{meant:.2f} px of it the drone meant; with the lens by camera rotation, without it "
            "by shift, roll and scale"),
    ]  # fmt: skip


def angle_row(folder: Path) -> Row:
    """What takes tell of their own angle of view; a take may say that it cannot tell."""
    told, worst, outside = [], 0.0, 0
    for make in (loft_doorway, engine_shed, slip_descent, quay_walk, tender_deck):
        take = make()
        measured = measure_take(take, folder / f"angle {take.name}")
        angle = angle_of_view(measured.tracks, measured.canvas, measured.motion)
        rays = take.truth.camera.rays[SIZE[1] // 2]  # of pixels' centres, not of edges
        true = float(np.degrees(np.arccos(rays[0] @ rays[-1]))) * SIZE[0] / (SIZE[0] - 1)
        if not angle.told:
            told.append(f"{take.name} cannot tell")
            continue
        worst = max(worst, abs(angle.across / true - 1))
        outside += abs(angle.across - true) > 2 * angle.error
        told.append(f"{take.name} {angle.across:.1f} ± {2 * angle.error:.1f}° of {true:.1f}°")
    met = worst <= 0.03 and not outside
    return Row("angle of view by the clip's own motion", "within 3 % and its bounds, or not told",
               f"{100 * worst:.1f} % off at worst, {outside} outside", met,
               "; ".join(told))  # fmt: skip


# --- live -----------------------------------------------------------------------------------------


def live_rows() -> list[Row]:
    take, lines = shed()
    traces = [points for points, _ in traced(take, 30, [ln for ln in lines if len(ln) > 30])][:20]
    fit = fit_edges(traces, CANVAS)
    model = fit.distortion.model
    solve_once = timed(lambda: fit_edges(traces, CANVAS, live=model))
    motion = shaky_motion(300)
    k = fit.distortion.k
    treatment = with_settings(
        Treatment(), [f"lens.model={model}", f"lens.k1={k[0]}", f"lens.k2={k[1]}"]
    )

    def picture() -> None:
        found = fit_edges(traces, CANVAS, live=model)
        assert found.residual >= 0
        lens = lens_at(treatment, CANVAS, 0, 300)
        chain = solve(replace(motion, lens=lens), CANVAS, treatment).chain
        chain.lattice(slice(120, 181))

    shown = timed(picture)
    return [
        Row("live fit while dragging, 20 edges", "≤ 50 ms", f"{1000 * solve_once:.0f} ms",
            solve_once <= 0.05, f"all models anew when it is let go: "
            f"{1000 * timed(lambda: fit_edges(traces, CANVAS)):.0f} ms"),
        Row("the picture to it, 300 frames", "≤ 300 ms", f"{1000 * shown:.0f} ms", shown <= 0.3,
            "the fit, the path and the lattice near the playhead"),
    ]  # fmt: skip
