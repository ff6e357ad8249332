"""What is let in and what is not, byte by byte: uploads are hostile until shown otherwise."""

import random
import struct
from pathlib import Path

import pytest

from keen_horizon.core.errors import DamagedMedia, MediaError
from keen_horizon.core.media.containers import demuxer_for
from keen_horizon.core.media.probe import scan


def box(kind: bytes, *content: bytes, wide: bool = False) -> bytes:
    body = b"".join(content)
    if wide:
        return struct.pack(">I4sQ", 1, kind, len(body) + 16) + body
    return struct.pack(">I4s", len(body) + 8, kind) + body


FTYP = box(b"ftyp", b"isom\x00\x00\x02\x00isom")


def movie(entry: bytes) -> bytes:
    """A movie box with one track whose data reference has one ``entry``."""
    references = box(b"dref", struct.pack(">II", 0, 1), entry)
    return box(b"moov", box(b"trak", box(b"mdia", box(b"minf", box(b"dinf", references)))))


OWN = box(b"url ", b"\x00\x00\x00\x01")
ELSEWHERE = box(b"url ", b"\x00\x00\x00\x00", b"http://127.0.0.1/secret.mp4\x00")
ALIAS = box(b"alis", b"\x00\x00\x00\x00", b"/etc/passwd")


def written(folder: Path, *parts: bytes) -> Path:
    path = folder / "file.mp4"
    path.write_bytes(b"".join(parts))
    return path


@pytest.mark.parametrize(
    "parts",
    [
        (FTYP, movie(OWN), box(b"mdat", b"1234")),
        (FTYP, box(b"mdat", b"1234", wide=True), movie(OWN)),
        (box(b"wide"), box(b"mdat", b"1234"), movie(OWN)),
        (FTYP, movie(OWN), struct.pack(">I4s", 0, b"mdat") + b"runs to the end"),
    ],
    ids=["movie first", "long data first", "old quicktime", "open end"],
)
def test_films_that_hold_their_own_pictures_are_let_in(tmp_path, parts):
    assert demuxer_for(written(tmp_path, *parts)) == "mov"


@pytest.mark.parametrize(
    "parts",
    [
        (FTYP, movie(ELSEWHERE)),
        (FTYP, movie(ALIAS)),
        (FTYP, box(b"moov", box(b"rmra", box(b"rmda", b"rdrf")))),
    ],
    ids=["address", "alias", "reference movie"],
)
def test_films_that_point_elsewhere_are_not(tmp_path, parts):
    with pytest.raises(MediaError, match="lie in other files"):
        demuxer_for(written(tmp_path, *parts))


@pytest.mark.parametrize(
    "parts",
    [
        (FTYP, box(b"mdat", b"1234")),
        (FTYP, movie(OWN), struct.pack(">I4s", 4000, b"mdat") + b"short"),
        (FTYP, struct.pack(">I4s", 3, b"moov")),
    ],
    ids=["no movie", "data cut short", "impossible length"],
)
def test_films_that_are_cut_short_are_damaged(tmp_path, parts):
    with pytest.raises(DamagedMedia, match="part of it is missing"):
        demuxer_for(written(tmp_path, *parts))


EBML = b"\x1a\x45\xdf\xa3\x84\x42\x86\x81\x01"


@pytest.mark.parametrize(
    ("content", "good"),
    [
        (EBML + b"\x18\x53\x80\x67\x82ab", True),
        (EBML + b"\x18\x53\x80\x67\x01\xff\xff\xff\xff\xff\xff\xffab", True),  # size unknown
        (EBML + b"\x18\x53\x80\x67\x8fab", False),  # shorter than it says
        (EBML + b"\x18\x53\x80\x67", False),
        (EBML + b"something", False),
        (b"\x1a\x45\xdf\xa3", False),
        (b"\x1a\x45\xdf\xa3\x00\x00", False),
    ],
)
def test_matroska_must_be_all_there(tmp_path, content, good):
    path = tmp_path / "file.mkv"
    path.write_bytes(content)
    if good:
        assert demuxer_for(path) == "matroska"
    else:
        with pytest.raises(DamagedMedia):
            demuxer_for(path)


@pytest.mark.parametrize("name", ["mutant.mp4", "mutant.mkv"])
def test_whatever_is_done_to_a_file_it_works_or_is_refused_by_name(make_clip, tmp_path, name):
    """Bytes changed at random, always the same way: nothing but MediaError may come out."""
    whole = make_clip(f"whole-{name}", count=12).read_bytes()
    chance = random.Random(5)
    path = tmp_path / name
    refused = 0
    for _ in range(60):
        content = bytearray(whole)
        for _ in range(chance.choice([1, 4, 16])):
            at = chance.randrange(len(content))
            content[at : at + 4] = chance.choice([b"\xff" * 4, bytes(4), b"\x7f\xff\0\1"])
        path.write_bytes(content[: chance.choice([len(content), chance.randrange(len(content))])])
        try:
            assert scan(path).probe.frame_count >= 2
        except MediaError as error:
            assert str(error).startswith(name)
            refused += 1
    assert 0 < refused <= 60
