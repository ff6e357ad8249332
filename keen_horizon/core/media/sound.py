"""Carrying the sound along: bit for bit where MP4 can hold it, re-encoded otherwise."""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction

import av
import av.container
from av.audio.stream import AudioStream

# What MP4 may hold and players understand (ISO/IEC 14496-12, -14; registration authority list).
COPYABLE = {"aac", "mp3", "ac3", "eac3", "alac", "opus", "flac"}
UNCOMPRESSED = "pcm_"  # what QuickTime may hold besides
# What the AAC encoder takes and players expect; the rest is converted.
AAC_RATES = {8_000, 11_025, 12_000, 16_000, 22_050, 24_000, 32_000, 44_100, 48_000, 88_200, 96_000}
AAC_LAYOUTS = {1: "mono", 2: "stereo", 6: "5.1", 8: "7.1"}
LONGEST_SLIP = 0.1  # seconds that sound may be off its place before it is put there


class SoundTrack:
    """The sound of ``source``, its stream ``wanted``, on its way into ``target``.

    ``start`` and ``end`` are seconds of the source; sound outside is left out. Packets are whole,
    so a copied track may begin up to one packet (about 20 ms) after ``start``; it stays in sync.
    """

    def __init__(
        self,
        source: av.container.InputContainer,
        wanted: AudioStream,
        target: av.container.OutputContainer,
        start: float,
        end: float,
        *,
        always_encode: bool = False,
    ) -> None:
        self._source, self._target = source, target
        self._start, self._end = start, end
        self._input = wanted
        self.codec = self._input.codec_context.codec.canonical_name
        self._container = target.format.name
        fits = self.codec in COPYABLE or (
            self._container == "mov" and self.codec.startswith(UNCOMPRESSED)
        )
        self.copied = fits and not always_encode
        if self.copied:
            self._output = target.add_stream_from_template(self._input)
        else:
            rate = self._input.codec_context.sample_rate
            channels = self._input.codec_context.layout.nb_channels
            self._output = target.add_stream(
                "aac", rate=rate if rate in AAC_RATES else 48_000,
                layout=AAC_LAYOUTS.get(channels, "stereo"),
            )  # fmt: skip
            self._output.bit_rate = 96_000 * self._output.codec_context.layout.nb_channels
        self.lost = 0
        self._reached = float("-inf")
        self._done = False
        self._steps = self._run()

    @property
    def said(self) -> str:
        """A sentence or two for the report."""
        if self.copied:
            words = f"Sound copied bit for bit ({self.codec})."
        else:
            kind = self._container.upper()
            words = f"Sound re-encoded from {self.codec} to AAC: {kind} cannot hold it as it is."
        return f"{words} {self.lost} pieces of it are damaged and left out." if self.lost else words

    def advance(self, until: float) -> None:
        """Write the sound up to ``until`` seconds of the source, so that it lies between the
        pictures it belongs to."""
        while not self._done and self._reached < until:
            self._done = not next(self._steps, False)

    def finish(self) -> None:
        """Write the rest."""
        self.advance(float("inf"))

    def _run(self) -> Iterator[bool]:
        if self._start > 0:
            self._source.seek(max(0, int((self._start - 1.0) * av.time_base)))
        yield from self._copy() if self.copied else self._encode()

    def _within(self, time: float) -> bool:
        self._reached = time
        return time >= self._start - 1e-6

    def _copy(self) -> Iterator[bool]:
        for packet in self._source.demux(self._input):
            if packet.pts is None or packet.size == 0:
                continue
            time = float(packet.pts * packet.time_base)
            if time >= self._end:
                break
            if self._within(time):
                packet.pts -= round(self._start / float(packet.time_base))
                packet.dts = packet.pts
                packet.stream = self._output
                self._target.mux(packet)
            yield True

    def _encode(self) -> Iterator[bool]:
        context = self._output.codec_context
        rate = context.sample_rate
        resampler = av.AudioResampler(format=context.format, layout=context.layout, rate=rate)
        samples: int | None = None  # written so far, counted from the start of the range
        for time, frame in self._decoded():
            if time >= self._end:
                break
            if self._within(time):
                place = round((time - self._start) * rate)
                # Where something is missing, what follows stays with its pictures.
                if samples is None or abs(place - samples) > LONGEST_SLIP * rate:
                    samples = place
                for piece in resampler.resample(frame):
                    piece.pts, piece.time_base = samples, Fraction(1, rate)
                    samples += piece.samples
                    self._target.mux(self._output.encode(piece))
            yield True
        if samples is not None:
            self._target.mux(self._output.encode(None))

    def _decoded(self) -> Iterator[tuple[float, av.AudioFrame]]:
        """Pieces of sound with their times in seconds; damaged ones are counted and passed over."""
        for packet in self._source.demux(self._input):
            try:
                pieces = packet.decode()
            except av.error.FFmpegError:
                self.lost += 1
                continue
            for piece in pieces:
                yield piece.time or 0.0, piece
