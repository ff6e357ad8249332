"""Fall-off from a photograph of an even surface."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.errors import BadSetting, MediaError
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.lattice import lattice_points
from keen_horizon.core.pipeline import fall_off_of_photograph
from keen_horizon.simulated.brindle_quay import engine_shed
from keen_horizon.simulated.record import record
from keen_horizon.simulated.shade import Shade
from keen_horizon.simulated.wall import photograph_wall

CANVAS = Canvas(1280, 720)


def wall(path: Path, shade: Shade, tilt: tuple[float, float] = (0.0, 0.0)) -> Path:
    return photograph_wall(path, shade.passed, tilt)


@pytest.mark.parametrize(
    ("shade", "tilt"),
    [
        (Shade(1280, 720, 0.62), (0.0, 0.0)),
        (Shade(1280, 720, 0.62, (0.03, -0.02)), (0.3, 0.1)),
        (Shade(1920, 1080, 0.9, (-0.11, 0.03)), (0.4, -0.3)),
        (Shade(1920, 1080, 0.4, (0.02, 0.02)), (0.5, 0.2)),
    ],
)
def test_a_wall_tells_the_fall_off_whatever_lights_it(tmp_path, shade, tilt):
    fit = fall_off_of_photograph(wall(tmp_path / "wall.jpg", shade, tilt), "wall.jpg", CANVAS)
    assert fit.fall_off is not None
    own = Canvas(shade.width, shade.height)
    places = lattice_points(own, 33, 19)
    x, y = (np.clip(np.rint(places[..., k]), 0, (own.width, own.height)[k] - 1) for k in (0, 1))
    true = -np.log2(shade.passed)[y.astype(int), x.astype(int)]
    off = fit.fall_off.lost(places) - true
    off -= off[9, 16]
    assert np.sqrt((off**2).mean()) < 0.02
    assert np.abs(off).max() < 0.06
    assert fit.settings is not None
    assert fit.settings["found_by"] == "even"


def test_what_is_no_even_surface_says_so(tmp_path):
    from skimage import data

    shelf = cv2.resize(cv2.cvtColor(data.astronaut(), cv2.COLOR_RGB2BGR), (1280, 720))
    for name, picture, words in (
        ("shelf.png", shelf, "no even surface"),
        ("white.png", np.full((720, 1280, 3), 255, np.uint8), "too bright"),
        ("black.png", np.zeros((720, 1280, 3), np.uint8), "too dark"),
    ):
        cv2.imwrite(str(tmp_path / name), picture)
        fit = fall_off_of_photograph(tmp_path / name, name, CANVAS)
        assert fit.fall_off is None
        assert words in fit.words
    flat = Shade(1280, 720, 0.0)
    fit = fall_off_of_photograph(wall(tmp_path / "flat.jpg", flat, (0.6, 0.2)), "flat", CANVAS)
    assert "no fall-off" in fit.words


def test_another_shape_and_no_picture_are_refused(tmp_path):
    square = wall(tmp_path / "square.jpg", Shade(720, 720, 0.6))
    with pytest.raises(BadSetting, match="another shape"):
        fall_off_of_photograph(square, "square.jpg", CANVAS)
    with pytest.raises(MediaError):
        fall_off_of_photograph(b"GIF89a", "moving.gif", CANVAS)


def test_the_command_line_takes_an_even_photograph(tmp_path):
    shade = Shade(1280, 720, 0.62)
    clip, told = tmp_path / "clip.mp4", tmp_path / "glass.json"
    record(replace(engine_shed(0.2), fringes=None), clip, sound=False)
    photo = wall(tmp_path / "wall.jpg", shade, (0.2, 0.0))
    assert main(["glass", str(clip), "--json", str(told), "--even", str(photo)]) == 0
    found = json.loads(told.read_text())
    assert found["settings"]["found_by"] == "even"
    gain = np.array(found["gain"])
    assert np.abs(np.log2(gain[:-1, :-1] * shade.passed[::72, ::80])).max() < 0.06
    assert main(["glass", str(clip), "--json", str(told), "--even", str(tmp_path / "no.jpg")]) == 1
