"""The warp chain and what it is made of, against closed forms."""

from dataclasses import replace

import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.motion import cumulative_pose
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View


def some(n: int, seed: int = 0) -> Similarities:
    rng = np.random.default_rng(seed)
    a = np.exp(0.05 * rng.standard_normal(n) + 0.1j * rng.standard_normal(n))
    return Similarities(a, 20 * (rng.standard_normal(n) + 1j * rng.standard_normal(n)))


def pixels(canvas: Canvas, count: int = 50) -> np.ndarray:
    rng = np.random.default_rng(3)
    return rng.uniform(-20, [canvas.width + 20, canvas.height + 20], (count, 2))


def test_scene_and_pixels_are_inverse_with_any_pixel_aspect():
    canvas = Canvas(721, 480, 4 / 3)
    points = pixels(canvas)
    assert np.allclose(canvas.to_pixels(canvas.to_scene(points)), points)
    assert canvas.to_scene(np.array([360.0, 239.5])) == 0


def test_inverse_undoes_and_composition_is_right_to_left():
    first, second = some(5, 1), some(5, 2)
    z = np.array([1 + 2j, -30 + 4j])
    both = second.after(first).apply(z)
    one_by_one = second.a[:, None] * first.apply(z) + second.b[:, None]
    assert np.allclose(both, one_by_one)
    same = first.inverse().after(first)
    assert np.allclose(same.a, 1)
    assert np.allclose(same.b, 0)


def test_accumulate_leads_every_frame_back_to_the_first():
    steps = some(6)
    pose = cumulative_pose(steps)
    z = np.array([5 + 3j])
    for t in range(1, 6):
        point = z
        for k in range(1, t + 1):
            point = steps[np.array([k])].apply(point)[0]
        assert np.allclose(pose[np.array([t])].apply(point)[0], z)


def test_faded_runs_from_identity_to_itself():
    moves = some(4)
    none, all_ = moves.toward_identity(np.zeros(4)), moves.toward_identity(np.ones(4))
    assert np.allclose(none.a, 1)
    assert np.allclose(none.b, 0)
    assert np.allclose(all_.a, moves.a)
    assert np.allclose(all_.b, moves.b)


@pytest.mark.parametrize("aspect", [1.0, 1.4587])
def test_pixel_matrices_do_what_the_scene_maps_do(aspect):
    canvas = Canvas(640, 360, aspect)
    moves, points = some(3), pixels(canvas)
    matrices = moves.pixel_matrices(canvas)
    for t in range(3):
        straight = np.c_[points, np.ones(len(points))] @ matrices[t].T
        scene = canvas.to_scene(points)
        assert np.allclose(straight[:, :2], canvas.to_pixels(moves.apply(scene)[t]))


def chain(aspect: float = 1.0, scale: float = 1.0) -> WarpChain:
    source = Canvas(640, 360, aspect)
    output = Canvas(round(600 * scale), round(340 * scale), aspect)
    return WarpChain(source, View(output, 1.1, scale, 3 - 2j), (some(4),), 4)


@pytest.mark.parametrize("aspect", [1.0, 4 / 3])
def test_matrices_points_and_lattice_are_the_same_map(aspect):
    warp = chain(aspect)
    points = pixels(warp.view.output)
    matrices = warp.matrices()
    for frame in range(len(warp)):
        mapped, _ = warp(frame, points)
        assert np.allclose(
            mapped, (np.c_[points, np.ones(len(points))] @ matrices[frame].T)[:, :2], atol=1e-9
        )
    fine = warp.lattice(columns=33, rows=19)
    coarse = warp.lattice()
    assert np.allclose(fine[:, ::18, ::32], coarse, atol=1e-6)
    corner = np.array([[-0.5, -0.5]])
    mapped, _ = warp(1, corner)
    assert np.allclose(coarse[1, 0, 0], (mapped[0] + 0.5) / [640, 360], atol=1e-6)


def test_untouched_chain_is_the_identity():
    canvas = Canvas(320, 200)
    warp = WarpChain(canvas, View(canvas), (Similarities.none(2),), 2)
    points = pixels(canvas)
    mapped, valid = warp(0, points)
    assert np.allclose(mapped, points)
    inside = (points >= 0).all(axis=-1) & (points <= [319, 199]).all(axis=-1)
    assert (valid == inside).all()
    assert not valid.all()
    assert np.allclose(warp.lattice()[0], [[[0, 0], [1, 0]], [[0, 1], [1, 1]]])


def test_zoom_shows_less_of_the_source_by_exactly_its_factor():
    canvas = Canvas(400, 300)
    warp = WarpChain(canvas, View(canvas, zoom=2.0), (Similarities.none(1),), 1)
    corners = np.array([[0.0, 0.0], [399.0, 299.0]])
    mapped, _ = warp(0, corners)
    assert np.allclose(mapped[1] - mapped[0], [199.5, 149.5])


def test_a_resized_view_shows_the_same_picture():
    warp = chain()
    small = replace(warp, view=warp.view.resized(170))
    assert small.view.output.height == 170
    full, half = warp.lattice(), small.lattice()
    assert np.abs(full - half).max() < 0.5 / 340
    assert warp.view.resized(None) is warp.view
    assert warp.view.resized(4000) is warp.view
