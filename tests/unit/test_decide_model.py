"""Which model a clip asks for, and what is done while nobody knows."""

import json

import numpy as np
import pytest

from keen_horizon.cli import main
from keen_horizon.core.geometry.rotation import Rotations
from keen_horizon.core.motion.camera_motion import AngleOfView, ModelChoice
from keen_horizon.core.pipeline import Estimates, decide_model, motion_for, solve
from keen_horizon.core.pipeline.decide_model import choose_model, judged_at
from keen_horizon.core.pipeline.reports import camera_report
from keen_horizon.core.treatment import Treatment, with_settings
from tests.unit.test_angle_of_view import CANVAS, filmed

ROOMY = with_settings(Treatment(), ["motion.calm=80", "frame.zoom_ceiling=1.5"])


class Impatient(Estimates):
    """Who cannot wait for a choice."""

    def choice(self, treatment, make):
        return None


class Counting(Estimates):
    """Notes what it is asked to fit."""

    def __init__(self, tracks, canvas):
        super().__init__(tracks, canvas)
        self.fitted: list[str] = []

    def by_model(self, treatment, half=None):
        self.fitted.append(treatment.motion.model)
        return super().by_model(treatment, half)


@pytest.fixture(scope="module")
def tracks():
    return filmed(6)


def test_until_a_model_is_chosen_the_plain_one_stands_in(tracks):
    motion = motion_for(Impatient(tracks, CANVAS), ROOMY)
    assert motion.model == "similarity"
    assert motion.choice is None


def test_nothing_is_chosen_for_a_station_that_is_off(tracks):
    estimates = Counting(tracks, CANVAS)
    off = with_settings(Treatment(), ["motion.on=false"])
    assert motion_for(estimates, off).choice is None
    assert estimates.fitted == ["similarity"]


def test_a_long_clip_is_judged_by_its_middle(tracks, monkeypatch):
    monkeypatch.setattr(decide_model, "LOOKED_AT", 60)
    estimates = Counting(tracks, CANVAS)
    choice = choose_model(estimates, judged_at(ROOMY))
    assert estimates.fitted == []  # the whole was not
    assert choice.left[choice.model] <= 1.06 * min(choice.left.values()) + 0.02
    assert len(Estimates(tracks, CANVAS).window(30, 90).recorded("similarity")) == 60


def test_an_angle_that_is_only_likely_may_be_tried_and_is_judged_by_what_comes_of_it(tracks):
    class Unsure(Estimates):
        def angle(self):
            return AngleOfView(61.0, 9.0, why="nobody is sure")

    motion = motion_for(Unsure(tracks, CANVAS), ROOMY)
    assert "rotation" in motion.choice.left
    assert isinstance(motion.steps, Rotations)
    assert not motion.angle.told
    told = camera_report(motion)
    assert told["model"] == "rotation"
    assert told["focal"] == pytest.approx(CANVAS.half[0] / np.tan(np.radians(30.5)), rel=0.01)
    assert told["angle_of_view"]["across"] is None
    assert told["left_by_model"] == motion.choice.left


def test_the_sentence_names_the_next_best():
    choice = ModelChoice("similarity", {"shift": 1.0, "similarity": 0.52, "mesh": 0.5})
    assert choice.why == "Shift, roll and scale leaves 0.52 px of the shake; a mesh would leave " \
        "hardly less, 0.50 px."  # fmt: skip
    assert ModelChoice("shift", {"shift": 0.1}).why == "Shift leaves 0.10 px of the shake."


def test_what_is_said_to_be_left_is_left_for_a_camera_that_turns(tracks):
    estimates = Estimates(tracks, CANVAS)
    plain = with_settings(ROOMY, ["motion.model=similarity"])
    said = solve(motion_for(estimates, plain), CANVAS, plain).report
    chosen = solve(motion_for(estimates, ROOMY), CANVAS, ROOMY).report
    # The keystone of a turn is in the figure, though a similarity knows nothing of it.
    assert said["shake_after"] > 1.5 * chosen["shake_after"]
    assert said["wobble_after"] > chosen["wobble_after"]


def test_a_command_without_a_treatment_begins_as_a_new_clip_does(make_clip, tmp_path):
    path = make_clip("new.mp4", width=640, height=360, count=40)
    out, report, own = (tmp_path / name for name in ("out.mp4", "report.json", "own.json"))
    assert main(["correct", str(path), str(out), "--report", str(report)]) == 0
    told = json.loads(report.read_text())
    assert told["treatment"]["motion"]["model"] == "decide"
    assert told["picture_kept"] >= 85
    assert told["shake_measured_again"] == pytest.approx(
        told["shake_after"], abs=told["shake_after_sure"] + told["shake_measured_again_sure"]
    )
    assert told["camera"]["left_by_model"]
    # What is given stays as it is.
    own.write_text(json.dumps(Treatment().as_data()))
    again = ["correct", str(path), str(out), "--treatment", str(own), "--report", str(report)]
    assert main([*again, "--set", "motion.calm=55"]) == 0
    told = json.loads(report.read_text())
    assert told["treatment"] == with_settings(Treatment(), ["motion.calm=55"]).as_data()
