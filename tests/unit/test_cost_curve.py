"""The cost curve: every point is a solve, and the starts are what they say."""

import json
from itertools import pairwise

import numpy as np
import pytest

from keen_horizon import cli
from keen_horizon.core.pipeline import solve
from keen_horizon.core.pipeline.cost_curve import (
    COARSE,
    GOALS,
    NEAR,
    CostPoint,
    at_calm,
    cost_curve,
    knee,
    next_calm,
    starts,
)
from keen_horizon.core.treatment import Treatment, parse

from ..motions import CANVAS, motion_of, shaky


@pytest.fixture(scope="module")
def curve():
    return cost_curve(shaky(), CANVAS, Treatment())


def test_every_point_is_what_would_be_delivered(curve):
    for point in (curve[1], curve[len(curve) // 2], curve[-1]):
        report = solve(shaky(), CANVAS, at_calm(Treatment(), point.calm)).report
        assert point.picture_kept == report["picture_kept"]
        assert point.shake_after == report["shake_after"]
        assert point.zoom == report["zoom"]


def test_the_curve_goes_from_nothing_to_all_and_calm_is_paid_for(curve):
    assert (curve[0].calm, curve[0].picture_kept) == (0, 100)
    assert curve[-1].calm == 100
    assert (np.diff([p.calm for p in curve]) > 0).all()
    assert (np.diff([p.picture_kept for p in curve]) <= 0.5).all()
    assert curve[-1].shake_after < 0.1 * curve[0].shake_after


def test_the_starts_keep_what_they_promise():
    rng = np.random.default_rng(3)
    wild = motion_of(np.cumsum(rng.standard_normal(150) * 9) + 1j * rng.standard_normal(150) * 30)
    curve = cost_curve(wild, CANVAS, Treatment())
    found = starts(curve)
    kept = [p.picture_kept for p in found if p != knee(curve)]
    assert kept == pytest.approx(GOALS, abs=1.2)
    assert knee(curve) in found
    assert set(found) <= set(curve)


def test_two_starts_never_cost_nearly_the_same():
    line = [CostPoint(float(c), 100.0 - 0.2 * c, max(5.0 - 0.1 * c, 0), 1.0) for c in COARSE]
    line.append(CostPoint(40.0, 92.2, 0.0, 1.0))  # the knee, beside the start that keeps 92 %
    found = starts(sorted(line))
    assert knee(sorted(line)) in found
    kept = [p.picture_kept for p in found]
    assert len(kept) > 1
    assert min(a - b for a, b in pairwise(kept)) > NEAR


def test_a_clip_that_never_costs_as_much_has_its_calmest_point_instead(curve):
    assert min(p.picture_kept for p in curve) > 82
    assert starts(curve)[-1] == curve[-1]


def test_a_start_is_found_by_solving_only_where_it_lies(curve):
    assert len(curve) <= len(COARSE) + 2 * len(GOALS)
    assert next_calm(curve) is None
    assert next_calm([]) == 0


def test_where_calm_never_costs_much_its_most_is_the_only_start():
    t = np.arange(90) / 30
    slight = motion_of(1.5 * np.sin(2 * np.pi * 2 * t) + 0j)
    found = starts(cost_curve(slight, CANVAS, parse({"motion": {"aim": "lock_off"}})))
    assert len(found) == 1
    assert found[0].picture_kept > 97


def test_a_clip_that_is_steady_already_has_no_starts():
    still = motion_of(np.zeros(60, complex))
    assert starts(cost_curve(still, CANVAS, Treatment())) == []


def test_a_ceiling_bounds_the_curve():
    treatment = parse({"frame": {"zoom_ceiling": 1.05}})
    found = cost_curve(shaky(), CANVAS, treatment)
    assert max(p.zoom for p in found) <= 1.05 + 1e-6
    assert min(p.picture_kept for p in found) > 100 / 1.05**2 - 1


def test_a_treatment_that_is_off_is_priced_as_if_it_were_on():
    assert at_calm(parse({"motion": {"on": False}}), 30).motion.on


def test_between_points_the_guess_is_where_the_line_crosses():
    line = [CostPoint(float(c), 100.0 - 0.3 * c, 1.0, 1.0) for c in COARSE]
    assert next_calm(sorted(line)) == 10  # keeps 97 %
    line.append(CostPoint(10.0, 97.0, 1.0, 1.0))
    assert next_calm(sorted(line)) == 67  # keeps 80 %; calm 25 is near enough to 92 %


def test_the_command_line_prices_a_file(make_clip, tmp_path):
    path, out = make_clip("price.mp4", width=320, height=240, count=24), tmp_path / "cost.json"
    arguments = ["cost", path, "--json", out, "--range", "0:19", "--set", "frame.zoom_ceiling=1.5"]
    assert cli.main([str(a) for a in arguments]) == 0
    said = json.loads(out.read_text())
    assert said["treatment"]["frame"]["zoom_ceiling"] == 1.5
    assert {p["calm"] for p in said["points"]} >= {0, 50, 100}
    assert all(p in said["points"] for p in said["starts"])


def test_the_command_line_refuses_to_price_a_bad_setting(make_clip, tmp_path, capsys):
    path, out = make_clip("price.mp4", width=320, height=240, count=24), tmp_path / "cost.json"
    assert cli.main(["cost", str(path), "--json", str(out), "--set", "motion.calm=101"]) == 1
    assert "motion.calm" in capsys.readouterr().err
    assert not out.exists()
