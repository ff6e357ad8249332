"""What is said of frames that could not be decoded whole, and were bridged by the decoder."""

from __future__ import annotations

from collections.abc import Sequence

MOST = 10_000  # that are remembered by number


def damaged_within(frames: Sequence[int] | None, first: int, last: int | None) -> list[int]:
    """Those of the damaged ``frames`` of a recording, None for none, that are of a range."""
    return [frame for frame in frames or () if frame >= first and (last is None or frame <= last)]


def damage_words(frames: Sequence[int], first: int = 0, last: int | None = None) -> str:
    """A sentence about damaged ``frames``, ascending, of a range; nothing if there are none.

    >>> damage_words([3, 4, 9], 4)
    '2 frames are damaged, the first is 4: what is missing in them was bridged by the decoder.'
    >>> damage_words([3])
    'Frame 3 is damaged: what is missing in it was bridged by the decoder.'
    """
    own = damaged_within(frames, first, last)
    if not own:
        return ""
    if len(own) == 1:
        return f"Frame {own[0]} is damaged: what is missing in it was bridged by the decoder."
    return (
        f"{len(own)} frames are damaged, the first is {own[0]}: what is missing in them was "
        "bridged by the decoder."
    )
