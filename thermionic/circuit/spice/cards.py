"""How each device is written in a SPICE netlist: its own line, or a few."""

from __future__ import annotations

from collections.abc import Callable
from math import pi
from typing import Any

from thermionic import devices
from thermionic.circuit.netlist import Part
from thermionic.circuit.spice.card import Cards, named, source_card
from thermionic.circuit.spice.laws import (
    digits,
    filament_subcircuit,
    pentode_subcircuit,
    softplus,
    triode_subcircuit,
)
from thermionic.devices.base import THERMAL_VOLT
from thermionic.devices.converter_laws import CONVERTER_KNEE
from thermionic.devices.state_laws import AMBIENT_KELVIN, DARK_OHM, KNEE_VOLT
from thermionic.errors import NetlistRefused


def put(writer: Cards, part: Part) -> None:
    """Write a part. Raises NetlistRefused for one that no SPICE has."""
    for known, write_part in _WRITERS.items():
        if type(part.device) is known:
            write_part(writer, part, part.device)
            return
    raise NetlistRefused(f"{part.name} is a {type(part.device).__name__}, which a SPICE netlist has no part for.")


def _resistor(writer: Cards, part: Part, device: devices.Resistor) -> None:
    writer.lines.append(f"{named('R', part)} {' '.join(part.nodes)} {digits(device.ohm)}")


def _capacitor(writer: Cards, part: Part, device: devices.Capacitor) -> None:
    charge = f" IC={digits(device.start_volt)}" if device.start_volt else ""
    writer.lines.append(f"{named('C', part)} {' '.join(part.nodes)} {digits(device.farad)}{charge}")


def _inductor(writer: Cards, part: Part, device: devices.Inductor) -> None:
    writer.lines.append(f"{named('L', part)} {' '.join(part.nodes)} {digits(device.henry)}")


def _voltage_source(writer: Cards, part: Part, device: devices.VoltageSource) -> None:
    source_card(writer, named("V", part), part, device.volt, device.tone_volt, device.wave)


def _current_source(writer: Cards, part: Part, device: devices.CurrentSource) -> None:
    source_card(writer, named("I", part), part, device.ampere, device.tone_ampere, device.wave)


def _thevenin(writer: Cards, part: Part, device: devices.Thevenin) -> None:
    plus, minus = part.nodes
    writer.lines += [
        f"V{part.name} {part.name}__emf {minus} DC {digits(device.volt)}",
        f"R{part.name} {part.name}__emf {plus} {digits(device.ohm)}",
    ]


def _potentiometer(writer: Cards, part: Part, device: devices.Potentiometer) -> None:
    top, wiper, bottom = part.nodes
    above, below = device.halves()
    writer.lines += [
        f"R{part.name}a {top} {wiper} {digits(above)}",
        f"R{part.name}b {wiper} {bottom} {digits(below)}",
    ]


def _feed(writer: Cards, part: Part, device: devices.Feed) -> None:
    rail, channel, back = part.nodes
    writer.lines.append(f"V{part.name} {rail} {channel} DC 0")
    if device.channels > 1:
        writer.lines += [
            f"* the other channel draws the same from {rail}",
            f"F{part.name} {rail} {back} V{part.name} {device.channels - 1}",
        ]


def _output_transformer(writer: Cards, part: Part, device: devices.OutputTransformer) -> None:
    name, (p1, p2, s1, s2) = part.name, part.nodes
    (primary, _), (_, secondary) = device.inductances()
    coupling = (device.primary_henry / (device.primary_henry + device.leakage_henry)) ** 0.5
    writer.lines += [
        f"R{name}p {p1} {name}__p {digits(device.primary_ohm)}",
        f"L{name}p {name}__p {p2} {digits(primary)}",
        f"R{name}s {s1} {name}__s {digits(device.secondary_ohm)}",
        f"L{name}s {name}__s {s2} {digits(secondary)}",
        f"K{name} L{name}p L{name}s {digits(coupling)}",
    ]


def _diode_model(writer: Cards, device: devices.Diode) -> str:
    more = f" RS={digits(device.ohm)}" if device.ohm else ""
    if device.breakdown_volt < 1e6:
        more += f" BV={digits(device.breakdown_volt)} IBV={digits(device.breakdown_ampere)}"
    body = f".model NAME D(IS={digits(device.saturation_ampere)} N={digits(device.emission)}{more})"
    return writer.model("DMOD", body)


def _diode(writer: Cards, part: Part, device: devices.Diode) -> None:
    writer.lines.append(f"{named('D', part)} {' '.join(part.nodes)} {_diode_model(writer, device)}")


def _triode(writer: Cards, part: Part, device: devices.Triode) -> None:
    model = writer.model("TRIODE", triode_subcircuit(device.coefficients))
    anode, grid, cathode = part.nodes
    writer.lines.append(f"X{part.name} {anode} {grid} {cathode} {model} SCALE={digits(device.scale)}")
    _capacitances(writer, part, device, (grid, anode, cathode))


def _capacitances(
    writer: Cards, part: Part, device: devices.Triode | devices.Pentode, nodes: tuple[str, str, str]
) -> None:
    grid, anode, cathode = nodes
    for suffix, a, b, farad in (
        ("ga", grid, anode, device.grid_anode_farad),
        ("gk", grid, cathode, device.grid_cathode_farad),
        ("ak", anode, cathode, device.anode_cathode_farad),
    ):
        if farad:
            writer.lines.append(f"C{part.name}{suffix} {a} {b} {digits(farad)}")


def _pentode(writer: Cards, part: Part, device: devices.Pentode) -> None:
    model = writer.model("PENTODE", pentode_subcircuit(device.coefficients))
    anode, screen, grid, cathode = part.nodes
    writer.lines.append(f"X{part.name} {anode} {screen} {grid} {cathode} {model} SCALE={digits(device.scale)}")
    _capacitances(writer, part, device, (grid, anode, cathode))


def _filament_triode(writer: Cards, part: Part, device: devices.FilamentTriode) -> None:
    model = writer.model("FILAMENT", filament_subcircuit(device.coefficients))
    anode, grid, one, other = part.nodes
    writer.lines.append(f"X{part.name} {anode} {grid} {one} {other} {model} SCALE={digits(device.scale)}")
    writer.lines.append(f"R{part.name}f {one} {other} {digits(device.filament_ohm)}")
    if device.grid_anode_farad:
        writer.lines.append(f"C{part.name}ga {grid} {anode} {digits(device.grid_anode_farad)}")
    for end in (one, other):
        for suffix, node, farad in (("g", grid, device.grid_cathode_farad), ("a", anode, device.anode_cathode_farad)):
            if farad:
                place = "12"[end == other]
                writer.lines.append(f"C{part.name}{suffix}{place} {node} {end} {digits(0.5 * farad)}")


def _vacuum_rectifier(writer: Cards, part: Part, device: devices.VacuumRectifier) -> None:
    one, two, cathode = part.nodes
    law = f"{digits(device.perveance * device.scale)}*max(V(NODE,{cathode}),0)^1.5"
    for place, anode in (("a", one), ("b", two)):
        if anode != cathode:
            writer.lines.append(f"B{part.name}{place} {anode} {cathode} I={law.replace('NODE', anode)}")


def _selenium(writer: Cards, part: Part, device: devices.SeleniumRectifier) -> None:
    plates = device.plates
    stack = devices.Diode(device.saturation_ampere, device.emission * plates, device.plate_ohm * plates)
    _diode(writer, part, stack)
    writer.lines.append(f"R{part.name}leak {' '.join(part.nodes)} {digits(device.leak_ohm * plates)}")


def _zener(writer: Cards, part: Part, device: devices.Zener) -> None:
    anode, cathode = part.nodes
    plain = devices.Diode(device.saturation_ampere, 1.0)
    _diode(writer, part, plain)
    # Breakdown: a junction behind its resistance and the knee's voltage, backwards.
    ohm = max(device.ohm - THERMAL_VOLT / device.test_ampere, 1e-3)
    model = _diode_model(writer, devices.Diode(device.test_ampere, 1.0, ohm))
    writer.lines += [
        f"V{part.name}z {cathode} {part.name}__z DC {digits(device.volt)}",
        f"D{part.name}z {part.name}__z {anode} {model}",
        # The junction of the breakdown would draw its saturation current when off; the model has none.
        f"I{part.name}z {cathode} {anode} DC {digits(device.test_ampere)}",
    ]


def _gas(writer: Cards, part: Part, device: devices.GasRegulator) -> None:
    anode, cathode = part.nodes
    writer.lines.append(f"R{part.name} {anode} {cathode} {digits(DARK_OHM)}")
    if device.lit:
        u = f"(V({anode},{cathode})-{digits(device.extinction_volt)})/{digits(KNEE_VOLT)}"
        writer.lines.append(f"B{part.name} {anode} {cathode} I={digits(KNEE_VOLT / device.ohm)}*{softplus(u)}")


def _bipolar(writer: Cards, part: Part, device: devices.BipolarTransistor) -> None:
    body = (
        f".model NAME {'NPN' if device.polarity > 0 else 'PNP'}(IS={digits(device.saturation_ampere)} "
        f"BF={digits(device.forward_beta)} BR={digits(device.reverse_beta)} VAF={digits(device.early_volt)} "
        f"IKF={digits(device.knee_ampere)} NF={digits(device.forward_emission)} NR={digits(device.reverse_emission)} "
        f"VAR={digits(device.reverse_early_volt)} IKR={digits(device.reverse_knee_ampere)})"
    )
    writer.lines.append(f"{named('Q', part)} {' '.join(part.nodes)} {writer.model('QMOD', body)}")


def _mosfet(writer: Cards, part: Part, device: devices.Mosfet) -> None:
    drain, gate, source = part.nodes
    kind = "NMOS" if device.polarity > 0 else "PMOS"
    body = (
        f".model NAME {kind}(LEVEL=1 VTO={digits(device.polarity * device.threshold_volt)} "
        f"KP={digits(device.transconductance)} LAMBDA={digits(device.modulation)} IS={digits(device.body_ampere)})"
    )
    writer.lines.append(f"{named('M', part)} {drain} {gate} {source} {source} {writer.model('MMOD', body)} W=1 L=1")
    for suffix, a, b, farad in (("gs", gate, source, device.gs_farad), ("gd", gate, drain, device.gd_farad)):
        if farad:
            writer.lines.append(f"C{part.name}{suffix} {a} {b} {digits(farad)}")


def _converter(writer: Cards, part: Part, device: devices.Converter) -> None:
    """What it wants to give and what it gives, A, as the voltages of two nodes of its own."""
    (source, out), name = part.nodes, part.name
    fed, width = f"V({source})/{digits(device.least_volt)}", digits(CONVERTER_KNEE * device.ampere)
    held = f"max(1-{CONVERTER_KNEE}*{softplus(f'((1-{fed})/{CONVERTER_KNEE})')},0)"
    over = softplus(f"((V({name}__w)-{digits(device.ampere)})/{width})")
    across = f"max(V({source}),{digits(0.5 * device.least_volt)})"
    writer.lines += [
        f"B{name}w {name}__w 0 V=({digits(device.volt)}*{held}-V({out}))/{digits(device.ohm)}",
        f"B{name}l {name}__l 0 V=V({name}__w)/{width}-{over}",
        f"B{name}a {name}__a 0 V={width}*{softplus(f'V({name}__l)')}",
        f"B{name}o 0 {out} I=V({name}__a)",
        f"B{name}i {source} 0 I=max(V({out}),0)*V({name}__a)/{digits(device.efficiency)}/{across}"
        f"+{digits(device.idle_watt / device.least_volt**2)}*V({source})",
    ]


def _linear_regulator(writer: Cards, part: Part, device: devices.LinearRegulator) -> None:
    (source, out), name, knee = part.nodes, part.name, digits(device.numbers().knee_volt)
    width, room = digits(CONVERTER_KNEE * device.ampere), f"(V({source})-{digits(device.dropout_volt)})"
    fed = softplus(f"({room}/{knee})")
    held = f"{digits(device.volt)}-{knee}*{softplus(f'(({digits(device.volt)}-{room})/{knee})')}"
    over = softplus(f"((V({name}__w)-{digits(device.ampere)})/{width})")
    writer.lines += [
        f"B{name}w {name}__w 0 V=({held}-V({out}))/{digits(device.ohm)}",
        f"B{name}l {name}__l 0 V=V({name}__w)/{width}-{over}",
        f"B{name}a {name}__a 0 V={width}*{softplus(f'V({name}__l)')}",
        f"B{name}o 0 {out} I=V({name}__a)",
        f"B{name}i {source} 0 I=V({name}__a)+{digits(device.idle_ampere)}*{fed}/({fed}+1)",
    ]


def _hot(writer: Cards, part: Part, conductance: str, loss: str, heat: float) -> None:
    """A part whose conductance is an expression of its temperature rise, the voltage of a node of its own."""
    (a, b), node = part.nodes, f"{part.name}__rise"
    volts = f"V({a},{b})"
    writer.lines += [
        f"B{part.name} {a} {b} I={volts}*({conductance})",
        f"B{part.name}w 0 {node} I={volts}*{volts}*({conductance})-({loss})",
        f"C{part.name}w {node} 0 {digits(heat)}",
    ]


def _thermistor(writer: Cards, part: Part, device: devices.Thermistor) -> None:
    rise = f"V({part.name}__rise)"
    inverse = f"1/max({digits(AMBIENT_KELVIN)}+{rise},200)-{digits(1 / 298.15)}"
    law = f"exp({digits(-device.beta_kelvin)}*({inverse}))/{digits(device.cold_ohm)}"
    _hot(writer, part, law, f"{digits(device.loss_w_per_k)}*{rise}", device.heat_j_per_k)  # type: ignore[arg-type]


def _lamp(writer: Cards, part: Part, device: devices.Lamp) -> None:
    kelvin = f"max({digits(AMBIENT_KELVIN)}+V({part.name}__rise),200)"
    law = f"{digits(device.watt / device.volt**2)}*({digits(device.hot_kelvin)}/{kelvin})^1.2"
    scale = device.watt / (device.hot_kelvin**4 - AMBIENT_KELVIN**4)
    loss = f"{digits(scale)}*({kelvin}^4-{digits(AMBIENT_KELVIN**4)})"
    _hot(writer, part, law, loss, float(device.storage()[2, 2]))


def _fuse(writer: Cards, part: Part, device: devices.Fuse) -> None:
    writer.lines.append(f"R{part.name} {' '.join(part.nodes)} {digits(1e9 if device.blown else device.ohm)}")


def _transformer(writer: Cards, part: Part, device: devices.Transformer) -> None:
    """Windings of copper, leakage and a source of the core's volts; the core a node with the magnetising branch."""
    name, core = part.name, f"{part.name}__core"
    for k, winding in enumerate(device.windings, start=1):
        start, end = part.nodes[2 * k - 2], part.nodes[2 * k - 1]
        turns = winding.turns / device.windings[0].turns
        at = start
        for letter, value in (("R", winding.ohm), ("L", winding.leakage_henry)):
            if value:
                following = f"{name}__{letter.lower()}{k}"
                writer.lines.append(f"{letter}{name}{k} {at} {following} {digits(value)}")
                at = following
        writer.lines += [
            f"V{name}{k} {at} {name}__e{k} DC 0",
            f"E{name}{k} {name}__e{k} {end} {core} 0 {digits(turns)}",
            f"F{name}{k} 0 {core} V{name}{k} {digits(turns)}",
        ]
    if device.core.knee_weber is None:
        writer.lines.append(f"L{name}m {core} 0 {digits(device.core.henry)}")
    else:
        # The flux as the charge of a farad, from which the magnetising current follows.
        flux = f"{name}__flux"
        u = f"(V({flux})/{digits(device.core.knee_weber)})"
        writer.lines += [
            f"G{name}f 0 {flux} {core} 0 1",
            f"C{name}f {flux} 0 1",
            f"R{name}f {flux} 0 1e9",
            f"B{name}m {core} 0 I=V({flux})/{digits(device.core.henry)}*(1+{u}^{2 * device.core.power})",
        ]
    if device.core.loss_ohm is not None:
        writer.lines.append(f"R{name}loss {part.nodes[0]} {part.nodes[1]} {digits(device.core.loss_ohm)}")
    for place, (a, b, farad) in enumerate(device.capacitances, start=1):
        writer.lines.append(f"C{name}{place} {part.nodes[a]} {part.nodes[b]} {digits(farad)}")


def _driver(writer: Cards, part: Part, device: devices.Driver) -> None:
    name, (plus, minus) = part.name, part.nodes
    res, cmes, lces = device.motional()
    writer.lines += [
        f"R{name} {plus} {name}__coil {digits(device.ohm)}",
        f"L{name} {name}__coil {name}__motion {digits(device.henry)}",
        f"R{name}m {name}__motion {minus} {digits(res)}",
        f"C{name}m {name}__motion {minus} {digits(cmes)}",
        f"L{name}m {name}__motion {minus} {digits(lces)}",
    ]


def _mains_source(writer: Cards, part: Part, device: devices.MainsSource) -> None:
    peak, hertz = digits(device.peak_volt), digits(device.hertz)
    if device.folded:
        writer.lines.append(f"B{part.name} {' '.join(part.nodes)} V={peak}*abs(sin({digits(2 * pi)}*{hertz}*time))")
    else:
        writer.lines.append(f"{named('V', part)} {' '.join(part.nodes)} DC 0 SIN(0 {peak} {hertz})")


def _ideal_transformer(writer: Cards, part: Part, device: devices.IdealTransformer) -> None:
    name, (start1, end1, start2, end2) = part.name, part.nodes
    writer.lines += [
        f"E{name} {name}__e {end2} {start1} {end1} {digits(device.ratio)}",
        f"V{name} {start2} {name}__e DC 0",
        f"F{name} {end1} {start1} V{name} {digits(device.ratio)}",
    ]


def _coupled(writer: Cards, part: Part, device: devices.CoupledInductors) -> None:
    matrix = device.henry
    for k, row in enumerate(matrix, start=1):
        writer.lines.append(f"L{part.name}{k} {part.nodes[2 * k - 2]} {part.nodes[2 * k - 1]} {digits(row[k - 1])}")
    for j in range(len(matrix)):
        for k in range(j):
            if matrix[j][k]:
                coupling = matrix[j][k] / (matrix[j][j] * matrix[k][k]) ** 0.5
                writer.lines.append(f"K{part.name}{j}{k} L{part.name}{k + 1} L{part.name}{j + 1} {digits(coupling)}")


def _controlled(writer: Cards, part: Part, device: devices.VoltageControlled | devices.Transconductance) -> None:
    letter, value = ("E", device.gain) if isinstance(device, devices.VoltageControlled) else ("G", device.siemens)
    writer.lines.append(f"{named(letter, part)} {' '.join(part.nodes)} {digits(value)}")


_WRITERS: dict[type, Callable[[Cards, Part, Any], None]] = {
    devices.Resistor: _resistor,
    devices.Contact: _resistor,
    devices.Capacitor: _capacitor,
    devices.Inductor: _inductor,
    devices.VoltageSource: _voltage_source,
    devices.CurrentSource: _current_source,
    devices.Thevenin: _thevenin,
    devices.Potentiometer: _potentiometer,
    devices.Feed: _feed,
    devices.OutputTransformer: _output_transformer,
    devices.Diode: _diode,
    devices.Triode: _triode,
    devices.FilamentTriode: _filament_triode,
    devices.Pentode: _pentode,
    devices.VacuumRectifier: _vacuum_rectifier,
    devices.SeleniumRectifier: _selenium,
    devices.LED: _diode,
    devices.Zener: _zener,
    devices.GasRegulator: _gas,
    devices.BipolarTransistor: _bipolar,
    devices.Mosfet: _mosfet,
    devices.Converter: _converter,
    devices.LinearRegulator: _linear_regulator,
    devices.Thermistor: _thermistor,
    devices.Lamp: _lamp,
    devices.Fuse: _fuse,
    devices.Transformer: _transformer,
    devices.Choke: _transformer,
    devices.Driver: _driver,
    devices.MainsSource: _mains_source,
    devices.IdealTransformer: _ideal_transformer,
    devices.CoupledInductors: _coupled,
    devices.VoltageControlled: _controlled,
    devices.Transconductance: _controlled,
}
