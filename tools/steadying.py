"""Benchmarks of what steadies: subjects in the way, held points, models, zoom, borrowing, rows."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
from numpy.typing import NDArray

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.displacement import DisplacementGrid
from keen_horizon.core.geometry.motion import Motion
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.media.decode import Picture
from keen_horizon.core.motion.background_flow import background_flow
from keen_horizon.core.motion.camera_motion import CameraMotion
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.motion.point_tracker import follow_point
from keen_horizon.core.motion.readout import estimate_readout
from keen_horizon.core.path.edge_fill_plan import Lenders
from keen_horizon.core.picture.edge_fill import warp_with_lenders
from keen_horizon.core.picture.painter import Painter
from keen_horizon.core.picture.warp import sampler_of, warp_mask
from keen_horizon.core.picture.working_space import FULL_RANGE, working_space
from keen_horizon.core.pipeline import Estimates, Solution, motion_for, solve
from keen_horizon.core.pipeline.cost_curve import at_calm, cost_curve
from keen_horizon.core.pipeline.decide_model import choose_model, judged_at
from keen_horizon.core.quality import scores
from keen_horizon.core.stations.motion import MOTION
from keen_horizon.core.tracking.groups import groups_of
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment, digest, parse, with_settings
from keen_horizon.simulated.brindle_quay import (
    READOUT,
    Take,
    jolted_view,
    push_in,
    quay_walk,
    tender_deck,
)
from keen_horizon.simulated.camera import Pinhole
from keen_horizon.simulated.harbour import FAR_QUAY
from keen_horizon.simulated.truth import Measured, measure_take

from .chains import fitted, made_up
from .rows import Row, say, timed

CLOSE = 2.1  # metres to a figure that covers over two fifths of the picture


def steadying(folder: Path) -> list[Row]:
    say("subjects, models, held points, zoom, borrowing")
    wide = measure_take(quay_walk(distance=CLOSE), folder / "wide")
    empty = measure_take(quay_walk(figure=False), folder / "none")
    jolted = measure_take(jolted_view(), folder / "jolted")
    return [
        *subject_rows(wide, empty),
        *mesh_rows(empty),
        hold_row(folder),
        *zoom_rows(jolted),
        *curve_rows(empty),
        borrow_row(jolted),
    ]


# --- a subject in the way -------------------------------------------------------------------------


def in_sight(wide: Take, empty: Take, step: int) -> dict[int, NDArray[np.intp]]:
    """Background points that the figure does not hide, by frame: where both pictures agree."""
    points = wide.background()
    found = {}
    for t in range(0, len(wide.truth), step):
        differ = cv2.absdiff(wide.frame(t), empty.frame(t)).max(axis=2) > 12
        hidden = cv2.dilate(differ.astype(np.uint8), np.ones((9, 9), np.uint8))
        at = np.nan_to_num(wide.truth.project(points, t), nan=-1.0)
        inside = (at >= 0).all(1) & (at < [1279, 719]).all(1)
        rows, columns = (np.rint(np.where(inside, v, 0)).astype(int) for v in (at[:, 1], at[:, 0]))
        found[t] = np.nonzero(inside & (hidden[rows, columns] == 0))[0]
    return found


def background_error(motion: CameraMotion, take: Take, seen: dict[int, NDArray[np.intp]]) -> float:
    """RMS px by which the motion misses background points in sight, a frame pair."""
    truth, points = take.truth, take.background()
    canvas = Canvas(truth.camera.width, truth.camera.height)
    total, count = 0.0, 0
    for t, rows in seen.items():
        if t == 0 or not len(rows):
            continue
        p, q = (canvas.to_scene(truth.project(points[rows], k)) for k in (t - 1, t))
        off = np.abs(motion.steps.a[t] * p + motion.steps.b[t] - q)
        total += float((off**2).sum())
        count += len(rows)
    return float(np.sqrt(total / count))


def subject_rows(wide: Measured, empty: Measured) -> list[Row]:
    seen = in_sight(wide.take, empty.take, 4)
    alone = background_error(empty.motion, empty.take, seen)
    fooled = background_error(wide.motion, wide.take, seen)
    whole = pairwise_motion(wide.tracks, wide.canvas, "similarity")
    subject = max(
        groups_of(wide.tracks, wide.canvas, whole.steps, whole.evidence.steering),
        key=lambda group: group.speed,
    )
    at = (wide.canvas.to_pixels(np.array([subject.place]))[0] + 0.5) / [1280, 720]
    click = {"kind": "group", "frame": subject.frame, "at": at.tolist()}
    treatment = parse({"motion": {"aside": [click]}})
    helped = background_error(fitted(wide.tracks, wide.canvas, treatment), wide.take, seen)
    what = "quay walk, figure over 40 % of the picture: background motion error"
    words = f"{{:.2f}} × ({{:.3f}} px, {alone:.3f} px without it)"
    return [
        Row(f"{what}, no help", "≤ 1.5 × without it", words.format(fooled / alone, fooled),
            fooled <= 1.5 * alone),
        Row(f"{what}, one click", "≤ 1.1 × without it", words.format(helped / alone, helped),
            helped <= 1.1 * alone),
    ]  # fmt: skip


# --- models ---------------------------------------------------------------------------------------


def static_points() -> NDArray[np.float64]:
    """World points at three depths: façades, masts, paving."""
    far = np.array([(x, y, FAR_QUAY) for x in np.arange(-20, 30, 2.0) for y in (-4, -2, 0)])
    masts = np.array([(x, y, 18.0) for x in np.arange(-14, 24, 2.0) for y in (-4, -1)])
    near = np.array([(x, 0.0, z) for x in np.arange(-10, 18, 1.0) for z in (5.5, 7.5)])
    return np.concatenate([far, masts, near])


def fast_residual(solution: Solution, take: Take) -> float:
    """RMS of how points of the world still move fast in the output, px: of stretches of two
    seconds in which a point stays in the picture."""
    truth, points = take.truth, static_points()
    canvas, chain = solution.chain.source, solution.chain
    pixels = np.array([truth.project(points, t) for t in range(len(truth))])
    total, count = 0.0, 0
    for start in range(0, len(truth) - 60, 30):
        part = slice(start, start + 60)
        inside = ((pixels[part] > 20) & (pixels[part] < [1260, 700])).all(axis=(0, 2))
        z = canvas.to_scene(pixels[part][:, inside])
        steady = chain.only(lambda stage: isinstance(stage, Motion | DisplacementGrid))[part]
        out = steady.to_output(z)
        fast = scores.fast_part(out, truth.times[part])
        total += float((np.abs(fast) ** 2).sum())
        count += fast.size
    return float(np.sqrt(total / count))


def mesh_rows(empty: Measured) -> list[Row]:
    found = {}
    for model in ("similarity", "mesh"):
        treatment = with_settings(Treatment(), [f"motion.model={model}"])
        motion = fitted(empty.tracks, empty.canvas, treatment)
        solution = solve(motion, empty.canvas, treatment)
        found[model] = fast_residual(solution, empty.take), solution.report["wobble_after"]
    (plain, before), (bent, after) = found["similarity"], found["mesh"]
    less = 100 * (1 - bent / plain)
    return [
        Row("mesh against shift, roll and scale, quay walk: residual background motion",
            "≥ 30 % lower", f"{less:.0f} % lower ({plain:.2f} → {bent:.2f} px)", less >= 30),
        Row("the same: wobble", "≤ 1.2 ×",
            f"{after / before:.2f} × ({before:.2f} → {after:.2f} px)", after <= 1.2 * before),
    ]  # fmt: skip


# --- held points ----------------------------------------------------------------------------------


def hold_row(folder: Path) -> Row:
    take = push_in()
    measured = measure_take(take, folder / "push")
    grey = [cv2.cvtColor(frame, cv2.COLOR_BGR2GRAY) for frame in take.frames()]
    truth, half = take.truth, len(grey) // 2
    worst, lost = 0.0, 0
    for world in ((1.55, -2.32, FAR_QUAY), (4.4, -2.32, FAR_QUAY), (-1.3, -2.32, FAR_QUAY)):
        true = np.array([truth.project(np.array([world]), t)[0] for t in range(len(truth))])
        at = ((true[half] + 0.5) / [1280, 720]).tolist()
        point = parse({"motion": {"hold": [{"frame": half, "at": at}]}}).of(MOTION).hold[0]
        track = follow_point(
            lambda a, b: iter(grey[a : b + 1]), measured.canvas, measured.motion, point
        )
        off = np.abs(track.places - measured.canvas.to_scene(true))
        lost += int((~track.known).sum())
        worst = max(worst, float(np.sqrt(np.nanmean(off**2))))
    return Row(
        "Hold: point error over 300 frames, 15 % size change, 10° turn (worst of three)",
        "≤ 0.3 px RMS, no loss", f"{worst:.3f} px, {lost} frames lost", worst <= 0.3 and lost == 0,
    )  # fmt: skip


# --- zoom -----------------------------------------------------------------------------------------


def zoom_rows(jolted: Measured) -> list[Row]:
    speed = 3.0
    facts = ["motion.calm=60", "frame.zoom_speed=0"]
    fixed = solve(jolted.motion, jolted.canvas, with_settings(Treatment(), facts))
    facts[1] = f"frame.zoom_speed={speed}"
    drifts = solve(jolted.motion, jolted.canvas, with_settings(Treatment(), facts))
    more = drifts.report["picture_kept"] - fixed.report["picture_kept"]
    zoom = drifts.chain.view.zooms(len(jolted.motion))
    rate = np.abs(np.diff(np.log(zoom)) / np.diff(jolted.motion.timeline.times))
    fastest = 100 * float(np.expm1(rate.max()))
    return [
        Row("drifting zoom, a clip with one jolt: mean picture kept", "≥ 8 points more",
            f"{more:.1f} points more ({fixed.report['picture_kept']:.1f} → "
            f"{drifts.report['picture_kept']:.1f} %)", more >= 8),
        Row("the same: zoom speed", f"≤ {speed:g} % a second", f"{fastest:.3f} % a second",
            fastest <= speed + 1e-6),
    ]  # fmt: skip


def curve_rows(measured: Measured) -> list[Row]:
    motion, canvas, treatment = measured.motion.window(0, 300), measured.canvas, Treatment()
    curve = cost_curve(motion, canvas, treatment)
    seconds = timed(lambda: cost_curve(motion, canvas, treatment)) * 10 / len(curve)
    kept = np.array([point.picture_kept for point in curve])
    shake = np.array([point.shake_after for point in curve])
    calms = np.array([point.calm for point in curve])
    monotone = bool((np.diff(kept) <= 0.05).all() and (np.diff(shake) <= 0.05).all())
    off = 0.0
    for calm in (18, 31, 44, 56, 69, 81, 94):
        report = solve(motion, canvas, at_calm(treatment, calm)).report
        off = max(off, abs(float(np.interp(calm, calms, kept)) - report["picture_kept"]))
    return [
        Row("cost curve, 10 points, 300 frames", "≤ 1.5 s", f"{seconds:.2f} s", seconds <= 1.5),
        Row("cost curve: monotone; between its points against full solves", "yes; within 2 %",
            f"{'yes' if monotone else 'no'}; {off:.2f} % of picture kept", monotone and off <= 2),
    ]  # fmt: skip


# --- borrowing ------------------------------------------------------------------------------------


def planes_of(picture: NDArray[np.uint8], frame: int) -> Picture:
    height, width = picture.shape[:2]
    yuv = cv2.cvtColor(picture, cv2.COLOR_BGR2YUV_I420)
    quarter = height // 4
    u, v = (
        yuv[height + k * quarter : height + (k + 1) * quarter].reshape(height // 2, width // 2)
        for k in (0, 1)
    )
    return Picture(frame, frame, (yuv[:height], u, v), (2, 2), (0.5, 0.5), "yuvj420p")


def borrow_row(jolted: Measured, margin: int = 128) -> Row:
    """Borrowed picture against the same view drawn by a camera that sees more."""
    take, canvas = jolted.take, jolted.canvas
    facts = ["motion.calm=60", "frame.edge=borrow", "frame.borrow_width=12"]
    motion = pairwise_motion(jolted.tracks, canvas, "similarity")
    motion = replace(motion, flow=background_flow(jolted.tracks, canvas, motion))
    solution = solve(motion, canvas, with_settings(Treatment(), facts))
    lenders = Lenders(motion, 18)
    painter = Painter(working_space({"range": FULL_RANGE}, 8, canvas.height))
    camera = take.truth.camera
    wide = Pinhole(camera.width + 2 * margin, camera.height + 2 * margin, camera.focal)
    total, count, share = 0.0, 0, 0.0
    frames = range(142, 170, 3)
    for t in frames:
        sampler = sampler_of(solution.chain[t : t + 1])
        own = planes_of(take.frame(t), t)
        out = tuple(np.zeros_like(plane) for plane in own.planes)
        lent = (
            (planes_of(take.frame(o), o), sampler_of(lenders.lent(solution.chain, t, o)))
            for o in lenders.of(t)
        )
        share = max(share, warp_with_lenders(own, sampler, lent, out, painter))
        whole = planes_of(take.scene.draw(replace(take.truth, camera=wide), t), t)
        bare = warp_mask(own, sampler, canvas.width, canvas.height) == 0
        for plane, true, size in zip(out, whole.planes, (1, 2, 2), strict=True):
            shift = np.array([[1, 0, margin / size], [0, 1, margin / size], [0, 0, 1.0]])
            scale = np.diag([size, size, 1.0])
            scale[:2, 2] = (size - 1) / 2
            matrix = shift @ np.linalg.inv(scale) @ sampler.matrix @ scale
            seen = cv2.warpAffine(
                true, matrix[:2], plane.shape[::-1], flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
            )
            part = bare[::size, ::size]
            total += float(((plane.astype(float) - seen)[part] ** 2).sum())
            count += int(part.sum())
    error = 100 * float(np.sqrt(total / max(count, 1))) / 255
    return Row(
        "Borrow, static scene: colour error of what is borrowed", "≤ 3 % RMS",
        f"{error:.2f} % (up to {100 * share:.1f} % of a frame)", count > 0 and error <= 3,
    )  # fmt: skip


# --- rows -----------------------------------------------------------------------------------------


def skew(take: Take, canvas: Canvas, rows: object) -> float:
    """RMS over the frames of how far verticals lean, top against bottom, px."""
    truth = take.truth
    x, y = np.meshgrid([200, 640, 1080], np.arange(8, 720, 24))
    seen = canvas.to_scene(np.stack([x, y], axis=-1).reshape(-1, 2).astype(float))
    leans = []
    for t in range(0, len(truth), 3):
        true = canvas.to_scene(truth.at_once(t)[y, x].reshape(-1, 2))
        found = seen if rows is None else rows[t : t + 1].to_output(seen[None])[0]  # type: ignore[index]
        off = (true - found).real.reshape(x.shape).mean(axis=1)
        down = y[:, 0] - y[:, 0].mean()
        leans.append((off * down).sum() / (down**2).sum() * canvas.height)
    return float(np.sqrt(np.mean(np.square(leans))))


def shutters(folder: Path) -> list[Row]:
    say("rolling shutter")
    take = tender_deck(fisheye=False)
    deck = measure_take(take, folder / "deck")
    flow = background_flow(deck.tracks, deck.canvas, deck.motion)
    found = estimate_readout(deck.tracks, deck.motion, flow)
    off = abs(found.ms / (1000 * READOUT) - 1)
    before = skew(take, deck.canvas, None)
    left = {}
    for strong in ("false", "true"):
        facts = [f"shutter.readout={found.ms:.2f}", f"shutter.strong={strong}"]
        motion = fitted(deck.tracks, deck.canvas, with_settings(Treatment(), facts))
        left[strong] = skew(take, deck.canvas, motion.rows)
    cut = {name: 100 * (1 - value / before) for name, value in left.items()}
    return [
        Row("readout time, tender deck", "within 5 %",
            f"{found.ms:.1f} ms of {1000 * READOUT:.0f} ({100 * off:.1f} % off; said to be sure to "
            f"{found.sure:.1f} ms)", off <= 0.05),
        Row("skew of verticals, tender deck, vibration too", "cut by ≥ 85 %",
            f"{cut['true']:.0f} % ({before:.2f} → {left['true']:.2f} px)", cut["true"] >= 85,
            f"by the camera's path alone, which an engine at 43 Hz is too fast for: "
            f"{cut['false']:.0f} %"),
    ]  # fmt: skip


# --- long clips -----------------------------------------------------------------------------------


def shaky_motion(n: int) -> CameraMotion:
    """A hand-held pan of ``n`` frames, made up."""
    rng = np.random.default_rng(1)
    t = np.arange(n) / 30
    slow = 120 * np.sin(2 * np.pi * t / 37) + 25 * np.sin(2 * np.pi * t / 3.1)
    x = slow + 6 * np.sin(2 * np.pi * 2 * t) + 2 * rng.standard_normal(n)
    y = 9 * np.sin(2 * np.pi * t / 2.3) + 6 * np.sin(2 * np.pi * 1.9 * t)
    y = y + 2 * rng.standard_normal(n)
    roll = np.radians(0.4) * np.sin(2 * np.pi * 1.1 * t)
    shift = x + 1j * y
    steps = Similarities(
        np.exp(1j * np.diff(roll, prepend=roll[0])), np.diff(shift, prepend=shift[0])
    )
    return made_up(steps, t)


def repeated(measure: Tracks, times: int) -> Tracks:
    """A measure over and over, its marks numbered anew each time."""
    records = np.tile(measure.records, times)
    each = int(measure.records["id"].max()) + 1
    records["id"] += np.repeat(np.arange(times, dtype=np.uint32) * each, len(measure.records))
    counts = np.tile(np.diff(measure.offsets), times)
    length = measure.times[-1] + 1 / 30
    stretched = (np.arange(times)[:, None] * length + measure.times[None]).ravel()
    flat = {
        name: np.tile(getattr(measure, name), times)
        for name in ("started", "followed", "change", "sharpness")
    }
    offsets = np.concatenate([[0], np.cumsum(counts)])
    return Tracks(records, offsets, times=stretched, first=0, **flat)


def long_clips(folder: Path) -> list[Row]:
    """What a long clip's first answer takes: the frames around the playhead, solved and drawn."""
    say("long clips")
    from keen_horizon.jobs.solutions import WINDOW

    measured = measure_take(quay_walk(figure=False), folder / "base")
    canvas = measured.canvas
    long = repeated(measured.tracks, 50)
    slowest, which = 0.0, ""
    start = 9000
    part = long.window(start, start + WINDOW)
    known = Estimates(part, canvas)
    choice = choose_model(Estimates(measured.tracks, canvas), judged_at(Treatment()))
    known.recorded("similarity"), known.angle(), known.flow()

    def fitted(treatment: Treatment) -> CameraMotion:
        # As the application has it: what stands since the measure, and the model chosen then.
        estimates = Estimates(part, canvas)
        estimates.recorded = known.recorded  # type: ignore[method-assign]
        estimates.angle, estimates.flow = known.angle, known.flow  # type: ignore[method-assign]
        estimates.choice = lambda treatment, make: choice  # type: ignore[method-assign]
        return motion_for(estimates, treatment)

    # What was on show before a control is touched has been fitted.
    seen, seen_key = fitted(Treatment()), digest(Treatment(), "motion")
    first = timed(lambda: solve(fitted(Treatment()), canvas, Treatment()).chain.lattice())
    for facts in (
        ["motion.calm=70"], ["motion.aim=lock_off"], ["motion.model=mesh"],
        ["motion.model=decide"], ["frame.edge=borrow"], ["frame.zoom_speed=2"],
    ):  # fmt: skip
        treatment = with_settings(Treatment(), facts)

        def answer(treatment: Treatment = treatment) -> None:
            key = digest(treatment, "motion")
            motion = seen if key == seen_key else fitted(treatment)
            solve(motion, canvas, treatment).chain.lattice()

        seconds = timed(answer)
        if seconds > slowest:
            slowest, which = seconds, facts[0]
    return [
        Row("any control to a new picture, 18,000 frames, near the playhead first", "≤ 1.5 s",
            f"{slowest:.2f} s (the slowest: {which})", slowest <= 1.5,
            f"{WINDOW} frames around the playhead are solved at once, the rest by a worker; frames "
            f"that nobody has looked at yet are fitted first, {first:.2f} s in all by the model "
            f"that was chosen, {choice.model}"),
    ]  # fmt: skip
