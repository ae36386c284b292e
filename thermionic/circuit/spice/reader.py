"""Reading a SPICE netlist: what we write ourselves, and what people write by hand.

Elements R C L K V I D Q M B E F G H X; ``.param``, ``.model``, ``.subckt``; ``.op``, ``.ac``, ``.tran``,
``.four``. Anything else is refused by its line number: a circuit read half would be a wrong one. Lines that only
say how to print or how hard to try (``.print``, ``.save``, ``.options``, ...) are passed over and listed.
"""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

import numpy as np

from thermionic import devices
from thermionic.circuit.netlist import GROUND, Netlist, Part
from thermionic.circuit.spice import models
from thermionic.circuit.spice.expressions import ExpressionLaw, constant, number, parse
from thermionic.devices.behavioural import BehaviouralCurrent, BehaviouralVoltage
from thermionic.errors import NetlistRefused

_MOST_LINES, _MOST_PARTS, _DEEPEST = 20_000, 3000, 12
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


@dataclass(frozen=True)
class _Line:
    number: int
    text: str


@dataclass
class _Scope:
    """Where names are looked up: parameters, models and subcircuits, the enclosing scope's after its own."""

    parameters: dict[str, float] = field(default_factory=dict)
    models: dict[str, models.Model] = field(default_factory=dict)
    subcircuits: dict[str, _Subcircuit] = field(default_factory=dict)

    def inner(self) -> _Scope:
        return _Scope(dict(self.parameters), dict(self.models), dict(self.subcircuits))


@dataclass
class _Subcircuit:
    name: str
    pins: tuple[str, ...]
    defaults: tuple[tuple[str, str], ...]
    lines: list[_Line]
    scope: _Scope | None = None


def read(text: str) -> Deck:
    """Read a netlist; its first line is the title, as everywhere in SPICE.

    Raises NetlistRefused with the number of the line that is wrong or not known.
    """
    return _Reader(text).deck()


def _lines(text: str) -> list[_Line]:
    """Logical lines after the title: comments gone, continuations joined."""
    lines: list[_Line] = []
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
            lines[-1] = _Line(lines[-1].number, f"{lines[-1].text} {line[1:].strip()}")
        else:
            lines.append(_Line(place, line))
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
            scope = _Scope()
            body = self._definitions(self.lines, scope, top=True)
            for line in body:
                self.line = line.number
                if line.text[0] == ".":
                    self._directive(line.text, scope)
                else:
                    self._element(line.text, scope, "", {}, 0)
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

    def _definitions(self, lines: list[_Line], scope: _Scope, top: bool = False) -> list[_Line]:
        """Take subcircuits, parameters and models out of ``lines`` into the scope; what is left is returned."""
        rest: list[_Line] = []
        parameters: list[_Line] = []
        wanted_models: list[_Line] = []
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

    def _end_of(self, lines: list[_Line], start: int) -> int:
        depth = 0
        for at in range(start, len(lines)):
            word = lines[at].text.split()[0].lower()
            depth += word == ".subckt"
            depth -= word == ".ends"
            if depth == 0:
                return at
        raise NetlistRefused("this .subckt has no .ends.")

    def _subcircuit(self, text: str, lines: list[_Line], scope: _Scope) -> None:
        plain, given = _pairs(re.sub(r"\bparams:", " ", text, flags=re.IGNORECASE))
        if len(plain) < 3:
            raise NetlistRefused("a .subckt needs a name and at least one node.")
        name = plain[1].lower()
        if name in scope.subcircuits:
            raise NetlistRefused(f"the subcircuit {plain[1]} is defined twice.")
        scope.subcircuits[name] = _Subcircuit(plain[1], tuple(plain[2:]), tuple(given), lines)

    def _parameters(self, lines: list[_Line], scope: _Scope) -> None:
        """Parameters may be used before the line that gives them."""
        waiting: list[tuple[int, str, str]] = []
        for line in lines:
            self.line = line.number
            plain, given = _pairs(line.text)
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

    def _directive(self, text: str, scope: _Scope) -> None:
        words = text.split()
        word = words[0].lower()
        values = scope.parameters
        if word == ".op":
            self.op = True
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
            self.four.append((constant(_bare(words[1]), values), tuple(nodes)))
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

    def _element(self, text: str, scope: _Scope, prefix: str, nodes: Mapping[str, str], depth: int) -> None:
        letter = text[0].lower()
        reader = _ELEMENTS.get(letter)
        if reader is None:
            raise NetlistRefused(
                f"“{text.split()[0][:40]}” begins with {text[0].upper()}, which is no element that is known. "
                "Read are R C L K V I D Q M B E F G H X."
            )
        if len(self.parts) > _MOST_PARTS:
            raise NetlistRefused(f"there are more than {_MOST_PARTS} parts.")
        reader(self, text, scope, _Place(prefix, nodes, depth))

    def node(self, name: str, place: _Place) -> str:
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

    def sense(self, source: str, place: _Place) -> str:
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


@dataclass(frozen=True)
class _Place:
    """Where an element stands: in which instance, and what its pins are connected to."""

    prefix: str
    nodes: Mapping[str, str]
    depth: int


def _bare(text: str) -> str:
    """Without the braces or quotes that mark an expression."""
    text = text.strip()
    if len(text) > 1 and (text[0], text[-1]) in (("{", "}"), ("'", "'")):
        return text[1:-1]
    return text


def _split(text: str) -> list[str]:
    """Words, with what is in braces, quotes or parentheses kept together."""
    words: list[str] = []
    word, depth, quoted = "", 0, False
    for letter in text:
        if letter == "'":
            quoted = not quoted
        depth += (letter in "({") - (letter in ")}")
        if depth < 0:
            raise NetlistRefused(f"there is one “{letter}” too many.")
        if letter in " \t," and not depth and not quoted:
            if word:
                words.append(word)
            word = ""
        else:
            word += letter
    if depth or quoted:
        raise NetlistRefused("a parenthesis, brace or quote is not closed.")
    return [*words, word] if word else words


def _pairs(text: str) -> tuple[list[str], list[tuple[str, str]]]:
    """The plain words of a line, and its name=value pairs (names in lower case)."""
    words = _split(re.sub(r"\s*=\s*", "=", text))
    plain = [word for word in words if "=" not in word or word[0] in "({'"]
    given = []
    for word in words:
        if word not in plain:
            name, value = word.split("=", 1)
            given.append((name.lower(), _bare(value)))
    return plain, given


def _value(text: str, scope: _Scope) -> float:
    return constant(_bare(text), scope.parameters)


def _positive(text: str, scope: _Scope, what: str) -> float:
    value = _value(text, scope)
    if not value > 0:
        raise NetlistRefused(f"{what} must be more than nothing; {text} is {value:g}.")
    return value


def _sweep(words: list[str], values: Mapping[str, float]) -> tuple[float, ...]:
    if len(words) != 4 or words[0].lower() not in ("dec", "oct", "lin"):
        raise NetlistRefused(".ac wants dec, oct or lin, a number of points, and the first and last frequency.")
    count, first, last = (constant(_bare(word), values) for word in words[1:])
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
    numbers = [constant(_bare(word), values) for word in (words[:-1] if at_rest else words)]
    if not 2 <= len(numbers) <= 4:
        raise NetlistRefused(".tran wants a step, an end, and if need be a beginning and a longest step.")
    step, until, *rest = numbers
    begin = rest[0] if rest else 0.0
    if not (0 < step <= until and 0 <= begin < until) or (len(rest) > 1 and rest[1] <= 0):
        raise NetlistRefused(".tran wants 0 < step ≤ end and 0 ≤ beginning < end.")
    if (until - begin) / step > 1e6:
        raise NetlistRefused("that would print more than a million points.")
    return Tran(step, until, begin, rest[1] if len(rest) > 1 else None, at_rest)


# One function an element letter: it reads the line and adds the parts.


def _two(words: list[str], what: str) -> tuple[str, str, str]:
    if len(words) < 4:
        raise NetlistRefused(f"{words[0]} wants two nodes and {what}.")
    return words[1], words[2], words[3]


def _nodes(reader: _Reader, names: list[str], place: _Place) -> tuple[str, ...]:
    return tuple(reader.node(name, place) for name in names)


def _no_more(given: list[tuple[str, str]], *known: str) -> dict[str, str]:
    for name, _ in given:
        if name not in known:
            raise NetlistRefused(f"{name}= is not known here{'; known is ' + ', '.join(known) if known else ''}.")
    return dict(given)


def _resistor(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(text)
    options = _no_more(given, "r")
    a, b, value = _two([*plain, options["r"]] if "r" in options else plain, "a resistance")
    ohm = _value(value, scope)
    if ohm == 0:
        raise NetlistRefused(f"{plain[0]} is 0 Ω: a wire is one node, or a source V of 0.")
    reader.add(plain[0], devices.Resistor(ohm), _nodes(reader, [a, b], place), place.prefix)


def _capacitor(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(text)
    options = _no_more(given, "ic", "c")
    a, b, value = _two([*plain, options["c"]] if "c" in options else plain, "a capacitance")
    start = _value(options["ic"], scope) if "ic" in options else None
    device = devices.Capacitor(_positive(value, scope, "a capacitance"), start)
    reader.add(plain[0], device, _nodes(reader, [a, b], place), place.prefix)


def _inductor(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(text)
    options = _no_more(given, "l")
    a, b, value = _two([*plain, options["l"]] if "l" in options else plain, "an inductance")
    device = devices.Inductor(_positive(value, scope, "an inductance"))
    reader.inductors[f"{place.prefix}{plain[0]}".lower()] = len(reader.parts)
    reader.add(plain[0], device, _nodes(reader, [a, b], place), place.prefix)


def _coupling(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(text)
    _no_more(given)
    if len(plain) < 4:
        raise NetlistRefused(f"{plain[0]} wants two or more inductors and a coupling.")
    k = _value(plain[-1], scope)
    if not 0 < abs(k) <= 1:
        raise NetlistRefused(f"{plain[0]}: a coupling is between 0 and 1; this is {k:g}.")
    names = [f"{place.prefix}{name}".lower() for name in plain[1:-1]]
    for name in names:
        if name not in reader.inductors:
            raise NetlistRefused(f"{plain[0]} couples {name}, but no such inductor stands above it.")
    for at, first in enumerate(names):
        for second in names[at + 1 :]:
            reader.couplings.append((reader.line, first, second, k))


_WAVES = {"sin": (3, 6), "pulse": (2, 7), "exp": (2, 6), "pwl": (2, 100_000)}


def _source(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    text = re.sub(r"\b(sin|pulse|exp|pwl|dc|ac)\s*\(", r"\1(", text, flags=re.IGNORECASE)
    plain, given = _pairs(text)
    _no_more(given)
    if len(plain) < 3:
        raise NetlistRefused(f"{plain[0]} wants two nodes.")
    steady, tone, wave = 0.0, 0.0 + 0.0j, None
    words = plain[3:]
    at = 0
    stated = False
    while at < len(words):
        word = words[at]
        low = word.lower()
        head = low.split("(")[0]
        if low == "dc":
            at += 1
            if at >= len(words):
                raise NetlistRefused(f"{plain[0]}: DC wants a value.")
            steady, stated = _value(words[at], scope), True
        elif low == "ac":
            size = _value(words[at + 1], scope) if at + 1 < len(words) and not _is_wave(words[at + 1]) else 1.0
            at += at + 1 < len(words) and not _is_wave(words[at + 1])
            phase = 0.0
            if at + 1 < len(words) and not _is_wave(words[at + 1]) and words[at + 1].lower() != "dc":
                at += 1
                phase = _value(words[at], scope)
            tone = size * np.exp(1j * np.radians(phase))
        elif head in _WAVES and "(" in low:
            inside = word[word.index("(") + 1 : word.rindex(")")]
            wave = _wave(head, [_value(one, scope) for one in _split(inside)])
        elif at == 0:
            steady, stated = _value(word, scope), True
        else:
            raise NetlistRefused(
                f"“{word[:40]}” is not known for a source; read are DC, AC, SIN, PULSE, EXP and PWL."
            )
        at += 1
    if wave is not None and not stated:
        steady = wave.at(0.0)
    amplitude: complex | float = tone if tone.imag else tone.real
    kind = devices.VoltageSource if plain[0][0].lower() == "v" else devices.CurrentSource
    reader.add(plain[0], kind(steady, amplitude, wave), _nodes(reader, plain[1:3], place), place.prefix)


def _is_wave(word: str) -> bool:
    return word.lower().split("(")[0] in (*_WAVES, "dc")


def _wave(head: str, numbers: list[float]) -> devices.Wave:
    least, most = _WAVES[head]
    if not least <= len(numbers) <= most:
        raise NetlistRefused(f"{head.upper()} wants {least} to {most} numbers; there are {len(numbers)}.")
    if head == "sin":
        offset, amplitude, hertz, delay, damping, phase = [*numbers, 0.0, 0.0, 0.0][:6]
        if not hertz > 0:
            raise NetlistRefused("SIN wants a frequency above zero.")
        return devices.Sine(offset, amplitude, hertz, delay, damping, float(np.radians(phase)))
    if head == "pulse":
        filled = [*numbers, *[0.0] * (7 - len(numbers))]
        low, high, delay, rise, fall, width, period = filled
        endless = 1e6
        rise, fall = max(rise, 1e-9), max(fall, 1e-9)
        width = width if width > 0 else endless
        period = period if period > 0 else width + rise + fall + endless
        if period < rise + width + fall:
            raise NetlistRefused("PULSE: the period is shorter than rise, width and fall.")
        return devices.Pulse(low, high, delay, rise, fall, width, period)
    if head == "exp":
        low, high, delay, rise, back, fall = [*numbers, *[1e-9] * (6 - len(numbers))]
        if not (rise > 0 and fall > 0):
            raise NetlistRefused("EXP wants time constants above zero.")
        return devices.Exponential(low, high, delay, rise, max(back, delay), fall)
    times, values = numbers[::2], numbers[1::2]
    if len(times) != len(values) or any(b <= a for a, b in itertools.pairwise(times)):
        raise NetlistRefused("PWL wants pairs of time and value, the times rising.")
    return devices.Piecewise(tuple(times), tuple(values))


def _diode(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(text)
    _no_more(given)
    if len(plain) not in (4, 5):
        raise NetlistRefused(f"{plain[0]} wants two nodes and a model, and if need be an area.")
    area = _value(plain[4], scope) if len(plain) == 5 else 1.0
    nodes = _nodes(reader, plain[1:3], place)
    for name, device, at in models.diode(_model(plain[3], scope), plain[0], nodes, area):
        reader.add(name, device, at, place.prefix)


def _model(name: str, scope: _Scope) -> models.Model:
    found = scope.models.get(name.lower())
    if found is None:
        raise NetlistRefused(f"there is no .model {name}.")
    return found


def _bipolar(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(text)
    _no_more(given)
    if len(plain) not in (5, 6):
        raise NetlistRefused(f"{plain[0]} wants collector, base, emitter and a model, and if need be an area.")
    area = _value(plain[5], scope) if len(plain) == 6 else 1.0
    nodes = _nodes(reader, plain[1:4], place)
    for name, device, at in models.bipolar(_model(plain[4], scope), plain[0], nodes, area):
        reader.add(name, device, at, place.prefix)


def _mosfet(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(text)
    options = _no_more(given, "w", "l", "m")
    if len(plain) != 6:
        raise NetlistRefused(f"{plain[0]} wants drain, gate, source, bulk and a model.")
    nodes = _nodes(reader, plain[1:5], place)
    if nodes[3] != nodes[2]:
        raise NetlistRefused(f"{plain[0]}: the bulk must be tied to the source.")
    width, length, many = (_value(options.get(name, "1"), scope) for name in ("w", "l", "m"))
    if "w" not in options and "l" not in options:
        width = length = 100e-6  # SPICE's own default: a square
    for name, device, at in models.mosfet(_model(plain[5], scope), plain[0], nodes[:3], many * width, length):
        reader.add(name, device, at, place.prefix)


def _law(reader: _Reader, name: str, law: ExpressionLaw, place: _Place) -> tuple[str, ...]:
    """The control terminals' nodes of a law."""
    nodes: list[str] = []
    for quantity in law.quantities:
        if quantity.kind.lower() == "v":
            nodes += _nodes(reader, [quantity.plus, quantity.minus], place)
        else:
            nodes += [reader.sense(quantity.plus, place), GROUND]
    return tuple(nodes)


def _behavioural(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    found = re.match(r"(\S+)\s+(\S+)\s+(\S+)\s+([iv])\s*=\s*(.+)", text, flags=re.IGNORECASE)
    if not found:
        raise NetlistRefused(f"{text.split()[0]} wants two nodes and I= or V= with an expression.")
    name, a, b, kind, expression = found.groups()
    body = re.sub(r"\{([^{}]*)\}", r"(\1)", _bare(expression))
    _add_law(reader, name, (a, b), kind.lower(), parse(body, scope.parameters), place)


def _add_law(reader: _Reader, name: str, ends: tuple[str, str], kind: str, law: ExpressionLaw, place: _Place) -> None:
    nodes = (*_nodes(reader, list(ends), place), *_law(reader, name, law, place))
    device = (BehaviouralCurrent if kind == "i" else BehaviouralVoltage)(law, len(law.quantities))
    reader.add(name, device, nodes, place.prefix)


def _controlled(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    """E and G by voltages, F and H by currents; linear, or E and G with VALUE={...}."""
    letter = text[0].lower()
    plain, given = _pairs(text)
    options = _no_more(given, "value") if letter in "eg" else _no_more(given)
    if "value" in options:
        if len(plain) != 3:
            raise NetlistRefused(f"{plain[0]} wants two nodes before VALUE=.")
        law = parse(options["value"], scope.parameters)
        _add_law(reader, plain[0], (plain[1], plain[2]), "v" if letter == "e" else "i", law, place)
        return
    wanted = 6 if letter in "eg" else 5
    if len(plain) != wanted or any(word.lower().startswith(("poly", "table", "laplace")) for word in plain):
        raise NetlistRefused(
            f"{plain[0]} wants two nodes, "
            + ("two controlling nodes" if letter in "eg" else "a voltage source")
            + " and a gain; POLY, TABLE and LAPLACE are not known."
        )
    gain = _value(plain[-1], scope)
    if letter in "eg":
        nodes = _nodes(reader, plain[1:5], place)
    else:
        nodes = (*_nodes(reader, plain[1:3], place), reader.sense(plain[3], place), GROUND)
    device = devices.VoltageControlled(gain) if letter in "eh" else devices.Transconductance(gain)
    reader.add(plain[0], device, nodes, place.prefix)


def _instance(reader: _Reader, text: str, scope: _Scope, place: _Place) -> None:
    plain, given = _pairs(re.sub(r"\bparams:", " ", text, flags=re.IGNORECASE))
    if len(plain) < 3:
        raise NetlistRefused(f"{plain[0]} wants nodes and the name of a subcircuit.")
    if place.depth >= _DEEPEST:
        raise NetlistRefused(f"subcircuits are nested more than {_DEEPEST} deep: does one hold itself?")
    name = plain[-1]
    found = scope.subcircuits.get(name.lower())
    if found is None:
        raise NetlistRefused(f"there is no .subckt {name}.")
    if len(plain) - 2 != len(found.pins):
        raise NetlistRefused(f"{plain[0]} has {len(plain) - 2} nodes, but {found.name} has {len(found.pins)}.")
    inner = scope.inner()
    for key, default in found.defaults:
        inner.parameters[key] = constant(default, inner.parameters)
    known = {key for key, _ in found.defaults}
    for key, value in given:
        if key not in known:
            raise NetlistRefused(f"{found.name} has no parameter {key}.")
        inner.parameters[key] = constant(value, scope.parameters)
    called_from = reader.line
    outer = _nodes(reader, plain[1:-1], place)
    pins = dict(zip((pin.lower() for pin in found.pins), outer, strict=True))
    prefix = f"{place.prefix}{plain[0]}."
    for line in reader._definitions(found.lines, inner):
        reader.line = line.number
        if line.text[0] == ".":
            raise NetlistRefused(f"{line.text.split()[0]} does not belong inside a subcircuit.")
        reader._element(line.text, inner, prefix, pins, place.depth + 1)
    reader.line = called_from


_ELEMENTS: dict[str, Callable[[_Reader, str, _Scope, _Place], None]] = {
    "r": _resistor,
    "c": _capacitor,
    "l": _inductor,
    "k": _coupling,
    "v": _source,
    "i": _source,
    "d": _diode,
    "q": _bipolar,
    "m": _mosfet,
    "b": _behavioural,
    "e": _controlled,
    "f": _controlled,
    "g": _controlled,
    "h": _controlled,
    "x": _instance,
}
