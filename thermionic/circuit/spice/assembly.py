"""The parts of a netlist as they are read, and what all of it says of them: probes, couplings, stepped values."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np

from thermionic import devices
from thermionic.circuit.netlist import GROUND, Part
from thermionic.circuit.spice.builder import Place
from thermionic.errors import NetlistRefused

_CLOCK = "time__"
_LONGEST = 1e6  # that a clock runs, s


def with_value(part: Part, value: float) -> devices.Device:
    """A source, resistor, capacitor or inductor with another value. Raises NetlistRefused for any other part."""
    device = part.device
    if isinstance(device, devices.VoltageSource):
        return replace(device, volt=value)
    if isinstance(device, devices.CurrentSource):
        return replace(device, ampere=value)
    for kind, field in ((devices.Resistor, "ohm"), (devices.Capacitor, "farad"), (devices.Inductor, "henry")):
        if isinstance(device, kind):
            if not value > 0:
                raise NetlistRefused(f"{part.name} cannot be {value:g}: its value is above zero.")
            return replace(device, **{field: value})  # type: ignore[arg-type]
    raise NetlistRefused(f"{part.name} has no one value to change; that of a V, I, R, C or L can be.")


class Assembly:
    """Parts on nodes, by their full names; ``line`` is where the reading is."""

    def __init__(self) -> None:
        self.parts: list[Part] = []
        self.names: dict[str, int] = {}
        self.spelling: dict[str, str] = {}
        self.couplings: list[tuple[str, tuple[str, ...], float]] = []
        self.senses: list[tuple[str, str, str]] = []  # line, part wanted, node its reading is on
        self.shared: set[str] = set()
        self.line = ""

    def node(self, name: str, place: Place) -> str:
        """A node's full name: the caller's for a pin, else one of this subcircuit's own, unless all share it."""
        key = name.lower()
        if key in ("0", "gnd", "gnd!"):
            return GROUND
        if key in place.nodes:
            return place.nodes[key]
        full = name if key in self.shared else f"{place.prefix}{name}"
        return self.spelling.setdefault(full.lower(), full)

    def add(self, name: str, device: devices.Device, nodes: tuple[str, ...], prefix: str = "") -> None:
        """Add a part under its full name."""
        full = f"{prefix}{name}" if prefix else name
        if full.upper() in self.names:
            raise NetlistRefused(f"{name} is used twice.")
        self.names[full.upper()] = len(self.parts)
        self.parts.append(Part(full, device, nodes))

    def sense(self, part: str, place: Place) -> str:
        """The node that reads the current into a part's first terminal, a volt an ampere."""
        full = f"{place.prefix}{part}".upper()
        self.senses.append((self.line, full, f"{full}__ampere"))
        return f"{full}__ampere"

    def clock(self) -> str:
        """The node that reads the time, a volt a second; nothing at DC."""
        if _CLOCK.upper() not in self.names:
            wave = devices.Piecewise((0.0, _LONGEST), (0.0, _LONGEST))
            self.add(_CLOCK, devices.VoltageSource(0.0, 0.0, wave), (_CLOCK, GROUND))
        return _CLOCK

    def put_probes(self) -> None:
        """Put a probe in series with every part whose current is asked for."""
        done: set[str] = set()
        for line, full, reading in self.senses:
            self.line = line
            if full in done:
                continue
            done.add(full)
            at = self.names.get(full)
            if at is None:
                raise NetlistRefused(f"the current of {full} is wanted, but there is no such part.")
            part = self.parts[at]
            between = f"{part.name}__sensed"
            self.parts[at] = Part(part.name, part.device, (between, *part.nodes[1:]))
            self.add(f"{part.name}__probe", devices.CurrentProbe(), (part.nodes[0], between, reading))

    def couple(self) -> None:
        """Join the inductors that K lines couple into one device for each group, wherever they stand."""
        group: dict[str, set[str]] = {}
        for line, pair, _ in self.couplings:
            self.line = line
            for name in pair:
                at = self.names.get(name.upper())
                if at is None or not isinstance(self.parts[at].device, devices.Inductor):
                    raise NetlistRefused(f"{name} is coupled, but there is no such inductor.")
            first, second = (name.upper() for name in pair)
            both = group.get(first, {first}) | group.get(second, {second})
            for name in both:
                group[name] = both
        joined: dict[str, Part] = {}
        taken: set[str] = set()
        for members in group.values():
            names = sorted(members, key=lambda name: self.names[name])
            if names[0] in taken:
                continue
            taken |= members
            joined[names[0]] = self._joined(names)
        kept = [joined.get(part.name.upper(), part) for part in self.parts
                if part.name.upper() not in taken or part.name.upper() in joined]  # fmt: skip
        self.parts = kept
        self.names = {part.name.upper(): at for at, part in enumerate(kept)}

    def _joined(self, names: list[str]) -> Part:
        """The coupled inductors of these names as one device."""
        coils = [self.parts[self.names[name]] for name in names]
        henries = np.array([float(coil.device.henry) for coil in coils])  # type: ignore[attr-defined]
        matrix = np.diag(henries)
        for line, pair, k in self.couplings:
            first, second = (name.upper() for name in pair)
            if first in names:
                self.line = line
                a, b = names.index(first), names.index(second)
                matrix[a, b] = matrix[b, a] = k * np.sqrt(henries[a] * henries[b])
        scaled = matrix / np.sqrt(np.outer(henries, henries))
        if np.linalg.eigvalsh(scaled).min() < -1e-9:
            raise NetlistRefused("these couplings cannot all be: together they would make energy.")
        currents = tuple(coil.device.start_ampere for coil in coils)  # type: ignore[attr-defined]
        coupled = devices.CoupledInductors(
            tuple(tuple(float(v) for v in row) for row in matrix), currents if any(currents) else ()
        )
        return Part("K__" + "_".join(names), coupled, tuple(node for coil in coils for node in coil.nodes))

    def change(self, values: Mapping[str, float]) -> None:
        """Give parts other values, by their names."""
        for name, value in values.items():
            at = self.names.get(name.upper())
            if at is not None:
                self.parts[at] = replace(self.parts[at], device=with_value(self.parts[at], value))
