"""Treatments: what is accepted, and how the rest is refused."""

import json
from pathlib import Path

import jsonschema
import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from keen_horizon.core.errors import BadSetting, KeenError
from keen_horizon.core.stations import STATIONS
from keen_horizon.core.stations.frame import FRAME
from keen_horizon.core.stations.setting import range_of
from keen_horizon.core.treatment import (
    Treatment,
    digest,
    parse,
    read,
    schema,
    with_settings,
    with_stations,
)
from keen_horizon.core.treatment import upgrade as upgrades
from keen_horizon.core.treatment.schema import settings_table

HOME = Path(__file__).parents[2]
STORED = sorted((HOME / "tests" / "treatments").glob("*.json"))


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
    off = parse({"frame": {"on": False, "edge": "fill"}})
    assert off.of(FRAME).rule == "leave"


def test_the_published_schema_is_the_present_one():
    path = HOME / "docs" / "treatment.schema.json"
    assert json.loads(path.read_text()) == schema(), "./keen treatment --schema > docs/..."


def test_the_published_table_of_settings_is_the_present_one():
    text = (HOME / "docs" / "formats.md").read_text()
    assert settings_table() in text, "./keen treatment --table"


# --- treatments of before -------------------------------------------------------------------------


@pytest.mark.parametrize("path", STORED, ids=lambda path: path.stem)
def test_every_treatment_that_was_ever_stored_opens_and_says_the_same(path):
    stored = json.loads(path.read_text())
    opened = parse(stored).as_data()
    for station in STATIONS:
        for name, value in stored.get(station.name, {}).items():
            assert opened[station.name][name] == value, f"{station.name}.{name}"
    assert opened["keys"] == stored.get("keys", {})


def test_a_treatment_from_the_future_is_refused_in_words():
    with pytest.raises(BadSetting, match=r"version 7 of the format.*versions up to \d"):
        parse({"version": 7, "motion": {"calm": 3}})


def test_older_versions_go_through_every_upgrade_in_turn(monkeypatch):
    def renamed(data):
        motion = dict(data.get("motion", {}))
        if "steadiness" in motion:
            motion["calm"] = motion.pop("steadiness")
        return data | {"motion": motion}

    monkeypatch.setattr(upgrades, "VERSION", 3)
    monkeypatch.setattr(upgrades, "UPGRADES", {1: renamed, 2: lambda data: data | {"keys": {}}})
    raised = upgrades.upgrade({"version": 1, "motion": {"steadiness": 12.0}})
    assert raised == {"version": 3, "motion": {"calm": 12.0}, "keys": {}}
    assert upgrades.upgrade({"version": 3, "motion": {}}) == {"version": 3, "motion": {}}


# --- what depends on what -------------------------------------------------------------------------


def test_a_digest_changes_with_what_matters_and_with_nothing_else():
    plain = with_settings(Treatment(), ["motion.model=similarity"])
    calmer = with_settings(plain, ["motion.calm=70"])
    assert digest(calmer, "map") != digest(plain, "map")
    assert digest(calmer, "motion") == digest(plain, "motion")
    bent = with_settings(plain, ["lens.model=brown", "lens.k1=-0.2"])
    for part in ("tracks", "motion", "map"):
        assert digest(bent, part) != digest(plain, part)
    # Who found a lens changes nothing in the picture; nor does what a switched-off station holds.
    told = with_settings(bent, ["lens.found_by=numbers", "lens.residual=0.3"])
    assert digest(told, "map") == digest(bent, "map")
    off = with_settings(bent, ["lens.on=false"])
    assert digest(off, "map") == digest(plain, "map")
    # Stiffness is of a mesh, and there is none.
    assert digest(with_settings(plain, ["motion.stiffness=80"]), "map") == digest(plain, "map")


def test_keyframes_are_part_of_what_a_digest_depends_on():
    keyed = parse({"keys": {"lens.amount": [{"frame": 3, "value": 10.0}]}})
    assert digest(keyed, "map") == digest(Treatment(), "map")  # no lens: no effect
    bent = with_settings(Treatment(), ["lens.model=brown", "lens.k1=-0.2"])
    with_key = parse(bent.as_data() | {"keys": keyed.as_data()["keys"]})
    assert digest(with_key, "tracks") != digest(bent, "tracks")


# --- copies ---------------------------------------------------------------------------------------


def test_a_copied_station_is_not_overridden_by_keyframes_that_were_there():
    source = with_settings(Treatment(), ["lens.model=brown", "lens.focal=0.832", "lens.k1=-0.2"])
    key = {"frame": 1, "value": 1.5}
    target = parse({"keys": {"lens.focal": [key], "frame.extra_zoom": [key]}})
    copied = with_stations(target, source, ["lens"])
    assert copied.lens.focal == 0.832
    assert "lens.focal" not in copied.keys
    assert "frame.extra_zoom" in copied.keys  # of a station that was not copied


def test_a_copied_lens_does_not_claim_edges_that_stayed_behind():
    edge = {"frame": 0, "points": [[0.1, 0.1], [0.9, 0.1]]}
    source = parse({"lens": {"model": "brown", "k1": -0.2, "found_by": "edges", "edges": [edge]}})
    copied = with_stations(Treatment(), source, ["lens"])
    assert copied.lens.edges == ()
    assert copied.lens.found_by == "clip"


def test_places_are_refused_with_what_a_place_is():
    with pytest.raises(BadSetting) as refused:
        parse({"motion": {"hold": [{"frame": 0, "at": [5, 0.5]}]}})
    assert "motion.hold.0.at.0 cannot be 5; allowed: a number from" in str(refused.value)


# --- any treatment --------------------------------------------------------------------------------


def values_of(station, name):
    """Any value that a setting may have."""
    facts, declared = station.facts[name], station.Settings.model_fields[name]
    low, high = range_of(station.Settings, name)
    if declared.annotation is bool:
        return st.booleans()
    if declared.annotation is float and low is not None:
        return st.floats(low, high)
    if declared.annotation is int and low is not None:
        return st.integers(int(low), int(high))
    if facts.choices and declared.annotation is not bool:
        return st.sampled_from(sorted(facts.choices))
    return st.just(declared.get_default(call_default_factory=True))


@st.composite
def treatments(draw) -> Treatment:
    parts = {
        station.name: {
            name: draw(values_of(station, name))
            for name in draw(st.lists(st.sampled_from(sorted(station.facts)), max_size=5))
        }
        for station in STATIONS
    }
    try:
        return parse(parts)
    except KeenError:  # settings that are each in their range may still contradict each other
        assume(False)
        raise


@settings(max_examples=25, deadline=None)
@given(treatments())
def test_any_treatment_survives_its_file_and_fits_its_schema(treatment):
    data = json.loads(json.dumps(treatment.as_data()))
    assert parse(data) == treatment
    jsonschema.validate(data, schema())


@settings(max_examples=80, deadline=None)
@given(treatments())
def test_what_is_in_force_stays_so_and_is_all_that_digests_see(treatment):
    force = treatment.in_force()
    assert force.in_force() == force
    for work in ("motion", "path", "map"):
        assert digest(force, work) == digest(treatment, work)


@settings(max_examples=40, deadline=None)
@given(treatments(), treatments(), st.sampled_from([station.name for station in STATIONS]))
def test_a_copied_station_is_the_others_but_for_what_belongs_to_the_clip(own, other, name):
    copied = with_stations(own, other, [name])
    for station in STATIONS:
        if station.name != name:
            assert copied.of(station) == own.of(station)
            continue
        wanted = station.copied(other.of(station))
        for setting, facts in station.facts.items():
            source = own.of(station) if facts.of_clip else wanted
            assert getattr(copied.of(station), setting) == getattr(source, setting)
