"""Writing a netlist for a general SPICE-class simulator."""

from __future__ import annotations

from thermionic import devices
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.spice.card import Cards, named
from thermionic.circuit.spice.cards import put
from thermionic.circuit.spice.laws import digits
from thermionic.circuit.supply_state import CircuitState, MainsState


def write(
    netlist: Netlist,
    *,
    state: CircuitState | None = None,
    tone_hertz: float = 1000.0,
    watch: str = "",
) -> str:
    """The netlist as text, with analyses: ``.op``, and where ``watch`` names a node ``.ac``, ``.tran``, ``.four``.

    Tubes are behavioural subcircuits of the same equations. With ``state`` (its solution) the rectifier is
    written as the source and resistance that it was solved to be over the mains cycle, so that ``.op`` gives
    working voltages; without, as winding and diodes on the mains with the test tone silent, for ``.tran`` only.
    """
    rectifying = state.mains.parts if state is not None and state.mains is not None else ()
    mains = None if rectifying else _mains_hertz(netlist)
    writer = Cards(tone_hertz if mains is None else None)
    # Solved, a gas tube is lit or dark and a thermistor is as warm as its heat makes it.
    solved = state.at.system.netlist if state is not None else netlist
    for part in netlist.parts:
        if part in rectifying:
            continue
        if part.name in solved:
            part = solved[part.name]
        if rectifying and isinstance(part.device, devices.MainsSource):
            mean = digits(part.device.excitation().dc[2])
            writer.lines.append(f"{named('V', part)} {' '.join(part.nodes)} DC {mean}")
            continue
        put(writer, part)
    if state is not None and state.mains is not None:
        _solved_rectifiers(writer, state.mains)
    lines = [f"* {netlist.title.encode('ascii', 'replace').decode()}", *writer.lines, *writer.models.values()]
    if mains is not None:
        lines.append(f".tran {digits(0.005 / mains)} {digits(300 / mains)} {digits(298 / mains)} "
                     f"{digits(0.005 / mains)}")  # fmt: skip
    else:
        lines.append(".op")
        if watch:
            period = 1.0 / tone_hertz
            lines += [
                ".ac dec 20 2 500k",
                ".save all",
                f".print ac v({watch})",
                f".tran {digits(period / 200)} {digits(500 * period)} {digits(490 * period)} {digits(period / 200)}",
                f".four {digits(tone_hertz)} v({watch})",
            ]
    return "\n".join([*lines, ".end"]) + "\n"


def circuit(netlist: Netlist, tone_hertz: float | None = 1000.0) -> str:
    """The netlist's parts and models alone, for analyses of the caller's own; sources are silent without a tone.

    Raises NetlistRefused for a part that no SPICE has: a measured impedance table, an array of variants.
    """
    writer = Cards(tone_hertz)
    for part in netlist.parts:
        put(writer, part)
    title = f"* {netlist.title.encode('ascii', 'replace').decode()}"
    return "\n".join([title, *writer.lines, *writer.models.values()]) + "\n"


def _mains_hertz(netlist: Netlist) -> float | None:
    for part in netlist.parts:
        if isinstance(part.device, devices.MainsSource):
            return part.device.hertz
    return None


def _solved_rectifiers(writer: Cards, mains: MainsState) -> None:
    """The rectifiers as the straight lines that they were solved to be over the mains cycle: for each port a
    conductance and a current, and where one port answers to another's voltage a controlled source."""
    ends = [
        (part.name, part.nodes[plus], part.nodes[minus]) for part in mains.parts for plus, minus in part.device.ports
    ]
    siemens, ampere = mains.stand_in.siemens, mains.stand_in.ampere
    for p, (name, plus, minus) in enumerate(ends):
        writer.lines += [
            f"* {name}: as solved over the mains cycle, around {mains.volts[p, 0].real:.2f} V",
            f"R{name}_{p} {plus} {minus} {digits(1.0 / siemens[p, p])}",
            f"I{name}_{p} {plus} {minus} DC {digits(ampere[p])}",
        ]
        for q, (_, other, back) in enumerate(ends):
            if q != p and siemens[p, q]:
                writer.lines.append(f"G{name}_{p}_{q} {plus} {minus} {other} {back} {digits(siemens[p, q])}")


def subcircuit(name: str, device: devices.Device, comment: str = "") -> str:
    """A device as a subcircuit of that name, its capacitances inside, for any netlist. Raises NetlistRefused."""
    inner = Cards(None)
    pins = [terminal.upper() for terminal in device.terminals]
    put(inner, Part("1", device, tuple(pins)))
    lines = [f"* {comment}"] if comment else []
    lines += [f".subckt {name} {' '.join(pins)}", *inner.lines]
    for model in inner.models.values():
        lines += model.splitlines()
    return "\n".join([*lines, f".ends {name}"]) + "\n"
