"""Writing a netlist for a general SPICE-class simulator."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from thermionic import devices
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.supply import CircuitState
from thermionic.devices.triode import TriodeCoefficients


@dataclass
class _Writer:
    """Lines of the circuit, and the models that they use, each once."""

    tone_hertz: float | None
    lines: list[str] = field(default_factory=list)
    models: dict[str, str] = field(default_factory=dict)

    def model(self, stem: str, body: str) -> str:
        """The name of the model with this body (which holds NAME where its name goes)."""
        for name, known in self.models.items():
            if known == body.replace("NAME", name):
                return name
        name = f"{stem}{len(self.models) + 1}"
        self.models[name] = body.replace("NAME", name)
        return name


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
    solved = state is not None and state.rectifier is not None
    mains = next(
        (part.device.mains_hertz for part in netlist.parts
         if isinstance(part.device, devices.RectifiedWinding) and not solved),
        None,
    )  # fmt: skip
    writer = _Writer(tone_hertz if mains is None else None)
    for part in netlist.parts:
        if isinstance(part.device, devices.RectifiedWinding) and solved:
            assert state is not None
            _solved_rectifier(writer, part, state)
            continue
        _WRITERS[type(part.device)](writer, part, part.device)
    lines = [f"* {netlist.title.encode('ascii', 'replace').decode()}", *writer.lines, *writer.models.values()]
    if mains is not None:
        lines.append(f".tran {_n(0.005 / mains)} {_n(300 / mains)} {_n(298 / mains)} "
                     f"{_n(0.005 / mains)}")  # fmt: skip
    else:
        lines.append(".op")
        if watch:
            period = 1.0 / tone_hertz
            lines += [
                ".ac dec 20 2 500k",
                ".save all",
                f".print ac v({watch})",
                f".tran {_n(period / 200)} {_n(500 * period)} {_n(490 * period)} {_n(period / 200)}",
                f".four {_n(tone_hertz)} v({watch})",
            ]
    return "\n".join([*lines, ".end"]) + "\n"


def _n(value: float) -> str:
    return f"{float(value):.15g}"


def _resistor(writer: _Writer, part: Part, device: devices.Resistor) -> None:
    writer.lines.append(f"{_named('R', part)} {' '.join(part.nodes)} {_n(device.ohm)}")


def _capacitor(writer: _Writer, part: Part, device: devices.Capacitor) -> None:
    writer.lines.append(f"{_named('C', part)} {' '.join(part.nodes)} {_n(device.farad)}")


def _inductor(writer: _Writer, part: Part, device: devices.Inductor) -> None:
    writer.lines.append(f"{_named('L', part)} {' '.join(part.nodes)} {_n(device.henry)}")


def _named(letter: str, part: Part) -> str:
    """The designator with the first letter that SPICE goes by."""
    return part.name if part.name.upper().startswith(letter) else letter + part.name


def _source(writer: _Writer, name: str, part: Part, steady: float, tone: float) -> None:
    line = f"{name} {' '.join(part.nodes)} DC {_n(steady)}"
    if tone and writer.tone_hertz:
        line += f" AC {_n(tone)} SIN({_n(steady)} {_n(tone)} {_n(writer.tone_hertz)})"
    writer.lines.append(line)


def _voltage_source(writer: _Writer, part: Part, device: devices.VoltageSource) -> None:
    _source(writer, _named("V", part), part, device.volt, device.tone_volt)


def _current_source(writer: _Writer, part: Part, device: devices.CurrentSource) -> None:
    _source(writer, _named("I", part), part, device.ampere, device.tone_ampere)


def _thevenin(writer: _Writer, part: Part, device: devices.Thevenin) -> None:
    plus, minus = part.nodes
    writer.lines += [
        f"V{part.name} {part.name}__emf {minus} DC {_n(device.volt)}",
        f"R{part.name} {part.name}__emf {plus} {_n(device.ohm)}",
    ]


def _solved_rectifier(writer: _Writer, part: Part, state: CircuitState) -> None:
    assert state.rectifier is not None
    writer.lines.append(
        f"* {part.name}: the winding and its rectifier as solved over the mains cycle, around "
        f"{state.rectifier.mean_ampere * 1e3:.2f} mA"
    )
    _thevenin(writer, part, state.rectifier.equivalent)


def _potentiometer(writer: _Writer, part: Part, device: devices.Potentiometer) -> None:
    top, wiper, bottom = part.nodes
    above, below = device.halves()
    writer.lines += [
        f"R{part.name}a {top} {wiper} {_n(above)}",
        f"R{part.name}b {wiper} {bottom} {_n(below)}",
    ]


def _feed(writer: _Writer, part: Part, device: devices.Feed) -> None:
    rail, channel, back = part.nodes
    writer.lines.append(f"V{part.name} {rail} {channel} DC 0")
    if device.channels > 1:
        writer.lines += [
            f"* the other channel draws the same from {rail}",
            f"F{part.name} {rail} {back} V{part.name} {device.channels - 1}",
        ]


def _output_transformer(writer: _Writer, part: Part, device: devices.OutputTransformer) -> None:
    name, (p1, p2, s1, s2) = part.name, part.nodes
    (primary, _), (_, secondary) = device.inductances()
    coupling = (device.primary_henry / (device.primary_henry + device.leakage_henry)) ** 0.5
    writer.lines += [
        f"R{name}p {p1} {name}__p {_n(device.primary_ohm)}",
        f"L{name}p {name}__p {p2} {_n(primary)}",
        f"R{name}s {s1} {name}__s {_n(device.secondary_ohm)}",
        f"L{name}s {name}__s {s2} {_n(secondary)}",
        f"K{name} L{name}p L{name}s {_n(coupling)}",
    ]


def _diode_model(writer: _Writer, device: devices.Diode) -> str:
    body = f".model NAME D(IS={_n(device.saturation_ampere)} N={_n(device.emission)})"
    return writer.model("DMOD", body)


def _diode(writer: _Writer, part: Part, device: devices.Diode) -> None:
    writer.lines.append(f"{_named('D', part)} {' '.join(part.nodes)} {_diode_model(writer, device)}")


def _rectified_winding(writer: _Writer, part: Part, device: devices.RectifiedWinding) -> None:
    name, (plus, minus) = part.name, part.nodes
    model = _diode_model(writer, device.diode)
    writer.lines += [
        f"V{name} {name}__a {name}__b SIN(0 {_n(device.peak_volt)} {_n(device.mains_hertz)})",
        f"R{name} {name}__a {name}__c {_n(device.ohm)}",
        f"D{name}1 {name}__c {plus} {model}",
        f"D{name}2 {name}__b {plus} {model}",
        f"D{name}3 {minus} {name}__c {model}",
        f"D{name}4 {minus} {name}__b {model}",
    ]


def triode_subcircuit(k: TriodeCoefficients) -> str:
    """The body of a triode subcircuit, terminals anode, grid, cathode, and a parameter SCALE; see devices.Triode."""
    va, vg = "max(V(A,K),0)", "V(G,K)"
    u = f"{_n(k.kp)}*({_n(1 / k.mu)}+{vg}/sqrt({_n(k.kvb)}+{va}*{va}))"
    w = f"{_n(k.grid_c)}*{vg}"
    return "\n".join(
        [
            ".subckt NAME A G K SCALE=1",
            # ln(1+e^u), written so that it cannot overflow
            f"BU U 0 V={u}",
            f"BE E 0 V={va}/{_n(k.kp)}*(max(V(U),0)+ln(1+exp(-abs(V(U)))))",
            f"BA A K I={{SCALE}}*{_n(2 / k.kg1)}*max(V(E),0)^{_n(k.ex)}",
            f"BG G K I={{SCALE}}*{_n(k.grid_g)}*((max({w},0)+ln(1+exp(-abs({w}))))/{_n(k.grid_c)})^{_n(k.grid_xi)}",
            ".ends",
        ]
    )


def _triode(writer: _Writer, part: Part, device: devices.Triode) -> None:
    model = writer.model("TRIODE", triode_subcircuit(device.coefficients))
    anode, grid, cathode = part.nodes
    writer.lines.append(f"X{part.name} {anode} {grid} {cathode} {model} SCALE={_n(device.scale)}")
    for suffix, a, b, farad in (
        ("ga", grid, anode, device.grid_anode_farad),
        ("gk", grid, cathode, device.grid_cathode_farad),
        ("ak", anode, cathode, device.anode_cathode_farad),
    ):
        if farad:
            writer.lines.append(f"C{part.name}{suffix} {a} {b} {_n(farad)}")


_WRITERS: dict[type, Callable[[_Writer, Part, Any], None]] = {
    devices.Resistor: _resistor,
    devices.Capacitor: _capacitor,
    devices.Inductor: _inductor,
    devices.VoltageSource: _voltage_source,
    devices.CurrentSource: _current_source,
    devices.Thevenin: _thevenin,
    devices.Potentiometer: _potentiometer,
    devices.Feed: _feed,
    devices.OutputTransformer: _output_transformer,
    devices.Diode: _diode,
    devices.RectifiedWinding: _rectified_winding,
    devices.Triode: _triode,
}
