"""From a netlist to the equations ``C dx/dt + G x + B i(S^T x) = b`` (modified nodal analysis).

Source: C.-W. Ho, A. E. Ruehli and P. A. Brennan, "The modified nodal approach to network analysis", IEEE
Transactions on Circuits and Systems 22 (1975), p. 504.
"""

from __future__ import annotations

from collections.abc import Callable
from copy import copy
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.linalg.lapack import dgetrf as getrf
from scipy.linalg.lapack import dgetrs as getrs
from scipy.sparse.linalg import splu

from thermionic.circuit.flows import terminal_currents_of_one
from thermionic.circuit.frame import Frame, Placed
from thermionic.circuit.kernels.newton import Equations, add_slopes
from thermionic.circuit.large import LargePattern
from thermionic.circuit.netlist import Netlist
from thermionic.devices.base import Array, ComplexArray, Device, Entries, Pieces, Table
from thermionic.errors import NetlistRefused, NoSolution
from thermionic.lazily import lazily

# A conductance from every node to earth, as any circuit simulator has it: it settles the voltage of a node that
# only capacitors touch, and is far below the leakage of a real part.
LEAK_SIEMENS = 1e-12
MOST_UNKNOWNS = 1500  # past this an analysis would take minutes, and no amplifier comes near it
# From here on a sparse factorisation is quicker than a dense one, which is compiled with all the rest of Newton's
# method: an operating point of 220 unknowns takes 2.4 ms for 6.5.
LARGE = 400


def _add(matrix: Array, at: NDArray[np.int_], local: Array) -> None:
    """Add a local matrix, or one a variant, at the global unknowns ``at``, which may repeat one."""
    if len(set(at.tolist())) == len(at):
        matrix[..., at[:, None], at] += local
    else:
        for row, place in enumerate(at):
            for column, other in enumerate(at):
                matrix[..., place, other] += local[..., row, column]


class System:
    """The equations of a netlist over ``size`` unknowns: ``nodes`` (voltages), then branch unknowns.

    ``G`` and ``C`` have shape (size, size), ``b_dc`` and ``b_tone`` (size,), ``S`` (size, ports) and ``B``
    (size, injects). Where a device holds arrays, ``variants`` is their length (else None), and G, C, b_dc and
    b_tone have it as a leading axis.
    """

    def __init__(self, netlist: Netlist) -> None:
        if not netlist.parts:
            raise NetlistRefused(f"{netlist.title} has no parts.")
        self.netlist = netlist
        pieces = [part.device.pieces for part in netlist.parts]
        lengths: set[int] = set().union(*[piece.variants for piece in pieces if piece.variants])
        if len(lengths) > 1:
            raise NetlistRefused(f"{netlist.title} has arrays of {sorted(lengths)} variants; all must agree.")
        self.variants: int | None = lengths.pop() if lengths else None
        try:
            frame = self.frame = Frame(netlist, pieces, LEAK_SIEMENS, MOST_UNKNOWNS)
        except ValueError as many:
            raise NetlistRefused(
                f"{netlist.title} has {many} (voltages and currents); up to {MOST_UNKNOWNS} are solved."
            ) from None
        self.nodes: tuple[str, ...] = frame.nodes
        self.size: int = frame.size
        self.senses: NDArray[np.int64] = frame.senses
        self.drives: NDArray[np.int64] = frame.drives
        self.ports = len(self.senses)
        if self.variants is None:
            self.G, self.C, self.b_dc, self.b_tone = frame.conductance, frame.storage, frame.steady, frame.tone
            self.table = frame.table
        else:
            self._excite_variants(self.variants)

    def equations(self) -> Equations:
        """G x + B i(S^T x) = b_dc as the kernels take it, of one circuit."""
        G, b = np.ascontiguousarray(self.G), np.ascontiguousarray(self.b_dc)
        return Equations(self.table.laws, self.table.at, self.table.numbers, self.senses, self.drives, G, b)

    @lazily
    def placed(self) -> list[Placed]:
        """Where each part stands."""
        return self.frame.placed(range(len(self.netlist.parts)), self.netlist.parts)

    @lazily
    def plugged(self) -> list[Placed]:
        """Where those stand that have ports."""
        return self.frame.placed(self.frame.plugged, self.netlist.parts)

    @lazily
    def S(self) -> Array:
        """Which unknowns each port senses, (size, ports)."""
        return self._incidence(self.senses)

    @lazily
    def B(self) -> Array:
        """Which equations each injected current goes into, (size, injects)."""
        return self._incidence(self.drives)

    @lazily
    def conducting(self) -> NDArray[np.bool_]:
        """Where Newton's matrix may have anything: G, in any variant, and the slopes of devices, (size, size)."""
        result: NDArray[np.bool_] = self.frame.conductance != 0
        for unknowns, pieces in self._varying:
            for row, column in pieces.conductance.at:
                if unknowns[row] >= 0 and unknowns[column] >= 0:
                    result[unknowns[row], unknowns[column]] = True
        senses, drives = self.senses.tolist(), self.drives.tolist()
        for place in self.plugged:
            rows = {end for pair in drives[place.injects] for end in pair if end >= 0}
            columns = {end for pair in senses[place.ports] for end in pair if end >= 0}
            for row in rows:
                for column in columns:
                    result[row, column] = True
        return result

    @lazily
    def _varying(self) -> list[tuple[tuple[int, ...], Pieces]]:
        """The unknowns and the pieces of the parts that hold arrays."""
        return [(place.unknowns, pieces) for place in self.placed if (pieces := place.part.device.pieces).variants]

    @lazily
    def with_states(self) -> list[Placed]:
        """The parts whose devices may be left in another state by what they come to."""
        parts = self.netlist.parts
        changing = [number for number in self.frame.plugged if type(parts[number].device).after is not Device.after]
        return self.frame.placed(changing, parts) if changing else []

    def _incidence(self, ends: NDArray[np.int_]) -> Array:
        """1 at the plus and -1 at the minus end of each pair, (size, pairs)."""
        matrix = np.zeros((self.size, len(ends)))
        for end, sign in enumerate((1.0, -1.0)):
            there = np.flatnonzero(ends[:, end] >= 0)
            matrix[ends[there, end], there] += sign
        return matrix

    @lazily
    def G(self) -> Array:
        """That of variants, which their operating points need only the ``entries`` of; that of one circuit is there
        from the beginning, as are b_dc and b_tone."""
        return self._of_variants(self.frame.conductance, [(at, one.conductance) for at, one in self._varying])

    @lazily
    def C(self) -> Array:
        """That of variants, which not every analysis looks at; that of one circuit is there with G."""
        return self._of_variants(self.frame.storage, [(at, one.storage) for at, one in self._varying])

    def _of_variants(self, base: Array, varying: list[tuple[tuple[int, ...], Entries]]) -> Array:
        """A matrix for each variant, (variants, size, size): that of what is the same in all, and what is not. An
        entry of all variants lies together, for most of a matrix is nothing and what is not there is never looked
        at."""
        assert self.variants is not None
        filled = base != 0
        total = np.zeros((*base.shape, self.variants))
        total[filled] = base[filled][:, None]
        for unknowns, entries in varying:
            for (row, column), value in zip(entries.at, entries.values, strict=True):
                if unknowns[row] >= 0 and unknowns[column] >= 0:
                    total[unknowns[row], unknowns[column]] += value
        return np.moveaxis(total, -1, 0)

    def entries(self, place: NDArray[np.int_]) -> Array:
        """The entries of G of variants, (entries, variants), of which ``place`` (size, size) says which is where; it
        must have one for all that is there."""
        assert self.variants is not None
        total = np.empty((int(place.max()) + 1, self.variants))
        there = place >= 0
        total[place[there]] = self.frame.conductance[there][:, None]
        for unknowns, pieces in self._varying:
            for (row, column), value in zip(pieces.conductance.at, pieces.conductance.values, strict=True):
                if unknowns[row] >= 0 and unknowns[column] >= 0:
                    total[place[unknowns[row], unknowns[column]]] += value
        return total

    def _excite_variants(self, variants: int) -> None:
        """The right-hand sides, one a variant."""
        kinds = [np.result_type(*[value for _, value in one.tone]) for _, one in self._varying if one.tone]
        tone = np.repeat(self.frame.tone[None].astype(np.result_type(self.frame.tone, *kinds)), variants, axis=0)
        dc = np.repeat(self.frame.steady[None], variants, axis=0)
        for unknowns, pieces in self._varying:
            for total, values in ((dc, pieces.dc), (tone, pieces.tone)):
                for local, value in values:
                    if unknowns[local] >= 0:
                        total[:, unknowns[local]] += value
        self.b_dc, self.b_tone = dc, tone

    def with_device(self, name: str, device: Device) -> System:
        """The same system, of one circuit, with another linear device of the same shape as part ``name``."""
        place = self.place(name)
        old = place.part.device
        changed = copy(self)
        changed.netlist = self.netlist.with_device(name, device)
        # What the nonlinear devices are packed into stays where neither is one.
        changed._forget(() if old.ports or device.ports else ("table", "with_states"))
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

    def revised(self, change: Callable[[Placed], Device]) -> System:
        """The same system with nonlinear devices put in another state, their linear parts as they are."""
        parts = list(self.netlist.parts)
        for number, place in zip(self.frame.plugged, self.plugged, strict=True):
            device = change(place)
            if device is not place.part.device:
                parts[number] = replace(place.part, device=device)
        if all(new is old for new, old in zip(parts, self.netlist.parts, strict=True)):
            return self
        changed = copy(self)
        changed.netlist = replace(self.netlist, parts=tuple(parts))
        changed._forget(("conducting",))
        return changed

    def _forget(self, kept: tuple[str, ...]) -> None:
        """Drop what was worked out of the parts before one was changed, but what is kept."""
        for name in {"placed", "plugged", "_varying", "conducting", "tone", "table", "with_states"}.difference(kept):
            self.__dict__.pop(name, None)

    @lazily
    def table(self) -> Table:
        """The nonlinear devices, packed."""
        places = self.plugged
        return Table.of(
            [place.part.device for place in places],
            [place.ports for place in places],
            [place.injects for place in places],
        )

    def currents(
        self, v: Array, phase: Array | float = 0.0, which: NDArray[np.int_] | None = None
    ) -> tuple[Array, Array]:
        """All injected currents and their Jacobian: (..., injects) and (..., injects, ports) from v (..., ports).

        With ``variants`` the last axis but one of v is theirs, all of them or those of ``which``.
        """
        i = np.zeros((*v.shape[:-1], len(self.drives)))
        g = np.zeros((*i.shape, self.ports))
        self.table.evaluate(v, phase, i, g, which)
        return i, g

    @lazily
    def coupled(self) -> Array:
        """1 where an injected current can depend on a sensed voltage: within a device; (injects, ports)."""
        own = np.zeros((len(self.drives), self.ports))
        for place in self.plugged:
            own[place.injects, place.ports] = 1.0
        return own

    def jacobian(self, g: Array) -> Array:
        """G + B g S^T, (..., size, size)."""
        if g.ndim == 2 and self.variants is None:
            alone = self.G.copy()
            add_slopes(alone, self.senses, self.drives, np.array(g, dtype=float, order="C"))
            return alone
        matrix: Array = self.G + self.B @ g @ self.S.T
        return matrix

    def factored(self, g: Array, across: float = 0.0) -> Callable[[Array], Array]:
        """Newton's matrix with the slopes ``g`` at the ports and ``across`` siemens over each, factored: what solves
        with it. Large ones are sparse. A singular one is refused by what is solved, with the unknown that it leaves
        open."""
        if self.size < LARGE:
            matrix = self.jacobian(g)
            if across:
                matrix = matrix + across * self.S @ self.S.T
            # A pivot of zero gives infinities, which are looked for below.
            lu = getrf(matrix, overwrite_a=True)[:2]

            def dense(rhs: Array) -> Array:
                x: Array = getrs(*lu, rhs)[0]
                return x if np.all(np.isfinite(x)) else self.solve(self.jacobian(g), rhs)

            return dense
        try:
            factors = splu(self._patterned().matrix(g, across))
        except RuntimeError:
            return lambda rhs: self.solve(self.jacobian(g), rhs)
        return lambda rhs: np.asarray(factors.solve(rhs), dtype=np.float64)

    def _patterned(self) -> LargePattern:
        # A copy of the system takes the pattern along, and may have been given another G.
        known: LargePattern | None = self.__dict__.get("_pattern")
        if known is None or known.made_for is not self.G:
            known = self.__dict__["_pattern"] = LargePattern(self)
        return known

    def sensed(self, x: Array) -> Array:
        """The voltages of the ports at unknowns ``x`` (size,)."""
        ended = np.append(x, 0.0)
        volts: Array = ended[self.senses[:, 0]] - ended[self.senses[:, 1]]
        return volts

    def injected(self, i: Array) -> Array:
        """What the currents (injects,) add to each equation, (size,)."""
        wide = self.size + 1
        into = np.bincount(self.drives[:, 0] % wide, i, wide) - np.bincount(self.drives[:, 1] % wide, i, wide)
        return into[:-1].astype(np.float64, copy=False)

    def dispersion(self, hertz: Array) -> ComplexArray | None:
        """What G + jwC leaves out at each frequency, (frequencies, size, size); None where there is nothing."""
        total: ComplexArray | None = None
        parts = self.netlist.parts
        some = [number for number, one in enumerate(parts) if type(one.device).dispersion is not Device.dispersion]
        for place in self.frame.placed(some, parts) if some else ():
            local = place.part.device.dispersion(hertz)
            if local is not None:
                if total is None:
                    total = np.zeros((len(hertz), self.size + 1, self.size + 1), dtype=complex)
                at = np.array(place.unknowns)
                for row, here in enumerate(at):
                    for column, there in enumerate(at):
                        total[:, here, there] += local[:, row, column]
        return None if total is None else total[:, :-1, :-1]

    @lazily
    def tone(self) -> Any:
        """The test tone, (size,). Raises ValueError if variants do not share it."""
        if self.variants is None:
            return self.b_tone
        if np.ptp(np.abs(self.b_tone), axis=0).any():
            raise ValueError("variants share one test tone")
        return self.b_tone[0]

    def node(self, name: str) -> int:
        """The index of a node's voltage among the unknowns. Raises KeyError; earth has none."""
        place = self.frame.index[name]
        if place < 0:
            raise KeyError(name)
        return place

    def place(self, part: str) -> Placed:
        """Where a part stands. Raises NetlistRefused if there is none of that name."""
        for number, one in enumerate(self.netlist.parts):
            if one.name == part:
                return self.frame.placed([number], self.netlist.parts)[0]
        raise NetlistRefused(f"There is no part {part} in {self.netlist.title}.")

    def branch(self, part: str, which: int = 0) -> int:
        """The index of a part's branch current among the unknowns."""
        place = self.place(part)
        return place.unknowns[len(place.part.nodes) + which]

    def describe(self, unknown: int) -> str:
        """An unknown in words: a node, or the part whose current it is."""
        if unknown < len(self.nodes):
            return f"node {self.nodes[unknown]}"
        owner = next(place for place in self.placed if unknown in place.unknowns)
        return f"the current in {owner.part.name}"

    def local(self, place: Placed, x: Array) -> Array:
        """A part's local unknowns from the system's ``x`` (..., size)."""
        ended = np.concatenate([x, np.zeros((*x.shape[:-1], 1))], axis=-1)
        return ended[..., np.array(place.unknowns, dtype=int)]

    def terminal_currents(self, x: Array) -> dict[str, Array]:
        """Steady current into each terminal of each part at the solution ``x`` (..., size), A, by part name."""
        if x.ndim == 1 and self.variants is None:
            return terminal_currents_of_one(self, x)
        i, _ = self.currents(x @ self.S)
        result = {}
        for place in self.placed:
            device = place.part.device
            local = self.local(place, x)
            flow = np.einsum("...jk,...k->...j", device.conductance(), local) - device.excitation().dc
            flow = np.concatenate([flow, np.zeros((*flow.shape[:-1], 1))], axis=-1)  # EARTH's own column
            own = i[..., place.injects]
            for port, (plus, minus) in enumerate(device.injects):
                flow[..., plus] += own[..., port]
                flow[..., minus] -= own[..., port]
            result[place.part.name] = flow[..., : len(place.part.nodes)]
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
