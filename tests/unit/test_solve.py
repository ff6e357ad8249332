"""The solver: what it must never do, and what it must achieve."""

from dataclasses import replace

import numpy as np
import pytest

from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.displacement import COLUMNS, ROWS, DisplacementGrid
from keen_horizon.core.geometry.live_area import LiveArea
from keen_horizon.core.geometry.similarity import Shifts, Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.path.areas import seen_shares
from keen_horizon.core.path.crop_bound import crop_bound
from keen_horizon.core.path.rectangle import largest_rectangle
from keen_horizon.core.path.steady_path import FOLLOW, LOCK_OFF, Bounds, steady_path
from keen_horizon.core.path.zoom import clip_to_zoom, outline, room_left, zoom_needed
from keen_horizon.core.pipeline import Estimates, Solution, first_treatment, motion_for, solve
from keen_horizon.core.pipeline.cost_curve import at_calm
from keen_horizon.core.pipeline.first_treatment import stands_still
from keen_horizon.core.quality import scores
from keen_horizon.core.stored import load, save
from keen_horizon.core.treatment import Treatment, parse
from tests.motions import (
    CANVAS,
    chain_of,
    motion_of,
    output_steps,
    shake_of,
    shaky,
    steady_of,
)


def treat(**settings) -> Treatment:
    frame = {k: settings.pop(k) for k in ("edge", "zoom_ceiling") if k in settings}
    return parse({"motion": settings, "frame": frame})


@pytest.mark.parametrize("aim", ["follow", "lock_off"])
@pytest.mark.parametrize("calm", [10, 40, 100])
@pytest.mark.parametrize("ceiling", [1.05, 1.25])
def test_filling_covers_every_corner_and_keeps_below_the_ceiling(aim, calm, ceiling):
    motion = shaky()
    solution = solve(motion, CANVAS, treat(aim=aim, calm=calm, zoom_ceiling=ceiling))
    assert 1 <= solution.report["zoom"] <= ceiling + 1e-9
    corners = np.array([[0, 0], [1279, 0], [1279, 719], [0, 719]], float)
    for frame in range(len(motion)):
        _, valid = solution.chain(frame, corners)
        assert valid.all()
    assert solution.room.min() > -1e-6


def test_follow_removes_the_shake_and_keeps_the_pan():
    motion = shaky()
    solution = solve(motion, CANVAS, treat(calm=50))
    assert solution.report["shake_removed"] > 90
    moved = output_steps(motion.steps, steady_of(solution.chain))
    total = np.cumsum(moved.b.real)
    room = 2 * 639.5 * (1 - crop_bound(50, 1.25))  # the crop_bound's width, both ends
    assert abs(total[-1] - 2.0 * 149) < room
    # Even: the steadied pan hardly changes its speed.
    assert np.abs(np.diff(moved.b.real[2:])).max() < 0.6


def test_lock_off_stands_still():
    motion = shaky(pan=0.0)
    solution = solve(motion, CANVAS, treat(aim="lock_off", calm=60))
    moved = output_steps(motion.steps, steady_of(solution.chain))
    assert np.abs(np.cumsum(moved.b)).max() < 0.05
    assert np.degrees(np.abs(np.cumsum(np.angle(moved.a))).max()) < 0.005


def test_frames_are_named_as_in_the_recording():
    wild = motion_of(200 * np.sin(0.4 * np.arange(150)) + 0j)
    later = replace(wild, timeline=replace(wild.timeline, first=400, cuts=np.array([70])))
    treatment = treat(calm=100, zoom_ceiling=4)
    report = solve(later, CANVAS, treatment).told(treatment)
    assert report["cuts"] == [470]
    assert 400 <= report["tightest_frame"] < 550
    assert f"Frame {report['tightest_frame']} is the reason" in " ".join(report["notes"])


def test_calm_zero_and_motion_off_leave_the_picture_alone():
    motion = shaky()
    for treatment in (treat(calm=0), treat(on=False, calm=80)):
        solution = solve(motion, CANVAS, treatment)
        assert (steady_of(solution.chain).a == 1).all()
        assert solution.report["zoom"] == 1
        assert solution.report["picture_kept"] == pytest.approx(100)
        assert solution.report["shake_after"] == pytest.approx(solution.report["shake_before"])


def test_more_calm_never_costs_less_nor_shakes_more_until_nothing_is_left():
    motion = shaky(seed=3)
    tubes = [crop_bound(c, 1.5) for c in (0, 20, 40, 70, 100)]
    assert tubes == sorted(tubes, reverse=True)
    left = [
        solve(motion, CANVAS, treat(calm=c, zoom_ceiling=1.5)).report["shake_after"]
        for c in (0, 8, 16, 40)
    ]
    assert left == sorted(left, reverse=True)


def test_calm_gives_way_to_the_ceiling():
    assert crop_bound(100, 1.1) == pytest.approx(1 / 1.1)
    motion = shaky()
    low = solve(motion, CANVAS, treat(calm=100, zoom_ceiling=1.02)).report
    high = solve(motion, CANVAS, treat(calm=100, zoom_ceiling=1.4)).report
    assert low["zoom"] <= 1.02 + 1e-9 < high["zoom"]
    assert low["shake_after"] > high["shake_after"]


def test_a_ceiling_of_one_means_no_correction():
    solution = solve(shaky(), CANVAS, treat(calm=100, zoom_ceiling=1.0))
    assert solution.report["zoom"] == 1
    assert solution.report["shake_after"] == pytest.approx(solution.report["shake_before"])


def test_edge_rules_share_one_path_and_differ_in_what_they_show():
    motion = shaky()
    fill, trim, leave = (
        solve(motion, CANVAS, treat(calm=40, edge=e)) for e in ("fill", "trim", "leave")
    )
    assert np.allclose(steady_of(fill.chain).b, steady_of(trim.chain).b)
    assert np.allclose(steady_of(fill.chain).b, steady_of(leave.chain).b)
    assert trim.report["zoom"] == leave.report["zoom"] == 1
    assert trim.report["output"]["width"] < 1280
    assert leave.report["output"] == {"width": 1280, "height": 720, "pixel_aspect": 1.0}
    assert leave.report["bare_edges"] > 0
    width, height = trim.report["output"]["width"], trim.report["output"]["height"]
    corners = np.array([[0, 0], [width - 1, 0], [width - 1, height - 1], [0, height - 1]], float)
    for frame in range(len(motion)):
        assert trim.chain(frame, corners)[1].all()


def test_a_steady_clip_is_left_alone_and_said_so():
    rng = np.random.default_rng(1)
    motion = motion_of(0.03 * rng.standard_normal(90) + 0j)
    solution = solve(motion, CANVAS, treat(calm=80))
    assert solution.report["zoom"] == 1
    assert "nothing to do" in solution.notes[0]


def test_a_blind_clip_is_left_alone_and_said_why():
    motion = shaky()
    confidence = np.zeros(len(motion))
    confidence[0] = 1
    blind = motion_of(np.cumsum(motion.steps.b), confidence=confidence)
    solution = solve(blind, CANVAS, treat(calm=80))
    assert (steady_of(solution.chain).b == 0).all()
    assert "No camera motion could be found" in solution.notes[0]


def test_a_weak_stretch_moves_as_the_source_does_and_does_not_jump():
    motion = shaky(n=120)
    b = motion.steps.b.copy()
    b[50:60] += 80 * np.exp(1j * np.arange(10))  # nonsense, as a blurred stretch gives
    confidence = np.ones(120)
    confidence[50:60] = 0.0
    weak = motion_of(np.cumsum(b), confidence=confidence)
    steady = steady_of(solve(weak, CANVAS, treat(calm=50)).chain)
    assert np.abs(np.diff(steady.b)[48:61]).max() < 12


def test_a_cut_splits_the_path():
    motion = shaky(n=120)
    cut = motion_of(np.cumsum(motion.steps.b), cuts=np.array([60]))
    whole = steady_of(solve(cut, CANVAS, treat(calm=50)).chain)
    first = motion_of(np.cumsum(motion.steps.b)[:60])
    alone = steady_of(solve(first, CANVAS, treat(calm=50)).chain)
    assert np.allclose(whole.b[:60], alone.b, atol=1e-6)


def test_a_violent_stretch_does_not_excuse_jitter_in_a_calm_one():
    calm = shaky(n=300, seed=4, pan=0.3)
    steps = calm.steps.b.copy()
    steps[:300] *= 0.1
    rng = np.random.default_rng(2)
    wild = 60 * (rng.standard_normal(300) + 1j * rng.standard_normal(300))
    alone = motion_of(np.cumsum(steps))
    both = motion_of(np.cumsum(np.concatenate([np.diff(wild, prepend=0), steps])))
    left = []
    for motion, part in ((alone, slice(0, 300)), (both, slice(330, 600))):
        steady = steady_path(motion, CANVAS, FOLLOW, Bounds(0.93))
        moved = output_steps(motion.steps, steady)
        left.append(np.abs(np.diff(moved.b[part][2:])).mean())
    assert left[1] < left[0] + 0.02


def test_a_solver_that_fails_leaves_the_picture_alone_and_says_so(monkeypatch):
    def fail(*_, **__):
        raise ArithmeticError("no end")

    monkeypatch.setattr("keen_horizon.core.stations.motion.steadying.steady_path", fail)
    solution = solve(shaky(), CANVAS, treat(calm=50))
    assert (steady_of(solution.chain).b == 0).all()
    assert "could not be solved" in solution.notes[0]


def test_frame_rate_does_not_change_what_calm_means():
    t30, t60 = np.arange(120) / 30, np.arange(240) / 60

    def shift(t):
        return 60 * t + 8 * np.sin(2 * np.pi * 2 * t) + 6j * np.cos(2 * np.pi * 1.7 * t)

    reports = [
        solve(motion_of(shift(t), rate=r), CANVAS, treat(calm=40)).report
        for t, r in ((t30, 30.0), (t60, 60.0))
    ]
    assert reports[0]["zoom"] == pytest.approx(reports[1]["zoom"], abs=0.01)
    assert reports[0]["shake_before"] == pytest.approx(reports[1]["shake_before"], rel=0.05)


def chained(a: list[complex], b: list[complex], *inner) -> WarpChain:
    return chain_of(Similarities(np.array(a, complex), np.array(b, complex)), *inner)


RIM = CANVAS.corners


def test_zoom_needed_has_the_closed_form():
    assert zoom_needed(chained([1], [64]), RIM)[0] == pytest.approx(639.5 / (639.5 - 64))
    expected = (639.5 * np.sin(0.1) + 359.5 * np.cos(0.1)) / 359.5
    assert zoom_needed(chained([np.exp(0.1j)], [0]), RIM)[0] == pytest.approx(expected)
    assert zoom_needed(chained([1], [0]), RIM)[0] == 1
    assert np.isinf(zoom_needed(chained([1], [2000]), RIM)[0])
    moved = zoom_needed(chained([1], [0]), RIM, 64 + 0j)
    assert moved[0] == pytest.approx(639.5 / (639.5 - 64))


def test_zoom_needed_of_a_bend_covers_its_whole_rim():
    rng = np.random.default_rng(4)
    x, y = np.meshgrid(np.linspace(-1, 1, COLUMNS), np.linspace(-1, 1, ROWS))
    terms = np.stack([x, y, x * y, x * x, y * y, x**3]).reshape(6, -1)
    nodes = 5 * rng.standard_normal((6, 6)) @ terms + 5j * rng.standard_normal((6, 6)) @ terms
    nodes = nodes.reshape(6, ROWS, COLUMNS)
    chain = chained([1] * 6, [3] * 6, DisplacementGrid(CANVAS, nodes.astype(np.complex64)))
    zoom = zoom_needed(chain, outline(CANVAS, 1.0, chain))
    x, y = np.linspace(0, 1279, 200), np.linspace(0, 719, 120)
    rim = np.concatenate([
        np.stack([x, 0 * x], -1), np.stack([x, 0 * x + 719], -1),
        np.stack([0 * y, y], -1), np.stack([0 * y + 1279, y], -1),
    ])  # fmt: skip
    for frame in range(6):
        filled = replace(chain, view=View(CANVAS, zoom=float(zoom[frame])))
        mapped, _ = filled(frame, rim)
        assert mapped.min() > -0.3
        assert (mapped < [1279.3, 719.3]).all()


def test_held_below_makes_any_correction_fit():
    rng = np.random.default_rng(8)
    wild = chained(np.exp(0.2j * rng.standard_normal(30)), 200 * rng.standard_normal(30))
    held = clip_to_zoom(wild, 1.1, RIM)
    assert zoom_needed(held, RIM).max() <= 1.1 + 1e-9
    calm = chained([1, 1, 1], [1, 2, 3])
    assert clip_to_zoom(calm, 1.1, RIM) is calm


def test_largest_rectangle_is_what_is_left_after_shifts():
    steady = Similarities(np.ones(3, complex), np.array([40 + 0j, -20 + 10j, 0j]))
    width, height, centre = largest_rectangle(steady, LiveArea.whole(CANVAS), 639.5 / 359.5)
    assert width == pytest.approx(639.5 * min((1279 - 60) / 1279, (719 - 10) / 719), abs=1e-3)
    assert centre.real == pytest.approx(-10, abs=1e-2)
    width, height, _ = largest_rectangle(steady, LiveArea.whole(CANVAS), None)
    assert (2 * width, 2 * height) == pytest.approx((1279 - 60, 719 - 10), abs=0.1)
    width, height, _ = largest_rectangle(steady, LiveArea.whole(CANVAS), 1.0)
    assert (2 * width, 2 * height) == pytest.approx((709, 709), abs=0.1)


def test_room_left_is_the_distance_to_the_nearest_edge():
    room = room_left(chained([1, 1], [0, 10 + 3j]), RIM, np.full(2, 1.25))
    assert room[0] == pytest.approx(359.5 * 0.2)
    assert room[1] == pytest.approx(359.5 * 0.2 - 3)


def test_seen_shares_of_a_shifted_picture():
    quads = np.stack([CANVAS.corners, CANVAS.corners + 639.5])
    kept, bare = seen_shares(quads, LiveArea.whole(CANVAS))
    assert kept == pytest.approx([1, 0.5])
    assert bare == pytest.approx([0, 0.5], abs=1e-6)


def test_against_truth_what_is_left_is_small(walk, loft):
    """The figures a report shows agree with what the true camera says."""
    for measured, aim in ((walk, "follow"), (loft, "lock_off")):
        solution = solve(measured.motion, CANVAS, treat(aim=aim, calm=40))
        moved = output_steps(measured.truth, steady_of(solution.chain))
        left = shake_of(moved, measured.motion) * solution.report["zoom"]
        before = shake_of(measured.truth, measured.motion)
        assert left < 0.1 * before
        assert solution.report["shake_before"] == pytest.approx(before, rel=0.05)
        assert solution.report["picture_kept"] > 85


def test_lock_off_of_a_short_clip_and_of_two_frames():
    for n in (2, 3, 5):
        motion = shaky(n=n)
        steady = steady_path(motion, CANVAS, LOCK_OFF, Bounds(0.9))
        assert np.isfinite(steady.b).all()


def test_first_treatment_locks_off_only_what_meant_to_stand_still(walk, loft):
    first = first_treatment(Estimates(loft.tracks, CANVAS))
    assert first.motion.aim == "lock_off"
    assert first.motion.model == "decide"
    assert stands_still(loft.motion, CANVAS)
    assert not stands_still(shaky(n=300, pan=4.0), CANVAS)


def test_a_lock_off_gets_the_calm_that_it_needs(loft):
    estimates = Estimates(loft.tracks, CANVAS)
    first = first_treatment(estimates)
    report = solve(motion_for(estimates, first), CANVAS, first).report
    assert report["picture_kept"] >= 85
    assert report["locking"]["zoom"] <= report["zoom"] + 0.02


def test_a_first_treatment_is_as_calm_as_is_worth_its_price(walk):
    estimates = Estimates(walk.tracks, CANVAS)
    first = first_treatment(estimates)
    motion = motion_for(estimates, first)
    chosen = solve(motion, CANVAS, first).report
    assert chosen["picture_kept"] >= 85
    before = chosen["shake_before"]
    for calm in (12, 25, 37, 50):
        other = solve(motion, CANVAS, at_calm(first, calm)).report
        bought = 100 * (other["shake_after"] - chosen["shake_after"]) / before
        assert bought >= other["picture_kept"] - chosen["picture_kept"] - 1.0, calm


def test_a_solution_survives_being_kept(tmp_path):
    solution = solve(shaky(), CANVAS, treat(calm=30, edge="trim"))
    save(solution, tmp_path / "s.npz")
    again = load(tmp_path / "s.npz", Solution)
    assert again.report == solution.report
    assert np.allclose(again.chain.lattice(), solution.chain.lattice())


def moved_by(steady: Similarities) -> dict[str, float]:
    """The most that each component of a correction does."""
    turned = np.log(steady.a)
    parts = {"across": steady.b.real, "updown": steady.b.imag, "roll": turned.imag,
             "size": turned.real}  # fmt: skip
    return {name: float(np.abs(values).max()) for name, values in parts.items()}


@pytest.mark.parametrize("aim", ["follow", "lock_off"])
@pytest.mark.parametrize("component", ["across", "updown", "roll", "size"])
def test_a_component_at_no_calm_is_left_alone_and_the_rest_is_calmed(aim, component):
    motion = shaky()
    whole = solve(motion, CANVAS, treat(aim=aim, calm=50))
    part = solve(motion, CANVAS, treat(aim=aim, calm=50, **{f"calm_{component}": 0}))
    most = moved_by(steady_of(part.chain))
    assert most.pop(component) < 1e-12
    if component != "size":
        assert part.report["shake_after"] > 3 * whole.report["shake_after"]
    assert all(value > 0 for value in most.values())


def test_up_and_down_is_calmed_though_across_is_not():
    motion = shaky(pan=0)
    steady = steady_of(solve(motion, CANVAS, treat(calm=50, calm_across=0)).chain)
    moved = output_steps(motion.steps, steady)
    fast = scores.fast_part(
        np.cumsum(np.stack([motion.steps.b, moved.b], 1), 0), motion.timeline.times
    )
    before, after = np.sqrt((fast.imag**2).mean(axis=0))
    assert after < 0.1 * before
    across, left = np.sqrt((fast.real**2).mean(axis=0))
    assert left > 0.9 * across


def test_components_with_one_calm_are_solved_as_if_linked():
    motion = shaky()
    calms = {f"calm_{name}": 60 for name in ("across", "updown", "roll", "size")}
    parted = steady_of(solve(motion, CANVAS, treat(calm=10, **calms)).chain)
    linked = steady_of(solve(motion, CANVAS, treat(calm=60)).chain)
    assert (parted.a == linked.a).all()
    assert (parted.b == linked.b).all()


def test_less_calm_of_a_component_moves_it_less():
    motion = shaky()
    moves = [
        moved_by(steady_of(solve(motion, CANVAS, treat(calm=60, calm_updown=calm)).chain))["updown"]
        for calm in (0, 10, 20, 60)
    ]
    assert moves == sorted(moves)
    assert moves[1] <= 0.30 * 0.1**1.5 * 359.5 + 0.01  # what calm 10 may shift


def test_the_shift_model_has_calms_of_its_two_components():
    shifting = shaky()
    motion = replace(shifting, model="shift", steps=Shifts(np.ones(150, complex), shifting.steps.b))
    treatment = treat(model="shift", calm=50, calm_across=0, calm_roll=0)
    steady = steady_of(solve(motion, CANVAS, treatment).chain)
    assert moved_by(steady)["across"] == 0
    assert moved_by(steady)["updown"] > 1
