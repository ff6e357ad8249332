"""Work in a process of its own: what it may take, and how it ends."""

from __future__ import annotations

import os
import time

import cv2
import numpy as np
import pytest

from keen_horizon.core.errors import Cancelled, KeenError
from keen_horizon.core.isolation import IsolatedProcess, TooMuch


def fill(size: int) -> int:
    return int(np.ones(size, np.uint8).sum())


def enlarge(side: int) -> int:
    return int(cv2.resize(np.zeros((9, 9), np.uint8), (side, side)).size)


def refuse(words: str) -> None:
    raise KeenError(words, file="some.png")


def die() -> None:
    os._exit(9)


def test_values_and_errors_come_back_and_one_process_serves_all_calls():
    with IsolatedProcess() as process:
        number = process.call(os.getpid)
        assert number not in (os.getpid(), 0)
        assert process.call(os.getpid) == number
        assert process.call(fill, 1000) == 1000
        with pytest.raises(KeenError, match=r"some\.png: no good") as caught:
            process.call(refuse, "no good.")
        assert caught.value.reason == "no good."
        assert process.call(os.getpid) == number
    with pytest.raises(ProcessLookupError):
        os.kill(number, 0)


def test_too_much_memory_is_refused_and_the_next_call_works():
    with IsolatedProcess(memory=200_000_000) as process:
        process.call(fill, 1000)
        with pytest.raises(TooMuch, match="more memory"):
            process.call(fill, 2_000_000_000)
        with pytest.raises(TooMuch, match="more memory"):
            process.call(enlarge, 60_000)
        assert process.call(fill, 1000) == 1000


def test_what_takes_too_long_or_dies_is_ended_and_the_next_call_works():
    with IsolatedProcess(seconds=1.5) as process:
        first = process.call(os.getpid)
        with pytest.raises(TooMuch, match=r"longer than 1\.5 seconds"):
            process.call(time.sleep, 60)
        with pytest.raises(TooMuch):
            process.call(die)
        assert process.call(os.getpid) != first


def test_whoever_looks_up_can_end_it_at_once():
    def nobody_waits() -> None:
        raise Cancelled("cancelled.")

    with IsolatedProcess() as process:
        number = process.call(os.getpid)
        started = time.monotonic()
        with pytest.raises(Cancelled):
            process.call(time.sleep, 60, look_up=nobody_waits)
        assert time.monotonic() - started < 20
        with pytest.raises(ProcessLookupError):
            os.kill(number, 0)
