"""The simple faults of a first build, each as the circuit that it makes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from thermionic import devices
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.powerup.devices import OPEN_OHM, Failure, failures
from thermionic.powerup.devices import wrong_value as wrong_resistor
from thermionic.powerup.plan import Plan


@dataclass(frozen=True, eq=False)
class Fault:
    """A fault: what it is, what to look for, how common it is against the others, and its circuit.

    ``resistor`` names the part whose value is wrong, for those faults.
    """

    key: str
    title: str
    look: str
    weight: float
    netlist: Netlist
    resistor: str = ""


def wrong_value(plan: Plan, name: str, ohm: float, weight: float = 0.5) -> Fault:
    """Resistor ``name`` fitted with another value."""
    device = plan.netlist[name].device
    assert isinstance(device, devices.Resistor)
    return _fault(plan, plan.netlist[name], wrong_resistor(device, ohm, weight))


def faults(plan: Plan) -> Iterator[Fault]:
    """All simple faults of the circuit in ``plan``. What belongs to the source is not the amplifier's to fail."""
    outside = {f"blocks/{source.block}" for source in plan.compiled.sources}
    load = plan.compiled.load.part
    for part in plan.netlist.parts:
        if not part.path or any(part.path == path or part.path.startswith(f"{path}/") for path in outside):
            continue
        if part.name == load:
            yield Fault(f"{part.name}:open", "No load on the output",
                        "Check the dummy load and its leads. Never drive an amplifier without one.", 1.0,
                        plan.netlist.with_device(part.name, devices.Resistor(OPEN_OHM)))  # fmt: skip
            continue
        for failure in failures(part.device, GROUND in part.nodes):
            yield _fault(plan, part, failure)


def _fault(plan: Plan, part: Part, failure: Failure) -> Fault:
    netlist = plan.netlist
    if failure.device is None:
        netlist = netlist.without(lambda other: other.name == part.name)
    elif failure.device is not part.device:
        netlist = netlist.with_device(part.name, failure.device)
    if failure.across_ohm is not None:
        across = Part(f"R_{failure.key.upper()}_{part.name}", devices.Resistor(failure.across_ohm), part.nodes[:2])
        netlist = netlist.with_parts([across])
    return Fault(
        f"{part.name}:{failure.key}", failure.title.format(part.name), failure.look.format(part.name), failure.weight,
        netlist, part.name if failure.wrong_ohm is not None else "",
    )  # fmt: skip
