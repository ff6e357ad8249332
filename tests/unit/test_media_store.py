"""The media vault: whole files under their content's name, and work that outlives its worker."""

import os
import time

import pytest

from keen_horizon.core.errors import NoRoom
from keen_horizon.store.media_store import MediaStore


@pytest.fixture
def vault(tmp_path) -> MediaStore:
    return MediaStore(tmp_path / "vault")


def test_a_folder_is_named_by_all_that_is_in_it(vault):
    def adopted(**files: bytes) -> str:
        with vault.workspace() as room:
            folder = room / "measure"
            folder.mkdir()
            for name, content in files.items():
                (folder / name).write_bytes(content)
            return vault.adopt_folder("measures", folder)

    first = adopted(marks=b"1", frames=b"2")
    assert adopted(marks=b"1", frames=b"2") == first
    assert adopted(marks=b"1", frames=b"3") != first
    assert adopted(markss=b"1", frames=b"2") != first
    assert (vault.path(first) / "marks").read_bytes() == b"1"


def test_a_workspace_goes_whatever_happens(vault):
    with pytest.raises(RuntimeError), vault.workspace() as room:
        (room / "half").write_bytes(b"x")
        raise RuntimeError
    assert list((vault.root / "workspaces").iterdir()) == []


def test_the_next_attempt_takes_over_what_a_killed_one_left(vault):
    rooms = vault.root / "workspaces"
    left = rooms / "work-7-1"
    left.mkdir()
    (left / "pictures-0.mp4").write_bytes(b"whole")
    other = rooms / "work-77-1"
    other.mkdir()
    with vault.room_of(7, 2) as room:
        assert (room / "pictures-0.mp4").read_bytes() == b"whole"
        assert not left.exists()
        # The first one wakes up again and clears its own: that is nothing any more.
        with pytest.raises(FileNotFoundError):
            (left / "pictures-250.mp4").write_bytes(b"late")
    assert [p.name for p in rooms.iterdir()] == ["work-77-1"]


def test_an_attempt_that_was_replaced_clears_nothing_of_its_successor(vault):
    with vault.room_of(3, 1) as first:
        (first / "kept").write_bytes(b"1")
        with vault.room_of(3, 2) as second:
            assert not first.exists()
            assert (second / "kept").exists()


def test_only_forgotten_workspaces_are_cleared(vault):
    rooms = vault.root / "workspaces"
    old, young = rooms / "work-1-1", rooms / "work-2-1"
    for folder in (old, young):
        folder.mkdir()
    long_ago = time.time() - 2 * 24 * 3600
    os.utime(old, (long_ago, long_ago))
    vault.clear_stale_workspaces()
    assert [p.name for p in rooms.iterdir()] == ["work-2-1"]


def test_a_full_disk_while_receiving_is_said(vault):
    class Full:
        def read(self, count: int) -> bytes:
            raise OSError(28, "No space left on device")

    with vault.workspace() as room, pytest.raises(NoRoom, match=r"film\.mp4: the disk is full"):
        vault.receive(Full(), "film.mp4", room, 10**6)


@pytest.mark.parametrize(
    ("name", "kept"),
    [("a.MP4", "upload.mp4"), ("no suffix", "upload"), ("x./../y.m*v", "upload"),
     ("ünï.mkv", "upload.mkv")],
)  # fmt: skip
def test_an_uploads_own_name_never_becomes_a_path(vault, name, kept):
    import io

    with vault.workspace() as room:
        path, size = vault.receive(io.BytesIO(b"123"), name, room, 10)
        assert path == room / kept
        assert size == 3


def test_what_is_kept_under_a_key_of_its_own_appears_whole_or_not_at_all(vault):
    with vault.keeping("costs/ab/abc.json") as part:
        part.write_text("half")
        assert not vault.path("costs/ab/abc.json").exists()
    assert vault.path("costs/ab/abc.json").read_text() == "half"
    with pytest.raises(RuntimeError), vault.keeping("costs/ab/abd.json") as part:
        part.write_text("broken off")
        raise RuntimeError
    assert not vault.path("costs/ab/abd.json").exists()
    assert list((vault.root / "workspaces").iterdir()) == []


def test_the_store_is_open_to_its_owner_alone(tmp_path):
    loose = tmp_path / "vault"
    loose.mkdir(mode=0o755)
    MediaStore(loose)
    assert loose.stat().st_mode & 0o777 == 0o700
