"""Measure, solve, render on files, and the command line over them."""

import json
import resource
import subprocess
import sys
from fractions import Fraction
from pathlib import Path

import cv2
import numpy as np
import pytest

from keen_horizon import cli
from keen_horizon.core import pipeline
from keen_horizon.core.errors import Cancelled, KeenError
from keen_horizon.core.media.decode import frames
from keen_horizon.core.media.probe import scan
from keen_horizon.core.treatment import Treatment, schema


def run(*arguments: object) -> int:
    return cli.main([str(a) for a in arguments])


def correct(path: Path, tmp_path: Path, *options: object) -> tuple[dict, Path]:
    out, report = tmp_path / "steady.mp4", tmp_path / "report.json"
    assert run("correct", path, out, "--report", report, *options) == 0
    return json.loads(report.read_text()), out


def lumas(path: Path) -> list[np.ndarray]:
    found = scan(path)
    last = found.probe.frame_count - 1
    return [p.planes[0].astype(np.float32) for p in frames(path, found, 0, last)]


def wander(pictures: list[np.ndarray]) -> float:
    """RMS shift of the picture against its first frame, by phase correlation."""
    window = cv2.createHanningWindow(pictures[0].shape[::-1], cv2.CV_32F)
    moves = [cv2.phaseCorrelate(pictures[0], p, window)[0] for p in pictures[1:]]
    moves = np.array(moves)
    return float(np.sqrt(((moves - moves.mean(axis=0)) ** 2).sum(axis=1).mean()))


def test_a_shaky_file_becomes_a_steady_one(make_clip, tmp_path):
    path = make_clip("shaky.mp4", width=640, height=480, count=30)
    report, out = correct(path, tmp_path, "--set", "motion.aim=lock_off", "--set", "motion.calm=60")
    assert wander(lumas(path)) > 3
    assert wander(lumas(out)) < 0.3
    assert report["shake_removed"] > 90
    assert report["sound"].startswith("Sound copied bit for bit")
    assert len(report["frames"]) == report["frame_count"] == 30
    assert set(report["seconds"]) == {"measure", "solve", "render", "check"}


def test_the_steady_matrices_say_where_pixels_came_from(make_clip, tmp_path):
    path = make_clip("where.mp4", width=640, height=480, count=16)
    report, out = correct(path, tmp_path, "--set", "frame.edge=leave", "--set", "motion.calm=70")
    source, made = lumas(path), lumas(out)
    for t in (3, 9, 15):
        m = np.array(report["frames"][t]["steady"])
        expected = cv2.warpAffine(
            source[t], m[:2], (640, 480), flags=cv2.INTER_CUBIC | cv2.WARP_INVERSE_MAP
        )
        inner = (slice(60, 420), slice(60, 580))
        assert np.abs(expected[inner] - made[t][inner]).mean() < 2.5


def test_measure_json_tells_the_true_motion(make_clip, tmp_path):
    path = make_clip("motion.mp4", width=640, height=480, count=12, sound=None)
    target = tmp_path / "m.json"
    assert run("measure", path, "--json", target, "--range", "2:9") == 0
    data = json.loads(target.read_text())
    assert (data["width"], data["height"], data["pixel_aspect"]) == (640, 480, 1)
    assert [f["index"] for f in data["frames"]] == list(range(2, 10))
    assert data["frames"][0]["previous_to_this"] == np.eye(3).tolist()
    offsets = 3.0 * np.random.default_rng(7).standard_normal((12, 2))
    for f in data["frames"][1:]:
        i = f["index"]
        m = np.array(f["previous_to_this"])
        moved = m @ [320, 240, 1]
        # The clip's window moved by the offsets, so the picture moved the other way.
        assert np.allclose(moved[:2] - [320, 240], offsets[i - 1] - offsets[i], atol=0.25)
        assert f["confidence"] > 0.8
        assert f["marks"] > 40
    # A dozen frames that slide tell nothing of the lens, and the measure says so.
    assert data["model"] == "shift"  # which is all that it does
    angle = data["angle_of_view"]
    assert (angle["across"], angle["standard_error"], angle["distortion"]) == (None, None, [])
    assert angle["words"].startswith("The angle of view cannot be told from this clip: ")
    assert run("measure", path, "--json", target, "--model", "similarity") == 0
    asked = json.loads(target.read_text())
    assert asked["model"] == "similarity"
    assert asked["angle_of_view"]["words"]


@pytest.mark.parametrize(
    ("options", "size"),
    [
        ({"name": "odd.mkv", "width": 321, "height": 243, "codec": "ffv1",
          "pixel_format": "yuv444p"}, (320, 242)),
        ({"name": "portrait.mp4", "turn": 90}, (240, 320)),
        ({"name": "wide.mp4", "aspect": Fraction(4, 3)}, (320, 240)),
        ({"name": "vfr.mkv", "variable": True}, (320, 240)),
        ({"name": "deep.mp4", "pixel_format": "yuv420p10le"}, (320, 240)),
        ({"name": "two.mp4", "count": 2}, (320, 240)),
        ({"name": "w.webm", "codec": "libvpx-vp9", "sound": "libopus"}, (320, 240)),
        ({"name": "cut.mp4", "cut_at": 12}, (320, 240)),
    ],
)  # fmt: skip
def test_odd_footage_works(make_clip, tmp_path, options, size):
    path = make_clip(**options)
    report, out = correct(path, tmp_path)
    before, after = scan(path), scan(out)
    assert (after.probe.width, after.probe.height) == size
    assert after.probe.pixel_aspect == pytest.approx(before.probe.pixel_aspect)
    assert after.probe.bit_depth == before.probe.bit_depth
    assert after.probe.rotation == 0
    assert np.allclose(after.times, before.times, atol=1e-3)
    assert report["cuts"] == ([12] if "cut_at" in options else [])
    # What an even size cannot hold is said.
    said = [note for note in report["notes"] if "even sizes" in note]
    assert len(said) == (size[0] != before.probe.width)


@pytest.mark.parametrize("arguments", [["--help"], ["correkt"], []])
def test_nothing_is_loaded_before_it_is_known_what_is_wanted(arguments):
    text = (
        "import sys; from keen_horizon import cli\n"
        "try: cli.main(sys.argv[1:])\n"
        "except SystemExit: print(*sys.modules, file=sys.stderr)"
    )
    done = subprocess.run(
        [sys.executable, "-c", text, *arguments], capture_output=True, text=True, check=True
    )
    assert "argparse" in done.stderr.split()
    assert not {"numpy", "cv2", "av", "pydantic"} & set(done.stderr.split())
    assert "command" in done.stdout + done.stderr


def test_a_closed_pipe_ends_without_a_word_of_ours():
    order = [sys.executable, "-m", "keen_horizon.cli", "treatment", "--schema"]
    keen = subprocess.Popen(order, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    keen.stdout.close()
    assert keen.stderr.read() == b""
    assert keen.wait() == 141


def test_a_static_shot_is_passed_through_and_said_so(make_clip, tmp_path, capsys):
    path = make_clip("static.mp4", shake=0)
    report, out = correct(path, tmp_path)
    assert report["zoom"] == 1
    assert "nothing to do" in capsys.readouterr().err
    assert np.abs(lumas(out)[5] - lumas(path)[5]).mean() < 2


def test_a_black_clip_is_passed_through_and_said_why(make_clip, tmp_path, capsys):
    report, _ = correct(make_clip("black.mp4", blank=True), tmp_path)
    assert report["zoom"] == 1
    said = capsys.readouterr().err
    assert "nothing to do" in said or "No camera motion" in said


def test_trim_and_smaller_output(make_clip, tmp_path):
    path = make_clip("trim.mp4", width=640, height=480)
    report, out = correct(path, tmp_path, "--set", "frame.edge=trim", "--lines", 200)
    assert scan(out).probe.height == 200
    assert report["output"]["height"] == 200
    assert report["zoom"] == 1
    assert report["pixels_per_output_pixel"] > 2


def test_a_held_point_stands_still_and_neighbours_lend_its_edges(make_clip, tmp_path):
    path = make_clip("held.mp4", width=640, height=480, count=30)
    point = '[{"frame": 12, "at": [0.5, 0.5], "pattern": 0.2}]'
    facts = ["motion.aim=hold", f"motion.hold={point}", "frame.edge=borrow", "motion.calm=60"]
    options = [option for fact in facts for option in ("--set", fact)]
    report, out = correct(path, tmp_path, "--closer", *options)
    assert report["hold"]["known_frames"] == 30
    assert report["hold"]["strays"] < 0.5
    assert report["borrowed"] > 0
    pictures = lumas(out)
    assert min(p[:, :4].mean() for p in pictures) > 20  # no bare edge is black
    assert wander(pictures) < 0.5


@pytest.mark.parametrize(
    ("settings", "check"),
    [
        (["shutter.readout=15"], lambda report: report["wobble_straight"] > 0),
        (["motion.model=mesh"], lambda report: report["wobble_after"] >= 0),
        (["motion.model=decide"], lambda report: report["zoom"] >= 1),
        (["frame.width=320", "frame.height=320"], lambda r: r["output"]["width"] == 320),
        (["frame.zoom_speed=3", "frame.offset_x=2"], lambda r: r["zoom"] >= r["zoom_mean"]),
    ],
)
def test_every_station_is_on_the_command_line(make_clip, tmp_path, settings, check):
    path = make_clip("stations.mp4", width=320, height=240, count=24)
    report, out = correct(path, tmp_path, *(o for s in settings for o in ("--set", s)))
    assert check(report)
    assert scan(out).probe.frame_count == 24


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["correct", "{clip}", "{out}", "--set", "motion.calm=200"], "from 0 to 100"),
        (["correct", "{clip}", "{out}", "--set", "nothing=2"], "no setting"),
        (["correct", "{clip}", "{out}", "--range", "5:900"], "frames 0 to 23"),
        (["correct", "{clip}", "{out}", "--range", "nine"], "not understood"),
        (["correct", "{clip}", "{out}", "--lines", "3"], "16 and more"),
        (["correct", "{clip}", "{clip}"], "overwrite the input"),
        (["correct", "{clip}", "{nowhere}.avi"], "End its name in .mp4"),
        (["correct", "{missing}", "{out}"], "no such file"),
        (["correct", "{clip}", "{nowhere}/out.mp4"], "cannot be written"),
        (["correct", "{clip}", "{out}", "--treatment", "{missing}"], "cannot be read"),
        (["measure", "{missing}", "--json", "{out}"], "no such file"),
    ],
)
def test_failures_are_one_line_and_leave_nothing(make_clip, tmp_path, capsys, arguments, words):
    clip = make_clip("fail.mp4")
    before = clip.read_bytes()
    places = {
        "clip": clip, "out": tmp_path / "out.mp4", "missing": tmp_path / "missing.mp4",
        "nowhere": tmp_path / "nowhere",
    }  # fmt: skip
    assert run(*[a.format(**places) for a in arguments]) == 1
    said = capsys.readouterr().err.strip()
    assert words in said
    assert said.startswith("keen: ")
    assert "\n" not in said
    assert list(tmp_path.iterdir()) == []
    assert clip.read_bytes() == before


def test_treatment_command_prints_default_and_schema(capsys):
    assert run("treatment", "--default") == 0
    assert json.loads(capsys.readouterr().out) == Treatment().model_dump(mode="json")
    assert run("treatment", "--schema") == 0
    assert json.loads(capsys.readouterr().out) == schema()


def test_work_can_be_stopped_between_frames(make_clip, tmp_path):
    path = make_clip("stop.mp4")
    found = scan(path)

    def stop(done: int, total: int) -> None:
        if done == 5:
            raise Cancelled("cancelled.")

    with pytest.raises(Cancelled):
        pipeline.measure(path, found, 0, 23, tmp_path / "m", stop)


def test_a_range_that_is_none_is_refused(make_clip):
    found = scan(make_clip("none.mp4"))
    for first, last in ((-1, 5), (5, 5), (6, 2), (0, 24)):
        with pytest.raises(KeenError, match="cannot be used"):
            pipeline.check_range(found, first, last)


@pytest.mark.parametrize(
    ("room", "name"), [(100_000, "fills.mp4"), (300_000, "out.mp4")], ids=["measure", "render"]
)
def test_a_disk_that_fills_is_said_and_leaves_nothing(make_clip, tmp_path, room, name):
    """A limit on file size makes the system refuse to write on, as a full disk does."""
    clip = make_clip("fills.mp4", width=640, height=480, count=60)
    text = (
        "import resource, sys; from keen_horizon import cli;"
        f"resource.setrlimit(resource.RLIMIT_FSIZE, ({room}, {room}));"
        "sys.exit(cli.main(sys.argv[1:]))"
    )
    done = subprocess.run(
        [sys.executable, "-c", text, "correct", str(clip), str(tmp_path / "out.mp4"),
         "--quality", "fine"],
        capture_output=True, text=True,
    )  # fmt: skip
    assert done.returncode == 1
    assert f"{name}: the disk is full" in done.stderr
    assert "Traceback" not in done.stderr
    assert list(tmp_path.iterdir()) == []


def test_memory_does_not_grow_with_the_clip(make_clip, tmp_path):
    def peak_after(count: int, name: str) -> int:
        path = make_clip(name, width=640, height=480, count=count, sound=None)
        pipeline.measure(path, scan(path), 0, count - 1, tmp_path / name)
        return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss

    short, long = peak_after(40, "short.mp4"), peak_after(240, "long.mp4")
    assert long - short < 40_000  # kB; 200 decoded frames alone would be 90,000
