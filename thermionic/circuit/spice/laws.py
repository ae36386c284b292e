"""The tubes' laws as subcircuits of behavioural sources."""

from __future__ import annotations

import re
from typing import Any

import numpy as np

from thermionic.devices.pentode import PentodeCoefficients
from thermionic.devices.triode import TriodeCoefficients
from thermionic.devices.tube_laws import ALONG, LEAST_DRIVE, MOST_DRIVE, WEIGHT
from thermionic.errors import NetlistRefused


def digits(value: Any) -> str:
    """A number as SPICE reads it. Raises NetlistRefused for an array of them."""
    if np.ndim(value):
        raise NetlistRefused("An array of variants cannot be written as one netlist.")
    return f"{float(value):.15g}"


def softplus(u: str) -> str:
    """ln(1+e^u), written so that it cannot overflow."""
    return f"(max({u},0)+ln(1+exp(-abs({u}))))"


def _space(k: TriodeCoefficients, va: str, vg: str) -> list[str]:
    """Lines that make V(E) the space current's effective voltage, and V(F) that behind the coarse turns."""
    made = []
    for u, e, mu in (("U", "E", k.mu), ("W", "F", k.coarse_mu))[: 2 if k.coarse_share else 1]:
        made += [
            f"B{u} {u} 0 V={digits(k.kp)}*({digits(1 / mu)}+{vg}/sqrt({digits(k.kvb)}+{va}*{va}))",
            f"B{e} {e} 0 V={va}/{digits(k.kp)}*{softplus(f'V({u})')}",
        ]
    return made


def _current(k: TriodeCoefficients, share: float = 1.0) -> str:
    """The space current of the voltages that ``_space`` makes, or a share of it."""
    ex, gain = digits(k.ex), 2 / k.kg1 * share
    coarse = f"+{digits(gain * k.coarse_share)}*max(V(F),0)^{ex}" if k.coarse_share else ""
    return f"({digits(gain)}*max(V(E),0)^{ex}{coarse})"


def _grid(k: TriodeCoefficients, vg: str) -> str:
    w = f"{softplus(f'{digits(k.grid_c)}*{vg}')}/{digits(k.grid_c)}"
    return f"{digits(k.grid_g)}*max({w},1e-30)^{digits(k.grid_xi)}"


def triode_subcircuit(k: TriodeCoefficients) -> str:
    """The body of a triode subcircuit, terminals anode, grid, cathode, and a parameter SCALE; see devices.Triode."""
    return "\n".join(
        [
            ".subckt NAME A G K SCALE=1",
            *_space(k, "min(max(V(A,K),0),1e5)", "V(G,K)"),
            f"BA A K I={{SCALE}}*{_current(k)}",
            f"BG G K I={{SCALE}}*{_grid(k, 'V(G,K)')}",
            ".ends",
        ]
    )


def pentode_subcircuit(k: PentodeCoefficients) -> str:
    """The body of a pentode subcircuit: anode, screen, grid, cathode, and a parameter SCALE; see devices.Pentode."""
    share, space, n = 1 / (1 + 1 / k.shield), k.space, k.knee_sharpness
    plain, line = (f"min(max({volt},1e-12),1e3)" for volt in ("V(P)", "V(D)"))
    drive = f"V(E)*{digits(space.mu)}/max(V(VE),1e-3)"
    held = f"min(max(V(H),{digits(LEAST_DRIVE)}),{digits(MOST_DRIVE)})"
    focus = f"*{held}^{digits(k.screen_drive)}" if k.screen_drive else ""
    return "\n".join(
        [
            ".subckt NAME A S G K SCALE=1",
            f"BV VE 0 V=max({digits(share)}*(V(S,K)+max(V(A,K),0)/{digits(k.shield)}),0)",
            *_space(space, "min(max(V(VE),0),1e5)", "V(G,K)"),
            f"BI IK 0 V={_current(space)}",
            *([f"BH H 0 V={drive}"] if k.screen_drive else []),
            # The anode's plain share and its diode line, and the smooth lesser of the two; see devices.Pentode.
            f"BP P 0 V=V(IK)/(1+{digits(k.screen_share / (1 - k.screen_share))}*"
            f"(1.1*max(V(S,K),1e-3)/(max(V(A,K),0)+0.1*max(V(S,K),1e-3)))^{digits(k.screen_slope)}{focus})",
            f"BD D 0 V={digits(k.knee_perveance)}*min(max(V(A,K),1e-9),1e5)^1.5",
            # A simulator tries any voltage at any of these nodes: each power is of what cannot be out of its range.
            "BM M 0 V=min(V(P),V(D))",
            f"BR R 0 V=(min({plain},{line})/max({plain},{line}))^{digits(n)}",
            f"BN N 0 V=V(A,K) > 0 ? V(M)*(1+min(max(V(R),0),1))^({digits(-1 / n)}) : 0",
            "BA A K I={SCALE}*V(N)",
            "BS S K I={SCALE}*(V(IK)-V(N))",
            f"BG G K I={{SCALE}}*{_grid(space, 'V(G,K)')}",
            ".ends",
        ]
    )


def filament_subcircuit(k: TriodeCoefficients) -> str:
    """The body of a triode with a filament: anode, grid and its two ends, and SCALE; see devices.FilamentTriode."""
    lines = [".subckt NAME A G H1 H2 SCALE=1"]
    for bit, (s, share) in enumerate(zip(ALONG, WEIGHT, strict=True), start=1):
        va, vg = f"min(max(V(A,H1)-{digits(s)}*V(H2,H1),0),1e5)", f"(V(G,H1)-{digits(s)}*V(H2,H1))"
        here = [*_space(k, va, vg), f"BC C 0 V={_current(k, share)}", f"BI I 0 V={digits(share)}*{_grid(k, vg)}"]
        lines += [_numbered(line, bit) for line in here]
        for end, part in (("H1", 1 - s), ("H2", s)):
            lines.append(f"BA{bit}{end} A {end} I={{SCALE}}*{digits(part)}*V(C{bit})")
            lines.append(f"BG{bit}{end} G {end} I={{SCALE}}*{digits(part)}*V(I{bit})")
    return "\n".join([*lines, ".ends"])


def _numbered(line: str, bit: int) -> str:
    """A source of one bit of filament: its name and its own nodes, of one letter and not of the tube, numbered."""
    own = re.sub(r"\bV\(([UWEFCI])\)", rf"V(\g<1>{bit})", line)
    return re.sub(r"^B(\w) (\w) ", rf"B\g<1>{bit} \g<2>{bit} ", own)
