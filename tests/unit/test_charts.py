"""Charts, profiles and their files."""

import json
from pathlib import Path

import cv2
import jsonschema
import numpy as np
import pytest

from keen_horizon.core.errors import BadSetting
from keen_horizon.core.geometry.canvas import Canvas
from keen_horizon.core.stations.lens.chart import Board, calibrate, find_corners
from keen_horizon.core.stations.lens.printed import chart_pdf, chart_svg, square_of
from keen_horizon.core.stations.lens.settings import LensSettings
from keen_horizon.core.treatment.lens_profile import (
    profile_of,
    profile_schema,
    read_profile,
    refusal,
    settings_from,
    to_json,
    to_yaml,
)
from keen_horizon.simulated.charts import deck_camera, photographs
from tests.conftest import texture

HOME = Path(__file__).parents[2]
CANVAS = Canvas(1280, 720)
BOARD = Board(9, 6)


def views(count: int = 10, model: str = "brown", noise: float = 0.1):
    """Corners of a board in made-up poses, and the camera's focal length."""
    rng = np.random.default_rng(8)
    matrix = np.array([[900.0, 0, 650.0], [0, 900.0, 352.0], [0, 0, 1]])
    found = []
    places = BOARD.places.astype(float) - [4, 2.5, 0]
    for _ in range(count):
        turn = rng.uniform(-0.5, 0.5, 3)
        shift = np.array([rng.uniform(-3, 3), rng.uniform(-1.5, 1.5), rng.uniform(9, 13)])
        if model == "fisheye":
            seen, _ = cv2.fisheye.projectPoints(
                places[:, None], turn, shift, matrix * [[0.6, 1, 1], [1, 0.6, 1], [1, 1, 1]],
                np.array([-0.02, 0.004, 0, 0]),
            )  # fmt: skip
        else:
            k = np.array([-0.2, 0.05, 0.001, -0.001, 0.0])
            seen, _ = cv2.projectPoints(places[:, None], turn, shift, matrix, k)
        found.append(seen.reshape(-1, 2) + noise * rng.standard_normal((54, 2)))
    return found


def test_a_lens_is_found_by_its_charts():
    fit = calibrate(views(), BOARD, 1280, 720)
    assert fit.distortion.model == "brown"
    assert fit.focal * 1280 == pytest.approx(900.0, rel=0.005)
    assert fit.centre_x == pytest.approx(100 * (650 - 639.5) / 1280, abs=0.15)
    assert fit.residual < 0.2
    assert fit.covered.sum() == 10 * 54


def test_a_bad_view_is_left_out_and_named():
    all_views = views()
    all_views[3] = all_views[3] + 6 * np.random.default_rng(1).standard_normal((54, 2))
    fit = calibrate(all_views, BOARD, 1280, 720)
    assert fit.left_out == [3]
    assert "View 4 disagrees" in " ".join(fit.words)
    assert fit.focal * 1280 == pytest.approx(900.0, rel=0.005)


def test_too_few_charts_are_said_to_be():
    with pytest.raises(BadSetting, match="3 pictures with the whole chart are too few"):
        calibrate(views(3), BOARD, 1280, 720)
    with pytest.raises(BadSetting, match="2 × 6 inner corners"):
        Board(2, 6)


def test_corners_are_found_in_a_photograph_unless_one_is_missing():
    photos = list(photographs(deck_camera(), count=3))
    corners = find_corners(photos[2], BOARD)
    assert corners.shape == (54, 2)
    cut = photos[2].copy()
    cut[:, : int(np.sort(corners[:, 0])[3]) + 2] = 120
    assert find_corners(cut, BOARD, thorough=False) is None
    assert find_corners(photos[2], Board(7, 5), thorough=False) is None


def test_a_picture_without_a_chart_is_only_glanced_at_unless_it_is_a_photograph(monkeypatch):
    picture = cv2.cvtColor(texture(1920, 1080, 3), cv2.COLOR_BGR2GRAY)
    looked = []
    search = cv2.findChessboardCornersSB

    def noted(luma, size, flags):
        looked.append(luma.size)
        return search(luma, size, flags=flags)

    monkeypatch.setattr(cv2, "findChessboardCornersSB", noted)
    assert find_corners(picture, BOARD, thorough=False) is None
    assert len(looked) == 1
    assert looked[0] < picture.size / 4
    # One that shows a chart is searched in full, so that its corners are as exact as any.
    chart = next(photographs(deck_camera(), count=1))
    quick, slow = (find_corners(chart, BOARD, thorough=thorough) for thorough in (False, True))
    assert quick is not None
    assert np.array_equal(quick, slow)


def test_the_shipped_photographs_give_the_lens_of_the_deck_camera():
    board, found = Board(), []
    for path in sorted((HOME / "keen_horizon" / "demo" / "charts").glob("*.jpg"))[:8]:
        luma = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE)
        corners = find_corners(luma, board, thorough=False)
        if corners is not None:
            found.append(corners)
    fit = calibrate(found, board, 1280, 720)
    assert fit.distortion.model == "fisheye"
    assert fit.residual < 0.2
    assert fit.focal * 1280 == pytest.approx(deck_camera().focal, rel=0.005)


def test_a_printed_chart_has_its_squares():
    svg = chart_svg(BOARD)
    assert svg.count("<rect") == 1 + 35
    assert square_of(BOARD, "A4") == 25
    assert "9 x 6 inner corners, squares of 25 mm" in svg
    pdf = chart_pdf(BOARD, "A3")
    assert pdf.startswith(b"%PDF-1.4")
    assert pdf.count(b" re f") == 35
    start = int(pdf.split(b"startxref\n")[1].split()[0])
    assert pdf[start : start + 4] == b"xref"
    # Every entry of the table points at its object.
    for number, line in enumerate(pdf[start:].split(b"\n")[3:8], 1):
        at = int(line.split()[0])
        assert pdf[at:].startswith(b"%d 0 obj" % number)


def settings(**more) -> LensSettings:
    told = {"model": "brown", "focal": 0.7, "k1": -0.2, "k2": 0.05, "p1": 0.001, "centre_x": 1.5}
    return LensSettings(**(told | more))


def test_a_profile_survives_its_files():
    profile = profile_of("Deck", settings(residual=0.1), CANVAS, camera="Limpet", mode="720p")
    told = to_json(profile)
    jsonschema.validate(json.loads(told), profile_schema())
    assert read_profile(told, "deck.json") == profile
    back = read_profile(to_yaml(profile), "deck.yml")
    assert back.name == "Deck"
    for name in ("model", "focal", "k1", "k2", "p1", "centre_x"):
        mine = getattr(profile.optics, name)
        assert getattr(back.optics, name) == (mine if name == "model" else pytest.approx(mine))
    fish = profile_of("F", settings(model="fisheye", k4=0.01), CANVAS)
    assert read_profile(to_yaml(fish), "f.yml").optics.k4 == pytest.approx(0.01)
    with pytest.raises(BadSetting, match="not division"):
        to_yaml(profile_of("D", settings(model="division"), CANVAS))


def test_opencv_reads_the_calibration():
    store = cv2.FileStorage(
        to_yaml(profile_of("Deck", settings(), CANVAS)),
        cv2.FILE_STORAGE_READ | cv2.FILE_STORAGE_MEMORY,
    )
    matrix = store.getNode("camera_matrix").mat()
    assert matrix[0, 0] == pytest.approx(0.7 * 1280)
    assert matrix[0, 2] == pytest.approx(639.5 + 0.015 * 1280)
    assert store.getNode("distortion_coefficients").mat().ravel()[2] == pytest.approx(0.001)


def test_a_profile_holds_for_every_resolution_of_one_crop():
    profile = profile_of("Deck", settings(), CANVAS)
    assert refusal(profile, Canvas(3840, 2160)) == ""
    assert "another crop of the sensor" in refusal(profile, Canvas(1440, 1080))
    assert settings_from(profile)["focal"] == 0.7
    assert settings_from(profile)["found_by"] == "profile"


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("hello", "neither a lens profile nor a calibration YAML"),
        ("%YAML:1.0\n---\nfoo: 1\n", "no camera_matrix"),
        ("%YAML:1.0\n---\n: [[", "no camera_matrix"),
        ('{"name": "x"}', "is not a lens profile"),
        ("{" + " " * 300_000, "too large"),
    ],
)
def test_files_that_are_no_profile(text, words):
    with pytest.raises(BadSetting, match=words) as refused:
        read_profile(text, "bad.yml")
    assert "bad.yml" in str(refused.value)


def test_a_calibration_with_too_many_coefficients():
    text = to_yaml(profile_of("Deck", settings(), CANVAS)).replace("rows: 5", "rows: 8")
    with pytest.raises(BadSetting, match=r"bad\.yml: says .* 8 rows .* gives 5 numbers"):
        read_profile(text, "bad.yml")
    eight = text.replace("0.001, ", "0., 0., 0., 0., ")
    assert eight != text
    with pytest.raises(BadSetting, match=r"bad\.yml: has 8 distortion coefficients"):
        read_profile(eight, "bad.yml")


def test_a_calibration_that_is_nested_without_end_is_refused_in_words():
    for opening in ("[" * 60_000 + "]" * 60_000, "{" * 60_000, "- " * 60_000, " " * 60_000 + "x"):
        with pytest.raises(BadSetting, match=r"deep\.yml"):
            read_profile(f"%YAML:1.0\n---\na: {opening}", "deep.yml")
    stairs = "\n".join(" " * depth + "a:" for depth in range(500))
    with pytest.raises(BadSetting, match=r"deep\.yml"):
        read_profile(f"%YAML:1.0\n---\n{stairs}", "deep.yml")


def test_an_anamorphic_lens_comes_back_from_a_calibration_as_it_was():
    profile = profile_of("Deck", settings(squeeze=1.33), CANVAS)
    back = read_profile(to_yaml(profile), "deck.yml")
    assert back.optics.squeeze == pytest.approx(1.33)
    assert refusal(back, CANVAS) == ""


def test_the_published_schema_is_the_present_one():
    assert json.loads((HOME / "docs" / "lens.schema.json").read_text()) == profile_schema()


def test_charts_in_pixels_that_are_not_square_give_the_same_lens():
    """Recorded 1.5 times as narrow, told as such: what is found is the lens, not the squeeze."""
    plain = calibrate(views(noise=0.02), BOARD, 1280, 720)
    narrow = [(view + 0.5) / [1.5, 1.0] - 0.5 for view in views(noise=0.02)]
    found = calibrate(narrow, BOARD, round(1280 / 1.5), 720, pixel_aspect=1.5)
    assert found.residual < 0.1
    assert found.focal == pytest.approx(plain.focal, rel=0.002)
    assert found.distortion.k == pytest.approx(plain.distortion.k, abs=0.01)
    untold = calibrate(narrow, BOARD, round(1280 / 1.5), 720)
    assert untold.focal != pytest.approx(plain.focal, rel=0.05)
