"""The equations of a netlist put together from the pieces of its parts; see frame."""

from __future__ import annotations

from typing import Any

from thermionic.compiled import REAL, WHOLE, compiled, gives, ready, takes


@compiled
def _unknown(unknowns: Any, first: int, local: int) -> int:
    """The unknown at a place among a part's own, from ``first`` on; EARTH, which is below them, is earth."""
    return int(unknowns[first + local]) if local >= 0 else -1


@ready((
    takes(WHOLE, 1), takes(REAL, 1), takes(WHOLE, 1), WHOLE, REAL, gives(REAL, 2), gives(REAL, 2), gives(REAL, 2),
    gives(WHOLE, 2), gives(WHOLE, 2), gives(WHOLE, 1), gives(WHOLE, 2), gives(WHOLE, 1), gives(WHOLE, 2),
))  # fmt: skip
def assemble(
    codes: Any, values: Any, ends: Any, nodes: int, leak: float, G: Any, C: Any, b: Any, senses: Any, drives: Any,
    unknowns: Any, places: Any, laws: Any, at: Any,
) -> None:  # fmt: skip
    """Add up the pieces of all parts, of which each has its ``code`` in ``codes`` and ``values``: see Pieces.

    ``ends`` are the nodes at the parts' terminals in turn, -1 for earth, of ``nodes`` in all; branches are numbered
    after them; each node has ``leak`` siemens to earth. ``G`` and ``C`` (size, size) and ``b`` (3, size), the steady
    right-hand side and the tone's real and imaginary parts, are zeros before. ``senses`` and ``drives`` become the
    unknowns at the ends of ports and injected currents, ``unknowns`` those of each part in turn, ``places`` (parts +
    1, 3) from where on each part's are among unknowns, ports and injects; ``laws`` and ``at`` those of a Table of the
    parts that have ports.
    """
    code = value = end = port = inject = own = plugged = number = 0
    branch = nodes
    for part in range(len(places) - 1):
        places[part, 0], places[part, 1], places[part, 2] = own, port, inject
        terminals, branches, ports, injects = codes[code], codes[code + 1], codes[code + 2], codes[code + 3]
        conducting, storing, steady, sounding = codes[code + 4], codes[code + 5], codes[code + 6], codes[code + 7]
        if ports > 0:
            laws[plugged] = codes[code + 8]
            at[plugged, 0], at[plugged, 1], at[plugged, 2] = number, port, port + ports
            at[plugged, 3], at[plugged, 4] = inject, inject + injects
            plugged, number = plugged + 1, number + codes[code + 9]
        code += 10
        first = own
        for _ in range(terminals):
            unknowns[own] = ends[end]
            own, end = own + 1, end + 1
        for _ in range(branches):
            unknowns[own] = branch
            own, branch = own + 1, branch + 1
        for _ in range(ports):
            senses[port, 0] = _unknown(unknowns, first, codes[code])
            senses[port, 1] = _unknown(unknowns, first, codes[code + 1])
            port, code = port + 1, code + 2
        for _ in range(injects):
            drives[inject, 0] = _unknown(unknowns, first, codes[code])
            drives[inject, 1] = _unknown(unknowns, first, codes[code + 1])
            inject, code = inject + 1, code + 2
        for which in range(conducting + storing):
            row, column = unknowns[first + codes[code]], unknowns[first + codes[code + 1]]
            if row >= 0 and column >= 0:
                if which < conducting:
                    G[row, column] += values[value]
                else:
                    C[row, column] += values[value]
            code, value = code + 2, value + 1
        for _ in range(steady):
            row = unknowns[first + codes[code]]
            if row >= 0:
                b[0, row] += values[value]
            code, value = code + 1, value + 1
        for _ in range(sounding):
            row = unknowns[first + codes[code]]
            if row >= 0:
                b[1, row] += values[value]
                b[2, row] += values[value + 1]
            code, value = code + 1, value + 2
    for node in range(nodes):
        G[node, node] += leak
    last = len(places) - 1
    places[last, 0], places[last, 1], places[last, 2] = own, port, inject
