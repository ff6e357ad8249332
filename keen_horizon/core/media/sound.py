"""Carrying the sound along: bit for bit where MP4 can hold it, re-encoded otherwise."""

from __future__ import annotations

import av
import av.container
from av.audio.stream import AudioStream

# What MP4 may hold and players understand (ISO/IEC 14496-12, -14; registration authority list).
COPYABLE = {"aac", "mp3", "ac3", "eac3", "alac", "opus", "flac"}


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
        self.copied = self.codec in COPYABLE and not always_encode
        if self.copied:
            self._output = target.add_stream_from_template(self._input)
        else:
            rate = self._input.codec_context.sample_rate
            layout = self._input.codec_context.layout
            self._output = target.add_stream("aac", rate=rate, layout=layout)
            self._output.bit_rate = 96_000 * max(1, layout.nb_channels)

    @property
    def said(self) -> str:
        """One sentence for the report."""
        if self.copied:
            return f"Sound copied bit for bit ({self.codec})."
        return f"Sound re-encoded from {self.codec} to AAC: MP4 cannot hold it as it is."

    def mux(self) -> None:
        """Write the whole track."""
        if self._start > 0:
            self._source.seek(max(0, int((self._start - 1.0) * av.time_base)))
        if self.copied:
            self._copy()
        else:
            self._encode()

    def _copy(self) -> None:
        for packet in self._source.demux(self._input):
            if packet.pts is None or packet.size == 0:
                continue
            time = float(packet.pts * packet.time_base)
            if time >= self._end:
                break
            if time < self._start - 1e-6:
                continue
            shift = round(self._start / float(packet.time_base))
            packet.pts -= shift
            packet.dts = packet.pts
            packet.stream = self._output
            self._target.mux(packet)

    def _encode(self) -> None:
        context = self._output.codec_context
        resampler = av.AudioResampler(
            format=context.format, layout=context.layout, rate=context.sample_rate
        )
        written = 0
        for frame in self._source.decode(self._input):
            time = frame.time or 0.0
            if time >= self._end:
                break
            if time < self._start - 1e-6:
                continue
            for piece in resampler.resample(frame):
                piece.pts = None
                self._target.mux(self._output.encode(piece))
                written += 1
        if written:
            self._target.mux(self._output.encode(None))
