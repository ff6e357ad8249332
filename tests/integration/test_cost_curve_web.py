"""What calm costs, as the page asks for it."""

import pytest

from keen_horizon.core.treatment import Treatment
from tests.integration.test_web import treated

pytestmark = pytest.mark.integration


@pytest.fixture(scope="module")
def clip(place, make_clip) -> int:
    return place.measured(make_clip("cost.mp4", count=30))[1]


def priced(place, clip: int, treatment: dict) -> dict:
    """The whole cost curve, asked for as often as it takes."""
    for _ in range(60):
        answer = place.post(f"/clips/{clip}/cost", {"treatment": treatment}).json
        if not answer["more"]:
            return answer
        if answer["work"]:
            assert place.work_now(answer["work"]["id"]) == "done"
    raise AssertionError("the curve is never whole")


def test_what_calm_costs(place, clip):
    address = f"/clips/{clip}"
    treatment = place.get(f"{address}/solution").json["treatment"]
    answer = priced(place, clip, treatment)
    calms = [calm for calm, _, _ in answer["points"]]
    assert calms == sorted(set(calms))
    assert {0, 50, 100} <= set(calms)
    for start in answer["starts"]:
        wanted = treatment | {"motion": treatment["motion"] | {"calm": start["calm"]}}
        report = place.post(f"{address}/treatment", {"treatment": wanted}).json["report"]
        assert start["kept"] == f"keeps {report['picture_kept']:.0f} %"
    # The calm of the treatment changes nothing, so the answer is there at once.
    treatment["motion"]["calm"] = 3
    again = place.post(f"{address}/cost", {"treatment": treatment}).json
    assert again["points"] == answer["points"]


def test_what_calm_costs_depends_on_lens_and_shutter_and_not_on_calm(place, clip):
    def price(**stations) -> str:
        return treated(place, clip, **stations)["keys"]["cost"]

    plain = price()
    assert price(motion={"calm": 71.0}) == plain
    assert len({plain, price(lens={"model": "fisheye"}), price(shutter={"readout": 9.0})}) == 3


def test_versions_are_marked_on_the_curve(place, clip):
    address = f"/clips/{clip}"
    place.post(f"{address}/versions", {"name": "as it came"})
    treatment = place.get(f"{address}/solution").json["treatment"]
    marks = priced(place, clip, treatment)["versions"]
    solved = place.get(f"{address}/solution").json
    assert solved["whole"], "who priced the clip chose its model, too"
    mark = next(m for m in marks if m["name"] == "as it came")
    assert mark["kept"] == solved["report"]["picture_kept"]
    assert mark["shake"] == solved["report"]["shake_after"]


def test_a_bad_treatment_has_no_price(place, clip):
    answer = place.post(f"/clips/{clip}/cost", {"treatment": {"motion": {"calm": -1}}})
    assert answer.status_code == 400
    assert "motion.calm" in answer.json["error"]


def test_a_worker_prices_a_long_clip(place, clip, monkeypatch):
    monkeypatch.setattr("keen_horizon.jobs.solutions.SOLVED_AT_ONCE", 10)
    treatment = Treatment().model_dump(mode="json")
    treatment["frame"]["zoom_ceiling"] = 1.3  # a curve that nobody knows yet
    first = place.post(f"/clips/{clip}/cost", {"treatment": treatment}).json
    assert first["more"]
    assert first["points"] == first["starts"] == []
    treatment["motion"]["calm"] = 71
    again = place.post(f"/clips/{clip}/cost", {"treatment": treatment}).json
    assert again["work"]["id"] == first["work"]["id"]
    assert place.work_now(first["work"]["id"]) == "done"
    assert priced(place, clip, treatment)["starts"]


def test_pricing_that_failed_is_not_begun_again_and_again(place, clip, monkeypatch):
    monkeypatch.setattr("keen_horizon.jobs.solutions.SOLVED_AT_ONCE", 10)
    treatment = Treatment().model_dump(mode="json")
    treatment["frame"]["zoom_ceiling"] = 1.35
    work = place.post(f"/clips/{clip}/cost", {"treatment": treatment}).json["work"]
    place.post(f"/work/{work['id']}/cancel")
    again = place.post(f"/clips/{clip}/cost", {"treatment": treatment}).json["work"]
    assert (again["id"], again["open"]) == (work["id"], False)
