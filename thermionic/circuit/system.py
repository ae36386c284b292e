"""From a netlist to the equations ``C dx/dt + G x + A i(A^T x) = b`` (modified nodal analysis).

Source: C.-W. Ho, A. E. Ruehli and P. A. Brennan, "The modified nodal approach to network analysis", IEEE
Transactions on Circuits and Systems 22 (1975), p. 504.
"""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.devices.base import Array, Device
from thermionic.errors import NoSolution

# A conductance from every node to earth, as any circuit simulator has it: it settles the voltage of a node that
# only capacitors touch, and is far below the leakage of a real part.
LEAK_SIEMENS = 1e-12


@dataclass(frozen=True)
class _Placed:
    """A part's place in the system: the global indices of its local unknowns, -1 for earth."""

    part: Part
    unknowns: tuple[int, ...]
    ports: slice


def _add(matrix: Array, at: NDArray[np.int_], local: Array) -> None:
    """Add a local matrix at the global unknowns ``at``, which may repeat one."""
    if len(set(at.tolist())) == len(at):
        matrix[at[:, None], at] += local
    else:
        np.add.at(matrix, (at[:, None], at), local)


class System:
    """The equations of a netlist over ``size`` unknowns: ``nodes`` (voltages), then branch currents.

    ``G`` and ``C`` have shape (size, size), ``b_dc`` and ``b_tone`` (size,), ``A`` (size, ports).
    """

    def __init__(self, netlist: Netlist) -> None:
        self.netlist = netlist
        self.nodes = netlist.nodes
        index = {node: place for place, node in enumerate(self.nodes)}
        index[GROUND] = -1
        self._index = index
        size, ports = len(self.nodes), 0
        self.placed: list[_Placed] = []
        for part in netlist.parts:
            branches = tuple(range(size, size + part.device.branches))
            size += part.device.branches
            count = len(part.device.ports)
            unknowns = (*(index[node] for node in part.nodes), *branches)
            self.placed.append(_Placed(part, unknowns, slice(ports, ports + count)))
            ports += count
        self.size, self.ports = size, ports

        # Row and column `size` collect what belongs to earth, and are dropped.
        g, c = np.zeros((size + 1, size + 1)), np.zeros((size + 1, size + 1))
        b_dc, b_tone = np.zeros(size + 1), np.zeros(size + 1)
        a = np.zeros((size + 1, ports))
        for place in self.placed:
            device, at = place.part.device, np.array(place.unknowns)
            _add(g, at, device.conductance())
            _add(c, at, device.storage())
            drive = device.excitation()
            np.add.at(b_dc, at, drive.dc)
            np.add.at(b_tone, at, drive.tone)
            for port, (plus, minus) in zip(range(place.ports.start, place.ports.stop), device.ports, strict=True):
                a[at[plus], port] += 1.0
                a[at[minus], port] -= 1.0
        self.G, self.C, self.A = g[:-1, :-1], c[:-1, :-1], a[:-1]
        self.b_dc, self.b_tone = b_dc[:-1], b_tone[:-1]
        leak = np.arange(len(self.nodes))
        self.G[leak, leak] += LEAK_SIEMENS

    def with_device(self, name: str, device: Device) -> System:
        """The same system with another linear device of the same shape as part ``name``."""
        place = next(place for place in self.placed if place.part.name == name)
        old = place.part.device
        changed = copy(self)
        changed.netlist = self.netlist.with_device(name, device)
        changed.placed = [
            replace(one, part=replace(one.part, device=device)) if one is place else one for one in self.placed
        ]
        changed.__dict__.pop("_nonlinear", None)
        inside = [local for local, at in enumerate(place.unknowns) if at >= 0]
        at = np.array([place.unknowns[local] for local in inside])
        changed.G, changed.C = self.G.copy(), self.C.copy()
        changed.b_dc, changed.b_tone = self.b_dc.copy(), self.b_tone.copy()
        _add(changed.G, at, (device.conductance() - old.conductance())[np.ix_(inside, inside)])
        _add(changed.C, at, (device.storage() - old.storage())[np.ix_(inside, inside)])
        new, gone = device.excitation(), old.excitation()
        np.add.at(changed.b_dc, at, (new.dc - gone.dc)[inside])
        np.add.at(changed.b_tone, at, (new.tone - gone.tone)[inside])
        return changed

    @cached_property
    def _nonlinear(self) -> list[_Placed]:
        return [place for place in self.placed if place.part.device.ports]

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        """All port currents and their Jacobian: (..., ports) and (..., ports, ports) from v (..., ports)."""
        i = np.zeros(v.shape)
        g = np.zeros((*v.shape, self.ports))
        for place in self._nonlinear:
            at = place.ports
            i[..., at], g[..., at, at] = place.part.device.currents(v[..., at], phase)
        return i, g

    def node(self, name: str) -> int:
        """The index of a node's voltage among the unknowns. Raises KeyError; earth has none."""
        place = self._index[name]
        if place < 0:
            raise KeyError(name)
        return place

    def branch(self, part: str, which: int = 0) -> int:
        """The index of a part's branch current among the unknowns."""
        place = next(place for place in self.placed if place.part.name == part)
        return place.unknowns[len(place.part.nodes) + which]

    def describe(self, unknown: int) -> str:
        """An unknown in words: a node, or the part whose current it is."""
        if unknown < len(self.nodes):
            return f"node {self.nodes[unknown]}"
        owner = next(place for place in self.placed if unknown in place.unknowns)
        return f"the current in {owner.part.name}"

    def terminal_currents(self, x: Array) -> dict[str, Array]:
        """Steady current into each terminal of each part at the solution ``x``, A, by part name."""
        v = self.A.T @ x
        i, _ = self.currents(v)
        result = {}
        for place in self.placed:
            device = place.part.device
            local = np.array([0.0 if at < 0 else x[at] for at in place.unknowns])
            flow = device.conductance() @ local - device.excitation().dc
            for port, (plus, minus) in zip(i[place.ports], device.ports, strict=True):
                flow[plus] += port
                flow[minus] -= port
            result[place.part.name] = flow[: len(place.part.nodes)]
        return result

    def solve(self, matrix: Array, rhs: Array) -> Array:
        """``matrix`` x = ``rhs``; a singular matrix is refused with the unknown that it leaves open."""
        try:
            x = np.linalg.solve(matrix, rhs).astype(np.float64)
        except np.linalg.LinAlgError:
            x = np.full(1, np.nan, dtype=np.float64)
        if not np.all(np.isfinite(x)):
            _, _, rows = np.linalg.svd(np.where(np.isfinite(matrix), matrix, 0.0))
            where = self.describe(int(np.argmax(np.abs(rows[-1]))))
            raise NoSolution(
                f"{self.netlist.title}: nothing determines {where}. Look for a loop of ideal sources "
                "and inductors, or a part with no path to earth.",
                where=where,
            )
        return x
