"""Edges traced in pictures of the make-believe camera, and the lens they speak for."""

import cv2
import numpy as np
import pytest

from keen_horizon.core.errors import BadSetting
from keen_horizon.core.geometry.angles import angles_of
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.distortion import Distortion
from keen_horizon.core.geometry.lens import Lens
from keen_horizon.core.stations.lens.edge_fit import fit_edges, residuals_of, straight_turns
from keen_horizon.core.stations.lens.propose import proposals
from keen_horizon.core.stations.lens.trace import gradients, trace_edge
from keen_horizon.simulated.brindle_quay import deck_edges, engine_shed, shed_edges, tender_deck
from keen_horizon.simulated.truth import away_from, pictured_edge

CANVAS = Canvas(1280, 720)


@pytest.fixture(scope="module")
def shed():
    """A picture of the engine shed, and its true edges."""
    take = engine_shed(0.2)
    luma = cv2.cvtColor(take.frame(0), cv2.COLOR_BGR2GRAY)
    lines = [pictured_edge(take, edge, 0) for edge in shed_edges(120)]
    return luma, [line for line in lines if len(line) > 30]


def bent_lines(distortion: Distortion, focal: float, lines, count: int = 24, noise: float = 0.0):
    """Straight lines ``((x0, y0), (x1, y1))`` of the straight plane, as a lens bends them, px."""
    rng = np.random.default_rng(4)
    lens = Lens(CANVAS, distortion, focal)
    found = []
    for (x0, y0), (x1, y1) in lines:
        u = np.linspace(0, 1, count)
        z = (x0 + u * (x1 - x0)) + 1j * (y0 + u * (y1 - y0))
        pixels = CANVAS.to_pixels(lens.distort(z[None])[0])
        found.append(pixels + noise * rng.standard_normal((count, 2)))
    return found


LINES = [
    ((-600, -280), (600, -260)), ((-600, 250), (590, 270)), ((-520, -300), (-500, 310)),
    ((480, -300), (500, 300)), ((-200, -320), (-190, 320)),
]  # fmt: skip


def test_two_clicks_beside_an_edge_find_it_bent_as_it_is(shed):
    luma, lines = shed
    slopes = gradients(luma)
    band = lines[0]
    assert np.ptp(band[:, 1]) > 12  # it is not straight
    for off in ([0, 0], [5, 5], [-6, 4]):
        found = trace_edge(slopes, [tuple(band[2] + off), tuple(band[-3] - off)])
        assert np.sqrt((away_from(found.points, band) ** 2).mean()) < 0.5
        assert found.seen > 0.8


def test_a_trace_goes_through_where_it_is_dragged_to(shed):
    luma, lines = shed
    slopes = gradients(luma)
    upper, lower = lines[0], lines[1]  # the two edges of one band of stone
    ends = [tuple(upper[3]), tuple(upper[-4])]
    middle = lower[len(lower) // 2]
    dragged = trace_edge(slopes, [tuple(lower[3]), tuple(middle), tuple(lower[-4])])
    assert np.sqrt((away_from(dragged.points, lower) ** 2).mean()) < 0.5
    free = trace_edge(slopes, ends)
    assert np.sqrt((away_from(free.points, upper) ** 2).mean()) < 0.5


def test_where_there_is_no_edge_that_is_said():
    plain = gradients(np.full((200, 300), 90, np.uint8))
    with pytest.raises(BadSetting, match="plain"):
        trace_edge(plain, [(20.0, 100.0), (280.0, 100.0)])
    with pytest.raises(BadSetting, match="px apart"):
        trace_edge(plain, [(20.0, 100.0), (28.0, 100.0)])
    noise = gradients(np.random.default_rng(1).integers(0, 255, (200, 300)).astype(np.uint8))
    with pytest.raises(BadSetting, match="no continuous edge"):
        trace_edge(noise, [(20.0, 100.0), (280.0, 100.0)])


def test_edges_are_proposed_and_straight_under_their_own_lens(shed):
    luma, _ = shed
    found = proposals(luma)
    assert 5 <= len(found) <= 12
    fit = fit_edges([trace.points for trace in found], CANVAS)
    assert fit.distortion.model == "brown"
    assert fit.residual < 0.5
    assert not proposals(np.full((200, 300), 90, np.uint8))


def test_five_edges_of_a_moustache_straighten_all_others(shed):
    _, lines = shed
    five, others = [lines[i][::4] for i in (0, 2, 6, 12, 20)], [line[::4] for line in lines]
    fit = fit_edges(five, CANVAS)
    assert fit.distortion.model == "brown"
    assert fit.distortion.k[0] < 0 < fit.distortion.k[1]
    assert residuals_of(others, CANVAS, fit.distortion, fit.focal).max() < 0.1
    one = fit_edges(five, CANVAS, model="division")
    assert one.residual > 4 * fit.residual
    assert any("Brown-Conrady would explain" in words for words in one.words)


def test_a_fisheye_is_recognised_with_its_angle():
    take = tender_deck(0.2, readout=0.0)
    edges = [pictured_edge(take, edge, 0)[::3] for edge in deck_edges()]
    fit = fit_edges(edges, CANVAS)
    assert fit.distortion.model == "fisheye"
    lens = Lens(CANVAS, fit.distortion, fit.focal * 1280)
    assert angles_of(lens).diagonal == pytest.approx(150.0, rel=0.03)
    assert "fisheye" in fit.words[0]
    # Held to another model, it still says so.
    bent = fit_edges(edges, CANVAS, model="brown")
    assert bent.distortion.model == "brown"
    assert any("A fisheye would explain" in words for words in bent.words)


def test_coefficients_that_few_edges_cannot_tell_are_held():
    barrel = Distortion("brown", (-0.2, 0.0, 0.0, 0.0))
    one = fit_edges(bent_lines(barrel, 1064.96, LINES[:1], noise=0.1), CANVAS, model="brown")
    assert one.held == ("k2", "k3")
    assert "too few" in one.words[-1]
    many = fit_edges(bent_lines(barrel, 1064.96, LINES, noise=0.1), CANVAS, model="brown")
    assert many.distortion.k[0] == pytest.approx(-0.2, rel=0.05)
    assert many.held == ("k2", "k3")
    assert "cannot tell them from nothing" in many.words[-1]
    inner = [((-200, -150), (200, -150)), ((-200, 140), (200, 140)), ((-210, -150), (-210, 150))]
    near = fit_edges(bent_lines(barrel, 1064.96, inner, noise=0.1), CANVAS, model="brown")
    assert "reaches far enough out" in near.words[-1]


def test_an_edge_that_contradicts_the_others_is_pointed_out():
    barrel = Distortion("brown", (-0.25, 0.05, 0.0, 0.0))
    edges = bent_lines(barrel, 1064.96, LINES, noise=0.1)
    x = np.linspace(100, 1100, 24)
    edges.append(np.stack([x, 500 + 25 * np.sin(x / 160)], axis=-1))
    fit = fit_edges(edges, CANVAS)
    assert fit.contradicting == [5]
    assert any("Edge 6 contradicts" in words for words in fit.words)
    # And does not spoil the fit of the rest.
    assert fit.residuals[:5].max() < 0.4


def test_two_edges_that_cannot_both_be_straight():
    up = np.stack([np.linspace(100, 1180, 20), 80 + 30 * np.linspace(-1, 1, 20) ** 2], axis=-1)
    down = np.stack([np.linspace(100, 1180, 20), 120 - 30 * np.linspace(-1, 1, 20) ** 2], axis=-1)
    fit = fit_edges([up, down], CANVAS)
    assert any("cannot both be straight" in words for words in fit.words)


def test_what_tells_nothing_is_refused_in_words():
    with pytest.raises(BadSetting, match="with 2 points"):
        fit_edges([np.array([[0.0, 0.0], [100.0, 0.0]])], CANVAS)
    middle = np.stack([np.linspace(100, 1180, 20), np.full(20, 359.5)], axis=-1)
    with pytest.raises(BadSetting, match="away from the middle"):
        fit_edges([middle], CANVAS)


def test_level_edges_tell_by_how_much_the_picture_leans():
    rise = 500 * np.tan(np.radians(2.0))
    leaning = [((-500, y - rise), (500, y + rise)) for y in (-200, 200)]
    edges = bent_lines(Distortion("brown", (-0.2, 0, 0, 0)), 1064.96, leaning)
    fit = fit_edges(edges, CANVAS)
    assert np.degrees(straight_turns(edges, CANVAS, fit)) == pytest.approx([2.0, 2.0], abs=0.05)


MANY = [
    ((-600, v), (600, v + 15)) for v in (-320, -250, -150, 130, 240, 330)
] + [((u, -330), (u + 12, 330)) for u in (-590, -420, -260, 250, 410, 580)]  # fmt: skip


def test_an_edge_that_is_bent_in_the_world_is_left_out_not_averaged_in():
    barrel = Distortion("brown", (-0.2, 0.05, 0.0, 0.0))
    edges = bent_lines(barrel, 1064.96, MANY, noise=0.1)
    bow = np.linspace(-1, 1, len(edges[3]))
    edges[3] = edges[3] + np.stack([np.zeros_like(bow), 9 * (1 - bow**2)], axis=-1)
    fit = fit_edges(edges, CANVAS)
    assert fit.contradicting == [3]
    others = edges[:3] + edges[4:]
    alone = fit_edges(others, CANVAS)
    left = [residuals_of(others, CANVAS, f.distortion, f.focal) for f in (fit, alone)]
    assert np.sqrt((left[0] ** 2).mean()) < 1.1 * np.sqrt((left[1] ** 2).mean()) + 0.01


@pytest.mark.parametrize("seed", range(4))
def test_noise_is_not_taken_for_a_wilder_lens(seed):
    """Edges of one board, in the middle of the picture: what they tell must serve outside it."""
    barrel = Distortion("brown", (-0.18, 0.0, 0.0, 0.0))
    board = [((-260, v), (260, v + 8)) for v in (-190, -110, -40, 50, 120, 200)]
    board += [((u, -200), (u + 6, 200)) for u in (-250, -150, -50, 60, 160, 260)]
    rng = np.random.default_rng(seed)
    edges = bent_lines(barrel, 1064.96, board)
    edges = [edge + 0.35 * rng.standard_normal(edge.shape) for edge in edges]
    fit = fit_edges(edges, CANVAS)
    far = bent_lines(barrel, 1064.96, MANY)
    raw = residuals_of(far, CANVAS, Distortion("brown"), 0.832)
    left = residuals_of(far, CANVAS, fit.distortion, fit.focal)
    assert fit.distortion.model != "fisheye"
    assert np.sqrt((left**2).mean()) < 0.5 * np.sqrt((raw**2).mean())
    assert max(np.abs(fit.distortion.k)) < 0.8
