"""The design document: reading, refusing, changing."""

import json
import re
from pathlib import Path

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
V1 = (Path(__file__).parent / "data" / "version1" / "lantern.json").read_text()
V1 = json.dumps(json.loads(V1)["document"])


def test_a_design_survives_its_file():
    assert load(TEXT) == LANTERN
    assert load(TEXT.replace("910.0", '"910R"')) == LANTERN
    assert schema()["properties"]["blocks"]["items"]["discriminator"]["propertyName"] == "kind"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        (TEXT[: len(TEXT) // 2], "not complete JSON: .* line 1"),
        ("[" * 100_000, "nests"),
        (b"\xff\xfe\x00", "UTF-8"),
        ("[]", "a list"),
        ('{"a": 1}', "name: is missing"),
        ("x" * 2_000_000, "1 MB is the most"),
        (TEXT.replace('"version": 2', '"version": 9'), "version 9"),
        (TEXT.replace('"version": 2', '"version": true'), "version True"),
        (TEXT.replace("910.0", "NaN"), "NaN"),
        (TEXT.replace("910.0", "1" * 5000), "cannot be read"),
        (TEXT.replace("910.0", "1" * 400), "large"),
        (TEXT.replace("910.0", "-910.0"), "output, cathode_resistor, ohm: A resistance cannot be negative"),
        (TEXT.replace("910.0", "true"), "output, cathode_resistor, ohm: .*number or text"),
        (TEXT.replace('"2A3"', '"2A33"'), "envelopes, v2, .*Did you mean 2A3"),
        (
            TEXT.replace('"feed": "ht3.out"', '"feed": "ht9.out"'),
            "driver: its fed from is “ht9.out”, which is no rail.*ht3.out",
        ),
        (
            TEXT.replace('"feed": "ht3.out"', '"feed": "volume.out"'),
            "driver: .*takes a rail, and volume.out is a signal",
        ),
        (TEXT.replace('"input": "volume.out"', '"input": "output.out"'), "takes from itself by way of"),
        (TEXT.replace('"kind": "volume"', '"kind": "flux"'), "volume: a block's kind is one of"),
        (TEXT.replace('"id": "volume"', '"id": "driver"'), "Two of the design's parts are called driver"),
        (TEXT.replace('"id": "volume"', '"id": "a__b"'), "blocks, a__b, id: small letters"),
        (TEXT.replace('"v1.a"', '"v9.a"'), "driver uses v9.a, and there is no envelope v9"),
        (TEXT.replace('"v1.a"', '"v1.c"'), "6SL7GT has no section c; it has a to b"),
        (TEXT.replace('"v2.a"', '"v1.a"'), "v1.a is used twice"),
        (TEXT.replace('"transformer.8"', '"transformer.5"'), "speaker: .*no signal of this design"),
        (TEXT.replace('"channels": 2', '"channels": 2, "colour": "red"'), "colour: is not something"),
        (json.dumps({**json.loads(TEXT), "blocks": ["x"]}), "a block is an object"),
        (V1.replace('"tap_ohm": 8.0', '"tap_ohm": 5.0'), "no 5 Ω tap; it has 4 Ω, 8 Ω, 16 Ω"),
        (V1.replace('"feed": "ht2"', '"feed": "ht9"'), "“ht9.out”, which is no rail"),
        (V1.replace('"supply"', '"supplies"'), "version 1 is damaged: supply is missing"),
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
@given(st.sampled_from(["blocks", "envelopes", "brief", "name", "channels", "version"]), json_values)
def test_any_damage_to_a_file_is_refused_or_harmless(key, value):
    raw = json.loads(TEXT)
    raw[key] = value
    try:
        assert isinstance(load(json.dumps(raw)), Design)
    except DesignRefused as refusal:
        assert str(refusal)  # noqa: PT017


def test_a_value_is_changed_by_its_path_and_nothing_else_is():
    path = "blocks/output/cathode_resistor/ohm"
    after = changed(LANTERN, path, "1k")
    assert field(after, path).text == "1k"
    assert changed(after, path, "910") == LANTERN
    assert field(step_field(LANTERN, path, -1, Series.E24), path).text == "820"
    assert field(LANTERN, "blocks/ht1/capacitor/farad").quantity is Quantity.CAPACITANCE
    assert choices(LANTERN, "blocks/speaker/input")[-3:] == ("transformer.4", "transformer.8", "transformer.16")
    assert choices(LANTERN, "blocks/driver/feed") == (
        "",
        "rectifier.out",
        "reservoir.out",
        "ht1.out",
        "ht2.out",
        "ht3.out",
    )
    assert {"envelopes/v1/type", "blocks/driver/feed"} <= {f.path for f in fields_at(LANTERN, "blocks/driver")}
    assert field(LANTERN, "blocks/driver/cathode_resistor/ohm").title == "Resistance"


def test_optional_parts_go_in_and_out():
    """Each is fitted or taken out, or what it would leave dangling is said."""
    dangling = {}
    for path, fitted in optional_parts(LANTERN).items():
        try:
            after = fit_part(LANTERN, path, not fitted)
        except DesignRefused as refusal:
            dangling[path] = str(refusal)
            continue
        assert optional_parts(after)[path] is not fitted
    assert "needs a grid leak" in dangling["blocks/output/grid_leak"]
    assert "bypass needs a cathode resistor" in dangling["blocks/driver/cathode_resistor"]
    assert "an anode has one load" in dangling["blocks/driver/anode_choke"]
    assert "needs a screen that is fed" in dangling["blocks/driver/screen_bypass"]
    coupling = fit_part(LANTERN, "blocks/driver/coupling", True)
    assert field(coupling, "blocks/driver/coupling/farad").text == "220n"


@pytest.mark.parametrize(
    ("path", "typed"),
    [
        ("blocks/output/cathode_resistor", "1k"),
        ("blocks/nothing/ohm", "1k"),
        ("blocks/output/cathode_resistor/ohm", "blue"),
        ("blocks/output/cathode_resistor/ohm", "0"),
        ("blocks/volume/travel", "1.5"),
        ("envelopes/v1/type", "XYZ9"),
        ("blocks/driver/tubes", "v1.a, v1.a"),
        ("blocks/driver/feed", ""),
        ("blocks/transformer/push_pull", "perhaps"),
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
        step_field(LANTERN, "blocks/volume/travel", 1)
    with pytest.raises(ValidationError):
        LANTERN.name = "another"
