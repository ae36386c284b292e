"""Where the pieces of a netlist's parts go in its equations, whatever their values are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.devices.base import EARTH, Array, Pieces


@dataclass(frozen=True)
class Placed:
    """A part's place in the system: the global indices of its local unknowns, -1 for earth."""

    part: Part
    unknowns: tuple[int, ...]
    ports: slice
    injects: slice

    def holding(self, part: Part) -> Placed:
        """The same place with another part in it."""
        return self if part is self.part else Placed(part, self.unknowns, self.ports, self.injects)


class Frame:
    """The unknowns of a netlist and where each entry of its devices' pieces is added; the same for every netlist that
    has devices of the same shapes on the same nodes.

    ``nodes`` come first among the ``size`` unknowns, then branches. ``senses`` (ports, 2) and ``drives`` (injects, 2)
    are the unknowns at the plus and minus end of each port and of each injected current; -1 is earth.
    """

    def __init__(self, netlist: Netlist) -> None:
        self.nodes = netlist.nodes
        self.index = {node: place for place, node in enumerate(self.nodes)}
        self.index[GROUND] = -1
        size = len(self.nodes)
        senses: list[tuple[int, int]] = []
        drives: list[tuple[int, int]] = []
        self._placed: list[Placed] = []
        index = self.index
        for part in netlist.parts:
            pieces = part.device.pieces
            unknowns = (*[index[node] for node in part.nodes], *range(size, size + pieces.branches))
            size += pieces.branches
            ports, injects = len(senses), len(drives)
            if pieces.ports:
                ended = (*unknowns, EARTH)  # EARTH is the last of them
                senses += [(ended[plus], ended[minus]) for plus, minus in pieces.ports]
                drives += [(ended[plus], ended[minus]) for plus, minus in pieces.injects]
            self._placed.append(Placed(part, unknowns, slice(ports, len(senses)), slice(injects, len(drives))))
        self.size = size
        self.senses = np.array(senses, dtype=int).reshape(-1, 2)
        self.drives = np.array(drives, dtype=int).reshape(-1, 2)
        wide = size + 1  # what is of earth goes to a last row and column, dropped
        conducts: list[int] = []
        stores: list[int] = []
        self._shapes = []
        for place in self._placed:
            pieces = place.part.device.pieces
            self._shapes.append((place.part.nodes, pieces.shape))
            here = [one % wide for one in place.unknowns]
            conducts += [here[row] * wide + here[column] for row, column in pieces.conductance.at]
            stores += [here[row] * wide + here[column] for row, column in pieces.storage.at]
        self._conducts, self._stores = np.array(conducts, dtype=int), np.array(stores, dtype=int)

    def fits(self, netlist: Netlist) -> bool:
        """Whether the netlist has devices of the same shapes on the same nodes."""
        return len(netlist.parts) == len(self._shapes) and all(
            part.nodes == nodes and part.device.pieces.shape == shape
            for part, (nodes, shape) in zip(netlist.parts, self._shapes, strict=True)
        )

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
        matrix: Array = summed.astype(float, copy=False).reshape(wide, wide)[:-1, :-1]
        return matrix
