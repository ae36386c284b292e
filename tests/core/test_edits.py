"""What an edit keeps of the amplifier before it: it serves again, and changes nothing of what is found."""

import numpy as np
import pytest
from pydantic import BaseModel

from thermionic import devices, examples
from thermionic.amplifier import solve
from thermionic.amplifier.compiling import compile_design
from thermionic.circuit.system import System
from thermionic.design import Resistor, changed, dump, field, fit_part, validate
from thermionic.design.editing import fields_at
from thermionic.design.paths import put
from thermionic.design.reading import with_value
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
        # Put together in the frame of the one before, and yet number for number as by itself.
        system = near.state.mains.system if near.state.mains else near.state.at.system
        earlier = before.state.mains.system if before.state.mains else before.state.at.system
        assert system.frame is earlier.frame
        alone = System(system.netlist)
        for one, other in ((system.G, alone.G), (system.C, alone.C), (system.b_dc, alone.b_dc)):
            np.testing.assert_array_equal(one, other)
        changes = [part.name for part in near.netlist.parts if part.device is not before.netlist[part.name].device]
        assert 0 < len(changes) <= len(near.compiled.designators(path))


def test_a_part_that_is_taken_out_makes_a_frame_of_its_own():
    before = solve(examples.example("lantern"))
    after = solve(fit_part(before.design, "blocks/driver/cathode_bypass", False), before)
    assert after.state.mains.system.frame is not before.state.mains.system.frame
    alone = solve(after.design)
    for node in alone.state.at.system.nodes:
        assert after.state.at.voltage(node) == pytest.approx(alone.state.at.voltage(node), rel=1e-5, abs=1e-3)


def test_frames_fit_the_same_nodes_and_shapes_alone():
    netlist = solve(examples.example("wicket")).netlist
    system = System(netlist)
    assert System(netlist, system).frame is system.frame
    first, *others = netlist.parts
    swapped = type(netlist)(netlist.title, (type(first)(first.name, first.device, first.nodes[::-1]), *others))
    assert System(swapped, system).frame is not system.frame
    assert System(netlist.without(lambda part: part is first), system).frame is not system.frame
    resistor = next(part for part in netlist.parts if isinstance(part.device, devices.Resistor))
    assert System(netlist.with_device(resistor.name, devices.Resistor(1.0)), system).frame is system.frame
    assert System(netlist.with_device(resistor.name, devices.Inductor(1.0)), system).frame is not system.frame


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
            found = with_value(design, one.path, value)
            assert found == validate(raw)
            assert [new is old for new, old in zip(found.blocks, design.blocks, strict=True)].count(False) == 1


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
