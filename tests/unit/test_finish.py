"""Finish: what scaling takes of an edge's sharpness, and what is put back; exact view; scopes."""

from __future__ import annotations

import json
from dataclasses import replace
from pathlib import Path

import cv2
import numpy as np
import pytest
from scipy.special import erf

from keen_horizon.cli.commands import main
from keen_horizon.core import pipeline
from keen_horizon.core.errors import KeenError
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.media.decode import frame_at
from keen_horizon.core.media.probe import scan
from keen_horizon.core.picture.radial import RadialField
from keen_horizon.core.picture.scopes import COLUMNS, LEVELS, RINGS, scopes_of
from keen_horizon.core.picture.working_space import working_space
from keen_horizon.core.pipeline.render_clip import Drawing
from keen_horizon.core.stations.finish import FINISH
from keen_horizon.core.stations.finish.sharpen import Sharpen, gain_for, sharpness_left
from keen_horizon.core.stations.glass import GLASS
from keen_horizon.core.stations.glass.fall_off import FallOff, FallOffGain
from keen_horizon.core.treatment import Treatment, digest
from keen_horizon.simulated.brindle_quay import engine_shed
from keen_horizon.simulated.record import record
from tools.glass import contrast_transfer_50

SPACE = working_space({}, 8, 1080)


def edge(blur: float, low: float = 60, high: float = 190) -> np.ndarray:
    """A slanted edge with a Gaussian blur of so many px."""
    y, x = np.mgrid[0:240, 0:240].astype(float)
    slant = np.tan(np.radians(5))
    away = (x - 120 - (y - 120) * slant) * np.cos(np.radians(5))
    value = low + (high - low) * 0.5 * (1 + erf(away / (blur * np.sqrt(2))))
    return np.rint(value).astype(np.uint8)


def enlarged(picture: np.ndarray, zoom: float) -> np.ndarray:
    off = (picture.shape[0] - 1) / 2 * (1 - 1 / zoom)
    matrix = np.array([[1 / zoom, 0, off], [0, 1 / zoom, off]])
    flags = cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
    return cv2.warpAffine(picture, matrix, picture.shape[::-1], flags=flags, borderMode=1)


def put_back(picture: np.ndarray, zoom: float, **other: float) -> np.ndarray:
    out = picture.copy()
    told = {"overshoot": 0.04, "floor": 0.008} | other
    gain = np.array([told.pop("gain", float(gain_for(np.array([zoom]))[0]))])
    Sharpen(gain, np.array([zoom]), **told).apply(out, SPACE, 0)
    return out


@pytest.mark.parametrize("blur", [0.6, 0.7, 0.85, 1.0])
@pytest.mark.parametrize("zoom", [1.06, 1.15, 1.25])
def test_an_enlarged_edge_is_as_sharp_as_it_was(blur: float, zoom: float):
    was, _ = contrast_transfer_50(edge(blur))
    dull, _ = contrast_transfer_50(enlarged(edge(blur), zoom))
    now, overshoot = contrast_transfer_50(put_back(enlarged(edge(blur), zoom), zoom))
    assert dull < 0.97 * was
    assert 0.95 * was < now < 1.06 * was
    assert overshoot < 0.05


def test_edges_cannot_ring_however_much_is_asked():
    harsh = put_back(edge(1.2), 1.0, gain=3.0, overshoot=0.0)
    assert harsh.min() >= edge(1.2).min()
    assert harsh.max() <= edge(1.2).max()
    _, overshoot = contrast_transfer_50(put_back(edge(1.2), 1.0, gain=3.0, overshoot=0.1))
    assert overshoot < 0.11


def test_noise_is_left_as_it_is():
    noise = np.clip(np.random.default_rng(1).normal(120, 1.0, (200, 200)), 0, 255)
    noise = np.rint(noise).astype(np.uint8)
    spared, raised = (put_back(noise, 1.15, floor=floor, overshoot=0.3) for floor in (0.02, 0.0))
    assert spared.std() < 1.1 * noise.std()
    assert raised.std() > 1.2 * noise.std()


@pytest.mark.parametrize("kind", [np.uint8, np.uint16])
def test_deep_pictures_are_treated_alike(kind: type):
    space = working_space({}, 8 if kind is np.uint8 else 10, 1080)
    scale = 1 if kind is np.uint8 else 4
    luma = edge(0.8).astype(kind) * scale
    Sharpen(np.array([0.5]), np.array([1.1]), 0.04, 0.008).apply(luma, space, 0)
    assert np.abs(luma / scale - put_back(edge(0.8), 1.1, gain=0.5)).max() < 2


def test_what_is_not_enlarged_has_lost_nothing():
    told = np.array([0.4, 1.0, 1.0005])
    assert gain_for(told).tolist() == [0, 0, 0]
    assert sharpness_left(told).tolist() == [1, 1, 1]
    assert (np.diff(gain_for(np.linspace(1.01, 1.4, 20))) > 0).all()


def test_a_chain_knows_by_how_much_it_enlarges():
    canvas = Canvas(1281, 721)
    shift = Similarities(np.ones(3, complex), np.array([0, 5 + 2j, 9j]))
    chain = WarpChain(canvas, View(canvas, np.array([1.0, 1.1, 1.25])), (shift,), 3)
    assert chain.magnification == pytest.approx([1.0, 1.1, 1.25])


def test_no_setting_of_glass_or_finish_asks_for_a_new_path():
    plain = Treatment()
    for station in (GLASS, FINISH):
        shaping = {name for name, told in station.facts.items() if told.affects == "path"}
        assert shaping <= {"live"}  # dead corners are edges, and edges are the path's matter
        rest = {told.affects for name, told in station.facts.items() if name not in shaping}
        assert rest <= {"pixels", "report"}
    treated = plain.changed(GLASS, loss_r2=1.0, red_r=1.0, halo=50.0, limit=1.0)
    treated = treated.changed(FINISH, on=True, beyond=20.0)
    assert digest(treated, "map") == digest(plain, "map")
    assert digest(treated, "pixels") != digest(plain, "pixels")


# --- a recording ----------------------------------------------------------------------------------


@pytest.fixture(scope="module")
def shed(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("shed") / "shed.mp4"
    record(engine_shed(0.3), path, sound=False)
    return path


def test_an_export_is_sharpened_by_what_its_zoom_took(shed: Path, tmp_path: Path):
    reports, lumas = [], []
    for k, on in enumerate(("false", "true")):
        out, told = tmp_path / f"{k}.mp4", tmp_path / f"{k}.json"
        order = ["correct", str(shed), str(out), "--report", str(told), "--quality", "fine"]
        order += ["--set", "motion.on=false", "--set", "frame.extra_zoom=1.15"]
        assert main([*order, "--set", f"finish.on={on}"]) == 0
        reports.append(json.loads(told.read_text())["sharpening"])
        lumas.append(frame_at(out, scan(out), 3).planes[0].astype(float))
    assert reports[0] is None
    assert reports[1]["magnification"] == pytest.approx(1.15, abs=0.01)
    assert reports[1]["gain"] == pytest.approx(reports[1]["gain_lost"])
    plain, sharp = (cv2.Laplacian(luma, cv2.CV_64F).std() for luma in lumas)
    assert sharp > 1.2 * plain


def test_exact_view_is_what_the_export_draws(shed: Path, tmp_path: Path):
    found = scan(shed)
    canvas = found.probe.canvas
    chain = WarpChain(canvas, View(canvas, 1.1), (), found.probe.frame_count)
    drawing = Drawing(chain)
    view = pipeline.exact_view(shed, found, drawing, 0, 4)
    pipeline.render(shed, found, drawing, 0, tmp_path / "out.mp4")
    out = tmp_path / "out.mp4"
    written = frame_at(out, scan(out), 4)
    seen = SPACE.to_bgr(written.planes, written.chroma, written.site)
    assert view.treated.shape == view.recorded.shape == (720, 1280, 3)
    assert np.abs(view.treated.astype(int) - seen).mean() < 3  # but for what the encoder changes
    assert view.words == []
    assert view.fringe is not None
    (x, y), (u, v) = view.fringe
    middle = np.array(canvas.centre)
    assert (np.array([u, v]) - middle) == pytest.approx((np.array([x, y]) - middle) * 1.1, abs=0.1)
    with pytest.raises(KeenError):
        pipeline.exact_view(shed, found, drawing, 0, 99)


def test_exact_view_says_what_brightening_costs(tmp_path: Path):
    shed = tmp_path / "noisy.mp4"
    record(replace(engine_shed(0.1), noise=8.0), shed, sound=False)
    found = scan(shed)
    canvas = found.probe.canvas
    glass = FallOff(RadialField(canvas), (2.5, 0.0, 0.0))
    gain = FallOffGain(glass, np.ones(found.probe.frame_count), 4.0)
    chain = WarpChain(canvas, View(canvas), (), found.probe.frame_count)
    said = " ".join(pipeline.exact_view(shed, found, Drawing(chain, pixels=(gain,)), 0, 0).words)
    assert "Grain in the corners" in said
    assert "Blown" in said


# --- scopes ---------------------------------------------------------------------------------------


def test_a_waveform_shows_levels_where_they_are():
    ramp = np.tile(np.linspace(0, 255, 256).astype(np.uint8)[None, :, None], (90, 1, 3))
    wave = scopes_of(ramp).luma
    assert wave.shape == (LEVELS, COLUMNS)
    brightest = LEVELS - 1 - wave.argmax(axis=0)
    assert np.abs(brightest - np.arange(COLUMNS)).max() <= 1


def test_a_parade_tells_colours_apart_and_a_band_its_rows():
    picture = np.zeros((80, 160, 3), np.uint8)
    picture[:40, :, 0] = 255
    red, green, _ = scopes_of(picture, (0.0, 0.5)).parade
    assert red[0].min() == 255
    assert green[0].max() == 0
    low, _, _ = scopes_of(picture, (0.5, 1.0)).parade
    assert low[0].max() == 0
    assert scopes_of(picture, (0.7, 0.7)).luma.any()  # a row, at least


def test_a_radius_profile_falls_where_the_picture_does():
    y, x = np.mgrid[0:90, 0:160]
    radius = np.hypot(x - 79.5, y - 44.5) / np.hypot(79.5, 44.5)
    grey = np.repeat((200 * (1 - 0.5 * radius))[..., None], 3, axis=2).astype(np.uint8)
    told = scopes_of(grey).profile
    assert len(told) == RINGS
    assert (np.diff(told[np.isfinite(told)]) < 0).all()
    assert told[0] == pytest.approx(78, abs=2)
