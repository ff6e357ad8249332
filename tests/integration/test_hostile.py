"""Requests that no page of ours sends, files that no camera wrote: answered in words."""

from __future__ import annotations

import struct

import cv2
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.integration.test_lenses import send
from tools.films import black_png
from tools.hostile import addresses

pytestmark = pytest.mark.integration
BODIES = [
    b"",
    b"[1]",
    b'"x"',
    b"7",
    b"null",
    b"{",
    b"[" * 60_000,
    b'{"a": NaN}',
    b"\xff\xfe",
    b'{"treatment": 5, "frame": "x", "name": 7, "lines": [], "first": {}, "edges": 3}',
]


@pytest.fixture(scope="module")
def raw(place, make_clip) -> int:
    """A clip that has not been taken in."""
    return place.add(make_clip("raw.mp4", count=4))[1]


@pytest.fixture(scope="module")
def clip(place, make_clip) -> int:
    return place.measured(make_clip("hostile.mp4", count=10))[1]


def ask(place, path: str, method: str, content: bytes):
    headers = {"X-CSRFToken": place.token, "Accept": "application/json"}
    return place.client.open(
        path, method=method, data=content, headers=headers, content_type="application/json"
    )


@pytest.mark.parametrize("content", BODIES, ids=range(len(BODIES)))
@pytest.mark.parametrize("which", ["raw", "clip"])
def test_no_body_at_any_address_is_an_error_of_ours(place, raw, clip, which, content):
    about = raw if which == "raw" else clip
    asked = addresses(place.client.application, about, {"GET", "POST", "PATCH"})
    assert len(asked) > 50
    for path, method in asked:
        answer = ask(place, path, method, content)
        if path == "/healthz" and answer.status_code == 503:
            continue  # which is its answer where nobody works
        assert answer.status_code < 500, (method, path, answer.get_data(as_text=True)[:300])


def test_what_is_asked_of_a_clip_that_is_not_taken_in_says_to_wait(place, raw):
    for method, what, body in (
        ("GET", "lens/angle?degrees=90", {}),
        ("POST", "lens/fit", {"edges": [{"frame": 0, "points": [[0, 0], [0.5, 0.5], [1, 1]]}]}),
        ("POST", "lens/look", {"frame": 0}),
        ("POST", "lens/trace", {"frame": 0, "pins": [[0, 0], [1, 1]]}),
    ):
        answer = place.post(f"/clips/{raw}/{what}", body, method)
        assert answer.status_code == 400
        assert "taken in" in answer.json["error"], what


anything = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(max_size=9),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=9), inner),
    max_leaves=6,
)


@settings(max_examples=120, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data())
def test_any_value_in_a_treatment_is_taken_or_refused_in_words(place, clip, data):
    treatment = place.get(f"/clips/{clip}/solution").json["treatment"]
    part = data.draw(st.sampled_from([k for k, v in treatment.items() if isinstance(v, dict)]))
    name = data.draw(st.sampled_from(sorted(treatment[part])) if treatment[part] else st.text())
    treatment[part][name] = data.draw(anything)
    answer = place.post(f"/clips/{clip}/treatment", {"treatment": treatment, "sliding": True})
    assert answer.status_code in (200, 400), answer.json
    if answer.status_code == 400:
        assert answer.json["error"]


@pytest.mark.parametrize(
    "inside", ["[" * 60_000, "{a: " * 30_000, "\n".join(" " * k + "a:" for k in range(3000))]
)
def test_a_calibration_nested_without_end_leaves_the_application_standing(place, clip, inside):
    text = f"%YAML:1.0\n---\na: {inside}".encode()
    answer = send(place, f"/clips/{clip}/lenses/import", "deep.yml", text)
    assert answer.status_code == 400
    assert answer.json["error"].startswith("deep.yml: ")
    assert place.get("/shelf.json").status_code == 200


def misleading_jpeg(width: int, height: int, claimed: tuple[int, int]) -> bytes:
    """A JPEG with a fill byte before its first marker and a false frame header in a comment."""
    done, data = cv2.imencode(".jpg", np.zeros((height, width), np.uint8))
    assert done
    false = (
        b"\xff\xc0\x00\x0b\x08" + struct.pack(">HH", claimed[1], claimed[0]) + b"\x01\x01\x11\x00"
    )
    comment = b"\xff\xff\xfe" + struct.pack(">H", 2 + len(false)) + false
    return data.tobytes()[:2] + comment + data.tobytes()[2:]


def test_photographs_that_are_too_large_are_refused_by_name_and_hold_nobody_up(place, clip):
    large = send(place, f"/clips/{clip}/photos", "large.png", black_png(10_000, 10_000)).json
    hidden = misleading_jpeg(9000, 9000, (640, 480))
    sly = send(place, f"/clips/{clip}/photos", "sly.jpg", hidden).json
    asked = {"columns": 9, "rows": 6, "photos": [large, sly]}
    job = place.post(f"/clips/{clip}/chart", asked).json["work"]["id"]
    assert place.work_now(job) == "done"
    told = place.post(f"/clips/{clip}/chart", asked).json
    faults = {view["name"]: view["fault"] for view in told["views"]}
    assert "60 million pixels" in faults["large.png"]
    assert "60 million pixels" in faults["sly.jpg"]


def test_a_picture_in_the_browser_is_kept_by_what_it_shows(place, clip, make_clip):
    other = place.measured(make_clip("other.mp4", count=6, blank=True))[1]
    proxies = [place.post(f"/clips/{one}/open").json["proxy"] for one in (clip, other)]
    names = [address.rsplit("/", 1)[1] for address in proxies]
    assert names[0] != names[1]
    answer = place.client.get(proxies[0])
    assert "max-age=31536000" in answer.headers["Cache-Control"]
    # Another film under the same number is another address, and the old one leads nowhere.
    stale = proxies[1].rsplit("/", 1)[0] + "/" + names[0]
    assert place.client.get(stale, headers={"Accept": "application/json"}).status_code == 404
