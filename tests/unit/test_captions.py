"""Numbers in words, as they stand on the screens."""

import pytest

from keen_horizon.core.pipeline.sphere_reports import stitch_caption
from keen_horizon.core.stations.frame import FRAME
from keen_horizon.core.stations.lens import LENS
from keen_horizon.core.stations.motion import MOTION
from keen_horizon.core.stations.motion.station import (
    removed_caption,
    shake_captions,
    wobble_caption,
)
from keen_horizon.core.stations.shutter import SHUTTER
from keen_horizon.core.treatment import Treatment, with_settings
from keen_horizon.web import captions

REPORT = {
    "shake_before": 5.6, "shake_after": 0.2, "shake_removed": 96.4, "shake_accuracy": 0.15,
    "picture_kept": 87.6, "bare_edges": 0.0, "pixels_per_output_pixel": 0.93, "weak_frames": 0,
}  # fmt: skip


@pytest.mark.parametrize(
    ("count", "text"),
    [(0, "0 B"), (None, "0 B"), (999, "999 B"), (12_345, "12.3 kB"), (7_800_000, "7.8 MB"),
     (2_345_000_000, "2.35 GB"), (9_876_000_000_000, "9876.00 GB")],
)  # fmt: skip
def test_sizes(count, text):
    assert captions.size(count) == text


@pytest.mark.parametrize(
    ("seconds", "text"), [(0.0, "0:00.0"), (12.04, "0:12.0"), (75.5, "1:15.5"), (3723, "1:02:03")]
)
def test_durations(seconds, text):
    assert captions.duration(seconds) == text


def test_rates():
    assert captions.rate({"rate": 30.0, "variable_rate": False}) == "30 fps"
    assert captions.rate({"rate": 23.976, "variable_rate": False}) == "23.98 fps"
    assert captions.rate({"rate": 29.1, "variable_rate": True}) == "29.1 fps, variable"


def test_less_is_never_claimed_than_can_be_measured():
    figures = {"shake_before": 2.347, "shake_after": 0.004, "shake_accuracy": 0.2}
    assert shake_captions(figures) == {"before": "2.35 px", "after": "under 0.2 px"}


SPHERE = {"projection": "equirectangular"}


@pytest.mark.parametrize(
    ("after", "removed", "text"),
    [(0.2, 96.4, "96 %"), (0.01, 99.8, "over 97 %"), (5.59, 0.2, None), (5.8, -3.0, None)],
)
def test_what_was_removed(after, removed, text):
    figures = {"shake_after": after, "shake_removed": removed}
    assert removed_caption(REPORT | figures) == text


@pytest.mark.parametrize("before", [0.0, 0.1])
def test_a_still_clip_has_nothing_to_remove(before):
    figures = {"shake_before": before, "shake_after": 0.0, "shake_removed": 100.0}
    assert removed_caption(REPORT | figures) is None


@pytest.mark.parametrize(
    ("settings", "change", "text"),
    [
        ([], {}, "Follow · calm 40"),
        (["motion.aim=lock_off", "motion.calm=12.5"], {}, "Lock off · calm 12.5"),
        (["motion.calm_roll=5"], {}, "Follow · calm 5–40"),
        ([], {"shake_removed": 0.0}, "Follow · calm 40 · nothing removed"),
        ([], SPHERE | {"level": {"found": True}}, "Follow · calm 40 · level"),
        ([], SPHERE | {"level": {"found": False}}, "Follow · calm 40"),
        (["motion.level=off"], SPHERE, "Follow · calm 40"),
        (["motion.on=false"], {}, "off"),
    ],
)
def test_the_motion_station(settings, change, text):
    treatment = with_settings(Treatment(), settings)
    assert MOTION.summary(treatment.of(MOTION), REPORT | change) == text


@pytest.mark.parametrize(
    ("settings", "change", "text"),
    [
        ([], {}, "Fill · keeps 88 %"),
        (["frame.edge=trim"], {}, "Trim · keeps 88 %"),
        (["frame.edge=leave"], {"bare_edges": 4.12}, "Leave · up to 4.1 % bare"),
        (["frame.edge=leave"], {}, "Leave · keeps 88 %"),
        (["frame.on=false"], {"bare_edges": 1.0}, "Leave · up to 1.0 % bare"),
    ],
)
def test_the_frame_station(settings, change, text):
    treatment = with_settings(Treatment(), settings)
    assert FRAME.summary(treatment.of(FRAME), REPORT | change) == text


def test_warnings_stand_at_the_station_they_are_about():
    plain = Treatment()
    quiet = REPORT | {"wobble_after": None, "zoom": 1.0, "zoom_needed": 1.0}
    quiet["spared_by_drifting"] = 0.0
    assert FRAME.warnings(plain.of(FRAME), quiet) == []
    assert MOTION.warnings(plain.of(MOTION), quiet) == []
    assert LENS.warnings(plain.of(LENS), quiet) == []
    soft = quiet | {"pixels_per_output_pixel": 0.7, "softest_frame": 3}
    assert FRAME.warnings(plain.of(FRAME), soft) == [
        "Each output pixel has 0.70 source pixels at frame 3, so the picture is soft; less calm "
        "helps most."
    ]
    wobbling = {"wobble_before": 1.6, "wobble_after": 1.5, "wobble_frame": 8, "bends": False}
    weak = {"weak_frames": 12, "frame_count": 90}
    wobbles, unsure = MOTION.warnings(plain.of(MOTION), quiet | wobbling | weak)
    assert wobbles.startswith("Parts of the picture wobble by 1.50 px")
    assert unsure.startswith("12 of 90 frames could not be measured surely")


def test_wobble_and_shutter_in_words():
    known = REPORT | {"wobble_before": 1.47, "wobble_straight": 0.83, "wobble_after": 0.88}
    assert wobble_caption(known) == "1.47 px → 0.88 px"
    shutter = Treatment().of(SHUTTER)
    straight = with_settings(Treatment(), ["shutter.readout=22.7"]).of(SHUTTER)
    assert SHUTTER.details(straight, known)["wobble"].startswith("Wobble 1.47 px → 0.83 px")
    assert SHUTTER.details(shutter, known)["wobble"] == ""
    assert wobble_caption(REPORT | {"wobble_before": None}) == ""
    assert SHUTTER.summary(shutter, REPORT) == "global"
    strong = with_settings(Treatment(), ["shutter.readout=22.7", "shutter.strong=true"])
    assert SHUTTER.summary(strong.of(SHUTTER), REPORT) == "22.7 ms · strong"
    sure = REPORT | {"readout_sure": 0.31}
    assert SHUTTER.summary(strong.of(SHUTTER), sure) == "22.7 ± 0.3 ms · strong"


@pytest.mark.parametrize(
    ("change", "text"),
    [
        ({"found": False}, "≤ 0.04°"),
        ({}, "0.15 ± 0.03°; taken out"),
        ({"late_ms": 33.2, "late_sure_ms": 3.1, "taken_out": False},
         "0.15 ± 0.03°; half behind 33 ± 3 ms late; left"),
        ({"late_ms": -5.0, "late_sure_ms": 0.5},
         "0.15 ± 0.03°; half behind 5 ± 1 ms early; taken out"),
    ],
)  # fmt: skip
def test_what_stitching_bends_and_what_becomes_of_it(change, text):
    told = {"found": True, "taken_out": True, "wobble_degrees": 0.15, "sure_degrees": 0.03,
            "late_ms": 0.0, "late_sure_ms": 0.0}  # fmt: skip
    assert stitch_caption(told | change) == text
