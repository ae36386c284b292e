"""What a circuit on the mains was solved to be: its operating point, and its rectifiers over the mains cycle."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.operating_point import OperatingPoint
from thermionic.circuit.spectrum import waveform
from thermionic.circuit.system import System
from thermionic.devices import AffinePorts, Device, MainsSource, Thevenin, VoltageSource
from thermionic.devices.base import Array, ComplexArray
from thermionic.lazily import lazily


@dataclass(frozen=True, eq=False)
class MainsState:
    """Rectifiers in their periodic steady state.

    ``volts`` and ``amperes`` (ports, harmonics + 1) are the phasors of the ports over the fundamental ``hertz``: port
    voltage, and current into its plus terminal; ``stand_in`` the straight lines that stand for them in the operating
    point; ``x`` the phasors of every unknown of ``system``, (size, harmonics + 1), the first being the mean.
    ``parts`` are the rectifying parts, in the order of their ports.
    """

    hertz: float
    parts: tuple[Part, ...]
    volts: ComplexArray
    amperes: ComplexArray
    stand_in: AffinePorts
    x: ComplexArray
    system: System

    def ports_of(self, name: str) -> slice:
        """Which ports belong to the rectifying part ``name``. Raises KeyError."""
        first = 0
        for part in self.parts:
            count = len(part.device.ports)
            if part.name == name:
                return slice(first, first + count)
            first += count
        raise KeyError(name)

    def node_waveform(self, node: str, samples: int = 512) -> Array:
        """A node's voltage over one period of the fundamental, V, (samples,)."""
        if node == GROUND:
            return np.zeros(samples)
        return waveform(self.x[self.system.node(node)], samples)

    def ripple_mean_square(self, first: str, second: str) -> float:
        """Mean square of the ripple between two nodes, V²: half the sum of its harmonics' squares (Parseval)."""
        zero = np.zeros(self.x.shape[-1])
        at, back = (zero if node == GROUND else self.x[self.system.node(node)] for node in (first, second))
        return float(np.sum(np.abs(at[1:] - back[1:]) ** 2)) / 2

    @lazily
    def _swings(self) -> dict[tuple[str, str], float]:
        return {}

    def swing(self, first: str, second: str = GROUND) -> float:
        """Ripple between two nodes, V peak to peak; worked out once, for pages and rules ask for the same again."""
        key = first, second
        if key not in self._swings:
            wave = self.node_waveform(first)
            self._swings[key] = float(np.ptp(wave if second == GROUND else wave - self.node_waveform(second)))
        return self._swings[key]

    def ripple_peak_to_peak(self, node: str) -> float:
        """Ripple at a node, V peak to peak."""
        return self.swing(node)

    def delivered(self, source: Part) -> float:
        """The mean power that a source or winding gives out, W."""
        zero = np.zeros(self.x.shape[-1])
        at, back = (zero if node == GROUND else self.x[self.system.node(node)] for node in source.nodes[:2])
        power = (at - back) * self.x[self.system.branch(source.name)].conj()
        return -float(power[0].real + np.sum(power[1:].real) / 2)

    def branch_waveform(self, part: str, which: int = 0, samples: int = 1024) -> Array:
        """A winding's or source's current over one period, A, (samples,)."""
        return waveform(self.x[self.system.branch(part, which)], samples)


@dataclass(frozen=True, eq=False)
class RectifierState:
    """One rectifying part in its periodic steady state. With two anodes the figures are the sum's, but for
    the peak, which is the larger one's."""

    part: str
    device: Device
    mains: MainsState

    @property
    def _ports(self) -> slice:
        return self.mains.ports_of(self.part)

    @lazily
    def currents(self) -> Array:
        """Current of each port over one period, A, (ports, samples)."""
        return np.maximum(waveform(self.mains.amperes[self._ports], 1024), 0.0)

    @property
    def mean_volt(self) -> float:
        """Mean port voltage, V."""
        return float(self.mains.volts[self._ports][0, 0].real)

    @property
    def mean_ampere(self) -> float:
        """Mean current delivered, A."""
        return float(np.sum(self.mains.amperes[self._ports][:, 0].real))

    @property
    def peak_ampere(self) -> float:
        """Peak current of a port, A."""
        return float(self.currents.max())

    @property
    def winding_rms_ampere(self) -> float:
        """Heating (rms) current of all ports together, A."""
        return float(np.sqrt(np.mean(self.currents.sum(axis=0) ** 2)))

    @property
    def dissipation(self) -> float:
        """Mean power lost in the device's own ports, W."""
        volts = waveform(self.mains.volts[self._ports], 1024)
        return float(np.mean(np.sum(volts * waveform(self.mains.amperes[self._ports], 1024), axis=0)))

    @property
    def equivalent(self) -> Thevenin:
        """The source and resistance that stand for a single port around its mean current."""
        port = self._ports
        siemens = float(self.mains.stand_in.siemens[port, port][0, 0])
        return Thevenin(-float(self.mains.stand_in.ampere[port][0]) / siemens, 1.0 / siemens)

    def ripple_peak_to_peak(self, node: str) -> float:
        """Ripple at a node, V peak to peak."""
        return self.mains.ripple_peak_to_peak(node)


@dataclass(frozen=True, eq=False)
class CircuitState:
    """The operating point of a whole circuit, with its rectifiers if it has any.

    ``netlist`` is as given; ``at.system.netlist`` has the rectifiers' stand-in in their place.
    """

    netlist: Netlist
    at: OperatingPoint
    mains: MainsState | None

    def rms_ampere(self, name: str) -> float:
        """A resistor's current over the mains cycle, A rms. Raises NetlistRefused for a part that is not in it."""
        part = self.netlist[name]
        a, b = part.nodes
        moving = self.mains.ripple_mean_square(a, b) if self.mains else 0.0
        steady = self.at.voltage(a) - self.at.voltage(b)
        return float((steady**2 + moving) ** 0.5) / float(part.device.ohm)  # type: ignore[attr-defined]

    @lazily
    def standing(self) -> Netlist:
        """The circuit as it stands between two mains cycles, for a transient of its signal: the rectifiers as their
        straight lines, and the mains, whose ripple those lines know nothing of, at its mean."""
        netlist = self.at.system.netlist
        for part in netlist.parts:
            if isinstance(part.device, MainsSource):
                mean = float(part.device.excitation().dc[2])
                netlist = netlist.with_device(part.name, VoltageSource(mean))
        return netlist

    @lazily
    def rectifier(self) -> RectifierState | None:
        """The first rectifier."""
        return self.of(self.mains.parts[0].name) if self.mains else None

    def of(self, part: str) -> RectifierState:
        """The rectifying part of that name. Raises KeyError."""
        if self.mains is None:
            raise KeyError(part)
        self.mains.ports_of(part)
        return RectifierState(part, self.netlist[part].device, self.mains)
