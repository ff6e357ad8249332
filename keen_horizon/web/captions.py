"""Facts of files and frames, in words."""

from __future__ import annotations

from typing import Any


def frames_between(first: int, last: int) -> str:
    """``frames 12 to 80``."""
    return f"frame {first}" if first == last else f"frames {first} to {last}"


def size(count: int | None) -> str:
    """Bytes as an editor reads them: ``12.4 MB``."""
    value = float(count or 0)
    for unit in ("B", "kB", "MB"):
        if value < 1000:
            return f"{value:.0f} {unit}" if unit == "B" else f"{value:.1f} {unit}"
        value /= 1000
    return f"{value:.2f} GB"


def duration(seconds: float) -> str:
    """``0:12.0``, ``1:02:03``."""
    minutes, rest = divmod(seconds, 60)
    if minutes < 60:
        return f"{int(minutes)}:{rest:04.1f}"
    return f"{int(minutes) // 60}:{int(minutes) % 60:02d}:{int(rest):02d}"


def rate(probe: dict[str, Any]) -> str:
    text = f"{probe['rate']:.2f}".rstrip("0").rstrip(".")
    return f"{text} fps, variable" if probe["variable_rate"] else f"{text} fps"
