"""The make-believe camera: geometry that can be computed by hand, and repeatability."""

import numpy as np
import pytest

from keen_horizon.core.media.probe import scan
from keen_horizon.simulated.brindle_quay import TAKES, quay_walk
from keen_horizon.simulated.camera import Pinhole, Truth, buzz, ease, footfall, rotations, tremor
from keen_horizon.simulated.record import record
from keen_horizon.simulated.scene import Scene, upright

T = np.arange(240) / 30


def test_angle_of_view_and_projection():
    camera = Pinhole.from_view(1280, 720, 90)
    assert camera.focal == pytest.approx(640)
    truth = Truth(camera, T[:1], np.zeros((1, 720)), np.zeros((1, 3)), np.eye(3)[None])
    ahead = truth.project(np.array([[0, 0, 5.0], [1, 0, 5.0], [0, 0, -5.0]]), 0)
    assert np.allclose(ahead[0], [639.5, 359.5])
    assert np.allclose(ahead[1], [639.5 + 128, 359.5])
    assert np.isnan(ahead[2]).all()


def test_turning_moves_the_picture_the_other_way():
    small = np.array([0.01])
    point = np.array([0, 0, 10.0])
    assert (rotations(small, 0 * small, 0 * small)[0] @ point)[0] < 0  # yaw right: things go left
    assert (rotations(0 * small, small, 0 * small)[0] @ point)[1] > 0  # pitch up: things go down
    r = rotations(small, small, small)[0]
    assert np.allclose(r @ r.T, np.eye(3))


@pytest.mark.parametrize("low", [0.3, 2.0])
def test_tremor_lies_in_its_band_with_unit_strength(low):
    rng = np.random.default_rng(1)
    t = np.arange(3000) / 60
    wave = tremor(t, low, 4 * low, rng)
    assert np.sqrt((wave**2).mean()) == pytest.approx(1, rel=0.15)
    energy = np.abs(np.fft.rfft(wave)) ** 2
    hertz = np.fft.rfftfreq(len(t), 1 / 60)
    inside = (hertz > 0.9 * low) & (hertz < 4.4 * low)
    assert energy[inside].sum() > 0.98 * energy.sum()


def test_footfall_and_buzz_have_their_beat():
    rng = np.random.default_rng(2)
    t = np.arange(2400) / 120
    hertz = np.fft.rfftfreq(len(t), 1 / 120)
    step = np.abs(np.fft.rfft(footfall(t, 2.0, rng)))
    assert abs(hertz[step[1:].argmax() + 1] - 2) < 0.3
    hum = np.abs(np.fft.rfft(buzz(t, 28.0, rng)))
    assert abs(hertz[hum.argmax()] - 28) < 0.1
    assert ease(np.array([0, 1, 2.0]), 0.5, 1.5).tolist() == [0, 0.5, 1]


def test_a_panel_is_drawn_where_its_corners_project():
    texture = np.full((50, 100, 4), 255, np.uint8)
    panel = upright(texture, -1.0, 0.5, 4.0, 1.0)
    camera = Pinhole.from_view(320, 240, 60)
    truth = Truth(camera, T[:1], np.zeros((1, 240)), np.zeros((1, 3)), np.eye(3)[None])
    drawn = Scene([panel]).draw(truth, 0)
    rows, columns = np.nonzero(drawn[..., 0] > 128)
    corners = truth.project(np.array([[-1, -0.5, 4.0], [1, 0.5, 4.0]]), 0)
    assert np.allclose([columns.min(), rows.min()], corners[0], atol=1.5)
    assert np.allclose([columns.max(), rows.max()], corners[1], atol=2)


def test_takes_are_repeatable_and_shake_only_when_shaken():
    one, two = quay_walk(1.0), quay_walk(1.0)
    assert (one.frame(7) == two.frame(7)).all()
    still = quay_walk(1.0, shaken=False)
    assert np.ptp(still.truth.position[:, 1]) == 0
    assert np.ptp(one.truth.position[:, 1]) > 0.02


def test_every_take_looks_like_a_place(tmp_path):
    for make in TAKES.values():
        take = make(0.2)
        picture = take.frame(0)
        assert picture.shape in ((720, 1280, 3), (1024, 2048, 3))
        assert picture.std() > 20
        # Detail at several scales, not a test card.
        assert len(np.unique(picture[::8, ::8].reshape(-1, 3), axis=0)) > 3000


def test_a_recorded_take_has_pictures_and_sound(tmp_path):
    path = tmp_path / "take.mp4"
    record(quay_walk(0.5), path)
    probe = scan(path).probe
    assert (probe.width, probe.height, probe.frame_count) == (1280, 720, 15)
    assert probe.sound["channels"] == 2
    assert probe.colour["matrix"] == 1
