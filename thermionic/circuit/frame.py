"""Where the pieces of a netlist's parts go in its equations, whatever their values are."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.devices.base import ACROSS, EARTH, Array, Pieces


class Placed(NamedTuple):
    """A part's place in the system: the global indices of its local unknowns, -1 for earth."""

    part: Part
    unknowns: tuple[int, ...]
    ports: slice
    injects: slice

    def holding(self, part: Part) -> Placed:
        """The same place with another part in it."""
        return self if part is self.part else Placed(part, self.unknowns, self.ports, self.injects)


_NONE = slice(0, 0)


def _at(entries: tuple[tuple[int, int], ...], unknowns: tuple[int, ...], wide: int) -> list[int]:
    """Where the entries of a local matrix are in the whole one, row by row, earth's first."""
    if entries is ACROSS:  # which most are
        plus, minus = unknowns[0] + 1, unknowns[1] + 1
        return [plus * wide + plus, minus * wide + minus, plus * wide + minus, minus * wide + plus]
    return [(unknowns[row] + 1) * wide + unknowns[column] + 1 for row, column in entries]


class Frame:
    """The unknowns of a netlist and where each entry of its devices' pieces is added; the same for every netlist that
    has devices of the same shapes on the same nodes.

    ``nodes`` come first among the ``size`` unknowns, then branches. ``senses`` (ports, 2) and ``drives`` (injects, 2)
    are the unknowns at the plus and minus end of each port and of each injected current; -1 is earth.
    """

    def __init__(self, netlist: Netlist) -> None:
        self.nodes = netlist.nodes
        index = self.index = {node: place for place, node in enumerate(self.nodes)}
        index[GROUND] = -1
        size = len(self.nodes)
        self.size = size + sum([part.device.pieces.branches for part in netlist.parts])
        senses: list[tuple[int, int]] = []
        drives: list[tuple[int, int]] = []
        conducts: list[int] = []
        stores: list[int] = []
        self._placed: list[Placed] = []
        wide = self.size + 1  # what is of earth goes to a first row and column, dropped
        for part in netlist.parts:
            branches, plugged, into, conducting, storing = part.device.pieces.shape
            unknowns = tuple([index[node] for node in part.nodes])
            if branches:
                unknowns += tuple(range(size, size + branches))
                size += branches
            if conducting:
                conducts += _at(conducting, unknowns, wide)
            if storing:
                stores += _at(storing, unknowns, wide)
            ports, injects = len(senses), len(drives)
            if plugged:
                ended = (*unknowns, EARTH)  # EARTH is the last of them
                senses += [(ended[plus], ended[minus]) for plus, minus in plugged]
                drives += [(ended[plus], ended[minus]) for plus, minus in into]
                place = Placed(part, unknowns, slice(ports, len(senses)), slice(injects, len(drives)))
            else:
                place = Placed(part, unknowns, _NONE, _NONE)
            self._placed.append(place)
        self.senses = np.array(senses, dtype=int).reshape(-1, 2)
        self.drives = np.array(drives, dtype=int).reshape(-1, 2)
        self._conducts, self._stores = np.array(conducts, dtype=int), np.array(stores, dtype=int)

    def fits(self, netlist: Netlist) -> bool:
        """Whether the netlist has devices of the same shapes on the same nodes."""
        if len(netlist.parts) != len(self._placed):
            return False
        for part, place in zip(netlist.parts, self._placed, strict=True):
            own = place.part
            if part.nodes != own.nodes or (
                part.device is not own.device and part.device.pieces.shape != own.device.pieces.shape
            ):
                return False
        return True

    def holding(self, netlist: Netlist) -> list[Placed]:
        """The places with the parts of a netlist that fits in them."""
        return [place.holding(part) for place, part in zip(self._placed, netlist.parts, strict=True)]

    def added_up(self, pieces: list[Pieces]) -> tuple[Array, Array]:
        """G and C, (size, size), of the pieces of each part in turn."""
        conductance: list[float] = []
        storage: list[float] = []
        for one in pieces:
            conductance += one.conductance.values
            storage += one.storage.values
        return self._summed(self._conducts, conductance), self._summed(self._stores, storage)

    def _summed(self, at: NDArray[np.int_], values: list[float]) -> Array:
        wide = self.size + 1
        summed = np.bincount(at, np.array(values, dtype=float), wide * wide)
        return np.ascontiguousarray(summed.reshape(wide, wide)[1:, 1:], dtype=np.float64)
