"""What a small voltage or current anywhere in the wiring does at the load, by the solved circuit.

A voltage e in series with one terminal of a part acts as the currents that the part's own admittance there makes of
it (the substitution of W. Percival and of A. Tellegen, as for S. W. Director and R. A. Rohrer, The generalized
adjoint network, IEEE Trans. CT-16, 1969, p. 318): so one solution of the transposed equations serves every wire
there is.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.chassis.body import OWN_EARTH, Attached
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.small_signal import respond
from thermionic.devices.base import Array, ComplexArray
from thermionic.lazily import lazily, remembered

HARMONICS = 12  # of the mains


def rms(phasors: ComplexArray) -> float:
    """The RMS value of a periodic waveform from its harmonics' amplitudes, (harmonics,)."""
    return float(np.sqrt(np.sum(np.abs(phasors) ** 2) / 2))


@dataclass(frozen=True, eq=False)
class Transfers:
    """Transfers to the load of one channel at some frequencies, ``hertz`` (frequencies,): the mains' harmonics."""

    amplifier: SolvedAmplifier
    hertz: Array

    def at(self, hertz: Array) -> Transfers:
        """The same at other frequencies; those of currents and voltages of the mains are for its harmonics only."""
        return Transfers(self.amplifier, hertz)

    @lazily
    def _adjoint(self) -> ComplexArray:
        """(harmonics, size): the load's voltage for one ampere into each node."""
        at = self.amplifier.state.at
        read = np.zeros((at.system.size, 1))
        read[at.system.node(self.amplifier.compiled.node(self.amplifier.load.node)), 0] = 1.0
        return respond(at.system, at.slopes, self.hertz, read, transposed=True)[:, :, 0]

    def of_current(self, node: str) -> ComplexArray:
        """The load's volts for one ampere into a node, Ω, (harmonics,); nothing for earth."""
        node = self.amplifier.compiled.node(node)
        system = self.amplifier.state.at.system
        if node == GROUND or node not in system.nodes:
            return np.zeros(len(self.hertz), dtype=complex)
        result: ComplexArray = self._adjoint[:, system.node(node)]
        return result

    @lazily
    def _of_terminals(self) -> dict[tuple[str, int], ComplexArray]:
        return {}

    def of_terminal(self, attached: Attached) -> ComplexArray:
        """The load's volts for one volt in series with a terminal of a part, its node kept where it is, (harmonics,).

        What reads the load sits at the load's own terminals."""
        key = attached.part, attached.terminal
        if key not in self._of_terminals:
            self._of_terminals[key] = self._terminal(*key)
        return self._of_terminals[key]

    def _terminal(self, name: str, terminal: int) -> ComplexArray:
        result = np.zeros(len(self.hertz), dtype=complex)
        load = self.amplifier.load
        if name == load.part:
            result += 1.0 if terminal == 0 else -1.0
        local = self.local(name)
        if local is None:
            return result
        unknowns = np.array(self.amplifier.state.at.system.place(name).unknowns)
        real = unknowns >= 0
        result -= (self._adjoint[:, unknowns[real]] * self.moved(name, local, terminal)[:, real]).sum(axis=1)
        return result

    def moved(self, name: str, local: ComplexArray, terminal: int) -> ComplexArray:
        """What a volt at a terminal draws into all of a part's own unknowns, of its admittances ``local``, S,
        (harmonics, size). Its own earth a volt higher is all of its terminals a volt lower."""
        if terminal != OWN_EARTH:
            return local[:, :, terminal]
        count = len(self.amplifier.netlist[name].device.terminals)
        result: ComplexArray = -local[:, :, :count].sum(axis=2)
        return result

    def local(self, name: str) -> ComplexArray | None:
        """A part's own admittances at the operating point, (harmonics, size, size) over its local unknowns; None for
        a rectifier, which the operating point has not."""
        at = self.amplifier.state.at
        if name not in at.system.netlist:
            return None
        place = at.system.place(name)
        device = place.part.device
        g = np.array(device.conductance(), dtype=float)
        if device.ports:
            ended = np.zeros((device.size + 1, device.size + 1))
            _, slopes = device.currents(device.sensed(at.system.local(place, at.x)))
            for i, (plus, minus) in enumerate(device.injects):
                for p, (high, low) in enumerate(device.ports):
                    for row, sign in ((plus, 1.0), (minus, -1.0)):
                        ended[row, high] += sign * slopes[i, p]
                        ended[row, low] -= sign * slopes[i, p]
            g = g + ended[:-1, :-1]
        result: ComplexArray = (g + 2j * np.pi * self.hertz[:, None, None] * device.storage()).astype(np.complex128)
        more = device.dispersion(self.hertz)
        if more is not None:
            result += more
        return result

    @lazily
    def _currents(self) -> dict[tuple[str, int], ComplexArray]:
        return {}

    def current(self, attached: Attached) -> ComplexArray:
        """What flows out of a part into the wire at one of its terminals, A, phasors at the mains' harmonics."""
        key = attached.part, attached.terminal
        if key not in self._currents:
            if attached.terminal == OWN_EARTH:
                others = range(len(self.amplifier.netlist[attached.part].device.terminals))
                self._currents[key] = -sum(
                    (self._current(attached.part, other) for other in others), np.zeros(HARMONICS, dtype=complex)
                )
            else:
                self._currents[key] = self._current(*key)
        return self._currents[key]

    def _current(self, name: str, terminal: int) -> ComplexArray:
        mains = self.amplifier.state.mains
        if mains is None:
            return np.zeros(HARMONICS, dtype=complex)
        flow = np.zeros(mains.x.shape[-1], dtype=complex)
        rectifiers = {part.name: part for part in mains.parts}
        if name in rectifiers:
            for port, (plus, minus) in zip(
                range(*mains.ports_of(name).indices(10**6)), rectifiers[name].device.ports, strict=True
            ):
                flow += mains.amperes[port] * ((plus == terminal) - (minus == terminal))
        elif name in mains.system.netlist:
            place = mains.system.place(name)
            ended = np.concatenate([mains.x, np.zeros((1, mains.x.shape[1]))])
            local = ended[np.array(place.unknowns, dtype=int)]
            device = place.part.device
            if len(device.terminals) <= 2 or device.branches or name not in self.amplifier.state.at.system.netlist:
                step = round(mains.hertz / self.hertz[0])
                omega = 2j * np.pi * self.hertz[0] * step * np.arange(flow.shape[0])
                flow = np.einsum("k,kh->h", device.conductance()[terminal], local) + omega * np.einsum(
                    "k,kh->h", device.storage()[terminal], local
                )
            if device.ports:
                whole = self.local(name)
                if whole is not None:
                    flow = np.einsum("k,kh->h", whole[0].real[terminal], local)
        return -self._spread(flow)

    def _spread(self, flow: ComplexArray) -> ComplexArray:
        """Phasors over the supply's own fundamental as they stand among the mains' harmonics."""
        mains = self.amplifier.state.mains
        assert mains is not None
        step = round(mains.hertz / self.hertz[0])
        result = np.zeros(HARMONICS, dtype=complex)
        for order in range(1, flow.shape[0]):
            if order * step <= HARMONICS:
                result[order * step - 1] = flow[order]
        return result

    def of_node(self, node: str) -> ComplexArray:
        """A node's own voltage, V, phasors at the mains' harmonics."""
        mains, node = self.amplifier.state.mains, self.amplifier.compiled.node(node)
        if mains is None or node == GROUND or node not in mains.system.nodes:
            return np.zeros(HARMONICS, dtype=complex)
        return self._spread(mains.x[mains.system.node(node)])

    def of_branch(self, name: str) -> ComplexArray:
        """The current of a choke's winding or of a source, A, phasors at the mains' harmonics."""
        mains = self.amplifier.state.mains
        if mains is None or name not in mains.system.netlist:
            return np.zeros(HARMONICS, dtype=complex)
        return self._spread(mains.x[mains.system.branch(name)])


@remembered
def transfers(amplifier: SolvedAmplifier) -> Transfers:
    """The transfers of an amplifier, computed once."""
    return Transfers(amplifier, amplifier.design.brief.mains_hertz * np.arange(1.0, HARMONICS + 1))
