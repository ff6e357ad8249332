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


class SoundTrack:
    """The first sound stream of ``source``, on its way into ``target``.

    ``start`` and ``end`` are seconds of the source; sound outside is left out. Packets are whole,
    so a copied track may begin up to one packet (about 20 ms) after ``start``; it stays in sync.
    """

    def __init__(
        self,
        source: av.container.InputContainer,
        target: av.container.OutputContainer,
        start: float,
        end: float,
        *,
        always_encode: bool = False,
    ) -> None:
        self._source, self._target = source, target
        self._start, self._end = start, end
        self._input: AudioStream = source.streams.audio[0]
        self.codec = self._input.codec_context.codec.name
        self._container = target.format.name
        fits = self.codec in COPYABLE or (
            self._container == "mov" and self.codec.startswith(UNCOMPRESSED)
        )
        self.copied = fits and not always_encode
        if self.copied:
            self._output = target.add_stream_from_template(self._input)
        else:
            rate = self._input.codec_context.sample_rate
            layout = self._input.codec_context.layout
            self._output = target.add_stream("aac", rate=rate, layout=layout)
            self._output.bit_rate = 96_000 * max(1, layout.nb_channels)
        self._reached = float("-inf")
        self._done = False
        self._steps = self._run()

    @property
    def said(self) -> str:
        """One sentence for the report."""
        if self.copied:
            return f"Sound copied bit for bit ({self.codec})."
        kind = self._container.upper()
        return f"Sound re-encoded from {self.codec} to AAC: {kind} cannot hold it as it is."

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
        resampler = av.AudioResampler(
            format=context.format, layout=context.layout, rate=context.sample_rate
        )
        samples: int | None = None  # written so far, counted from the start of the range
        for frame in self._source.decode(self._input):
            time = frame.time or 0.0
            if time >= self._end:
                break
            if self._within(time):
                if samples is None:
                    samples = round((time - self._start) * context.sample_rate)
                for piece in resampler.resample(frame):
                    piece.pts, piece.time_base = samples, Fraction(1, context.sample_rate)
                    samples += piece.samples
                    self._target.mux(self._output.encode(piece))
            yield True
        if samples is not None:
            self._target.mux(self._output.encode(None))
