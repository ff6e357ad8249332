"""Sampling through a warp, against OpenCV and against pictures moved by known amounts."""

import cv2
import numpy as np
import pytest

from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.geometry.chain import WarpChain
from keen_horizon.core.geometry.displacement import COLUMNS, ROWS, DisplacementGrid
from keen_horizon.core.geometry.similarity import Similarities
from keen_horizon.core.geometry.view import View
from keen_horizon.core.media.decode import Picture
from keen_horizon.core.picture.warp import Sampler, chroma_matrix, sampler_of, warp_planes


def picture_of(luma: np.ndarray, colour: np.ndarray, site=(0.0, 0.5)) -> Picture:
    deep = luma.dtype == np.uint16
    name = "yuv420p10le" if deep else "yuv420p"
    return Picture(0, 0, (luma, colour, colour), (2, 2), site, name)


def ramp(width: int, height: int, slope: float, kind=np.uint8) -> np.ndarray:
    return (slope * np.arange(width) + 20).astype(kind)[None, :].repeat(height, axis=0)


def blank(height: int, width: int, kind=np.uint8):
    return (
        np.zeros((height, width), kind),
        np.zeros((height // 2, width // 2), kind),
        np.zeros((height // 2, width // 2), kind),
    )


@pytest.mark.parametrize("kind", [np.uint8, np.uint16])
def test_the_identity_changes_no_pixel(kind):
    rng = np.random.default_rng(1)
    top = 255 if kind is np.uint8 else 1023
    luma = rng.integers(0, top, (60, 80)).astype(kind)
    colour = rng.integers(0, top, (30, 40)).astype(kind)
    out = blank(60, 80, kind)
    warp_planes(picture_of(luma, colour), Sampler(np.eye(3)), out, bare=False)
    assert (out[0] == luma).all()
    assert (out[1] == colour).all()


def test_luma_and_colour_move_together():
    """A ramp across both planes, moved by 6.5 px, must read 6.5 px on in both."""
    luma, colour = ramp(120, 80, 2), ramp(60, 40, 4)
    m = np.array([[1, 0, 6.5], [0, 1, 0], [0, 0, 1.0]])
    out = blank(80, 120)
    warp_planes(picture_of(luma, colour), Sampler(m), out, bare=False)
    inner = (slice(10, 30), slice(10, 40))
    assert np.abs(out[0][inner].astype(float) - luma[inner] - 13).max() <= 1
    assert np.abs(out[1][inner].astype(float) - colour[inner] - 13).max() <= 1


def test_turning_does_not_part_colour_from_luma():
    """Stripes in luma and colour that coincide still coincide after a roll and zoom."""
    y, x = np.mgrid[0:240, 0:320].astype(float)
    luma = (128 + 80 * np.sin(x / 14)).astype(np.uint8)
    yc, xc = np.mgrid[0:120, 0:160].astype(float)
    colour = (128 + 80 * np.sin(2 * xc / 14)).astype(np.uint8)  # left-sited: chroma x = 2 i
    a = np.exp(0.12j) / 1.15
    m = np.array([[a.real, -a.imag, 40], [a.imag, a.real, 10], [0, 0, 1.0]])
    out = blank(240, 320)
    warp_planes(picture_of(luma, colour), Sampler(m), out, bare=False)
    sampled = cv2.remap(
        out[0].astype(np.float32), (2 * xc).astype(np.float32), (2 * yc + 0.5).astype(np.float32),
        cv2.INTER_LINEAR,
    )  # fmt: skip
    inner = (slice(20, 90), slice(20, 130))
    assert np.abs(sampled[inner] - out[1][inner]).mean() < 1.0
    assert np.abs(sampled[inner] - out[1][inner]).max() < 5


def test_a_sited_source_is_put_where_players_expect_it():
    """Colour sited on the right (a picture turned by 180 degrees) lands left-sited."""
    m = chroma_matrix((2, 2), (1.0, 0.5))
    assert (m @ [3, 4, 1] == [7, 8.5, 1]).all()
    colour = ramp(60, 40, 3)
    out = blank(80, 120)
    warp_planes(
        picture_of(ramp(120, 80, 1), colour, site=(1.0, 0.5)), Sampler(np.eye(3)), out, bare=False
    )
    inner = (slice(5, 35), slice(5, 55))
    # Half a colour pixel to the left: a slope of 3 reads 1.5 less.
    assert np.abs(out[1][inner].astype(float) - colour[inner] + 1.5).max() <= 1


def test_bare_edges_are_black_or_repeated():
    luma, colour = np.full((60, 80), 200, np.uint8), np.full((30, 40), 90, np.uint8)
    m = np.array([[1, 0, -20], [0, 1, 0], [0, 0, 1.0]])
    out = blank(60, 80)
    warp_planes(picture_of(luma, colour), Sampler(m), out, bare=True)
    assert (out[0][:, :16] == 16).all()
    assert (out[1][:, :8] == 128).all()
    assert (out[0][:, 24:] == 200).all()
    warp_planes(picture_of(luma, colour), Sampler(m), out, bare=True, full_range=True)
    assert (out[0][:, :16] == 0).all()
    warp_planes(picture_of(luma, colour), Sampler(m), out, bare=False)
    assert (out[0] == 200).all()


def test_shrinking_does_not_alias():
    fine = np.zeros((240, 320), np.uint8)
    fine[:, ::2] = 255
    out = blank(80, 106)
    m = np.diag([3.0, 3.0, 1.0])
    warp_planes(picture_of(fine, fine[::2, ::2]), Sampler(m), out, bare=False)
    assert abs(out[0][10:70, 10:90].mean() - 127.5) < 2
    assert out[0][10:70, 10:90].std() < 30


def test_a_chain_that_bends_is_drawn_as_it_is_evaluated():
    """A bend that is the same everywhere must look like the shift that it is; one that grows
    across the picture must read what the chain says."""
    canvas = Canvas(160, 120)
    luma, colour = ramp(160, 120, 1), ramp(80, 60, 2)
    even = np.full((1, ROWS, COLUMNS), 6 + 0j, np.complex64)
    growing = even * np.linspace(0, 1, COLUMNS, dtype=np.float32)
    still = Similarities.none(1)
    for nodes in (even, growing):
        stages = (DisplacementGrid(canvas, nodes), still)
        chain = WarpChain(canvas, View(canvas, zoom=1.2), stages, 1)
        out = blank(120, 160)
        warp_planes(picture_of(luma, colour), sampler_of(chain), out, bare=False)
        x, y = np.meshgrid(np.arange(160.0), np.arange(120.0))
        mapped, _ = chain(0, np.stack([x, y], axis=-1))
        inner = (slice(10, 110), slice(10, 140))
        assert np.abs(out[0][inner].astype(float) - 20 - mapped[..., 0][inner]).max() <= 0.6
        half = mapped[::2, ::2, 0][5:55, 5:70]
        assert np.abs(out[1][5:55, 5:70].astype(float) - 20 - half).max() <= 1.1
