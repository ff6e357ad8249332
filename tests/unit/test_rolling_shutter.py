"""Rolling shutter: found, and put right, against a camera whose rows are known."""

from functools import partial

import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.rolling_shutter import RollingShutterWarp
from keen_horizon.core.motion.background_flow import background_flow
from keen_horizon.core.motion.pairwise import pairwise_motion
from keen_horizon.core.motion.readout import Readout, estimate_readout
from keen_horizon.core.motion.rolling_shutter import (
    row_motion,
    unskew_tracks,
    unskewed,
)
from keen_horizon.core.pipeline import solve
from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.simulated.brindle_quay import READOUT, tender_deck
from keen_horizon.simulated.truth import Measured, measure_take
from tests.motions import fitted


@pytest.fixture(scope="module")
def deck(tmp_path_factory) -> Measured:
    """Four seconds without the engine."""
    take = tender_deck(4.0, buzzing=0.0, fisheye=False)
    return measure_take(take, tmp_path_factory.mktemp("deck") / "m")


def readout_of(measured: Measured, motion=None) -> Readout:
    motion = motion or measured.motion
    return estimate_readout(
        measured.tracks, motion, background_flow(measured.tracks, measured.canvas, motion)
    )


def skew(measured: Measured, rows: RollingShutterWarp | None) -> float:
    """RMS over the frames of how far the rows lean, top against bottom, px across."""
    truth, canvas = measured.take.truth, measured.canvas
    x, y = np.meshgrid([200, 640, 1080], np.arange(8, 720, 24))
    seen = canvas.to_scene(np.stack([x, y], axis=-1).reshape(-1, 2).astype(float))
    leans = []
    for t in range(0, len(truth), 5):
        true = canvas.to_scene(truth.at_once(t)[y, x].reshape(-1, 2))
        found = seen if rows is None else rows[t : t + 1].to_output(seen[None])[0]
        off = (true - found).real.reshape(x.shape).mean(axis=1)
        down = y[:, 0] - y[:, 0].mean()
        leans.append((off * down).sum() / (down**2).sum() * canvas.height)
    return float(np.sqrt(np.mean(np.square(leans))))


def test_the_readout_time_is_found(deck):
    found = readout_of(deck)
    assert found.found
    assert found.ms == pytest.approx(1000 * READOUT, rel=0.05)
    assert abs(found.ms - 1000 * READOUT) < found.sure < 3


def test_a_global_shutter_is_called_one(loft):
    found = readout_of(loft)
    assert not found.found
    assert found.words.startswith(("No skew", "The camera hardly"))


def test_a_short_clip_tells_nothing(walk):
    short = pairwise_motion(walk.tracks, walk.canvas, "similarity")
    few = readout_of(walk, short)
    assert few.ms < 6  # and 3.5 seconds of another global shutter are not taken for a rolling one


def test_rows_are_put_right(deck):
    rows = row_motion(deck.motion, deck.canvas, READOUT)
    assert skew(deck, rows) < 0.15 * skew(deck, None)
    fit = partial(pairwise_motion, canvas=deck.canvas, model="similarity")
    straight, motion = unskew_tracks(
        deck.tracks, deck.canvas, deck.motion, READOUT, strong=True, fit=fit
    )
    assert skew(deck, motion.rows) < 0.15 * skew(deck, None)
    assert len(straight.records) == len(deck.tracks.records)
    assert motion.evidence.confidence.mean() >= deck.motion.evidence.confidence.mean() - 1e-6


def test_straightening_undoes_what_the_rows_do():
    canvas = Canvas(640, 360)
    k = np.linspace(-0.5, 0.5, 9)
    rows = RollingShutterWarp(canvas, np.ones((1, 9), complex), 8 * k[None] + 0j)
    z = np.array([[-200 - 150j, 0, 200 + 150j]])
    assert np.abs(rows.to_output(rows.to_source(z)) - z).max() < 0.01


def test_straightened_marks_stay_where_nothing_moves(deck):
    one = np.ones((len(deck.motion), 9), complex)
    still = RollingShutterWarp(deck.canvas, one, 0 * one)
    same = unskewed(deck.tracks, deck.canvas, still)
    assert np.abs(same.records["x"] - deck.tracks.records["x"]).max() < 1e-3


def test_the_station_lessens_the_wobble_and_says_so(deck):
    canvas = deck.canvas
    treatment = with_settings(Treatment(), ["shutter.readout=22"])
    report = solve(fitted(deck.tracks, canvas, treatment), canvas, treatment).report
    assert report["wobble_straight"] < 0.95 * report["wobble_before"]
    off = with_settings(treatment, ["shutter.on=false"])
    motion = fitted(deck.tracks, canvas, off)
    assert motion.rows is None
    report = solve(motion, canvas, off).report
    assert report["wobble_straight"] is None
