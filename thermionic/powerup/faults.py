"""The simple faults of a first build, each as the circuit that it makes."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

from thermionic import devices
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.devices.base import Device
from thermionic.powerup.plan import Plan
from thermionic.values import Quantity, Series, nearest, written

# A resistor read wrongly is out by a decade or by one colour; one that is open, or shorted by a whisker of solder.
WRONG = (0.1, 0.22, 0.47, 0.68, 1.5, 2.2, 4.7, 10.0)
OPEN_OHM, SHORT_OHM, LEAK_OHM = 1e9, 0.5, 470e3


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
    fitted = written(nearest(ohm, Series.E12), Quantity.RESISTANCE)
    device = plan.netlist[name].device
    assert isinstance(device, devices.Resistor)
    meant = written(float(device.ohm), Quantity.RESISTANCE)
    return Fault(
        f"{name}:value",
        f"{name} is about {fitted} where it should be {meant}",
        f"Switch off, discharge, lift one end of {name} and measure it.",
        weight,
        plan.netlist.with_device(name, devices.Resistor(ohm)),
        name,
    )


def faults(plan: Plan) -> Iterator[Fault]:
    """All simple faults of the circuit in ``plan``."""
    for part in plan.netlist.parts:
        device = part.device
        if part.path.endswith("/source_ohm"):
            continue  # it belongs to the source, not to the amplifier
        if part.path and isinstance(device, devices.Resistor):
            yield from _resistor(plan, part, device)
        elif part.path and isinstance(device, devices.Capacitor):
            yield from _capacitor(plan, part)
        elif isinstance(device, devices.Triode):
            yield from _tube(plan, part, device)
        elif isinstance(device, devices.OutputTransformer):
            yield from _transformer(plan, part, device)
        elif isinstance(device, devices.RectifiedWinding):
            yield from _winding(plan, part, device)


def _fault(plan: Plan, part: Part, device: Device, kind: str, title: str, look: str, weight: float) -> Fault:
    return Fault(f"{part.name}:{kind}", title, look, weight, plan.netlist.with_device(part.name, device))


def _resistor(plan: Plan, part: Part, device: devices.Resistor) -> Iterator[Fault]:
    name = part.name
    if name == "LS1":
        yield _fault(plan, part, devices.Resistor(OPEN_OHM), "open", "No load on the output",
                     "Check the dummy load and its leads. Never drive an amplifier without one.", 1.0)  # fmt: skip
        return
    yield _fault(plan, part, devices.Resistor(OPEN_OHM), "open", f"{name} is open or not connected",
                 f"Switch off, discharge, and measure {name} in place; look at its joints.", 1.0)  # fmt: skip
    if device.ohm > 20 * SHORT_OHM:
        yield _fault(plan, part, devices.Resistor(SHORT_OHM), "short", f"{name} is shorted",
                     f"Look for solder or a lead across {name}.", 0.4)  # fmt: skip
    for factor in WRONG:
        yield wrong_value(plan, name, float(device.ohm) * factor)


def _capacitor(plan: Plan, part: Part) -> Iterator[Fault]:
    name = part.name
    yield Fault(f"{name}:open", f"{name} is open or not connected",
                f"Look at the joints of {name}; hang a known good one across it.", 0.8,
                plan.netlist.without(lambda other: other.name == name))  # fmt: skip
    leak = Part(f"R_LEAK_{name}", devices.Resistor(LEAK_OHM), part.nodes)
    yield Fault(f"{name}:leak", f"{name} leaks",
                f"Switch off, discharge, lift one end of {name} and test it at its working voltage.", 0.6,
                plan.netlist.with_parts([leak]))  # fmt: skip
    short = Part(f"R_SHORT_{name}", devices.Resistor(SHORT_OHM), part.nodes)
    polarised = GROUND in part.nodes
    yield Fault(f"{name}:short", f"{name} is shorted" + (" or in the wrong way round" if polarised else ""),
                f"Switch off, discharge, and measure across {name}.", 0.6,
                plan.netlist.with_parts([short]))  # fmt: skip


def _tube(plan: Plan, part: Part, device: devices.Triode) -> Iterator[Fault]:
    for scale, title in ((0.75, "is weak"), (0.5, "is worn out")):
        yield _fault(plan, part, replace(device, scale=scale), f"weak{scale}", f"{part.name} {title}",
                     f"Try another tube in the place of {part.name}.", 1.0)  # fmt: skip
    yield _fault(plan, part, replace(device, scale=1e-6), "dead", f"{part.name} does not conduct",
                 f"See that {part.name} glows and sits in its socket; check its heater pins.", 1.0)  # fmt: skip


def _transformer(plan: Plan, part: Part, device: devices.OutputTransformer) -> Iterator[Fault]:
    yield _fault(plan, part, replace(device, primary_ohm=OPEN_OHM), "open", f"The primary of {part.name} is open",
                 f"Switch off, discharge, and measure the primary of {part.name}.", 0.4)  # fmt: skip
    for factor, words in ((2**0.5, "lower"), (2**-0.5, "higher")):
        changed = replace(
            device, turns_ratio=device.turns_ratio * factor, secondary_ohm=device.secondary_ohm / factor**2
        )
        yield _fault(plan, part, changed, f"tap{words}", f"The load hangs on the next {words} tap of {part.name}",
                     "Compare the secondary's leads with the maker's drawing.", 0.5)  # fmt: skip


def _winding(plan: Plan, part: Part, device: devices.RectifiedWinding) -> Iterator[Fault]:
    for factor, words in ((0.9, "low"), (1.1, "high")):
        changed = replace(device, peak_volt=device.peak_volt * factor)
        yield _fault(plan, part, changed, f"tap{words}", f"{part.name} gives 10 % too {words} a voltage",
                     "Check the mains tap, and measure the mains again.", 0.5)  # fmt: skip
