"""Running a netlist's own analyses and laying the results out as plain data."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from thermionic import budget
from thermionic.circuit.large_signal import distortion, drive
from thermionic.circuit.netlist import GROUND, Part
from thermionic.circuit.operating_point import OperatingPoint, operating_point
from thermionic.circuit.small_signal import SmallSignal
from thermionic.circuit.spice.assembly import with_value
from thermionic.circuit.spice.directives import Four, Sweep, Thd
from thermionic.circuit.spice.expressions import ExpressionLaw
from thermionic.circuit.spice.measuring import Curves, measured
from thermionic.circuit.spice.on_mains import startup, supply
from thermionic.circuit.spice.reader import Deck
from thermionic.circuit.system import System
from thermionic.circuit.transient import Accuracy, Stepper, Transient, transient
from thermionic.devices import (
    Resistor,
    Thevenin,
    programs,
)
from thermionic.devices.base import Array, ComplexArray
from thermionic.errors import NetlistRefused

_SAMPLES = 512
_HELD_OHM = 1e-6  # behind what holds a node at its .ic


def run(deck: Deck) -> dict[str, Any]:
    """Run the analyses that the deck asks for, or ``.op`` where it asks for nothing.

    Keys, each there if asked for: ``op`` node to volts; ``dc`` with the swept values and ``nodes``; ``ac`` with
    ``frequency`` (Hz) and ``nodes``, node to pairs of real and imaginary volts; ``tran`` with ``time`` (s) and
    ``nodes``, node to volts; ``fourier`` quantity to its harmonics; ``measures`` name to figure; ``thd``;
    ``supply``; ``startup``; and with ``.step`` a list ``steps`` of all that, each with its ``values``. Nodes inside
    subcircuits are named instance.node. Raises NoSolution, NetlistRefused, BudgetSpent.
    """
    sweeps = deck.analyses.steps
    if not sweeps:
        return _once(deck)
    runs = []
    for values in itertools.product(*(sweep.values for sweep in reversed(sweeps))):
        named = dict(zip([sweep.name for sweep in reversed(sweeps)], values, strict=True))
        stepped = deck.again(named)
        runs.append({"values": named, **_once(stepped)})
    result: dict[str, Any] = {"steps": runs}
    if deck.passed_over:
        result["passed_over"] = list(deck.passed_over)
    return result


def _once(deck: Deck) -> dict[str, Any]:
    asked = deck.analyses
    run_ = _Run(deck)
    result: dict[str, Any] = {}
    others = asked.tran or asked.four or asked.dc or asked.supply is not None or asked.startup or asked.thd
    if asked.op or not (asked.hertz or others):
        result["op"] = {node: run_.at.voltage(node) for node in run_.shown}
    curves: dict[str, Curves] = {}
    if asked.dc:
        result["dc"], curves["dc"] = run_.dc(asked.dc)
    if asked.hertz:
        result["ac"], curves["ac"] = run_.ac(asked.hertz)
    if asked.four and not asked.tran:
        raise NetlistRefused("A .four needs a .tran that reaches its last period.")
    if asked.tran:
        tran = run_.tran()
        result |= tran[0]
        curves["tran"] = tran[1]
    if asked.thd:
        result["thd"] = [run_.thd(thd) for thd in asked.thd]
    if asked.supply is not None:
        result["supply"] = supply(deck.netlist, asked.supply)
    if asked.startup:
        result["startup"] = startup(deck.netlist, *asked.startup)
    if asked.measures:
        result["measures"] = run_.measures(curves)
    if deck.passed_over:
        result["passed_over"] = list(deck.passed_over)
    return result


class _Run:
    """The analyses of one circuit."""

    def __init__(self, deck: Deck) -> None:
        self.deck = deck
        self.system = System(deck.netlist)
        self.shown = [node for node in self.system.nodes if "__" not in node]
        self._at: OperatingPoint | None = None

    @property
    def at(self) -> OperatingPoint:
        """The operating point, found when it is first wanted."""
        if self._at is None:
            self._at = operating_point(self.system)
        return self._at

    def place(self, node: str) -> int:
        """Where a node is among the unknowns, its name in any case; -1 for earth. Raises NetlistRefused."""
        if node == GROUND:
            return -1
        result = next((own for own in self.system.nodes if own.lower() == node.lower()), None)
        if result is None:
            raise NetlistRefused(f"v({node}) is asked for, but there is no such node.")
        return self.system.node(result)

    def read(self, written: str, x: Array | ComplexArray) -> Array:
        """A quantity along points of the unknowns, (points, size)."""
        if written.lower() not in self.deck.sensed:
            raise NetlistRefused(
                f"“{written[:40]}” cannot be looked at; v(node), v(a,b), i(part) and what is made of them can."
            )
        law, nodes = self.deck.sensed[written.lower()]
        ended = np.concatenate([x, np.zeros((len(x), 1))], axis=1)
        pairs = zip(nodes[::2], nodes[1::2], strict=True)
        sensed = np.stack([ended[:, self.place(a)] - ended[:, self.place(b)] for a, b in pairs], axis=1)
        return _along(law, sensed, written)

    def dc(self, sweeps: Sequence[Sweep]) -> tuple[dict[str, Any], Curves]:
        """``.dc``: the operating point at every value, each found from the last."""
        names = []
        for sweep in sweeps:
            name = next((p.name for p in self.deck.netlist.parts if p.name.lower() == sweep.name.lower()), None)
            if name is None:
                raise NetlistRefused(f"A .dc sweeps a V, I or R; there is no {sweep.name}.")
            names.append(name)
        points: list[Array] = []
        before: Array | None = None
        for values in itertools.product(*(sweep.values for sweep in reversed(sweeps))):
            budget.check("sweeping at DC")
            netlist = self.deck.netlist
            for name, value in zip(reversed(names), values, strict=True):
                netlist = netlist.with_device(name, with_value(netlist[name], value))
            before = operating_point(System(netlist), before).x
            points.append(before)
        x = np.array(points)
        inner = np.tile(np.array(sweeps[0].values), len(x) // len(sweeps[0].values))
        result: dict[str, Any] = {names[0]: inner.tolist()}
        if len(sweeps) > 1:
            result[names[1]] = np.repeat(sweeps[1].values, len(sweeps[0].values)).tolist()
        result["nodes"] = {node: x[:, self.system.node(node)].tolist() for node in self.shown}
        return result, Curves(inner, lambda written: self.read(written, x))

    def ac(self, hertz: Sequence[float]) -> tuple[dict[str, Any], Curves]:
        """``.ac``: the test tone's response."""
        tone = SmallSignal(self.at).tone(np.array(hertz))
        result = {
            "frequency": list(hertz),
            "nodes": {node: _complex(tone[:, self.system.node(node)]) for node in self.shown},
        }
        return result, Curves(np.array(hertz), lambda written: self.read(written, tone))

    def tran(self) -> tuple[dict[str, Any], Curves]:
        """``.tran`` with its ``.four``."""
        asked = self.deck.analyses
        assert asked.tran is not None
        longest = min(asked.tran.longest or np.inf, max(asked.tran.step, asked.tran.until / 1e5))
        for four in asked.four:
            if 1 / four.hertz > asked.tran.until:
                raise NetlistRefused(f"The .tran is shorter than one period of the {four.hertz:g} Hz of the .four.")
            longest = min(longest, 1 / four.hertz / (100 * max(1.0, four.harmonics / 9)))
        start = self._begin()
        moved = transient(
            self.system, asked.tran.until, start=start, at_rest=asked.tran.at_rest, longest=longest, keep_from=0.0
        )
        times = np.arange(asked.tran.begin, asked.tran.until * (1 + 1e-9), asked.tran.step)
        points = moved.at(times)
        result: dict[str, Any] = {
            "tran": {
                "time": times.tolist(),
                "nodes": {node: points[:, self.system.node(node)].tolist() for node in self.shown},
            }
        }
        if asked.four:
            result["fourier"] = {
                _label(written): _fourier(moved, self.read(written, moved.x), four)
                for four in asked.four
                for written in four.quantities
            }
        keep = moved.seconds >= asked.tran.begin
        seconds = moved.seconds[keep]
        return result, Curves(seconds, lambda written: self.read(written, moved.x)[keep])

    def _begin(self) -> Array | None:
        """The unknowns that a transient begins with where nodes are held at first; None for the usual."""
        asked = self.deck.analyses
        if not asked.begin:
            return None
        assert asked.tran is not None
        held = [
            Part(f"IC__{k}", Thevenin(volt, _HELD_OHM), (self.system.nodes[self.place(node)], GROUND))
            for k, (node, volt) in enumerate(asked.begin.items())
        ]
        system = System(replace(self.deck.netlist, parts=(*self.deck.netlist.parts, *held)))
        if asked.tran.at_rest:
            x = Stepper(system, asked.tran.until, asked.tran.until, Accuracy()).rest()
        else:
            x = operating_point(system).x
        # The holders' own currents are the last unknowns, and go.
        kept: Array = x[: self.system.size]
        return kept

    def thd(self, asked: Thd) -> dict[str, Any]:
        """``.thd``: distortion, and power in a load, at multiples of the sources' AC."""
        driven = drive(self.at, asked.hertz, np.array(asked.levels), harmonics=asked.harmonics)
        phasors = np.stack([self._phasors(asked.quantity, x) for x in driven.x])
        result: dict[str, Any] = {
            "frequency": asked.hertz,
            "quantity": asked.quantity,
            "levels": list(asked.levels),
            "dc": phasors[:, 0].real.tolist(),
            "volt_rms": (np.abs(phasors[:, 1]) / 2**0.5).tolist(),
            "thd": distortion(phasors).tolist(),
            "harmonics": np.abs(phasors[:, 1:]).tolist(),
        }
        if asked.load is not None:
            part = next((p for p in self.deck.netlist.parts if p.name.lower() == asked.load.lower()), None)
            if part is None or not isinstance(part.device, Resistor):
                raise NetlistRefused(f"The load of a .thd is a resistor; there is no {asked.load}.")
            across = np.stack([self._between(part.nodes, x) for x in driven.x])
            result["watt"] = (np.abs(across[:, 1]) ** 2 / 2 / float(part.device.ohm)).tolist()
        return result

    def _between(self, nodes: Sequence[str], x: ComplexArray) -> ComplexArray:
        ended = np.vstack([x, np.zeros((1, x.shape[1]))])
        across: ComplexArray = ended[self.place(nodes[0])] - ended[self.place(nodes[1])]
        return across

    def _phasors(self, written: str, x: ComplexArray) -> ComplexArray:
        _, nodes = self.deck.sensed[written.lower()]
        return self._between(nodes, x)

    def measures(self, curves: Mapping[str, Curves]) -> dict[str, float | None]:
        """Every ``.meas`` in turn; None where what it looks for does not happen."""
        result: dict[str, float | None] = {}
        for measure in self.deck.analyses.measures:
            analysis = measure.analysis or next(iter(curves), "")
            if measure.words and measure.words[0].lower() == "param":
                result[measure.name] = measured(measure, Curves(np.zeros(1), lambda _: np.zeros(1)), result, {})
                continue
            if analysis not in curves:
                raise NetlistRefused(
                    f"Line {measure.number}: .meas {measure.name} is of a .{analysis or 'tran'}, which is not asked "
                    "for."
                )
            try:
                result[measure.name] = measured(measure, curves[analysis], result, {})
            except NetlistRefused as refusal:
                raise NetlistRefused(f"Line {measure.number}: {refusal}") from None
        return result


def _along(law: ExpressionLaw, sensed: Array | ComplexArray, written: str) -> Array:
    """An expression at every point of what it senses. At AC it is a quantity itself, or a sum of them."""
    program, slopes = np.array(law.program), np.zeros(sensed.shape[1])
    if np.iscomplexobj(sensed):
        # Linear laws only: what it is of the quantities one by one.
        parts = []
        nothing = programs.run(program, np.zeros(sensed.shape[1]), slopes)
        for k in range(sensed.shape[1]):
            one = np.zeros(sensed.shape[1])
            one[k] = 1.0
            parts.append(programs.run(program, one, slopes) - nothing)
            if abs(programs.run(program, 2 * one, slopes) - nothing - 2 * parts[-1]) > 1e-9 * abs(parts[-1]) + 1e-300:
                raise NetlistRefused(
                    f"“{written[:60]}” is no sum of voltages and currents, which an AC figure wants."
                )
        total: Array = sensed @ np.array(parts)
        return total
    return np.array([programs.run(program, np.ascontiguousarray(row), slopes) for row in sensed])


def _label(written: str) -> str:
    """How a quantity is called in the results: a node's voltage by the node."""
    inner = written[2:-1].strip()
    return inner if written[0].lower() == "v" and "," not in inner else written.lower()


def _complex(values: ComplexArray) -> list[list[float]]:
    return [[one.real, one.imag] for one in values.tolist()]


def _fourier(moved: Transient, wave: Array, four: Four) -> dict[str, Any]:
    """The harmonics of a curve over the last period: amplitudes (V peak), phases (degrees, of a sine), distortion."""
    from scipy.interpolate import CubicSpline  # takes a while to import, which nothing before the first page needs

    hertz, count = four.hertz, four.harmonics
    samples_in = max(_SAMPLES, 8 * count)
    end = moved.seconds[-1]
    times = end - (1 / hertz) * (1 - np.arange(samples_in) / samples_in)
    samples = CubicSpline(moved.seconds, wave)(times)
    phase = 2 * np.pi * hertz * times
    result = [2 / samples_in * complex(np.sum(samples * np.exp(-1j * k * phase))) for k in range(count + 1)]
    result[0] *= 0.5
    size = np.abs(result)
    return {
        "frequency": hertz,
        "dc": result[0].real,
        "harmonics": [
            {
                "harmonic": k,
                "frequency": k * hertz,
                "magnitude": float(size[k]),
                "phase": float((np.degrees(np.angle(result[k])) + 90.0 + 180.0) % 360.0 - 180.0),
            }
            for k in range(1, count + 1)
        ],
        "thd": float(np.sqrt(np.sum(size[2:] ** 2)) / max(size[1], 1e-30)),
    }
