"""Requests and files that nobody means well with: ``./keen bench hostile``; many people at once:
``./keen bench editors``.

All against a running application, or the command line, as they are in use.
"""

from __future__ import annotations

import copy
import json
import os
import random
import re
import socket
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request
from collections import Counter
from collections.abc import Iterator, Set
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
from flask import Flask

from keen_horizon.core.errors import MediaError
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import Scan, scan
from keen_horizon.launch.postgres import free_port
from keen_horizon.launch.processes import compiled_once
from keen_horizon.launch.running import Running, application
from keen_horizon.simulated.brindle_quay import quay_walk
from keen_horizon.simulated.record import record
from keen_horizon.web import create_app

from .films import black_png
from .rows import Row, say

REQUESTS, FILES, PICTURES = 2000, 400, 50
EDITORS, EDITING = 20, 60.0  # people at once, seconds
STALLED, HALF_SENT = 14, 40
MOST_MEMORY, MOST_SECONDS = 1.5e9, 20.0  # of reading one picture
APART = 6.0  # code values between two decoded pictures that are not the same one
HOME = Path(__file__).parent.parent


def hostile(folder: Path) -> list[Row]:
    film = folder / "walk.mp4"
    record(quay_walk(2.0), film)
    rows = _files(folder, film) + _pictures(folder)
    with application(folder / "app", free_port()) as running:
        clip = _dropped(running, film)
        return [*rows, _requests(running, clip), _held_up(running)]


def editors(folder: Path) -> list[Row]:
    film = folder / "walk.mp4"
    record(quay_walk(2.0), film)
    with application(folder / "app", free_port()) as running:
        return _load(running, _dropped(running, film))


# --- a client -------------------------------------------------------------------------------------


class Client:
    """Somebody with a page open."""

    def __init__(self, running: Running) -> None:
        self._home = running.address.rstrip("/")
        self._opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor())
        page = self._opener.open(f"{self._home}/", timeout=30).read().decode()
        found = re.search(r'csrf-token" content="([^"]+)"', page)
        assert found
        self._token = found.group(1)

    def ask(
        self, path: str, body: bytes | None = None, method: str | None = None, **headers: str
    ) -> tuple[int, bytes]:
        request = urllib.request.Request(
            f"{self._home}{path}", data=body, method=method,
            headers={
                "X-CSRFToken": self._token, "Accept": "application/json",
                "Content-Type": "application/json", "X-Page": f"{id(self)}", **headers,
            },
        )  # fmt: skip
        try:
            with self._opener.open(request, timeout=60) as answer:
                return answer.status, answer.read()
        except urllib.error.HTTPError as error:
            return error.code, error.read()

    def told(self, path: str, body: object = None, method: str | None = None) -> dict[str, Any]:
        content = None if body is None else json.dumps(body).encode()
        status, answer = self.ask(path, content, method)
        if status != 200:
            raise RuntimeError(f"{path}: {status} {answer[:200]!r}")
        return dict(json.loads(answer))


def _dropped(running: Running, film: Path) -> int:
    """A clip of the film, ready."""
    client = Client(running)
    shoot = client.told("/shoots", {"name": "Hostile"})["id"]
    status, answer = client.ask(
        f"/shoots/{shoot}/recordings?name=walk.mp4", film.read_bytes(), "POST"
    )
    assert status == 200
    clip = int(json.loads(answer)["clip"])
    for _ in range(600):
        if client.told(f"/clips/{clip}/open", {})["phase"] == "ready":
            return clip
        time.sleep(0.2)
    raise RuntimeError("the clip was never ready")


# --- requests -------------------------------------------------------------------------------------


def _requests(running: Running, clip: int) -> Row:
    say(f"{REQUESTS} mutated requests over all routes")
    chance, client = random.Random(11), Client(running)
    routes = addresses(create_app(running.url, running.data), clip, {"POST", "PATCH", "PUT"})
    treatment = client.told(f"/clips/{clip}/solution")["treatment"]
    answered: Counter[int] = Counter()
    broken = ""
    for k in range(REQUESTS):
        path, method = routes[k % len(routes)]
        status, answer = client.ask(path, _mutant(treatment, chance), method)
        answered[status] += 1
        if status >= 500 and not (path == "/healthz" and status == 503):
            broken = broken or f"{method} {path}: {answer[:120]!r}"
    alive = running.crew.processes["web"].poll() is None
    wrong = sum(n for status, n in answered.items() if status >= 500)
    said = ", ".join(f"{n} × {status}" for status, n in sorted(answered.items()))
    return Row(
        f"hostile: {REQUESTS} mutated JSON requests over {len(routes)} routes", "none answered 500",
        f"{wrong} ({said})", wrong == 0 and alive, broken,
    )  # fmt: skip


def addresses(app: Flask, clip: int, methods: Set[str]) -> list[tuple[str, str]]:
    """Every address of the application, about a clip where it is about one, with each of these
    methods that it takes."""
    found = set()
    with app.test_request_context():
        for rule in app.url_map.iter_rules():
            if rule.endpoint == "static":
                continue
            values: dict[str, Any] = {name: WORDS.get(name, 1) for name in rule.arguments}
            if "clip_id" in values:
                values["clip_id"] = clip
            built = rule.build(values, append_unknown=False)
            assert built is not None
            found |= {(built[1].split("|")[-1], m) for m in (rule.methods or set()) & methods}
    return sorted(found)


WORDS = {"kind": "pdf", "name": "x"}  # parts of addresses that are no numbers
ODD: tuple[Any, ...] = (
    None, True, -1, 0, 2**31, 2**63, -(2**70), 1e308, 0.1, "", "x", "\x00", "\ud800", "9" * 5000,
    [], [[]], [None] * 50, {}, {"": {}}, [1e9, -1e9], {"frame": -1}, "../../etc/passwd",
)  # fmt: skip


def _mutant(treatment: dict[str, Any], chance: random.Random) -> bytes:
    """A body that a page might have sent, and what became of it."""
    body: dict[str, Any] = {
        "treatment": copy.deepcopy(treatment), "keep": chance.random() < 0.1, "revision": 1,
        "frame": 3, "name": "x", "first": 0, "last": 20, "edges": [], "pins": [[0, 0], [1, 1]],
        "points": [[0.1, 0.2]], "kind": "flat", "each": "pair", "wanted": True, "to": [1],
        "stations": ["motion"], "quality": "good", "lines": 540, "at": [0.5, 0.5], "calm": 40,
    }  # fmt: skip
    for _ in range(chance.choice([1, 1, 2, 4])):
        place: Any = body
        while True:
            keys = list(place) if isinstance(place, dict) else list(range(len(place)))
            if not keys:
                break
            key = chance.choice(keys)
            if isinstance(place[key], dict | list) and place[key] and chance.random() < 0.7:
                place = place[key]
                continue
            if isinstance(place, dict) and chance.random() < 0.2:
                place[f"{key}x"] = place.pop(key)
            else:
                place[key] = copy.deepcopy(chance.choice(ODD))
            break
    content = json.dumps(body).encode()
    if chance.random() < 0.1:
        at = chance.randrange(len(content))
        content = content[:at] + bytes([chance.randrange(256)]) + content[at + 1 :]
    return content


# --- people ---------------------------------------------------------------------------------------


def _held_up(running: Running) -> Row:
    """Uploads that stall and requests that never end must not hold the pages."""
    say("stalled uploads and half-sent requests")
    client = Client(running)
    shoot = client.told("/shoots", {"name": "Stalled"})["id"]
    host, port = running.address.split("//")[1].rstrip("/").split(":")
    held = []
    for k in range(STALLED + HALF_SENT):
        line = socket.create_connection((host, int(port)))
        if k < STALLED:
            line.sendall(
                f"POST /shoots/{shoot}/recordings?name=a.mp4 HTTP/1.1\r\nHost: {host}\r\n"
                "Content-Length: 9000000\r\n\r\nabc".encode()
            )
        else:
            line.sendall(f"POST /shoots HTTP/1.1\r\nHost: {host}\r\nConte".encode())
        held.append(line)
    time.sleep(1.0)
    taken = []
    for _ in range(20):
        started = time.perf_counter()
        client.told("/shelf.json")
        taken.append(time.perf_counter() - started)
    for line in held:
        line.close()
    worst = max(taken)
    return Row(
        f"{STALLED} stalled uploads and {HALF_SENT} half-sent requests: the shelf answers",
        "≤ 1 s", f"{worst:.2f} s at the most", worst <= 1.0,
    )  # fmt: skip


def _load(running: Running, clip: int) -> list[Row]:
    say(f"{EDITORS} editors at once, {EDITING:.0f} s")
    slides: list[float] = []
    shelves: list[float] = []
    errors: list[str] = []
    until = time.monotonic() + EDITING

    def edit(number: int) -> None:
        chance, client = random.Random(number), Client(running)
        treatment = client.told(f"/clips/{clip}/solution")["treatment"]
        while time.monotonic() < until:
            treatment["motion"]["calm"] = chance.uniform(5, 95)
            asked = [("slide", slides)] * 3 + [("shelf", shelves)]
            for what, taken in asked:
                started = time.perf_counter()
                try:
                    if what == "shelf":
                        client.told("/shelf.json")
                    else:
                        order = {"treatment": treatment, "sliding": True}
                        client.told(f"/clips/{clip}/treatment", order)
                except (RuntimeError, OSError) as error:
                    errors.append(str(error))
                taken.append(time.perf_counter() - started)
                time.sleep(chance.uniform(0.5, 1.5))  # as long as a hand rests

    people = [threading.Thread(target=edit, args=(k,)) for k in range(EDITORS)]
    for one in people:
        one.start()
    for one in people:
        one.join()
    slide, shelf = (float(np.percentile(times, 95)) for times in (slides, shelves))
    return [
        Row(f"{EDITORS} editors at once, {EDITING:.0f} s: a slider's answer, nineteen of twenty",
            "≤ 1 s", f"{slide:.2f} s ({len(slides)} asked)", slide <= 1.0),
        Row("the same: the shelf's", "≤ 0.5 s", f"{shelf:.2f} s", shelf <= 0.5),
        Row("the same: errors", "none", f"{len(errors)}", not errors, "; ".join(errors[:2])),
    ]  # fmt: skip


# --- films ----------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Tried:
    """What became of a damaged file: ``ended`` says how in a word, ``unsaid`` that its pictures
    were not those of the whole file, and nobody said so."""

    ended: str
    unsaid: bool = False
    story: str = ""


def _files(folder: Path, film: Path) -> list[Row]:
    say(f"{FILES} damaged films")
    wholes = [film, *_others(folder, film)]
    with ThreadPoolExecutor(2) as pool:
        tried = list(pool.map(lambda k: _tried(folder, wholes[k % len(wholes)], k), range(FILES)))
    ends = Counter(one.ended for one in tried)
    crashed = [one for one in tried if one.ended in ("crashed", "hung", "half a file")]
    unsaid = [one for one in tried if one.unsaid]
    said = ", ".join(f"{n} {words}" for words, n in ends.most_common())
    return [
        Row(f"hostile: {FILES} damaged films, corrected by the command line",
            "no crash, no traceback, no half file", said, not crashed,
            "; ".join(one.story for one in crashed[:3])),
        Row("the same: other pictures than the whole file's, without a word", "none",
            f"{len(unsaid)}", not unsaid, "; ".join(one.story for one in unsaid[:3])),
    ]  # fmt: skip


def _others(folder: Path, film: Path) -> Iterator[Path]:
    """The same pictures in other containers."""
    found = scan(film)
    for suffix in (".mkv", ".ts"):
        other = film.with_suffix(suffix)
        program = "import av,sys\nwith av.open(sys.argv[1]) as a, av.open(sys.argv[2],'w') as b:\n"
        program += " s=a.streams.video[0]; t=b.add_stream_from_template(s)\n"
        program += " for p in a.demux(s):\n  if p.dts is not None: p.stream=t; b.mux(p)\n"
        subprocess.run([sys.executable, "-c", program, film, other], check=True)
        if scan(other).probe.frame_count == found.probe.frame_count:
            yield other


def _tried(folder: Path, whole: Path, number: int) -> Tried:
    """Damage a film, correct it, and look at what came of it."""
    chance = random.Random(number)
    content = bytearray(whole.read_bytes())
    way = chance.choice(["flips", "flips", "zeros", "cut", "taken out"])
    if way == "flips":
        for _ in range(chance.choice([1, 5, 40, 200])):
            content[chance.randrange(len(content))] ^= 1 << chance.randrange(8)
    elif way == "zeros":
        at, size = chance.randrange(len(content)), chance.choice([50, 500, 5000])
        content[at : at + size] = bytes(len(content[at : at + size]))
    elif way == "cut":
        del content[chance.randrange(len(content)) :]
    else:
        at, size = chance.randrange(len(content)), chance.choice([100, 3000])
        del content[at : at + size]
    path = folder / f"damaged-{number}{whole.suffix}"
    out, told = folder / f"out-{number}.mp4", folder / f"told-{number}.json"
    path.write_bytes(content)
    story = f"{way} of {whole.suffix}, {number}"
    try:
        done = subprocess.run(
            [sys.executable, "-m", "keen_horizon.cli", "correct", path, out, "--report", told,
             "--set", "motion.model=shift", "--lines", "180"],
            capture_output=True, text=True, timeout=180, cwd=HOME,
            env={**os.environ, **compiled_once(str(folder / "compiled"))},
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return Tried("hung", story=story)
    try:
        if done.returncode < 0 or "Traceback" in done.stderr:
            return Tried("crashed", story=f"{story}: {done.stderr[-300:]}")
        if done.returncode:
            half = out.exists() or list(folder.glob(f"out-{number}.mp4.part"))
            return Tried("half a file" if half else "refused in words", story=story)
        report = json.loads(told.read_text())
        if report.get("damaged_frames") or "damaged" in done.stderr:
            return Tried("corrected, its damage told")
        return Tried("corrected", _differs(path, whole), story)
    finally:
        for left in (path, out, told):
            left.unlink(missing_ok=True)


def _differs(path: Path, whole: Path) -> bool:
    """Whether a file that is said to be good has other pictures than the whole one at the same
    times."""
    try:
        found, true = scan(path), scan(whole)
        known = {
            round(time_, 3): picture.planes[0].copy()
            for time_, picture in zip(true.times, _all(whole, true), strict=True)
        }
        for time_, picture in zip(found.times, _all(path, found), strict=True):
            same = known.get(round(time_, 3))
            if same is None or same.shape != picture.planes[0].shape:
                continue  # its times were damaged, or its beginning is gone: not other pictures
            if float(np.abs(same.astype(float) - picture.planes[0]).mean()) > APART:
                return True
    except MediaError:
        return False
    return False


def _all(path: Path, found: Scan) -> Iterator[Any]:
    return frames(path, found, 0, found.probe.frame_count - 1, luma_only=True)


# --- pictures and calibrations --------------------------------------------------------------------


def _pictures(folder: Path) -> list[Row]:
    say(f"{PICTURES} hostile pictures and calibrations")
    ends: Counter[str] = Counter()
    memory, seconds, stories = 0.0, 0.0, []
    for k, (name, content) in enumerate(_hostile_pictures()):
        path = folder / name
        path.write_bytes(content)
        target = folder / f"lens-{k}.json"
        if path.suffix == ".yml":
            order = ["lens", "convert", path, target]
        else:
            order = ["lens", "chart", path, "--out", target]
        ended, used, taken = _used([sys.executable, "-m", "keen_horizon.cli", *map(str, order)])
        ends[ended] += 1
        memory, seconds = max(memory, used), max(seconds, taken)
        if ended not in ("refused in words", "read"):
            stories.append(f"{name}: {ended}")
        path.unlink()
    met = not stories and memory <= MOST_MEMORY and seconds <= MOST_SECONDS
    said = ", ".join(f"{n} {words}" for words, n in ends.most_common())
    return [
        Row(f"hostile: {sum(ends.values())} pictures and calibrations",
            "no crash; ≤ 1.5 GB, ≤ 20 s each",
            f"{said}; {memory / 1e9:.2f} GB, {seconds:.1f} s at the most", met,
            "; ".join(stories[:3])),
    ]  # fmt: skip


def _used(order: list[str]) -> tuple[str, float, float]:
    """How a program ended, the most memory that it had in bytes, and seconds."""
    started = time.monotonic()
    with open(os.devnull, "wb") as nothing:  # noqa: PTH123
        program = subprocess.Popen(order, stdout=nothing, stderr=subprocess.PIPE, cwd=HOME)
        assert program.stderr is not None
        said = program.stderr.read().decode(errors="replace")
        _, status, usage = os.wait4(program.pid, 0)
    program.returncode = os.waitstatus_to_exitcode(status)
    taken = time.monotonic() - started
    if program.returncode < 0 or "Traceback" in said:
        return f"crashed ({program.returncode}) {said[-150:]}", 1024.0 * usage.ru_maxrss, taken
    ended = "read" if program.returncode == 0 else "refused in words"
    return ended, 1024.0 * usage.ru_maxrss, taken


def _hostile_pictures() -> Iterator[tuple[str, bytes]]:
    chance = random.Random(3)
    rng = np.random.default_rng(3)
    noise = rng.integers(0, 255, (1500, 2000), np.uint8)
    _, jpeg = cv2.imencode(".jpg", noise)
    _, png = cv2.imencode(".png", noise)
    for size in ((10_000, 10_000), (30_000, 30_000), (7_000, 8_000), (100_000, 500), (1, 1)):
        yield f"black-{size[0]}.png", black_png(*size)
    for lines in (2000, 4000, 6000):
        texture = rng.integers(0, 255, (lines, lines * 4 // 3), np.uint8)
        yield f"texture-{lines}.jpg", cv2.imencode(".jpg", texture)[1].tobytes()
        yield f"flat-{lines}.png", black_png(lines * 4 // 3, lines)
    for k in range(14):
        for whole, suffix in ((jpeg.tobytes(), "jpg"), (png.tobytes(), "png")):
            content = bytearray(whole)
            for _ in range(chance.choice([1, 10, 100])):
                content[chance.randrange(min(len(content), 2000))] = chance.randrange(256)
            if k % 4 == 3:
                del content[chance.randrange(len(content)) :]
            yield f"damaged-{k}.{suffix}", bytes(content)
    insides = ("[" * 60_000, "{a: " * 30_000, "\n".join(" " * k + "a:" for k in range(3000)),
               "!!opencv-matrix\n   rows: 99999999\n   cols: 99999999\n   dt: d\n   data: [1]",
               "9" * 100_000, "\x00" * 1000, "&a [*a, *a]", "nan")  # fmt: skip
    for k, inside in enumerate(insides):
        yield f"calibration-{k}.yml", f"%YAML:1.0\n---\ncamera_matrix: {inside}".encode()
    yield "words.jpg", b"just words"
    yield "empty.png", b""
    yield "script.yml", b"#!/bin/sh\nrm -rf /tmp/x\n"
