"""What a benchmark is made of."""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

ROUNDS = 3


@dataclass
class Row:
    """One line of ``docs/benchmarks.md``."""

    what: str
    bar: str
    measured: str
    met: bool
    note: str = ""


def say(text: str) -> None:
    print(f"bench: {text}", file=sys.stderr, flush=True)


def timed(action: Callable[[], object], rounds: int = ROUNDS) -> float:
    """Median seconds of a few runs."""
    taken = []
    for _ in range(rounds):
        start = time.perf_counter()
        action()
        taken.append(time.perf_counter() - start)
    return float(np.median(taken))
