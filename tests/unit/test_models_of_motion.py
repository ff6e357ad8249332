"""Richer models: what they explain, what they cost, and which one a clip asks for."""

import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.keyframes import Key, keyed
from keen_horizon.core.geometry.rotation import Rotations
from keen_horizon.core.motion.residual_fields import displacement_field
from keen_horizon.core.pipeline import solve
from keen_horizon.core.pipeline.decide_model import judged_at
from keen_horizon.core.tracking.blur import blurred_frames
from keen_horizon.core.tracking.tracks import Tracks
from keen_horizon.core.treatment import Treatment, with_settings
from tests.motions import fitted, mesh_of, steady_of


def solved(measured, *settings: str):
    treatment = with_settings(Treatment(), list(settings))
    motion = fitted(measured.tracks, measured.canvas, treatment)
    return solve(motion, measured.canvas, treatment)


def test_a_mesh_lessens_the_wobble_of_parallax_within_the_stretch_limit(walk):
    plain, mesh = (solved(walk, f"motion.model={model}") for model in ("similarity", "mesh"))
    assert mesh.report["wobble_before"] == plain.report["wobble_before"]
    assert mesh.report["wobble_after"] < 0.7 * plain.report["wobble_after"]
    assert mesh_of(mesh.chain).strain().max() <= 0.04 + 1e-6
    tight = solved(walk, "motion.model=mesh", "motion.stretch_limit=0.5")
    assert mesh_of(tight.chain).strain().max() <= 0.005 + 1e-6


def test_stiffness_holds_a_mesh_back(walk):
    soft = solved(walk, "motion.model=mesh", "motion.stiffness=10")
    stiff = solved(walk, "motion.model=mesh", "motion.stiffness=100")
    assert np.abs(mesh_of(stiff.chain).nodes).max() < np.abs(mesh_of(soft.chain).nodes).max()


def test_the_clip_decides_by_all_that_would_be_left_and_says_why(walk):
    choice = solved(walk, "motion.model=decide").motion.choice
    assert set(choice.left) >= {"shift", "similarity", "perspective", "mesh"}
    assert choice.left[choice.model] <= 1.06 * min(choice.left.values())
    assert choice.left[choice.model] <= choice.left["similarity"]
    assert f"{choice.left[choice.model]:.2f} px" in choice.why
    assert choice.why.endswith(" px.")


def test_what_is_decided_on_leaves_no_more_than_any_model_by_name(walk):
    for calm in (40, 60, 90):
        at = f"motion.calm={calm}"
        decided = solved(walk, at, "motion.model=decide").report["shake_after"]
        for model in ("shift", "similarity", "perspective", "mesh"):
            named = solved(walk, at, f"motion.model={model}").report["shake_after"]
            assert decided <= 1.1 * named + 0.02, (calm, model)


@pytest.mark.parametrize("aim", ["follow", "lock_off"])
def test_what_a_model_takes_out_slowly_is_not_counted_as_wobble(loft, aim):
    plain = solved(loft, f"motion.aim={aim}", "motion.model=similarity").report
    bent = solved(loft, f"motion.aim={aim}", "motion.model=perspective").report
    assert bent["wobble_after"] < plain["wobble_after"]


def test_a_slider_between_two_calms_asks_for_no_new_choice():
    one, other = (with_settings(Treatment(), [f"motion.calm={calm}"]) for calm in (34, 53))
    assert judged_at(one) == judged_at(other)
    further = with_settings(Treatment(), ["motion.calm=60"])
    assert judged_at(one) != judged_at(further)


def test_rotation_needs_the_angle_of_view_and_says_so(walk):
    without = solved(walk, "motion.model=rotation")
    assert any("angle of view" in note for note in without.notes)
    assert without.chain.find(Rotations) is None
    known = solved(walk, "motion.model=rotation", "motion.angle_of_view=62")
    assert known.chain.find(Rotations) is not None
    assert not any("angle of view" in note for note in known.notes)


def test_no_richer_model_is_chosen_without_need():
    x, y = np.meshgrid(np.arange(20.0, 1260, 60), np.arange(20.0, 700, 60))
    at = np.stack([x.ravel(), y.ravel()], axis=-1)
    swing = 4 * np.random.default_rng(1).standard_normal((90, 1, 2))
    tracks = Tracks.from_places(at + swing, np.arange(90) / 30)
    found = fitted(tracks, Canvas(1280, 720), Treatment())
    assert found.choice.model == "shift"


def test_a_model_of_the_whole_adds_nothing(walk):
    assert displacement_field(walk.tracks, walk.canvas, walk.motion, "similarity") is None


def test_blurred_frames_are_those_less_sharp_than_their_neighbours():
    sharp = np.full(100, 400.0)
    sharp[40:43] = 90.0
    assert np.nonzero(blurred_frames(sharp, [(0, 100)]))[0].tolist() == [40, 41, 42]
    # A stretch that is soft throughout (out of focus, dark) is not blurred by motion.
    sharp[50:] = 60.0
    assert not blurred_frames(sharp, [(0, 50), (50, 100)])[50:].any()


def test_keyed_values_go_through_their_keys_and_stay_between_them():
    keys = [Key(10, 1.0, True), Key(20, 3.0, True)]
    values = keyed(keys, np.arange(30), 0.0)
    assert values[10] == 1.0
    assert values[20] == 3.0
    assert (np.diff(values) >= -1e-12).all()
    assert values[0] == 1.0
    assert values[29] == 3.0
    assert keyed([], np.arange(3), 7.0).tolist() == [7.0, 7.0, 7.0]
    early = keyed([Key(0, 0.0), Key(10, 10.0)], np.arange(11), 0.0, lambda time, *_: np.sqrt(time))
    assert early[[0, 5, 10]].tolist() == pytest.approx([0, 10 * 0.5**0.5, 10])
    straight = keyed([Key(0, 0.0, False), Key(10, 10.0, False)], np.arange(11), 0.0)
    assert straight == pytest.approx(np.arange(11.0))


def test_easing_a_moment_relaxes_only_around_it(walk):
    plain = ("motion.calm=60", "motion.model=similarity")
    base = solved(walk, *plain)
    eased = solved(
        walk, *plain,
        'keys={"motion.ease":[{"frame":20,"value":0},{"frame":50,"value":100},{"frame":80,"value":0}]}',
    )  # fmt: skip
    shift = np.abs(steady_of(eased.chain).b)
    assert shift[50] < 0.2 * np.abs(steady_of(base.chain).b).max()
    assert eased.zooms[45:55].max() < base.zooms.max()


def test_a_canvas_of_another_size_is_no_error(walk):
    report = solved(walk, "frame.width=640", "frame.height=640").report
    assert report["output"] == {"width": 640, "height": 640, "pixel_aspect": 1.0}
    treatment = with_settings(Treatment(), ["frame.width=2560"])
    large = solved(walk, "frame.width=2560").told(treatment)
    assert large["output"]["height"] == 1440
    assert any("smaller output" in warning for warning in large["warnings"]["frame"])
    assert Canvas(640, 640).half == (319.5, 319.5)


def test_a_key_outside_the_clip_is_pointed_out(walk):
    far = 'keys={"frame.extra_zoom":[{"frame":0,"value":1.0},{"frame":9000,"value":2.0}]}'
    found = solved(walk, far)
    assert any("frame 9000 lies outside this clip" in note for note in found.notes)
    assert found.report["zoom"] < 1.5


def test_a_keyed_ceiling_holds_in_its_own_frames(walk):
    low = 'keys={"frame.zoom_ceiling":[{"frame":40,"value":1.01},{"frame":60,"value":1.25}]}'
    found = solved(walk, "motion.calm=70", "frame.zoom_speed=50", low)
    assert found.zooms[:41].max() <= 1.01 + 1e-6
    assert found.zooms[60:].max() > 1.02


def test_a_keyed_speed_of_nothing_keeps_the_zoom_where_it_is(walk):
    still = (
        'keys={"frame.zoom_speed":[{"frame":0,"value":0,"smooth":false},'
        '{"frame":50,"value":0,"smooth":false},{"frame":60,"value":10,"smooth":false}]}'
    )
    zoom = solved(walk, "motion.calm=60", still).chain.view.zooms(105)
    assert np.ptp(zoom[:50]) < 1e-9
    assert np.ptp(zoom[60:]) > 1e-4
    rate = np.abs(np.diff(np.log(zoom))) * 30
    assert rate.max() <= np.log1p(0.10) + 1e-6


def test_a_model_is_fitted_the_same_whether_it_was_chosen_or_asked_for(walk):
    """Whatever the clip decides on, its report is that of the model asked for by name."""
    decided = solved(walk, "motion.model=decide", "motion.angle_of_view=62")
    named = solved(walk, f"motion.model={decided.motion.choice.model}", "motion.angle_of_view=62")
    for figure in ("wobble_before", "wobble_after", "shake_after", "zoom"):
        assert decided.report[figure] == pytest.approx(named.report[figure], abs=1e-6), figure
