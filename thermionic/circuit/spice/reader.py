"""Reading a SPICE netlist: what we write ourselves, and what people write by hand.

Elements R C L K V I D Q M B E F G H X; ``.param``, ``.model``, ``.subckt``; ``.op``, ``.ac``, ``.tran``,
``.four``. Anything else is refused by its line number: a circuit read half would be a wrong one. Lines that only
say how to print or how hard to try (``.print``, ``.save``, ``.options``, ...) are passed over and listed.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from thermionic import budget, devices
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.spice import models
from thermionic.circuit.spice.elements import ELEMENTS, Line, Place, Scope, Subcircuit, bare, pairs
from thermionic.circuit.spice.expressions import constant, number
from thermionic.devices.behavioural import BehaviouralVoltage
from thermionic.errors import NetlistRefused

_MOST_LINES, _MOST_PARTS = 20_000, 3000
_PASSED_OVER = (".print", ".plot", ".save", ".probe", ".options", ".option", ".title", ".width", ".nodeset")


@dataclass(frozen=True)
class Tran:
    """``.tran``: print every ``step``, from ``begin`` to ``until``, with steps no longer than ``longest``."""

    step: float
    until: float
    begin: float = 0.0
    longest: float | None = None
    at_rest: bool = False


@dataclass(frozen=True)
class Analyses:
    """What the netlist's own lines ask for."""

    op: bool = False
    hertz: tuple[float, ...] = ()
    tran: Tran | None = None
    four: tuple[tuple[float, tuple[str, ...]], ...] = ()


@dataclass(frozen=True)
class Deck:
    """A netlist as read: the circuit, the analyses, and the lines that were passed over."""

    netlist: Netlist
    analyses: Analyses
    passed_over: tuple[str, ...]


def read(text: str) -> Deck:
    """Read a netlist; its first line is the title, as everywhere in SPICE.

    Raises NetlistRefused with the number of the line that is wrong or not known.
    """
    return _Reader(text).deck()


def _lines(text: str) -> list[Line]:
    """Logical lines after the title: comments gone, continuations joined."""
    lines: list[Line] = []
    raw = text.splitlines()
    if len(raw) > _MOST_LINES:
        raise NetlistRefused(f"The netlist has {len(raw)} lines; up to {_MOST_LINES} are read.")
    for place, line in enumerate(raw[1:], start=2):
        line = re.split(r";|\s\$\s", line)[0].strip()
        if not line or line[0] in "*#":
            continue
        if line[0] == "+":
            if not lines:
                raise NetlistRefused(f"Line {place} continues nothing.")
            lines[-1] = Line(lines[-1].number, f"{lines[-1].text} {line[1:].strip()}")
        else:
            lines.append(Line(place, line))
    return lines


class _Reader:
    def __init__(self, text: str) -> None:
        raw = text.splitlines()
        self.title = (raw[0].lstrip("* ").strip() if raw else "")[:200] or "netlist"
        self.lines = _lines(text)
        self.parts: list[Part] = []
        self.names: dict[str, int] = {}
        self.spelling: dict[str, str] = {}
        self.inductors: dict[str, int] = {}
        self.couplings: list[tuple[int, str, str, float]] = []
        self.probed: dict[str, tuple[str, bool]] = {}
        self.senses: list[tuple[int, str, str]] = []  # line, source wanted, node its reading is on
        self.passed_over: list[str] = []
        self.op = False
        self.hertz: tuple[float, ...] = ()
        self.tran: Tran | None = None
        self.four: list[tuple[float, tuple[str, ...]]] = []
        self.line = 0

    def deck(self) -> Deck:
        """The whole netlist."""
        try:
            scope = Scope()
            body = self.definitions(self.lines, scope, top=True)
            for line in body:
                self.line = line.number
                if line.text[0] == ".":
                    self._directive(line.text, scope)
                else:
                    self.element(line.text, scope, Place("", {}, 0))
            self._couple()
            self._probe()
            return Deck(
                Netlist(self.title, tuple(self.parts)),
                Analyses(self.op, self.hertz, self.tran, tuple(self.four)),
                tuple(self.passed_over),
            )
        except NetlistRefused as refusal:
            if str(refusal).startswith(("Line ", "The netlist has")):
                raise
            raise NetlistRefused(f"Line {self.line}: {refusal}" if self.line else str(refusal)) from None

    # Definitions

    def definitions(self, lines: list[Line], scope: Scope, top: bool = False) -> list[Line]:
        """Take subcircuits, parameters and models out of ``lines`` into the scope; what is left is returned."""
        rest: list[Line] = []
        parameters: list[Line] = []
        wanted_models: list[Line] = []
        at = 0
        while at < len(lines):
            line = lines[at]
            self.line = line.number
            word = line.text.split()[0].lower()
            if word == ".subckt":
                end = self._end_of(lines, at)
                self._subcircuit(line.text, lines[at + 1 : end], scope)
                at = end
            elif word == ".ends":
                raise NetlistRefused(".ends without a .subckt.")
            elif word == ".param":
                parameters.append(line)
            elif word == ".model":
                wanted_models.append(line)
            elif word == ".end":
                break
            else:
                rest.append(line)
            at += 1
        self._parameters(parameters, scope)
        for line in wanted_models:
            self.line = line.number
            model = models.read(line.text, scope.parameters)
            scope.models[model.name] = model
        return rest

    def _end_of(self, lines: list[Line], start: int) -> int:
        depth = 0
        for at in range(start, len(lines)):
            word = lines[at].text.split()[0].lower()
            depth += word == ".subckt"
            depth -= word == ".ends"
            if depth == 0:
                return at
        raise NetlistRefused("this .subckt has no .ends.")

    def _subcircuit(self, text: str, lines: list[Line], scope: Scope) -> None:
        plain, given = pairs(re.sub(r"\bparams:", " ", text, flags=re.IGNORECASE))
        if len(plain) < 3:
            raise NetlistRefused("a .subckt needs a name and at least one node.")
        name = plain[1].lower()
        if name in scope.subcircuits:
            raise NetlistRefused(f"the subcircuit {plain[1]} is defined twice.")
        scope.subcircuits[name] = Subcircuit(plain[1], tuple(plain[2:]), tuple(given), lines)

    def _parameters(self, lines: list[Line], scope: Scope) -> None:
        """Parameters may be used before the line that gives them."""
        waiting: list[tuple[int, str, str]] = []
        for line in lines:
            self.line = line.number
            plain, given = pairs(line.text)
            if len(plain) != 1 or not given:
                raise NetlistRefused("a .param line gives name=value pairs.")
            waiting += [(line.number, name, value) for name, value in given]
        while waiting:
            left: list[tuple[int, str, str]] = []
            fault: NetlistRefused | None = None
            for place, name, value in waiting:
                self.line = place
                try:
                    scope.parameters[name] = constant(value, scope.parameters)
                except NetlistRefused as refusal:
                    fault = fault or refusal
                    left.append((place, name, value))
            if len(left) == len(waiting):
                self.line = left[0][0]
                raise NetlistRefused(str(fault))
            waiting = left

    # Analyses

    def _directive(self, text: str, scope: Scope) -> None:
        words = text.split()
        word = words[0].lower()
        values = scope.parameters
        if word == ".op":
            self.op = True
        elif word in (".ac", ".tran") and (self.hertz if word == ".ac" else self.tran):
            raise NetlistRefused(f"this is a second {word}; one is run.")
        elif word == ".ac":
            self.hertz = _sweep(words[1:], values)
        elif word == ".tran":
            self.tran = _tran(words[1:], values)
        elif word == ".four":
            if len(words) < 3:
                raise NetlistRefused(".four wants a frequency and one or more v(node).")
            nodes = re.findall(r"v\(\s*([^()\s,]+)\s*\)", " ".join(words[2:]), flags=re.IGNORECASE)
            if not nodes or re.sub(r"v\(\s*[^()\s,]+\s*\)", "", " ".join(words[2:]), flags=re.IGNORECASE).strip(" ,"):
                raise NetlistRefused(".four is done for node voltages, as v(out).")
            hertz = constant(bare(words[1]), values)
            if not hertz > 0:
                raise NetlistRefused(f".four wants a frequency above zero, not {words[1]}.")
            self.four.append((hertz, tuple(nodes)))
        elif word == ".temp":
            if len(words) != 2 or abs(number(words[1]) - 27.0) > 1e-6:
                raise NetlistRefused("everything is solved at 27 °C; another .temp is not known.")
        elif word in _PASSED_OVER:
            self.passed_over.append(f"line {self.line}: {word}")
        else:
            raise NetlistRefused(
                f"{words[0][:40]} is not known. Read are .op .ac .tran .four .param .model .subckt .temp 27."
            )

    # Elements

    def element(self, text: str, scope: Scope, place: Place) -> None:
        """Read one element."""
        budget.check("reading the netlist")
        letter = text[0].lower()
        reader = ELEMENTS.get(letter)
        if reader is None:
            raise NetlistRefused(
                f"“{text.split()[0][:40]}” begins with {text[0].upper()}, which is no element that is known. "
                "Read are R C L K V I D Q M B E F G H X."
            )
        if len(self.parts) > _MOST_PARTS:
            raise NetlistRefused(f"there are more than {_MOST_PARTS} parts.")
        reader(self, text, scope, place)

    def node(self, name: str, place: Place) -> str:
        """A node's full name: the caller's for a pin, else one of this subcircuit's own."""
        key = name.lower()
        if key in ("0", "gnd"):
            return GROUND
        if key in place.nodes:
            return place.nodes[key]
        full = f"{place.prefix}{name}"
        return self.spelling.setdefault(full.lower(), full)

    def add(self, name: str, device: devices.Device, nodes: tuple[str, ...], prefix: str = "") -> None:
        """Add a part under its full name."""
        full = f"{prefix}{name}" if prefix else name
        if full.upper() in self.names:
            raise NetlistRefused(f"{name} is used twice.")
        self.names[full.upper()] = len(self.parts)
        self.parts.append(Part(full, device, nodes))

    def sense(self, source: str, place: Place) -> str:
        """The node that reads the current of a voltage source, a volt an ampere."""
        full = f"{place.prefix}{source}".upper()
        reading = f"{place.prefix}{source}__ampere"
        self.senses.append((self.line, full, reading))
        return reading

    def _probe(self) -> None:
        """Put a probe in series with every source whose current is asked for."""
        done: set[str] = set()
        for line, full, reading in self.senses:
            self.line = line
            if full in done:
                continue
            done.add(full)
            at = self.names.get(full)
            if at is None or not isinstance(self.parts[at].device, (devices.VoltageSource, BehaviouralVoltage)):
                raise NetlistRefused(
                    f"the current of {full} is wanted, but only that of a source V (or a B with V=) can be read."
                )
            source = self.parts[at]
            between = f"{source.name}__sensed"
            self.parts[at] = Part(source.name, source.device, (between, *source.nodes[1:]))
            self.add(f"{source.name}__probe", devices.CurrentProbe(), (source.nodes[0], between, reading))

    def _couple(self) -> None:
        """Join inductors that K lines couple into one device for each group."""
        if not self.couplings:
            return
        group: dict[str, set[str]] = {}
        for _, first, second, _ in self.couplings:
            both = group.get(first, {first}) | group.get(second, {second})
            for name in both:
                group[name] = both
        done: set[str] = set()
        taken: set[int] = set()
        for members in list(group.values()):
            names = sorted(members, key=lambda name: self.inductors[name])
            if names[0] in done:
                continue
            done |= members
            henries = []
            for name in names:
                device = self.parts[self.inductors[name]].device
                assert isinstance(device, devices.Inductor)
                henries.append(float(device.henry))
            matrix = np.diag(henries)
            for line, first, second, k in self.couplings:
                if first in members:
                    self.line = line
                    a, b = names.index(first), names.index(second)
                    matrix[a, b] = matrix[b, a] = k * np.sqrt(henries[a] * henries[b])
            scaled = matrix / np.sqrt(np.outer(henries, henries))
            if np.linalg.eigvalsh(scaled).min() < -1e-9:
                raise NetlistRefused("these couplings cannot all be: together they would make energy.")
            nodes: list[str] = []
            for name in names:
                nodes += self.parts[self.inductors[name]].nodes
                taken.add(self.inductors[name])
            coupled = devices.CoupledInductors(tuple(tuple(float(v) for v in row) for row in matrix))
            self.parts.append(Part("K__" + "_".join(names), coupled, tuple(nodes)))
        kept = [part for at, part in enumerate(self.parts) if at not in taken]
        self.parts = kept
        self.names = {part.name.upper(): at for at, part in enumerate(kept)}


def _sweep(words: list[str], values: Mapping[str, float]) -> tuple[float, ...]:
    if len(words) != 4 or words[0].lower() not in ("dec", "oct", "lin"):
        raise NetlistRefused(".ac wants dec, oct or lin, a number of points, and the first and last frequency.")
    count, first, last = (constant(bare(word), values) for word in words[1:])
    if not (1 <= count <= 100_000 and 0 < first <= last):
        raise NetlistRefused(".ac wants at least one point and 0 < first frequency ≤ last.")
    if words[0].lower() == "lin":
        return tuple(np.linspace(first, last, int(count)).tolist())
    base = 10.0 if words[0].lower() == "dec" else 2.0
    steps = int(np.floor(np.log(last / first) / np.log(base) * count + 1e-6))
    if steps > 100_000:
        raise NetlistRefused("that is more than 100,000 frequencies.")
    return tuple((first * base ** (np.arange(steps + 1) / count)).tolist())


def _tran(words: list[str], values: Mapping[str, float]) -> Tran:
    at_rest = bool(words) and words[-1].lower() == "uic"
    numbers = [constant(bare(word), values) for word in (words[:-1] if at_rest else words)]
    if not 2 <= len(numbers) <= 4:
        raise NetlistRefused(".tran wants a step, an end, and if need be a beginning and a longest step.")
    step, until, *rest = numbers
    begin = rest[0] if rest else 0.0
    if not (0 < step <= until and 0 <= begin < until) or (len(rest) > 1 and rest[1] <= 0):
        raise NetlistRefused(".tran wants 0 < step ≤ end and 0 ≤ beginning < end.")
    if (until - begin) / step > 1e6:
        raise NetlistRefused("that would print more than a million points.")
    return Tran(step, until, begin, rest[1] if len(rest) > 1 else None, at_rest)
