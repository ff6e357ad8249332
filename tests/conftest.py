"""Footage made up for the tests, and the take that most of them look at."""

from __future__ import annotations

from fractions import Fraction
from pathlib import Path

import av
import cv2
import numpy as np
import pytest
from hypothesis import settings

from keen_horizon.simulated.brindle_quay import loft_doorway, quay_walk
from keen_horizon.simulated.truth import Measured, measure_take

# The same examples every time: whether a change lands must not be a matter of luck.
settings.register_profile("same", derandomize=True, deadline=None)
settings.load_profile("same")


@pytest.fixture(scope="session")
def walk(tmp_path_factory: pytest.TempPathFactory) -> Measured:
    """Three seconds and a half of the quay walk, without the figure."""
    return measure_take(quay_walk(3.5, figure=False), tmp_path_factory.mktemp("walk") / "m")


@pytest.fixture(scope="session")
def loft(tmp_path_factory: pytest.TempPathFactory) -> Measured:
    return measure_take(loft_doorway(3.0), tmp_path_factory.mktemp("loft") / "m")


def texture(width: int, height: int, seed: int = 1) -> np.ndarray:
    """A picture with something to follow everywhere, and large shapes too, BGR."""
    rng = np.random.default_rng(seed)
    total = np.zeros((height, width, 3), np.float32)
    for lump in (6, 70):
        small = rng.uniform(15, 113, (height // lump + 2, width // lump + 2, 3)).astype(np.float32)
        total += cv2.resize(small, (width, height), interpolation=cv2.INTER_CUBIC)
    return np.clip(total, 0, 255).astype(np.uint8)


def _tone(start: int) -> av.AudioFrame:
    """A fifteenth of a second of a low tone, from a sample on."""
    wave = (8000 * np.sin(np.arange(3200) / 20)).astype(np.int16)
    heard = av.AudioFrame.from_ndarray(wave[None], "s16", layout="mono")
    heard.sample_rate, heard.pts, heard.time_base = 48000, start, Fraction(1, 48000)
    return heard


@pytest.fixture(scope="session")
def make_clip(tmp_path_factory: pytest.TempPathFactory):
    """Write a small video; every oddity is an argument."""
    folder = tmp_path_factory.mktemp("clips")

    def make(
        name: str = "clip.mp4",
        *,
        width: int = 320,
        height: int = 240,
        count: int = 24,
        pixel_format: str = "yuv420p",
        codec: str = "libx264",
        turn: int = 0,
        aspect: Fraction | None = None,
        sound: str | None = "aac",
        variable: bool = False,
        shake: float = 3.0,
        cut_at: int | None = None,
        blank: bool = False,
    ) -> Path:
        path = folder / name
        rng = np.random.default_rng(7)
        offsets = shake * rng.standard_normal((count, 2))
        wide = [texture(width + 80, height + 80, seed) for seed in (1, 2)]
        with av.open(str(path), "w") as out:
            video = out.add_stream(codec, rate=30)
            video.width, video.height, video.pix_fmt = width, height, pixel_format
            video.codec_context.time_base = Fraction(1, 30000)
            if codec == "libx264":
                video.options = {"preset": "ultrafast", "crf": "12"}
            if aspect:
                video.codec_context.sample_aspect_ratio = aspect
            if turn:
                video.set_display_rotation(turn)
            audio = out.add_stream(sound, rate=48000) if sound else None
            context = audio.codec_context if audio else None
            fitting = av.AudioResampler(
                context.format, context.layout, 48000, frame_size=context.frame_size or 1024
            ) if context else None  # fmt: skip
            stamp = 0
            for i in range(count):
                scene = wide[1 if cut_at is not None and i >= cut_at else 0]
                m = np.array([[1, 0, 40 + offsets[i, 0]], [0, 1, 40 + offsets[i, 1]]])
                picture = cv2.warpAffine(
                    scene, m, (width, height), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
                )
                if blank:
                    picture[:] = 16
                frame = av.VideoFrame.from_ndarray(picture, "bgr24").reformat(format=pixel_format)
                frame.pts, frame.time_base = stamp, Fraction(1, 30000)
                stamp += 1000 + (500 * (i % 3) if variable else 0)
                out.mux(video.encode(frame))
                if audio is not None and i % 2 == 0:
                    for piece in fitting.resample(_tone(i * 1600)):
                        out.mux(audio.encode(piece))
            out.mux(video.encode(None))
            if audio is not None:
                out.mux(audio.encode(None))
        return path

    return make
