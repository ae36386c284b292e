"""The equations of a netlist put together: where its parts stand in them, and what they put in."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from thermionic.circuit.kernels.assembly import Given, Numbering, Sums, assemble
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.devices.base import NOTHING, Array, Pieces, Table


class Placed(NamedTuple):
    """A part's place in the system: the global indices of its local unknowns, -1 for earth."""

    part: Part
    unknowns: tuple[int, ...]
    ports: slice
    injects: slice


class Frame:
    """The unknowns of a netlist, ``nodes`` first among the ``size`` of them, then branches; and what its parts add.

    ``senses`` (ports, 2) and ``drives`` (injects, 2) are the unknowns at the plus and minus end of each port and of
    each injected current; -1 is earth. ``plugged`` says which parts have ports. ``conductance``, with ``leak``
    siemens from each node to earth, and ``storage`` (size, size), ``steady`` and ``tone`` (size,) are sums over all
    parts but those that hold arrays of variants. The ``table`` is without meaning where one does.
    """

    def __init__(self, netlist: Netlist, pieces: list[Pieces], leak: float, most: int) -> None:
        """Raises ValueError for more than ``most`` unknowns, before anything of their size is made."""
        self.nodes = netlist.nodes
        index = self.index = {node: place for place, node in enumerate(self.nodes)}
        index[GROUND] = -1
        size, ports, injects = len(self.nodes), 0, 0
        self.plugged: list[int] = []
        for number, one in enumerate(pieces):
            size += one.branches
            if one.ports:
                ports += len(one.ports)
                injects += len(one.injects)
                self.plugged.append(number)
        self.size = size
        if size > most:
            raise ValueError(f"{size} unknowns")
        ends = np.array([index[node] for part in netlist.parts for node in part.nodes], dtype=np.int64)
        self.senses: NDArray[np.int64] = np.empty((ports, 2), dtype=np.int64)
        self.drives: NDArray[np.int64] = np.empty((injects, 2), dtype=np.int64)
        self._unknowns = np.empty(len(ends) + size - len(self.nodes), dtype=np.int64)
        self._places = np.empty((len(pieces) + 1, 3), dtype=np.int64)
        self.conductance, self.storage, excited = np.zeros((size, size)), np.zeros((size, size)), np.zeros((3, size))
        laws, at = np.empty(len(self.plugged), dtype=np.int64), np.empty((len(self.plugged), 5), dtype=np.int64)
        codes, values = (
            np.concatenate([piece.code for piece in pieces]),
            np.concatenate([piece.values for piece in pieces]),
        )
        sums = Sums(self.conductance, self.storage, excited)
        numbering = Numbering(self.senses, self.drives, self._unknowns, self._places, laws, at)
        assemble(Given(codes, values, ends), len(self.nodes), leak, sums, numbering)
        numbers = [pieces[number].numbers for number in self.plugged]
        self.table = Table(laws, at, np.concatenate(numbers or [NOTHING])[None])
        self.steady: Array = excited[0]
        self.tone = excited[1] + 1j * excited[2] if excited[2].any() else excited[1]

    def placed(self, numbers: Iterable[int], parts: Sequence[Part]) -> list[Placed]:
        """The places of the parts of those numbers, of all parts as they are now."""
        unknowns, places = self._unknowns.tolist(), self._places.tolist()
        result = []
        for number in numbers:
            (first, port, inject), (last, ports, injects) = places[number], places[number + 1]
            result.append(
                Placed(parts[number], tuple(unknowns[first:last]), slice(port, ports), slice(inject, injects))
            )
        return result
