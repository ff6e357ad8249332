"""Lenses on the command line."""

import json

import cv2
import pytest

from keen_horizon.cli import main
from keen_horizon.core.media.probe import scan
from keen_horizon.simulated.brindle_quay import engine_shed
from keen_horizon.simulated.charts import deck_camera, photographs
from keen_horizon.simulated.record import record


def test_a_lens_is_found_by_edges_and_used(tmp_path, capsys):
    clip, lens, out = (tmp_path / name for name in ("shed.mp4", "shed.json", "out.mp4"))
    record(engine_shed(0.15), clip, sound=False)
    assert main(["lens", "edges", str(clip), "--frame", "2", "--out", str(lens)]) == 0
    said = capsys.readouterr()
    assert "brown" in said.out
    assert "edge 1:" in said.err
    assert json.loads(lens.read_text())["optics"]["k2"] > 0.3
    assert main(["correct", str(clip), str(out), "--lens", str(lens), "--lines", "240"]) == 0
    assert scan(out).probe.frame_count == 4
    photo = tmp_path / "shed.png"
    cv2.imwrite(str(photo), engine_shed(0.15).frame(2))
    by_clip = json.loads(lens.read_text())["optics"]
    assert main(["lens", "edges", str(photo), "--out", str(lens)]) == 0
    by_photo = json.loads(lens.read_text())["optics"]
    assert by_photo["model"] == by_clip["model"]
    assert by_photo["k1"] == pytest.approx(by_clip["k1"], abs=0.03)
    assert main(["lens", "edges", str(photo), "--frame", "2", "--out", str(lens)]) == 1
    assert "--frame is for recordings" in capsys.readouterr().err
    assert main(["lens", "edges", str(tmp_path / "none.png"), "--out", str(lens)]) == 1
    assert "none.png" in capsys.readouterr().err
    assert main(["lens", "edges", str(clip), "--frame", "99", "--out", str(lens)]) == 1
    assert "frame 99 does not exist" in capsys.readouterr().err


def test_charts_angles_and_files(tmp_path, capsys):
    photos = []
    for k, photo in enumerate(list(photographs(deck_camera()))[7:13]):
        path = tmp_path / f"{k}.png"
        cv2.imwrite(str(path), photo)
        photos.append(str(path))
    deck, deck_yaml = tmp_path / "deck.json", tmp_path / "deck.yml"
    assert main(["lens", "chart", *photos, "--out", str(deck)]) == 0
    assert "fisheye" in capsys.readouterr().out
    assert main(["lens", "convert", str(deck), str(deck_yaml)]) == 0
    assert deck_yaml.read_text().startswith("%YAML")
    assert main(["lens", "angle", "150", "--size", "1280x720", "--out", str(deck)]) == 0
    assert "150.0° diagonal" in capsys.readouterr().out
    assert main(["lens", "angle", "180", "--out", str(deck)]) == 1
    assert "20 to 179" in capsys.readouterr().err
    assert main(["lens", "print", str(tmp_path / "c.pdf"), "--corners", "7x5"]) == 0
    assert (tmp_path / "c.pdf").read_bytes().startswith(b"%PDF")
    assert main(["lens", "print", str(tmp_path / "c.doc")]) == 1


@pytest.mark.parametrize("text", ["9", "9x", "axb"])
def test_a_chart_of_no_size(tmp_path, capsys, text):
    assert main(["lens", "print", str(tmp_path / "c.pdf"), "--corners", text]) == 1
    assert "write it as 9x6" in capsys.readouterr().err


def test_a_lens_of_another_crop_is_refused(tmp_path, capsys, make_clip):
    clip, lens = make_clip("square.mp4", width=320, height=240), tmp_path / "wide.json"
    assert main(["lens", "angle", "120", "--size", "1280x720", "--out", str(lens)]) == 0
    assert main(["correct", str(clip), str(tmp_path / "o.mp4"), "--lens", str(lens)]) == 1
    assert "another crop of the sensor" in capsys.readouterr().err
