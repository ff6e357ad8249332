"""Recording a take: an MP4 as a camera would have written it."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from ..core.media.sphere_boxes import tag_film
from ..core.media.spherical import SphereTag
from .camera import AllAround
from .sound import RATE as SOUND_RATE
from .sound import harbour
from .take import RATE, Take

_BT709 = 1
MAKER = "Skerrick"  # of cameras that do not exist


def record(
    take: Take,
    path: Path,
    progress: Callable[[int, int], None] = lambda done, total: None,
    *,
    sound: bool = True,
    crf: int = 16,
) -> None:
    """Render and encode ``take``; H.264 (BT.709) and AAC. Appears under its name when whole."""
    part = path.with_name(path.name + ".part")
    total = len(take.truth)
    camera = take.truth.camera
    flags = {"movflags": "+faststart+use_metadata_tags"}
    with av.open(str(part), "w", format="mp4", options=flags) as out:
        if take.camera:
            out.metadata["make"], out.metadata["model"] = MAKER, take.camera
        video = out.add_stream(
            "libx264", rate=Fraction(RATE).limit_denominator(1001),
            options={"crf": str(crf), "preset": "veryfast", "threads": "2"},
        )  # fmt: skip
        context = video.codec_context
        context.width, context.height, context.pix_fmt = camera.width, camera.height, "yuv420p"
        context.color_primaries = context.color_trc = context.colorspace = _BT709
        context.color_range = 1
        audio = out.add_stream("aac", rate=SOUND_RATE, layout="stereo") if sound else None
        wave = harbour(total / RATE, seed=total) if sound else np.zeros((2, 0), np.int16)
        sent = 0
        for index in range(total):
            frame = av.VideoFrame.from_ndarray(take.frame(index), format="bgr24")
            frame = frame.reformat(format="yuv420p", dst_colorspace="ITU709")
            frame.colorspace = frame.color_primaries = frame.color_trc = _BT709
            frame.pts = index
            out.mux(video.encode(frame))
            while audio is not None and sent < min(wave.shape[1], (index + 1) / RATE * SOUND_RATE):
                piece = np.ascontiguousarray(wave[:, sent : sent + 1024].T).reshape(1, -1)
                heard = av.AudioFrame.from_ndarray(piece, format="s16", layout="stereo")
                heard.sample_rate, heard.pts = SOUND_RATE, sent
                heard.time_base = Fraction(1, SOUND_RATE)
                sent += piece.shape[1] // 2
                out.mux(audio.encode(heard))
            progress(index + 1, total)
        out.mux(video.encode(None))
        if audio is not None:
            out.mux(audio.encode(None))
    if isinstance(camera, AllAround):
        tag_film(part, SphereTag(), (camera.width, camera.height))
    part.replace(path)
