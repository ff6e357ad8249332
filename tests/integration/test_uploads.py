"""Files that come in pieces, over connections that break."""

from __future__ import annotations

import base64
import hashlib
import io
import os
import random
import socket
import threading
import time
from itertools import pairwise
from pathlib import Path
from unittest.mock import Mock
from urllib.parse import urlsplit

import pytest
from sqlalchemy.exc import OperationalError

from keen_horizon.store import uploads as module
from keen_horizon.store.models import Clip
from keen_horizon.store.uploads import OutOfStep, Uploads
from tests.integration.conftest import Place

pytestmark = pytest.mark.integration

HEADERS = {"Tus-Resumable": "1.0.0", "Accept": "application/json"}


def told(place: Place, **more: str) -> dict[str, str]:
    return {
        **HEADERS,
        "X-CSRFToken": place.token,
        **{k.replace("_", "-"): v for k, v in more.items()},
    }


def announce(place: Place, shoot: int, name: str, size: int):
    encoded = base64.b64encode(name.encode()).decode()
    headers = told(place, Upload_Length=str(size), Upload_Metadata=f"filename {encoded}")
    return place.client.post(f"/shoots/{shoot}/uploads", headers=headers)


def send(place: Place, address: str, at: int, piece: bytes):
    return place.client.patch(
        address, data=piece, headers=told(place, Upload_Offset=str(at)),
        content_type="application/offset+octet-stream",
    )  # fmt: skip


def test_a_file_in_pieces_is_the_file(place: Place, make_clip):
    whole = make_clip("pieces.mp4", count=12).read_bytes()
    shoot = place.shoot("pieces")
    begun = announce(place, shoot, "some/where/pieces é.mp4", len(whole))
    assert begun.status_code == 201
    address = begun.headers["Location"]
    cuts = [0, 1, 1000, 1000, len(whole) // 2, len(whole)]
    for start, stop in pairwise(cuts):
        asked = place.client.head(address, headers=HEADERS)
        assert asked.headers["Upload-Offset"] == str(start)
        assert asked.headers["Cache-Control"] == "no-store"
        answer = send(place, address, start, whole[start:stop])
        assert (answer.status_code, answer.headers["Upload-Offset"]) == (204, str(stop))
    clip = int(answer.headers["X-Clip"])
    # Whoever did not hear the last answer asks again, and is told the same.
    asked = place.client.head(address, headers=HEADERS)
    assert asked.headers["Upload-Offset"] == str(len(whole))
    assert int(asked.headers["X-Clip"]) == clip
    with place.database.session() as session:
        row = session.get_one(Clip, clip)
        assert row.name == "pieces é"
        key, size = row.recording.source_key, row.recording.size
    assert size == len(whole)
    kept = place.store.path(key).read_bytes()
    assert hashlib.sha256(kept).digest() == hashlib.sha256(whole).digest()


def test_pieces_that_do_not_fit_are_refused_and_change_nothing(place: Place, make_clip):
    whole = make_clip("fit.mp4", count=12).read_bytes()
    address = announce(place, place.shoot(), "fit.mp4", len(whole)).headers["Location"]
    assert send(place, address, 0, whole[:500]).status_code == 204
    assert send(place, address, 0, whole[:500]).status_code == 409
    assert send(place, address, 900, whole[900:]).status_code == 409
    wrong = place.client.patch(address, data=b"x", headers=told(place, Upload_Offset="500"))
    assert wrong.status_code == 400
    assert place.client.head(address).status_code == 412  # no version
    # More than was announced is not taken.
    assert send(place, address, 500, whole[500:] + b"more").status_code == 204
    other = announce(place, place.shoot(), "gone.mp4", 10).headers["Location"]
    assert place.client.delete(other, headers=told(place)).status_code == 204
    assert place.client.head(other, headers=HEADERS).status_code == 404
    assert place.client.head("/uploads/..%2f..", headers=HEADERS).status_code == 404


def test_what_cannot_be_footage_is_refused_in_words(place: Place, monkeypatch):
    shoot = place.shoot()
    assert announce(place, 10**6, "a.mp4", 10).status_code == 404
    assert announce(place, shoot, "a.mp4", 10**14).status_code == 413
    for length in ("-1", "x", "", "1" * 40):
        headers = told(place, Upload_Length=length)
        answer = place.client.post(f"/shoots/{shoot}/uploads", headers=headers)
        assert answer.status_code == 400, length
    headers = told(place, Upload_Length="5", Upload_Metadata="filename %%%")
    answer = place.client.post(f"/shoots/{shoot}/uploads", headers=headers)
    assert answer.status_code == 400
    letter = b"Dear editor, this is no film." * 20
    address = announce(place, shoot, "letter.mp4", len(letter)).headers["Location"]
    answer = send(place, address, 0, letter)
    assert answer.status_code == 400
    assert "letter.mp4: this is not a video file" in answer.json["error"]
    assert place.client.head(address, headers=HEADERS).status_code == 404
    place.post(f"/shoots/{shoot}", method="DELETE")
    assert announce(place, shoot, "late.mp4", 10).status_code == 404
    monkeypatch.setattr(module, "MOST_OPEN", 0)
    assert announce(place, place.shoot(), "many.mp4", 10).status_code == 400


def test_only_one_sends_at_a_time_and_what_nobody_sends_is_given_up(place: Place):
    uploads = Uploads(place.store)
    upload = uploads.begin(1, "slow.mp4", 100)
    with uploads._alone(upload), pytest.raises(OutOfStep, match="already"):
        uploads.append(upload, 0, io.BytesIO(b"x"))
    uploads.sweep()
    assert uploads.find(upload.number) == upload
    for path in (place.store.root / "uploads" / upload.number).glob("*"):
        os.utime(path, (0, 0))
    uploads.sweep()
    with pytest.raises(module.NotFound):
        uploads.find(upload.number)


def test_a_connection_that_is_cut_ten_times_loses_nothing(place: Place, make_clip):
    """Over real sockets: the server hears nothing but a reset, in the middle of a piece."""
    from werkzeug.serving import make_server

    whole = make_clip("cut.mp4", count=200, width=640, height=480).read_bytes()
    server = make_server("127.0.0.1", 0, place.client.application, threaded=True)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        shoot, rng = place.shoot("cut"), random.Random(4)
        address = urlsplit(announce(place, shoot, "cut.mp4", len(whole)).headers["Location"]).path
        cookie = place.client.get_cookie("session")
        at, cuts, clip, told_ = 0, 0, "", ""
        until = time.monotonic() + 120
        while not clip:
            assert time.monotonic() < until, f"{at} of {len(whole)} bytes, then: {told_}"
            asked = place.client.head(address, headers=HEADERS)
            at = int(asked.headers["Upload-Offset"])
            head = (
                f"PATCH {address} HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n"
                f"Cookie: session={cookie.value}\r\nX-CSRFToken: {place.token}\r\n"
                "Tus-Resumable: 1.0.0\r\nContent-Type: application/offset+octet-stream\r\n"
                f"Upload-Offset: {at}\r\nContent-Length: {len(whole) - at}\r\n\r\n"
            )
            with socket.create_connection(("127.0.0.1", server.port), timeout=60) as line:
                line.sendall(head.encode())
                if cuts < 10:
                    line.sendall(whole[at : at + rng.randrange(1, len(whole) // 14)])
                    cuts += 1
                    line.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, b"\1\0\0\0\0\0\0\0")
                    continue
                line.sendall(whole[at:])
                answer = b""
                while piece := line.recv(65536):
                    answer += piece
            told_ = answer.decode()
            if "X-Clip" in told_:
                clip = told_.split("X-Clip: ")[1].split("\r\n")[0]
    finally:
        server.shutdown()
    with place.database.session() as session:
        key = session.get_one(Clip, int(clip)).recording.source_key
    assert hashlib.sha256(place.store.path(key).read_bytes()).hexdigest() == Path(key).stem
    assert Path(key).stem == hashlib.sha256(whole).hexdigest()


def test_a_database_that_is_away_at_the_last_byte_costs_nothing(
    place: Place, make_clip, monkeypatch
):
    whole = make_clip("last byte.mp4", count=12).read_bytes()
    address = announce(place, place.shoot(), "last byte.mp4", len(whole)).headers["Location"]
    outage = OperationalError("select 1", {}, Exception("server closed the connection"))
    with monkeypatch.context() as broken:
        broken.setattr("keen_horizon.web.library.library.get_shoot", Mock(side_effect=outage))
        assert send(place, address, 0, whole).status_code == 503
    have = int(place.client.head(address, headers=HEADERS).headers["Upload-Offset"])
    assert have == len(whole) - 1
    answer = send(place, address, have, whole[have:])
    assert answer.status_code == 204
    assert int(answer.headers["X-Clip"]) > 0


def test_uploads_that_have_ended_do_not_count_among_those_under_way(place: Place, make_clip):
    uploads = Uploads(place.store)
    before = len(list((place.store.root / "uploads").glob("*/part")))
    upload = uploads.begin(1, "ended.mp4", 3)
    uploads.became(upload, 7)
    assert len(list((place.store.root / "uploads").glob("*/part"))) == before
    assert uploads.find(upload.number).clip == 7
