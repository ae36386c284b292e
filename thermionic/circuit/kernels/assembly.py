"""The equations of a netlist put together from the pieces of its parts; see frame."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np

from thermionic.compiled import REAL, WHOLE, compiled, gives, ready, together

FIXED = 10  # numbers at the beginning of a part's code, see Pieces


class Given(NamedTuple):
    """The parts of a netlist: each one's ``code`` in ``codes`` and its ``values``, see Pieces; ``ends`` the nodes at
    the parts' terminals in turn, -1 for earth."""

    codes: Any
    values: Any
    ends: Any


class Sums(NamedTuple):
    """Zeros before: ``G`` and ``C`` (size, size), and ``b`` (3, size), the steady right-hand side and the tone's real
    and imaginary parts."""

    G: Any
    C: Any
    b: Any


class Numbering(NamedTuple):
    """Where things stand: ``senses`` and ``drives`` the unknowns at the ends of ports and injected currents,
    ``unknowns`` those of each part in turn, ``places`` (parts + 1, 3) from where on each part's are among unknowns,
    ports and injects; ``laws`` and ``at`` those of a Table of the parts that have ports."""

    senses: Any
    drives: Any
    unknowns: Any
    places: Any
    laws: Any
    at: Any


_GIVEN = together(Given, gives(WHOLE, 1), gives(REAL, 1), gives(WHOLE, 1))
_SUMS = together(Sums, gives(REAL, 2), gives(REAL, 2), gives(REAL, 2))
_NUMBERING = together(
    Numbering, gives(WHOLE, 2), gives(WHOLE, 2), gives(WHOLE, 1), gives(WHOLE, 2), gives(WHOLE, 1), gives(WHOLE, 2)
)


@compiled
def _unknown(unknowns: Any, first: int, local: int) -> int:
    """The unknown at a place among a part's own, from ``first`` on; EARTH, which is below them, is earth."""
    return int(unknowns[first + local]) if local >= 0 else -1


@compiled
def _number_part(code: int, given: Any, numbering: Any, now: Any, branch: int) -> None:
    """Number a part's terminals, branches, ports and injects, from where ``now`` (unknown, port, inject, end) stands
    on; ``now`` is moved past them. ``code`` is where the part's code begins."""
    codes, unknowns = given.codes, numbering.unknowns
    first = now[0]
    for _ in range(codes[code]):
        unknowns[now[0]] = given.ends[now[3]]
        now[0], now[3] = now[0] + 1, now[3] + 1
    for local in range(codes[code + 1]):
        unknowns[now[0]] = branch + local
        now[0] += 1
    pair = code + FIXED
    for _ in range(codes[code + 2]):
        numbering.senses[now[1], 0] = _unknown(unknowns, first, codes[pair])
        numbering.senses[now[1], 1] = _unknown(unknowns, first, codes[pair + 1])
        now[1], pair = now[1] + 1, pair + 2
    for _ in range(codes[code + 3]):
        numbering.drives[now[2], 0] = _unknown(unknowns, first, codes[pair])
        numbering.drives[now[2], 1] = _unknown(unknowns, first, codes[pair + 1])
        now[2], pair = now[2] + 1, pair + 2


@compiled
def _add_values(code: int, value: int, given: Any, first: int, unknowns: Any, sums: Any) -> tuple[int, int]:
    """Add a part's values to the sums; where the next part's code and values begin."""
    codes, values = given.codes, given.values
    conducting, storing, steady, sounding = codes[code + 4], codes[code + 5], codes[code + 6], codes[code + 7]
    at = code + FIXED + 2 * (codes[code + 2] + codes[code + 3])
    for which in range(conducting + storing):
        row, column = unknowns[first + codes[at]], unknowns[first + codes[at + 1]]
        if row >= 0 and column >= 0:
            if which < conducting:
                sums.G[row, column] += values[value]
            else:
                sums.C[row, column] += values[value]
        at, value = at + 2, value + 1
    for _ in range(steady):
        row = unknowns[first + codes[at]]
        if row >= 0:
            sums.b[0, row] += values[value]
        at, value = at + 1, value + 1
    for _ in range(sounding):
        row = unknowns[first + codes[at]]
        if row >= 0:
            sums.b[1, row] += values[value]
            sums.b[2, row] += values[value + 1]
        at, value = at + 1, value + 2
    return at, value


@ready((_GIVEN, WHOLE, REAL, _SUMS, _NUMBERING))
def assemble(given: Any, nodes: int, leak: float, sums: Any, numbering: Any) -> None:
    """Add up the pieces of all parts to ``sums`` and say where each stands in ``numbering``. Branches are numbered
    after the ``nodes``; each node has ``leak`` siemens to earth."""
    codes, places, at = given.codes, numbering.places, numbering.at
    code = value = plugged = number = 0
    now = np.zeros(4, dtype=np.int64)  # the next unknown of a part, port, inject and terminal
    branch = nodes
    for part in range(len(places) - 1):
        first, port, inject = now[0], now[1], now[2]
        places[part, 0], places[part, 1], places[part, 2] = first, port, inject
        _number_part(code, given, numbering, now, branch)
        branch += codes[code + 1]
        if now[1] > port:
            numbering.laws[plugged] = codes[code + 8]
            at[plugged, 0], at[plugged, 1], at[plugged, 2] = number, port, now[1]
            at[plugged, 3], at[plugged, 4] = inject, now[2]
            plugged, number = plugged + 1, number + codes[code + 9]
        code, value = _add_values(code, value, given, first, numbering.unknowns, sums)
    for node in range(nodes):
        sums.G[node, node] += leak
    last = len(places) - 1
    places[last, 0], places[last, 1], places[last, 2] = now[0], now[1], now[2]
