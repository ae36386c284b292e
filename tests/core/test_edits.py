"""What an edit keeps of the amplifier before it: it serves again, and changes nothing of what is found."""

import numpy as np
import pytest
from pydantic import BaseModel

from thermionic import devices, examples
from thermionic.amplifier import solve
from thermionic.amplifier.compiling import compile_design
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.system import System
from thermionic.design import Resistor, changed, dump, field, fit_part, validate
from thermionic.design.editing import fields_at
from thermionic.design.paths import put
from thermionic.design.reading import with_value
from thermionic.devices import VoltageSource
from thermionic.devices.base import Table
from thermionic.errors import DesignRefused
from thermionic.values import Quantity


@pytest.mark.parametrize("name", examples.names())
def test_a_value_changed_near_a_solution_is_solved_as_from_nothing(name):
    before = solve(examples.example(name))
    _ = before.drive
    paths = [f"{path}/ohm" for path, _ in before.compiled.components(Resistor)]
    assert paths
    for path in paths[::3]:
        design = changed(before.design, path, field(before.design, path).value * 1.1)
        near, cold = solve(design, before), solve(design)
        volts = {node: cold.state.at.voltage(node) for node in cold.state.at.system.nodes}
        most = max(map(abs, volts.values()))
        for node, volt in volts.items():
            assert near.state.at.voltage(node) == pytest.approx(volt, abs=1e-5 * most), (path, node)
        changes = [part.name for part in near.netlist.parts if part.device is not before.netlist[part.name].device]
        assert 0 < len(changes) <= len(near.compiled.designators(path))


def test_a_part_that_is_taken_out_is_solved_near_as_from_nothing():
    before = solve(examples.example("lantern"))
    after = solve(fit_part(before.design, "blocks/driver/cathode_bypass", False), before)
    alone = solve(after.design)
    for node in alone.state.at.system.nodes:
        assert after.state.at.voltage(node) == pytest.approx(alone.state.at.voltage(node), rel=1e-5, abs=1e-3)


def test_a_tone_keeps_its_phase():
    parts = (Part("V1", VoltageSource(1.0, 0.3 - 0.4j), ("a", "0")), Part("R1", devices.Resistor(2.0), ("a", "0")))
    system = System(Netlist("a tone with a phase", parts))
    assert system.b_tone[system.branch("V1")] == 0.3 - 0.4j


@pytest.mark.parametrize("name", examples.names())
def test_the_equations_are_the_sum_of_what_each_part_adds(name):
    """Against the devices' own matrices, added up one by one."""
    state = solve(examples.example(name)).state
    for system in (state.at.system, System(state.netlist)):
        wide = system.size + 1
        conductance, storage, steady, tone = (np.zeros(s) for s in ((wide, wide), (wide, wide), wide, wide))
        ports = injects = 0
        for place in system.placed:
            device, at = place.part.device, np.array(place.unknowns)
            assert [system.frame.index[node] for node in place.part.nodes] == list(at[: len(place.part.nodes)])
            np.add.at(conductance, (at[:, None], at), device.conductance())
            np.add.at(storage, (at[:, None], at), device.storage())
            np.add.at(steady, at, device.excitation().dc)
            np.add.at(tone, at, device.excitation().tone)
            if device.ports:
                ended = [*place.unknowns, -1]
                assert (place.ports.start, place.injects.start) == (ports, injects)
                ports, injects = place.ports.stop, place.injects.stop
                assert system.senses[place.ports].tolist() == [[ended[a], ended[b]] for a, b in device.ports]
                assert system.drives[place.injects].tolist() == [[ended[a], ended[b]] for a, b in device.injects]
        for node in range(len(system.nodes)):
            conductance[node, node] += 1e-12
        for put_together, added in (
            (system.G, conductance), (system.C, storage), (system.b_dc, steady), (system.b_tone, tone),
        ):  # fmt: skip
            inside = tuple([slice(0, -1)] * added.ndim)
            np.testing.assert_allclose(put_together, added[inside], rtol=1e-13, atol=1e-15)
        apart = Table.of(*zip(*((one.part.device, one.ports, one.injects) for one in system.plugged), strict=True))
        for packed, wanted in zip(vars(system.table).values(), vars(apart).values(), strict=False):
            np.testing.assert_array_equal(packed, wanted)


@pytest.mark.parametrize("name", examples.names())
def test_a_block_changed_by_itself_is_as_the_whole_document_read_again(name):
    design = examples.example(name)
    parts = [f"blocks/{block.id}" for block in design.blocks]
    parts += [path for path, _ in compile_design(design).components(BaseModel) if path not in parts]
    for part in parts:
        for one in fields_at(design, part):
            if not one.path.startswith("blocks/") or not isinstance(one.value, float):
                continue
            raw, value = dump(design), one.value * 1.01 if one.quantity is Quantity.RESISTANCE else one.value
            put(raw, one.path, value)
            result = with_value(design, one.path, value)
            assert result == validate(raw)
            assert [new is old for new, old in zip(result.blocks, design.blocks, strict=True)].count(False) == 1


@pytest.mark.parametrize(
    ("path", "value"),
    [("blocks/output/cathode_resistor/ohm", -5.0), ("blocks/output/kind", "nothing"), ("blocks/driver/id", "output"),
     ("blocks/output/input", "nowhere.out"), ("blocks/transformer/input", "reservoir.out"),
     ("brief/mains_volt", 1e6)],
)  # fmt: skip
def test_what_is_refused_of_a_block_is_said_as_of_the_whole_document(path, value):
    design = examples.example("lantern")
    raw = dump(design)
    put(raw, path, value)
    with pytest.raises(DesignRefused) as whole:
        validate(raw)
    with pytest.raises(DesignRefused) as alone:
        with_value(design, path, value)
    assert str(alone.value) == str(whole.value)
