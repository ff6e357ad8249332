"""Treatments: what is accepted, and how the rest is refused."""

import json
from pathlib import Path

import jsonschema
import pytest

from keen_horizon.core.errors import BadSetting
from keen_horizon.core.treatment import Treatment, parse, read, schema, with_settings


def test_the_default_fits_its_schema_and_comes_back_unchanged():
    data = Treatment().model_dump(mode="json")
    jsonschema.validate(data, schema())
    assert parse(json.loads(json.dumps(data))) == Treatment()
    assert parse({}) == Treatment()


@pytest.mark.parametrize(
    ("data", "words"),
    [
        ({"motion": {"calm": 140}}, ["motion.calm", "140", "from 0 to 100"]),
        ({"motion": {"calm": "60"}}, ["motion.calm", "from 0 to 100"]),
        ({"motion": {"calm": None}}, ["motion.calm", "from 0 to 100"]),
        ({"motion": {"calm_roll": 101}}, ["motion.calm_roll", "from 0 to 100, or null"]),
        ({"motion": {"aim": "fly"}}, ["motion.aim", "fly", "follow or lock_off"]),
        ({"frame": {"zoom_ceiling": 0.5}}, ["frame.zoom_ceiling", "from 1 to 4"]),
        ({"frame": {"edge": 3}}, ["frame.edge", "leave or trim or fill"]),
        ({"motion": {"on": "yes"}}, ["motion.on", "true or false"]),
        ({"motion": {"clam": 1}}, ["no setting 'motion.clam'", "motion.calm"]),
        ({"glue": {}}, ["no setting 'glue'"]),
        ({"lens": {"k1": 11}}, ["lens.k1", "11", "from -10 to 10"]),
        ({"lens": {"model": "wavy"}}, ["lens.model", "wavy", "rectilinear or brown"]),
        ({"lens": {"edges": [{"frame": 0, "points": [[0, 0]]}]}}, ["lens.edges.0.points"]),
        ({"version": 9}, ["version", "9", "1"]),
        ([], ["treatment"]),
    ],
)
def test_what_is_wrong_is_named_with_what_is_allowed(data, words):
    with pytest.raises(BadSetting) as refused:
        parse(data)
    for word in words:
        assert word in str(refused.value)
    if isinstance(data, dict):
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(data, schema())


def test_not_a_number_is_refused():
    with pytest.raises(BadSetting):
        parse({"motion": {"calm": float("nan")}})


def test_single_settings():
    changed = with_settings(Treatment(), ["motion.calm=60", "frame.edge=trim", "motion.on=false"])
    assert (changed.motion.calm, changed.frame.edge, changed.motion.on) == (60, "trim", False)
    assert changed.motion.aim == "follow"


@pytest.mark.parametrize("setting", ["motion.calm", "calm=3", "motion.calm.x=1", "=3", "motion=3"])
def test_single_settings_that_are_wrong(setting):
    with pytest.raises(BadSetting):
        with_settings(Treatment(), [setting])


def test_components_share_the_calm_until_they_have_their_own():
    parted = with_settings(Treatment(), ["motion.calm=30", "motion.calm_across=0"])
    assert parted.motion.calms == {"across": 0, "updown": 30, "roll": 30, "size": 30}
    together = with_settings(parted, ["motion.calm_across=null"])
    assert set(together.motion.calms.values()) == {30}


def test_files(tmp_path):
    path = tmp_path / "t.json"
    with pytest.raises(BadSetting, match=r"t\.json: cannot be read"):
        read(path)
    path.write_text("{")
    with pytest.raises(BadSetting, match=r"t\.json: is not JSON"):
        read(path)
    path.write_text('{"motion": {"calm": -1}}')
    with pytest.raises(BadSetting, match=r"t\.json: motion\.calm"):
        read(path)
    path.write_text('{"motion": {"calm": 12}}')
    assert read(path).motion.calm == 12


def test_switched_off_frame_leaves_edges():
    assert parse({"frame": {"on": False, "edge": "fill"}}).edge == "leave"


def test_the_published_schema_is_the_present_one():
    path = Path(__file__).parents[2] / "docs" / "treatment.schema.json"
    assert json.loads(path.read_text()) == schema(), "./keen treatment --schema > docs/..."
