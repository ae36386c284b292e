"""The design document: reading, refusing, changing."""

import json
import re

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from thermionic import examples
from thermionic.design import (
    Design,
    changed,
    choices,
    dump,
    field,
    fields_at,
    fit_part,
    load,
    optional_parts,
    schema,
    step_field,
)
from thermionic.errors import DesignRefused, ThermionicError, ValueRefused
from thermionic.values import Quantity, Series

LANTERN = examples.example("lantern")
TEXT = json.dumps(dump(LANTERN))


def test_a_design_survives_its_file():
    assert load(TEXT) == LANTERN
    assert load(TEXT.replace("910.0", '"910R"')) == LANTERN
    assert schema()["properties"]["chain"]["items"]["discriminator"]["propertyName"] == "kind"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (TEXT[: len(TEXT) // 2], "not complete JSON: .* line 1"),
        ("[" * 100_000, "nests"),
        (b"\xff\xfe\x00", "UTF-8"),
        ("[]", "a list"),
        ('{"a": 1}', "name: is missing"),
        ("x" * 2_000_000, "1 MB is the most"),
        (TEXT.replace('"version": 1', '"version": 9'), "version 9"),
        (TEXT.replace("910.0", "NaN"), "NaN"),
        (TEXT.replace("910.0", "1" * 5000), "cannot be read"),
        (TEXT.replace("910.0", "1" * 400), "large"),
        (TEXT.replace("910.0", "-910.0"), "output, cathode_resistor, ohm: A resistance cannot be negative"),
        (TEXT.replace("910.0", "true"), "output, cathode_resistor, ohm: .*number or text"),
        (TEXT.replace('"2A3"', '"2A4"'), "output .*Did you mean 2A3"),
        (TEXT.replace('"feed": "ht2"', '"feed": "ht9"'), "output is fed from “ht9”.*there is ht1, ht2, ht3"),
        (TEXT.replace('"kind": "volume"', '"kind": "flux"'), "a block's kind is one of"),
        (TEXT.replace('"id": "volume"', '"id": "driver"'), "Two blocks are called driver"),
        (TEXT.replace('"id": "speaker"', '"id": "reservoir"'), "name of a node"),
        (TEXT.replace('"id": "volume"', '"id": "driver_anode"'), "driver_anode is the name of a node"),
        (TEXT.replace('"id": "volume"', '"id": "a__b"'), "chain, a__b, id: small letters"),
        (TEXT.replace('"tap_ohm": 8.0', '"tap_ohm": 5.0'), "no 5 Ω tap; it has 4 Ω, 8 Ω, 16 Ω"),
        (TEXT.replace('"channels": 2', '"channels": 2, "colour": "red"'), "colour: is not something"),
    ],
)
def test_a_bad_file_is_refused_with_the_place_and_the_reason(text, says):
    with pytest.raises(DesignRefused) as refusal:
        load(text)
    assert re.search(says, str(refusal.value)), str(refusal.value)
    assert len(str(refusal.value)) < 1200


json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=12), inner, max_size=4),
    max_leaves=12,
)


@settings(max_examples=150, deadline=None)
@given(st.sampled_from(["chain", "supply", "brief", "name", "channels", "version"]), json_values)
def test_any_damage_to_a_file_is_refused_or_harmless(key, value):
    raw = json.loads(TEXT)
    raw[key] = value
    try:
        assert isinstance(load(json.dumps(raw)), Design)
    except DesignRefused as refusal:
        assert str(refusal)  # noqa: PT017


def test_a_value_is_changed_by_its_path_and_nothing_else_is():
    path = "chain/output/cathode_resistor/ohm"
    after = changed(LANTERN, path, "1k")
    assert field(after, path).text == "1k"
    assert changed(after, path, "910") == LANTERN
    assert field(step_field(LANTERN, path, -1, Series.E24), path).text == "820"
    assert field(LANTERN, "supply/sections/ht1/capacitor/farad").quantity is Quantity.CAPACITANCE
    assert choices(LANTERN, "chain/transformer/tap_ohm") == ("4", "8", "16")
    assert choices(LANTERN, "chain/driver/feed") == ("ht1", "ht2", "ht3")
    assert {"chain/driver/tube", "chain/driver/feed"} == {f.path for f in fields_at(LANTERN, "chain/driver")}


def test_optional_parts_go_in_and_out():
    for path, fitted in optional_parts(LANTERN).items():
        if path == "chain/output/grid_leak":
            with pytest.raises(DesignRefused, match="needs a grid leak"):
                fit_part(LANTERN, path, False)
            continue
        after = fit_part(LANTERN, path, not fitted)
        assert optional_parts(after)[path] is not fitted


@pytest.mark.parametrize(
    ("path", "typed"),
    [
        ("chain/output/cathode_resistor", "1k"),
        ("chain/nothing/ohm", "1k"),
        ("chain/output/cathode_resistor/ohm", "blue"),
        ("chain/output/cathode_resistor/ohm", "0"),
        ("chain/volume/travel", "1.5"),
        ("chain/driver/tube", "XYZ9"),
        ("channels", "three"),
        ("channels", "3"),
        ("__class__/x", "1"),
    ],
)
def test_a_bad_change_is_a_sentence_and_no_change(path, typed):
    before = dump(LANTERN)
    with pytest.raises(ThermionicError) as refusal:
        changed(LANTERN, path, typed)
    assert len(str(refusal.value)) > 10
    assert dump(LANTERN) == before


def test_only_what_has_preferred_values_is_stepped():
    with pytest.raises(ValueRefused, match="preferred values"):
        step_field(LANTERN, "chain/volume/travel", 1)
    with pytest.raises(ValidationError):
        LANTERN.name = "another"
