"""The wires of a layout as a list to cut by, and what shielded cable does to the treble."""

from __future__ import annotations

from dataclasses import dataclass
from math import log10, pi

import numpy as np

from thermionic.chassis.laid import Laid
from thermionic.chassis.wires import GAUGE, KINDS, Kind

# A legend of our own: a colour for each class; what stands for a wire pair is both of its colours.
COLOURS: dict[Kind, str] = {
    "mains": "brown and blue", "HT AC": "orange, twisted", "heater": "white, twisted", "HT": "red", "bias": "grey",
    "signal": "blue", "feedback": "turquoise", "output": "violet", "earth": "green",
    "protective earth": "green and yellow",
}  # fmt: skip
SPARE = 0.04  # m, for both ends of a wire
CABLE_FARAD = 100e-12  # per metre of usual screened cable
AUDIBLE = 20e3


@dataclass(frozen=True)
class Run:
    """A wire, or a pair: its class, where from and to, what it is in the circuit, its length with both ends, m, of
    each conductor, its cross-section, mm², its colour, whether it is screened."""

    key: str
    kind: Kind
    from_: str
    to: str
    what: str
    metres: float
    gauge: float
    colour: str
    shielded: bool
    conductors: int = 1


@dataclass(frozen=True)
class Screened:
    """A screened wire: its capacitance, F, the source's resistance where it hangs, Ω, the -3 dB that they make, Hz,
    and what is lost at 20 kHz, dB."""

    run: Run
    farad: float
    ohm: float
    hertz: float
    lost: float


def runs(laid: Laid) -> tuple[Run, ...]:
    """Every wire, by class and length."""
    result = []
    names = {body.key: body.title for body in laid.bodies}
    colours = COLOURS | {kind: own for kind in KINDS if (own := laid.layout.colours.get(kind))}
    for wire in (*laid.wiring.wires, *(link.wire for link in laid.earth.links if link.wire)):
        one, other = wire.ends
        earthing = laid.layout.earthing
        chosen = {"earth": earthing.gauge, "protective earth": earthing.protective_gauge}
        gauge = chosen.get(wire.kind, GAUGE[wire.kind])
        result.append(Run(
            wire.key, wire.kind, f"{one.body.title}, {one.pin.name}", f"{other.body.title}, {other.pin.name}",
            wire.net.name, wire.length + SPARE, gauge, colours[wire.kind], wire.shielded,
        ))  # fmt: skip
    for pair in laid.wiring.pairs:
        twist = 1.0
        if pair.pitch > 0:
            twist = (1 + (pi * pair.spacing / pair.pitch) ** 2) ** 0.5
        result.append(Run(
            pair.key, pair.kind, names[pair.ends[0]], names[pair.ends[1]], pair.of.replace("_", " "),
            pair.length * twist + SPARE, GAUGE[pair.kind], colours[pair.kind], False, 2,
        ))  # fmt: skip
    return tuple(sorted(result, key=lambda one: (KINDS.index(one.kind), -one.metres)))


def totals(found: tuple[Run, ...]) -> list[tuple[Kind, float, str, float]]:
    """What to buy, by class: metres of wire, its colour, its cross-section, mm²."""
    bought = []
    for kind in KINDS:
        own = [run for run in found if run.kind == kind]
        if own:
            bought.append((kind, sum(run.metres * run.conductors for run in own), own[0].colour, own[0].gauge))
    return bought


def screened(laid: Laid) -> tuple[Screened, ...]:
    """What each screened wire does to the treble: its capacitance across the solved impedance where it hangs."""
    at = {run.key: run for run in runs(laid)}
    screened_wires = []
    for wire in laid.wiring.wires:
        if not wire.shielded or wire.key not in at:
            continue
        node = laid.amplifier.compiled.node(wire.net.node)
        if node not in laid.amplifier.state.at.system.nodes:
            continue
        ohm = float(abs(laid.amplifier.small_signal.impedances(node, np.array([1000.0]))[0]))
        farad = CABLE_FARAD * wire.length
        corner = 1 / (2 * pi * ohm * farad) if ohm * farad > 0 else float("inf")
        lost = 10 * log10(1 + (AUDIBLE / corner) ** 2)
        screened_wires.append(Screened(at[wire.key], farad, ohm, corner, lost))
    return tuple(screened_wires)
