"""The models against published figures (tests/core/reference/), with the tolerances that we hold them to."""

import csv
from pathlib import Path

import numpy as np
import pytest

from thermionic import devices, tubes
from thermionic.circuit.large_signal import distortion, drive
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.operating_point import operating_point
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.system import System

FOLDER = Path(__file__).parent / "reference"
POINT_TOLERANCE = {"anode_a": 0.05, "gm_s": 0.08, "mu": 0.05}
STAGE_CURRENT, STAGE_GAIN, STAGE_DISTORTION = 0.10, 0.05, 0.02
OUTPUT_POWER, OUTPUT_DISTORTION = 0.15, 0.03


def rows(file):
    with (FOLDER / file).open() as lines:
        return list(csv.DictReader(lines))


def circuit(*parts):
    return System(Netlist("published", tuple(Part(name, device, tuple(at.split())) for name, device, at in parts)))


@pytest.mark.parametrize(
    "row", [row for row in rows("triode_points.csv") if row["type"] in tubes.all_types()], ids=lambda row: row["type"]
)
def test_published_points(row):
    model = tubes.characteristics(tubes.get(row["type"]).triode(), float(row["anode_v"]), float(row["grid_v"]))
    for key, tolerance in POINT_TOLERANCE.items():
        assert model[key] == pytest.approx(float(row[key]), rel=tolerance), key


@pytest.mark.parametrize(
    "row",
    [row for row in rows("resistance_coupled_stages.csv") if row["type"] == "ECC83"],
    ids=lambda row: f"{row['supply_v']}V-{row['anode_load_ohm']}",
)
def test_published_ecc83_stages(row):
    system = circuit(
        ("VG", devices.VoltageSource(0.0, 1.0), "g 0"),
        ("VB", devices.VoltageSource(float(row["supply_v"])), "b 0"),
        ("V1", tubes.get(row["type"]).triode(), "a g k"),
        ("RA", devices.Resistor(float(row["anode_load_ohm"])), "b a"),
        ("RK", devices.Resistor(float(row["cathode_ohm_bypassed"])), "k 0"),
        ("CK", devices.Capacitor(1.0), "k 0"),
        ("C2", devices.Capacitor(1e-3), "a x"),
        ("RG", devices.Resistor(float(row["next_grid_leak_ohm"])), "x 0"),
    )
    point = operating_point(system)
    assert point.parts["V1"].current == pytest.approx(float(row["anode_a"]), rel=STAGE_CURRENT)
    gain = abs(SmallSignal(point).tone(np.array([1000.0]))[0, system.node("x")])
    assert gain == pytest.approx(float(row["gain"]), rel=STAGE_GAIN)
    driven = drive(point, 1000.0, np.array([float(row["output_vrms"]) * 2**0.5 / gain]))
    thd = distortion(driven.phasors("x"))[0]
    assert thd == pytest.approx(float(row["thd_percent_at_output"]) / 100, abs=STAGE_DISTORTION)


def test_published_2a3_output_stage():
    row = next(row for row in rows("output_stage_operation.csv") if row["type"] == "2A3")
    bias, load = -float(row["bias"].split()[1]), float(row["load_ohm_anode_or_anode_to_anode"])
    bias = -abs(bias)
    system = circuit(
        ("VG", devices.VoltageSource(bias, float(row["drive_v_peak_grid_or_grid_to_grid"])), "g 0"),
        ("VB", devices.VoltageSource(float(row["anode_v"])), "b 0"),
        ("V1", tubes.get("2A3").triode(), "a g 0"),
        ("L1", devices.Inductor(1e3), "b a"),
        ("C1", devices.Capacitor(1.0), "a x"),
        ("RL", devices.Resistor(load), "x 0"),
    )
    point = operating_point(system)
    assert point.parts["V1"].current == pytest.approx(float(row["anode_a_zero/max_total"].split("/")[0]), rel=0.05)
    phasors = drive(point, 1000.0, np.array([1.0])).phasors("x")[0]
    assert abs(phasors[1]) ** 2 / (2 * load) == pytest.approx(float(row["power_w"]), rel=OUTPUT_POWER)
    assert distortion(phasors) == pytest.approx(float(row["thd_percent"]) / 100, abs=OUTPUT_DISTORTION)


def test_stored_coefficients_are_what_the_fit_gives():
    for tube in tubes.all_types().values():
        fitted = tubes.fit(tube.points, tube.stages)
        assert fitted.mu == pytest.approx(tube.coefficients.mu, rel=1e-3), tube.type
        assert fitted.kg1 == pytest.approx(tube.coefficients.kg1, rel=5e-3), tube.type
