"""The elements of a SPICE netlist: one function an element letter, which reads the line and adds its parts."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np

from thermionic import devices
from thermionic.circuit.netlist import GROUND, Part
from thermionic.circuit.spice import models
from thermionic.circuit.spice.expressions import ExpressionLaw, constant, parse
from thermionic.devices.behavioural import BehaviouralCurrent, BehaviouralVoltage
from thermionic.errors import NetlistRefused

_DEEPEST = 12  # subcircuits within subcircuits


@dataclass(frozen=True)
class Line:
    number: int
    text: str


@dataclass
class Scope:
    """Where names are looked up: parameters, models and subcircuits, the enclosing scope's after its own."""

    parameters: dict[str, float] = field(default_factory=dict)
    models: dict[str, models.Model] = field(default_factory=dict)
    subcircuits: dict[str, Subcircuit] = field(default_factory=dict)

    def inner(self) -> Scope:
        return Scope(dict(self.parameters), dict(self.models), dict(self.subcircuits))


@dataclass
class Subcircuit:
    name: str
    pins: tuple[str, ...]
    defaults: tuple[tuple[str, str], ...]
    lines: list[Line]
    scope: Scope | None = None


@dataclass(frozen=True)
class Place:
    """Where an element stands: in which instance, and what its pins are connected to."""

    prefix: str
    nodes: Mapping[str, str]
    depth: int


class Builder(Protocol):
    """The netlist as it grows: what an element's function may ask of the reader."""

    line: int
    parts: list[Part]
    inductors: dict[str, int]
    couplings: list[tuple[int, str, str, float]]

    def node(self, name: str, place: Place) -> str:
        """A node's full name."""
        ...

    def add(self, name: str, device: devices.Device, nodes: tuple[str, ...], prefix: str = "") -> None:
        """Add a part under its full name."""
        ...

    def sense(self, source: str, place: Place) -> str:
        """The node that reads the current of a voltage source."""
        ...

    def definitions(self, lines: list[Line], scope: Scope) -> list[Line]:
        """Take what a scope defines out of its lines."""
        ...

    def element(self, text: str, scope: Scope, place: Place) -> None:
        """Read one element."""
        ...


def bare(text: str) -> str:
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


def pairs(text: str) -> tuple[list[str], list[tuple[str, str]]]:
    """The plain words of a line, and its name=value pairs (names in lower case)."""
    words = _split(re.sub(r"\s*=\s*", "=", text))
    plain = [word for word in words if "=" not in word or word[0] in "({'"]
    given = []
    for word in words:
        if word not in plain:
            name, value = word.split("=", 1)
            given.append((name.lower(), bare(value)))
    return plain, given


def _value(text: str, scope: Scope) -> float:
    return constant(bare(text), scope.parameters)


def _positive(text: str, scope: Scope, what: str) -> float:
    value = _value(text, scope)
    if not value > 0:
        raise NetlistRefused(f"{what} must be more than nothing; {text} is {value:g}.")
    return value


# One function an element letter: it reads the line and adds the parts.


def _two(words: list[str], what: str) -> tuple[str, str, str]:
    if len(words) < 4:
        raise NetlistRefused(f"{words[0]} wants two nodes and {what}.")
    return words[1], words[2], words[3]


def _nodes(reader: Builder, names: list[str], place: Place) -> tuple[str, ...]:
    return tuple(reader.node(name, place) for name in names)


def _no_more(given: list[tuple[str, str]], *known: str) -> dict[str, str]:
    for name, _ in given:
        if name not in known:
            raise NetlistRefused(f"{name}= is not known here{'; known is ' + ', '.join(known) if known else ''}.")
    return dict(given)


def _resistor(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(text)
    options = _no_more(given, "r")
    a, b, value = _two([*plain, options["r"]] if "r" in options else plain, "a resistance")
    ohm = _value(value, scope)
    if ohm == 0:
        raise NetlistRefused(f"{plain[0]} is 0 Ω: a wire is one node, or a source V of 0.")
    reader.add(plain[0], devices.Resistor(ohm), _nodes(reader, [a, b], place), place.prefix)


def _capacitor(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(text)
    options = _no_more(given, "ic", "c")
    a, b, value = _two([*plain, options["c"]] if "c" in options else plain, "a capacitance")
    start = _value(options["ic"], scope) if "ic" in options else None
    device = devices.Capacitor(_positive(value, scope, "a capacitance"), start)
    reader.add(plain[0], device, _nodes(reader, [a, b], place), place.prefix)


def _inductor(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(text)
    options = _no_more(given, "l")
    a, b, value = _two([*plain, options["l"]] if "l" in options else plain, "an inductance")
    device = devices.Inductor(_positive(value, scope, "an inductance"))
    reader.inductors[f"{place.prefix}{plain[0]}".lower()] = len(reader.parts)
    reader.add(plain[0], device, _nodes(reader, [a, b], place), place.prefix)


def _coupling(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(text)
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


def _source(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    text = re.sub(r"\b(sin|pulse|exp|pwl|dc|ac)\s*\(", r"\1(", text, flags=re.IGNORECASE)
    plain, given = pairs(text)
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
        if damping < 0:
            raise NetlistRefused("SIN wants a damping of zero or more: one below zero grows without end.")
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


def _junctions(
    pins: int, what: str, made: Callable[[models.Model, str, tuple[str, ...], float], models.Parts]
) -> Callable[[Builder, str, Scope, Place], None]:
    """A reader of lines with ``pins`` nodes, a model and an area: diodes and transistors."""

    def read(reader: Builder, text: str, scope: Scope, place: Place) -> None:
        plain, given = pairs(text)
        _no_more(given)
        if len(plain) not in (pins + 2, pins + 3):
            raise NetlistRefused(f"{plain[0]} wants {what} and a model, and if need be an area.")
        area = _value(plain[pins + 2], scope) if len(plain) == pins + 3 else 1.0
        nodes = _nodes(reader, plain[1 : pins + 1], place)
        for name, device, at in made(_model(plain[pins + 1], scope), plain[0], nodes, area):
            reader.add(name, device, at, place.prefix)

    return read


def _model(name: str, scope: Scope) -> models.Model:
    found = scope.models.get(name.lower())
    if found is None:
        raise NetlistRefused(f"there is no .model {name}.")
    return found


def _mosfet(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(text)
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


def _law(reader: Builder, name: str, law: ExpressionLaw, place: Place) -> tuple[str, ...]:
    """The control terminals' nodes of a law."""
    nodes: list[str] = []
    for quantity in law.quantities:
        if quantity.kind.lower() == "v":
            nodes += _nodes(reader, [quantity.plus, quantity.minus], place)
        else:
            nodes += [reader.sense(quantity.plus, place), GROUND]
    return tuple(nodes)


def _behavioural(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    found = re.match(r"(\S+)\s+(\S+)\s+(\S+)\s+([iv])\s*=\s*(.+)", text, flags=re.IGNORECASE)
    if not found:
        raise NetlistRefused(f"{text.split()[0]} wants two nodes and I= or V= with an expression.")
    name, a, b, kind, expression = found.groups()
    body = re.sub(r"\{([^{}]*)\}", r"(\1)", bare(expression))
    _add_law(reader, name, (a, b), kind.lower(), parse(body, scope.parameters), place)


def _add_law(reader: Builder, name: str, ends: tuple[str, str], kind: str, law: ExpressionLaw, place: Place) -> None:
    nodes = (*_nodes(reader, list(ends), place), *_law(reader, name, law, place))
    device = (BehaviouralCurrent if kind == "i" else BehaviouralVoltage)(law, len(law.quantities))
    reader.add(name, device, nodes, place.prefix)


def _controlled(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    """E and G by voltages, F and H by currents; linear, or E and G with VALUE={...}."""
    letter = text[0].lower()
    plain, given = pairs(text)
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


def _instance(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(re.sub(r"\bparams:", " ", text, flags=re.IGNORECASE))
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
    for line in reader.definitions(found.lines, inner):
        reader.line = line.number
        if line.text[0] == ".":
            raise NetlistRefused(f"{line.text.split()[0]} does not belong inside a subcircuit.")
        reader.element(line.text, inner, Place(prefix, pins, place.depth + 1))
    reader.line = called_from


ELEMENTS: dict[str, Callable[[Builder, str, Scope, Place], None]] = {
    "r": _resistor,
    "c": _capacitor,
    "l": _inductor,
    "k": _coupling,
    "v": _source,
    "i": _source,
    "d": _junctions(2, "two nodes", models.diode),
    "q": _junctions(3, "collector, base, emitter", models.bipolar),
    "m": _mosfet,
    "b": _behavioural,
    "e": _controlled,
    "f": _controlled,
    "g": _controlled,
    "h": _controlled,
    "x": _instance,
}
