"""Fall-off: the rule in light and in code values, by hand, from a clip, in an export."""

from __future__ import annotations

import json
from dataclasses import replace

import cv2
import numpy as np
import pytest

from keen_horizon.cli.commands import main
from keen_horizon.core.errors import BadSetting
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.picture.light_about import LightAbout
from keen_horizon.core.picture.radial import RadialField
from keen_horizon.core.picture.warp import Places, Sampler, nodes_over
from keen_horizon.core.picture.working_space import HLG, PQ, SRGB, working_space
from keen_horizon.core.pipeline import Estimates, find_glass, measure
from keen_horizon.core.stations.glass.brightness import Sightings, fit_fall_off
from keen_horizon.core.stations.glass.by_hand import Shape, coefficients, shape_of
from keen_horizon.core.stations.glass.fall_off import FallOff, FallOffGain
from keen_horizon.core.treatment import Treatment, digest, parse
from keen_horizon.simulated.brindle_quay import slip_descent
from keen_horizon.simulated.record import record
from keen_horizon.simulated.shade import Shade

CANVAS = Canvas(640, 360)
PLACES = Sampler(np.eye(3)).places(640, 360)
GLASS = FallOff(RadialField(CANVAS, (0.03, -0.05), 1.2), (0.3, 0.8, 0.4))
SITE = (0.0, 0.5)


def gain(limit: float = 4.0, amount: float = 1.0) -> FallOffGain:
    return FallOffGain(GLASS, np.array([amount]), limit)


def coded(light: np.ndarray, transfer: int, depth: int = 8) -> tuple[np.ndarray, ...]:
    """Planes of a picture of linear light."""
    kind = np.uint8 if depth == 8 else np.uint16
    out = tuple(np.zeros(shape, kind) for shape in ((360, 640), (180, 320), (180, 320)))
    working_space({"transfer": transfer}, depth, 1080).from_linear(light, out, (2, 2), SITE)
    return out


@pytest.mark.parametrize("transfer", [1, SRGB, PQ, HLG])
@pytest.mark.parametrize("depth", [8, 10])
def test_greys_gain_light_by_the_transfer_curve(transfer: int, depth: int):
    space = working_space({"transfer": transfer}, depth, 1080)
    ramp = np.geomspace(0.02, 0.15, 640, dtype=np.float32)
    grey = np.broadcast_to(ramp[None, :, None], (360, 640, 3)).astype(np.float32)
    planes = coded(grey, transfer, depth)
    gain().apply_coded(planes, space, PLACES, 0)
    light = space.to_linear(planes, (2, 2), SITE)[4:-4, 4:-4]
    wanted = gain().apply(grey.copy(), PLACES, 0)[4:-4, 4:-4]
    off = np.log2(light / wanted)
    assert np.abs(off).mean() < (0.03 if depth == 8 else 0.015)  # rounding of both, in stops


def test_light_about_a_place_is_that_of_what_is_averaged_there():
    space = working_space({}, 8, 720)
    luma = np.full((90, 160), 16 + 110, np.uint8)
    luma[:, 80:] = 16 + 219
    about = LightAbout.of(luma, 6.0, space)
    assert about.side == 7
    points = np.array([[20.0, 40.0], [120.0, 40.0], [79.5, 40.0]])
    value, light = about.at(points, 0.1)
    assert value == pytest.approx([110 / 219, 1.0, (110 / 219 + 1) / 2], abs=1e-3)
    assert light == pytest.approx(np.log2(space.light(value)))
    black = LightAbout.of(np.full((90, 160), 16, np.uint8), 6.0, space)
    assert black.at(points, 0.1)[1] == pytest.approx(np.log2(space.light(np.full(3, 0.025))))
    assert [len(one) for one in about.at(np.zeros((0, 2)), 0.1)] == [0, 0]


def test_luma_alone_gains_light_as_with_its_chroma():
    space = working_space({}, 8, 720)
    rng = np.random.default_rng(5)
    luma = rng.integers(16, 235, (64, 96)).astype(np.uint8)
    chroma = [np.full((32, 48), 140, np.uint8) for _ in "uv"]
    places = Places(nodes_over(96, 64).astype(np.float32))
    stops = np.linspace(0, 1, places.source[..., 0].size, dtype=np.float32)
    stops = stops.reshape(places.source.shape[:2])
    alone, beside = luma.copy(), luma.copy()
    space.raise_light((alone,), stops, places, 2.0)
    space.raise_light((beside, *chroma), stops, places, 2.0)
    np.testing.assert_array_equal(alone, beside)
    assert (alone >= luma).all()
    assert alone.mean() > luma.mean() + 10


def test_colours_gain_as_light_does():
    space = working_space({}, 8, 1080)
    rng = np.random.default_rng(2)
    small = rng.uniform(0.03, 0.2, (9, 16, 3)).astype(np.float32)
    light = cv2.resize(small, (640, 360), interpolation=cv2.INTER_CUBIC).clip(0.02, 0.25)
    planes, wanted = coded(light, 1), coded(gain(1.5).apply(light.copy(), PLACES, 0), 1)
    gain(1.5).apply_coded(planes, space, PLACES, 0)
    for mine, theirs in zip(planes, wanted, strict=True):
        off = mine.astype(float) - theirs
        assert np.sqrt((off**2).mean()) < 1.0


def test_black_stays_black_and_grey_stays_grey():
    space = working_space({}, 8, 1080)
    black = (np.full((360, 640), 16, np.uint8), *(np.full((180, 320), 128, np.uint8),) * 2)
    planes = tuple(plane.copy() for plane in black)
    gain().apply_coded(planes, space, PLACES, 0)
    assert all((mine == before).all() for mine, before in zip(planes, black, strict=True))


def test_light_is_never_raised_beyond_the_limit_nor_lowered():
    corners = CANVAS.to_pixels(CANVAS.corners)
    assert gain(1.0).stops(corners, 0).max() == 1.0
    assert gain(1.0).limited_share() > gain(2.0).limited_share()
    dim = FallOffGain(FallOff(RadialField(CANVAS), (-1.0, 0, 0)), np.ones(1), 2.0)
    assert (dim.stops(corners, 0) == 0).all()


def test_half_the_amount_is_half_the_stops():
    corners = CANVAS.to_pixels(CANVAS.corners)
    assert gain(amount=0.5).stops(corners, 0) == pytest.approx(gain().stops(corners, 0) / 2)


@pytest.mark.parametrize("shape", [Shape(1.0, 75, 0), Shape(2.5, 85, 60), Shape(0.4, 80, 100)])
def test_by_hand_and_back(shape: Shape):
    found = coefficients(shape)
    assert min(found) >= -1e-9
    assert sum(found) == pytest.approx(shape.stops)
    radius = shape.size / 100
    assert np.dot(found, radius ** np.array([2, 4, 6])) == pytest.approx(shape.stops / 2)
    back = shape_of(found)
    assert (back.stops, back.size, back.softness) == pytest.approx(
        (shape.stops, shape.size, shape.softness), abs=0.2
    )


@pytest.mark.parametrize("shape", [Shape(-1, 80, 50), Shape(9, 80, 50), Shape(1, 80, 101)])
def test_what_cannot_be_is_refused(shape: Shape):
    with pytest.raises(BadSetting):
        coefficients(shape)


def test_a_halo_that_only_keys_ask_for_counts():
    """Its base value is nothing; what is kept of a drawn frame has to go by its keys."""
    plain = Treatment()
    keyed = parse(plain.as_data() | {"keys": {"glass.halo": [{"frame": 3, "value": 80}]}})
    assert keyed.values("glass.halo", np.arange(5))[3] == 80
    assert digest(keyed, "pixels") != digest(plain, "pixels")
    assert digest(keyed, "map") == digest(plain, "map")


# --- from a clip ----------------------------------------------------------------------------------


ROUND = replace(GLASS, field=replace(GLASS.field, roundness=1.0))


def made_up(reach: float, drift: float = 0.0) -> Sightings:
    """Spots seen through round glass by a camera that turns so far, in heights of the picture."""
    rng = np.random.default_rng(4)
    t = np.arange(48)
    path = reach * 360 * np.stack([np.sin(t / 7) + 0.3 * np.sin(t / 2), 0.6 * np.cos(t / 5)], -1)
    place = rng.uniform([-200, -120], [840, 480], (900, 2))[:, None] + path
    inside = ((place > 2) & (place < [637, 357])).all(axis=-1)
    inside &= inside.sum(axis=1, keepdims=True) >= 3
    _, mark = np.unique(np.nonzero(inside)[0], return_inverse=True)
    frame = np.nonzero(inside)[1]
    seen = place[inside]
    light = rng.normal(-3, 1, 900)[mark] - ROUND.lost(seen) + drift * frame / 48
    return Sightings(mark, frame, seen, light + 0.02 * rng.normal(size=len(mark)))


def panned() -> Sightings:
    """Spots that a camera pans over, one way only; many grow lighter once they are on the left, as
    what hides something else does."""
    rng = np.random.default_rng(7)
    size, n, count = np.array([CANVAS.width, CANVAS.height]), 400, 60
    start = rng.uniform([0.0, 0.0], [1.3, 1.0], (n, 2)) * size
    mark, frame = np.divmod(np.arange(n * count), count)
    seen = start[mark] - np.array([0.3 * CANVAS.width, 0]) * (frame / count)[:, None]
    inside = ((seen >= 0) & (seen <= size - 1)).all(axis=1)
    mark, frame, seen = mark[inside], frame[inside], seen[inside]
    light = rng.normal(size=n)[mark] - ROUND.lost(seen) + 0.02 * rng.normal(size=len(mark))
    grows = rng.random(n) < 0.3
    light += np.where(grows[mark] & (seen[:, 0] < 0.45 * CANVAS.width), 0.7, 0)
    _, mark = np.unique(mark, return_inverse=True)
    return Sightings(mark, frame, seen, light)


def error(found: FallOff, truth: FallOff) -> float:
    """Rms stops over the picture, against its middle."""
    x, y = np.meshgrid(np.linspace(0, 639, 33), np.linspace(0, 359, 19))
    places = np.stack([x, y], axis=-1)
    off = found.lost(places) - truth.lost(places)
    off -= found.lost(np.array(CANVAS.centre)) - truth.lost(np.array(CANVAS.centre))
    return float(np.sqrt((off**2).mean()))


@pytest.mark.parametrize("drift", [0.0, 0.5])
def test_marks_tell_the_fall_off_whatever_the_exposure_does(drift: float):
    fit = fit_fall_off(made_up(0.2, drift), CANVAS)
    assert fit.fall_off is not None
    assert error(fit.fall_off, ROUND) < 0.04
    assert error(fit.fall_off, ROUND) < 3 * fit.doubt + 0.01
    assert "stops lost in the corners" in fit.words


def test_a_camera_that_hardly_turns_is_told_with_more_doubt():
    assert (
        fit_fall_off(made_up(0.005), CANVAS).doubt > 1.5 * fit_fall_off(made_up(0.2), CANVAS).doubt
    )


def test_what_grows_lighter_on_one_side_does_not_carry_the_middle_away():
    fit = fit_fall_off(panned(), CANVAS)
    assert fit.fall_off is not None
    assert error(fit.fall_off, ROUND) < 0.02
    away = np.array(fit.fall_off.field.centre) - ROUND.field.centre
    assert np.abs(away).max() < 0.01


def test_few_marks_tell_nothing_and_say_so():
    seen = made_up(0.2)
    few = seen.mark < 50
    told = fit_fall_off(Sightings(*(v[few] for v in vars(seen).values())), CANVAS)
    assert told.fall_off is None
    assert "Only 50" in told.words


@pytest.fixture(scope="module")
def dark(tmp_path_factory: pytest.TempPathFactory):
    """A descent through a lens that loses a stop in its corners; the file, and the shade."""
    folder = tmp_path_factory.mktemp("dark")
    shade = Shade(1280, 720, 0.62, (0.03, -0.02))
    record(replace(slip_descent(2.0), shade=shade), folder / "dark.mp4", sound=False)
    return folder / "dark.mp4", shade


def test_a_recording_tells_its_fall_off(dark, tmp_path):
    path, shade = dark
    found = scan(path)
    tracks = measure(path, found, 0, found.probe.frame_count - 1, tmp_path / "tracks")
    fit = find_glass(path, found, Estimates(tracks, found.probe.canvas)).fall_off
    assert fit.fall_off is not None
    x, y = np.meshgrid(np.linspace(20, 1259, 33), np.linspace(20, 699, 19))
    places = np.stack([x, y], axis=-1)
    true = -np.log2(shade.passed)[y.astype(int), x.astype(int)]
    off = fit.fall_off.lost(places) - true
    off -= off[9, 16]
    assert np.sqrt((off**2).mean()) < 0.06
    assert np.abs(off).max() < 0.2


def test_the_command_line_writes_what_is_found(dark, tmp_path):
    path, shade = dark
    told = tmp_path / "glass.json"
    assert main(["glass", str(path), "--json", str(told)]) == 0
    found = json.loads(told.read_text())
    gain = np.array(found["gain"])
    assert gain.shape == (found["rows"], found["columns"]) == (11, 17)
    true = 1 / shade.passed[::72, ::80]
    assert np.abs(np.log2(gain[:-1, :-1] / true)).max() < 0.25
    assert found["settings"]["found_by"] == "clip"
    assert 0 < found["gain_doubt"] < 0.1


def test_an_export_is_as_light_in_the_corners_as_in_the_middle(dark, tmp_path):
    path, shade = dark
    report = tmp_path / "report.json"
    order = ["correct", str(path), str(tmp_path / "even.mp4"), "--range", "0:5", "--quality"]
    order += ["fine", "--report", str(report), "--set", "motion.on=false"]
    for name, value in {"loss_r2": 1.1, "loss_r4": -0.2, "loss_r6": 0.1}.items():
        order += ["--set", f"glass.{name}={value}"]
    assert main(order) == 0
    assert json.loads(report.read_text())["glass"]["corner_stops"]["top left"] > 0.9
    bright = slip_descent(3.0).frame(2)
    files = path, tmp_path / "even.mp4"
    before, after = (next(frames(file, scan(file), 2, 2)).planes[0] for file in files)
    true = cv2.cvtColor(bright, cv2.COLOR_BGR2YUV_I420)[:720] * (219 / 255) + 16
    corner = np.s_[600:700, 1100:1260]
    assert before[corner].mean() < true[corner].mean() - 15
    assert after[corner].mean() == pytest.approx(true[corner].mean(), abs=4)
