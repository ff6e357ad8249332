"""Distortion models and the lens in the chain, against OpenCV's functions and closed forms."""

from dataclasses import replace

import cv2
import numpy as np
import pytest

from keen_horizon.core.geometry.angles import (
    angles_of,
    displacement_curve,
    focal_of,
    straight_angles,
)
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.distortion import WIDEST, Distortion
from keen_horizon.core.geometry.lens import Lens, scale_to_cover
from keen_horizon.core.geometry.pinhole import Pinhole
from keen_horizon.core.geometry.rotation import Rotations
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.picture.warp import sampler_of
from keen_horizon.core.pipeline.estimate_motion import lens_at
from keen_horizon.core.stations.lens import LENS
from keen_horizon.core.treatment import Treatment, parse

from ..motions import chain_of

CANVAS = Canvas(1280, 720)
LENSES = {
    "brown": Lens(CANVAS, Distortion("brown", (-0.28, 0.09, -0.01, 0.0)), 880.0),
    "decentred": Lens(CANVAS, Distortion("brown", (-0.2, 0.05, 0, 0), (0.003, -0.002)), 880.0, 9j),
    "moustache": Lens(CANVAS, Distortion("brown", (-0.3, 0.22, 0.0, 0.0)), 790.0),
    "pincushion": Lens(CANVAS, Distortion("brown", (0.12, 0.0, 0.0, 0.0)), 900.0),
    "fisheye": Lens(CANVAS, Distortion("fisheye", (-0.012, 0.004, 0.0, 0.0)), 566.0, 12 - 7j),
    "division": Lens(CANVAS, Distortion("division", (-0.31, 0.0, 0.0, 0.0)), 800.0),
    "half": Lens(CANVAS, Distortion("fisheye"), 561.0, amount=0.5),
}


def frame_points(count: int = 60) -> np.ndarray:
    x, y = np.meshgrid(np.linspace(0, 1279, count), np.linspace(0, 719, count))
    return CANVAS.to_scene(np.stack([x.ravel(), y.ravel()], axis=-1))[None]


@pytest.mark.parametrize("name", LENSES)
def test_bending_undoes_straightening_over_the_whole_frame(name):
    lens = scale_to_cover(LENSES[name])
    z = frame_points()
    assert np.abs(lens.distort(lens.undistort(z)) - z).max() < 1e-4


@pytest.mark.parametrize("name", ["brown", "decentred", "moustache", "fisheye"])
def test_rays_are_bent_as_opencv_bends_them(name):
    lens = LENSES[name]
    straight = lens.undistort(frame_points(20))[0]
    x = (straight - lens.centre) / lens.focal
    rays = np.stack([x.real, x.imag, np.ones(len(x))], axis=-1)[:, None]
    matrix = np.diag([lens.focal, lens.focal, 1.0])
    d, none = lens.distortion, np.zeros(3)
    if d.model == "fisheye":
        theirs, _ = cv2.fisheye.projectPoints(rays, none, none, matrix, np.array(d.k))
    else:
        k = np.array([d.k[0], d.k[1], d.p[0], d.p[1], d.k[2]])
        theirs, _ = cv2.projectPoints(rays, none, none, matrix, k)
    ours = lens.distort(straight[None])[0] - lens.centre
    assert np.abs(ours - (theirs[:, 0, 0] + 1j * theirs[:, 0, 1])).max() < 1e-3


def test_the_division_model_is_its_closed_form():
    d = Distortion("division", (-0.3, 0.0, 0.0, 0.0))
    bent = np.linspace(0.01, 0.9, 50)
    assert np.allclose(d.radius(bent / (1 - 0.3 * bent**2)), bent)


@pytest.mark.parametrize(
    "distortion",
    [
        Distortion("brown", (-0.3, 0.1, -0.02, 0.0)), Distortion("fisheye", (0.05, -0.02, 0.0, 0)),
        Distortion("division", (-0.4, 0, 0, 0)), Distortion("brown", (0.1, 0, 0, 0), (0.01, -0.02)),
    ],
)  # fmt: skip
def test_derivatives_are_those_of_the_map(distortion):
    x = np.array([0.3 + 0.2j, -0.5 + 0.1j, 0.05 - 0.4j])
    xx, xy, yy = distortion.jacobian(x)
    step = 1e-6
    across = (distortion.distort(x + step) - distortion.distort(x - step)) / (2 * step)
    down = (distortion.distort(x + 1j * step) - distortion.distort(x - 1j * step)) / (2 * step)
    assert np.allclose(xx, across.real, atol=1e-6)
    assert np.allclose(xy, across.imag, atol=1e-6)
    assert np.allclose(xy, down.real, atol=1e-6)
    assert np.allclose(yy, down.imag, atol=1e-6)


def test_where_a_model_stops_being_invertible_is_found_and_nothing_folds_back():
    d = Distortion("brown", (-0.5, 0.0, 0.0, 0.0))
    assert d.max_undistorted_radius == pytest.approx(np.sqrt(1 / 1.5))
    lens = Lens(CANVAS, d, 600.0)
    ray = np.linspace(1, 4000, 800)[None] + 0j
    away = np.abs(lens.distort(ray)[0])
    inside = ray[0].real < d.max_undistorted_radius * 600
    assert (np.diff(away[inside]) > 0).all()
    # What lies beyond belongs to no source pixel.
    assert (away[~inside] > CANVAS.radius).all()
    assert np.isnan(lens.undistort(np.array([[700 + 0j]]))).all()
    assert Distortion("fisheye").max_undistorted_radius == pytest.approx(WIDEST)


def test_half_of_a_correction_lies_between_none_and_all():
    whole, half = LENSES["fisheye"], replace(LENSES["fisheye"], amount=0.5)
    none = replace(LENSES["fisheye"], amount=0.0)
    z = np.array([[500 + 300j]])
    assert np.allclose(none.distort(z), z)
    assert np.allclose(half.distort(z), (none.distort(z) + whole.distort(z)) / 2)


def test_covering_leaves_no_bare_edge_and_wastes_nothing():
    for lens in LENSES.values():
        fit = scale_to_cover(lens)
        chain = chain_of(Similarities.none(1), fit)
        side = np.linspace(0, 1279, 200)
        rim = np.concatenate(
            [np.stack([side, np.full(200, y)], -1) for y in (0, 719)]
            + [np.stack([np.full(200, x), side * 719 / 1279], -1) for x in (0, 1279)]
        )
        seen, inside = chain(0, rim)
        edge = np.minimum(seen, [1279, 719] - seen).min()
        assert edge > -0.6
        assert edge < 0.6
        assert inside.mean() > 0.95


def test_angles_of_view_are_those_of_the_lens():
    wide = angles_of(Lens(CANVAS, Distortion(), focal_of(90.0, 1280, 720, Distortion())))
    assert wide.diagonal == pytest.approx(90.0)
    assert wide.across == pytest.approx(2 * np.degrees(np.arctan(640 * np.tan(np.pi / 4) / 734.3)),
                                        abs=0.1)  # fmt: skip
    fisheye = Distortion("fisheye")
    lens = Lens(CANVAS, fisheye, focal_of(150.0, 1280, 720, fisheye))
    seen = angles_of(lens)
    assert seen.diagonal == pytest.approx(150.0, abs=0.01)
    assert seen.across == pytest.approx(150.0 * 1280 / np.hypot(1280, 720), abs=0.01)
    # A 4:3 picture of the same lens takes in more, by the shape of the two.
    tall = angles_of(Lens(Canvas(1280, 960), fisheye, lens.focal))
    assert tall.diagonal == pytest.approx(150.0 * 1600 / np.hypot(1280, 720), abs=0.01)
    assert straight_angles(2.0, 2.0, 1.0).across == pytest.approx(90.0)


def test_an_angle_beyond_the_reach_is_told_as_such():
    folds = Lens(CANVAS, Distortion("brown", (-0.5, 0, 0, 0)), 700.0)
    assert np.isnan(angles_of(folds).diagonal)
    assert np.isfinite(angles_of(folds).updown)
    away, moved = displacement_curve(folds)
    assert moved[0] == 0
    assert np.isnan(moved[-1])
    assert (np.diff(moved[np.isfinite(moved)]) > 0).all()


def test_a_lattice_and_the_export_draw_what_the_chain_says():
    lens = scale_to_cover(LENSES["fisheye"])
    chain = chain_of(Similarities.none(1), lens, view=View(CANVAS, 1.1))
    grid = sampler_of(chain)
    assert grid.grid is not None
    at = grid.positions(np.eye(3), np.eye(3), 1280, range(720))
    points = np.array([[3.0, 5.0], [640.5, 200.25], [1270.0, 700.0]]).round()
    exact, _ = chain(0, points)
    drawn = np.array([at[int(b), int(a)] for a, b in points])
    assert np.abs(drawn - exact).max() < 0.05
    nodes = chain.lattice()
    assert nodes.shape == (1, 19, 33, 2)
    assert np.abs(nodes[0, 9, 16] * [1280, 720] - 0.5 - chain(0, np.array([[639.5, 359.5]]))[0]
                  ).max() < 1e-3  # fmt: skip


def test_a_treatment_names_its_lens_at_each_frame():
    told = parse(
        {
            "lens": {"model": "brown", "k1": -0.2, "centre_x": 5.0},
            "keys": {"lens.amount": [{"frame": 10, "value": 0.0}, {"frame": 20, "value": 100.0}]},
        }
    )
    lens = lens_at(told, CANVAS, 10, 11)
    assert lens.changes
    assert lens.amount[0] == 0
    assert lens.amount[-1] == 1
    assert lens.scale[0] == pytest.approx(1.0, abs=1e-6)
    assert lens.centre == pytest.approx(64.0)
    z = np.full((11, 1), 500 + 300j)
    bent = lens.distort(z)
    assert abs(bent[0, 0] - z[0, 0]) < 1e-3
    assert np.abs(lens.distort(lens.undistort(z)) - z).max() < 1e-4
    assert lens[3:5].distort(z[3:5]) == pytest.approx(bent[3:5])
    for none in ({}, {"model": "brown", "on": False}, {"model": "brown", "amount": 0.0}):
        assert lens_at(parse({"lens": none}), CANVAS, 0, 3) is None


def test_a_squeezed_picture_has_wider_pixels():
    wide = LENS.recorded_canvas(parse({"lens": {"squeeze": 1.5}}).of(LENS), CANVAS)
    assert wide.pixel_aspect == 1.5
    assert LENS.recorded_canvas(Treatment().of(LENS), CANVAS) is CANVAS


def test_a_turn_of_the_camera_is_its_homography():
    focal, angle = 700.0, np.radians(5)
    z = np.array([0j, 300 + 200j, -500 - 100j])
    c, s = np.cos(angle), np.sin(angle)
    k = np.diag([focal, focal, 1.0])
    turn = np.array([[c, 0, s], [0, 1, 0], [-s, 0, c]])
    h = k @ turn @ np.linalg.inv(k)
    seen = h @ np.stack([z.real, z.imag, np.ones(3)])
    exact = seen[0] / seen[2] + 1j * seen[1] / seen[2]
    turned = Rotations(turn[None], Pinhole(focal))
    assert np.allclose(turned.apply(z[None])[0], exact)
    assert np.allclose(turned.matrices[0] / turned.matrices[0, 2, 2], h / h[2, 2])
    # And by its tangent: the centre goes where a turn by that angle takes it.
    same = turned.exp(np.array([[0.0, focal * angle, 0.0]]))
    assert np.allclose(same.turns, turned.turns)
