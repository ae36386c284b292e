"""The elements of a SPICE netlist: one function an element letter, which reads the line and adds its parts."""

from __future__ import annotations

import itertools
import re
from collections.abc import Callable, Mapping

from thermionic import devices
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.spice import semiconductors, tubes
from thermionic.circuit.spice.builder import Builder, Place
from thermionic.circuit.spice.expressions import ExpressionLaw, parse
from thermionic.circuit.spice.models import Model
from thermionic.circuit.spice.sources import source
from thermionic.circuit.spice.words import Scope, bare, no_more, pairs, split, value_of
from thermionic.devices.base import KELVIN
from thermionic.errors import NetlistRefused

_DEEPEST = 12  # subcircuits within subcircuits
_NOMINAL = 27.0


# One function an element letter: it reads the line and adds the parts.


def _two(words: list[str], what: str) -> tuple[str, str, str]:
    if len(words) < 4:
        raise NetlistRefused(f"{words[0]} wants two nodes and {what}.")
    return words[1], words[2], words[3]


def _nodes(reader: Builder, names: list[str], place: Place) -> tuple[str, ...]:
    return tuple(reader.node(name, place) for name in names)


def _unbracketed(words: list[str]) -> list[str]:
    """Words with a pair of nodes written as (a,b) taken apart."""
    out: list[str] = []
    for word in words:
        out += split(word[1:-1]) if word.startswith("(") and word.endswith(")") else [word]
    return out


def _passive(
    letter: str, what: str, make: Callable[[float, float | None], devices.Device]
) -> Callable[[Builder, str, Scope, Place], None]:
    """A reader of resistors, capacitors or inductors: a value, or a model's, with its temperature and how many."""
    own = {"r": ("r", "resistance"), "c": ("c", "capacitance"), "l": ("l", "inductance")}[letter]

    def read(reader: Builder, text: str, scope: Scope, place: Place) -> None:
        plain, given = pairs(text)
        plain = [plain[0], *_unbracketed(plain[1:])]
        options = no_more(
            given, own[0], own[1], "ic", "tc", "tc1", "tc2", "m", "temp", "dtemp", "noisy", "rser", "cpar", "rpar"
        )
        for name in ("rser", "cpar", "rpar"):
            if name in options and value_of(options[name], scope) != 0:
                raise NetlistRefused(f"{plain[0]}: {name}= is not known; put the part into the netlist.")
        written = options.get(own[0], options.get(own[1]))
        a, b, word = _two([*plain, written] if written is not None else plain, what)
        model = scope.models.get(word.lower())
        more = plain[4:] if written is None else plain[3:]
        first = second = 0.0
        if model is not None:
            if model.kind[0] != letter:
                raise NetlistRefused(f"{plain[0]} uses the model {model.name}, which is of kind {model.kind}.")
            size = value_of(more[0], scope) if more else model[letter]
            first, second = model.values.get("tc1", 0.0), model.values.get("tc2", 0.0)
        else:
            size = value_of(word, scope)
            if more and (named := scope.models.get(more[0].lower())) is not None:
                first, second = named.values.get("tc1", 0.0), named.values.get("tc2", 0.0)
            elif more and "tc" not in options:
                raise NetlistRefused(f"“{more[0][:40]}” is not expected after the value of {plain[0]}.")
        if "tc" in options:
            coefficients = [value_of(word, scope) for word in [*split(options["tc"]), *more]]
            if not 1 <= len(coefficients) <= 2:
                raise NetlistRefused(f"{plain[0]}: tc wants one coefficient of temperature or two.")
            first, second = [*coefficients, 0.0][:2]
        first = value_of(options["tc1"], scope) if "tc1" in options else first
        second = value_of(options["tc2"], scope) if "tc2" in options else second
        above = (value_of(options["temp"], scope) if "temp" in options else reader.celsius) - _NOMINAL
        above += value_of(options["dtemp"], scope) if "dtemp" in options else 0.0
        size *= 1 + first * above + second * above**2
        many = value_of(options.get("m", "1"), scope)
        if not many > 0:
            raise NetlistRefused(f"{plain[0]}: m must be above zero.")
        size = size * many if letter == "c" else size / many
        if (letter != "r" and size < 0) or (letter == "c" and size == 0 and not written):
            raise NetlistRefused(f"{what} must be more than nothing; {word} is {size:g}.")
        start = value_of(options["ic"], scope) if "ic" in options else None
        reader.add(plain[0], make(size, start), _nodes(reader, [a, b], place), place.prefix)

    return read


def _resistor(ohm: float, start: float | None) -> devices.Device:
    if start is not None:
        raise NetlistRefused("a resistor has no ic=.")
    # Nothing at all is a wire whose current can be asked for.
    return devices.Resistor(ohm) if ohm else devices.VoltageSource(0.0)


def _capacitor(farad: float, start: float | None) -> devices.Device:
    if not farad > 0:
        raise NetlistRefused("a capacitance must be more than nothing.")
    return devices.Capacitor(farad, start)


def _inductor(henry: float, start: float | None) -> devices.Device:
    if not henry > 0:
        raise NetlistRefused("an inductance must be more than nothing.")
    return devices.Inductor(henry, start or 0.0)


def _coupling(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(text)
    no_more(given)
    if len(plain) < 4:
        raise NetlistRefused(f"{plain[0]} wants two or more inductors and a coupling.")
    k = value_of(plain[-1], scope)
    if not abs(k) <= 1:
        raise NetlistRefused(f"{plain[0]}: a coupling is between 0 and 1; this is {k:g}.")
    names = [f"{place.prefix}{name}" for name in plain[1:-1]]
    for pair in itertools.combinations(names, 2):
        reader.couplings.append((reader.line, pair, k))


def _source(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    (name, a, b), device = source(text, scope)
    reader.add(name, device, _nodes(reader, [a, b], place), place.prefix)


def _junctions(
    least: int, most: int, what: str, made: Callable[[Model, str, tuple[str, ...], float], semiconductors.Parts]
) -> Callable[[Builder, str, Scope, Place], None]:
    """A reader of lines with nodes, a model and an area: diodes and transistors."""

    def read(reader: Builder, text: str, scope: Scope, place: Place) -> None:
        plain, given = pairs(text)
        options = no_more(given, "area", "m", "temp", "dtemp", "ic", "pj")
        words = [word for word in plain if word.lower() != "off"]
        # The model is the first word after the least nodes that is one.
        at = next(
            (k for k in range(least + 1, most + 2) if k < len(words) and words[k].lower() in scope.models), None
        )
        if at is None:
            if len(words) < least + 2:
                raise NetlistRefused(f"{plain[0]} wants {what} and a model, and if need be an area.")
            raise NetlistRefused(f"there is no .model {words[least + 1]}.")
        if len(words) > at + 2:
            raise NetlistRefused(f"{plain[0]} wants {what} and a model, and if need be an area.")
        area = value_of(words[at + 1] if len(words) == at + 2 else options.get("area", "1"), scope)
        area *= value_of(options.get("m", "1"), scope)
        model, nodes = _model(reader, words[at], scope, options), _nodes(reader, words[1:at], place)
        _put(reader, made(model, f"{place.prefix}{plain[0]}", nodes, area))

    return read


def _put(reader: Builder, parts: semiconductors.Parts) -> None:
    """Add the parts of a semiconductor, which was given its full name: its inner nodes are called after that, so that
    no other subcircuit's semiconductor of the same name shares them."""
    for name, device, nodes in parts:
        reader.add(name, device, nodes)


def _model(reader: Builder, name: str, scope: Scope, options: Mapping[str, str]) -> Model:
    result = scope.models.get(name.lower())
    if result is None:
        raise NetlistRefused(f"there is no .model {name}.")
    celsius = value_of(options["temp"], scope) if "temp" in options else reader.celsius
    celsius += value_of(options["dtemp"], scope) if "dtemp" in options else 0.0
    return result.at(KELVIN + celsius - _NOMINAL)


def _mosfet(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(text)
    options = no_more(given, "w", "l", "m", "temp", "dtemp", "ic", "ad", "as", "pd", "ps", "nrd", "nrs")
    words = [word for word in plain if word.lower() != "off"]
    # A power MOSFET's line may leave the bulk out, which then is its source.
    at = next((k for k in (4, 5) if k < len(words) and words[k].lower() in scope.models), None)
    if at is None:
        if len(words) < 6:
            raise NetlistRefused(f"{plain[0]} wants drain, gate, source, bulk and a model.")
        raise NetlistRefused(f"there is no .model {words[5]}.")
    names = [*words[1:at], words[3]] if at == 4 else words[1:5]
    model = _model(reader, words[at], scope, options)
    width, length = (
        value_of(options[name], scope) if name in options else model.values.get(name, 1e-4) for name in ("w", "l")
    )
    many = value_of(options.get("m", "1"), scope)
    nodes = _nodes(reader, names, place)
    _put(reader, semiconductors.mosfet(model, f"{place.prefix}{plain[0]}", nodes, width, length, many))


def _switch(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    """S by a voltage, W by the current of a part."""
    plain, given = pairs(text)
    no_more(given)
    words = [word for word in _unbracketed(plain) if word.lower() not in ("on", "off")]
    by = "v" if text[0].lower() == "s" else "i"
    if len(words) != (6 if by == "v" else 5):
        raise NetlistRefused(
            f"{plain[0]} wants two nodes, {'two controlling nodes' if by == 'v' else 'the part that it goes by'} "
            "and a model."
        )
    ends = _nodes(reader, words[1:3], place)
    control = _nodes(reader, words[3:5], place) if by == "v" else (reader.sense(words[3], place), GROUND)
    model = _model(reader, words[-1], scope, {})
    name = f"{place.prefix}{plain[0]}"
    _put(reader, semiconductors.switch(model, name, (ends[0], ends[1]), (control[0], control[1]), by))


def control_nodes(reader: Builder, law: ExpressionLaw, place: Place) -> tuple[str, ...]:
    """The nodes, two and two, of what a law senses."""
    nodes: list[str] = []
    for quantity in law.quantities:
        if quantity.kind == "time":
            nodes += [reader.clock(), GROUND]
        elif quantity.kind.lower() == "v":
            nodes += _nodes(reader, [quantity.plus, quantity.minus], place)
        else:
            nodes += [reader.sense(quantity.plus, place), GROUND]
    return tuple(nodes)


def _behavioural(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    match = re.match(r"(\S+)\s+(\S+)\s+(\S+)\s+([iv])\s*=\s*(.+)", text, flags=re.IGNORECASE)
    if not match:
        raise NetlistRefused(f"{text.split()[0]} wants two nodes and I= or V= with an expression.")
    name, a, b, kind, expression = match.groups()
    expression = re.sub(r"\s+(tc1|tc2|temp|dtemp)\s*=\s*\S+", "", expression, flags=re.IGNORECASE)
    body = re.sub(r"\{([^{}]*)\}", r"(\1)", bare(expression))
    _add_law(reader, name, (a, b), kind.lower(), parse(body, scope.parameters), place)


def _add_law(reader: Builder, name: str, ends: tuple[str, str], kind: str, law: ExpressionLaw, place: Place) -> None:
    nodes = (*_nodes(reader, list(ends), place), *control_nodes(reader, law, place))
    device = (devices.BehaviouralCurrent if kind == "i" else devices.BehaviouralVoltage)(law, len(law.quantities))
    reader.add(name, device, nodes, place.prefix)


def _controlled(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    """E and G by voltages, F and H by currents; linear, as a polynomial, a table or any expression."""
    letter = text[0].lower()
    expression = _as_expression(text, scope)
    if expression is not None:
        name, a, b, body = expression
        law = parse(body, scope.parameters)
        _add_law(reader, name, (a, b), "v" if letter in "eh" else "i", law, place)
        return
    plain, given = pairs(text)
    words = [plain[0], *_unbracketed(plain[1:])]
    options = no_more(given, "gain", "m", "ic")
    if "gain" in options:
        words.append(options["gain"])
    wanted = 6 if letter in "eg" else 5
    if len(words) != wanted or "laplace" in text.lower() or "freq" in text.lower().split():
        raise NetlistRefused(
            f"{plain[0]} wants two nodes, "
            + ("two controlling nodes" if letter in "eg" else "the part that it goes by")
            + " and a gain, or POLY, TABLE or VALUE; LAPLACE and FREQ are not known."
        )
    gain = value_of(words[-1], scope) * value_of(options.get("m", "1"), scope)
    if letter in "eg":
        nodes = _nodes(reader, words[1:5], place)
    else:
        nodes = (*_nodes(reader, words[1:3], place), reader.sense(words[3], place), GROUND)
    device = devices.VoltageControlled(gain) if letter in "eh" else devices.Transconductance(gain)
    reader.add(plain[0], device, nodes, place.prefix)


def _as_expression(text: str, scope: Scope) -> tuple[str, str, str, str] | None:
    """Name, nodes and expression of a controlled source that is more than a gain; None for one that is not."""
    head = re.match(r"(\S+)\s+(?:\(\s*(\S+?)[\s,]+(\S+?)\s*\)|(\S+)[\s,]+(\S+))\s+(.*)", text)
    if not head:
        return None
    name, a, b, rest = head[1], head[2] or head[4], head[3] or head[5], head[6].strip()
    by_name = re.match(r"(value|vol|cur|i|v)\s*=?\s*(?=[{'\"=(])=?\s*(.+)", rest, flags=re.IGNORECASE)
    if by_name:
        return name, a, b, re.sub(r"\{([^{}]*)\}", r"(\1)", bare(by_name[2].strip()))
    table = re.match(r"table\s*=?\s*(\{[^{}]*\}|'[^']*'|\S+)\s*=?\s*(.*)", rest, flags=re.IGNORECASE)
    if table:
        points = re.findall(r"\(\s*([^\s,()]+)[\s,]+([^\s,()]+)\s*\)", table[2])
        numbers = [value_of(one, scope) for point in points for one in point]
        if not numbers:
            numbers = [value_of(word, scope) for word in split(table[2].strip("()"))]
        if len(numbers) < 4:
            raise NetlistRefused(
                f"{name}: TABLE wants an expression and two or more pairs, as {{v(a)}} = (0,0) (1,2)."
            )
        return name, a, b, f"table({bare(table[1])},{','.join(f'{number:.17g}' for number in numbers)})"
    poly = re.match(r"poly\s*\(\s*(\d+)\s*\)\s*(.*)", rest, flags=re.IGNORECASE)
    if poly:
        return name, a, b, _polynomial(name, int(poly[1]), _unbracketed(split(poly[2])), scope)
    return None


def _polynomial(name: str, count: int, words: list[str], scope: Scope) -> str:
    """SPICE's polynomial of several quantities as an expression."""
    by_voltage = name[0].lower() in "eg"
    each = 2 if by_voltage else 1
    if not 1 <= count <= 20 or len(words) <= count * each:
        raise NetlistRefused(f"{name}: POLY({count}) wants {count * each} names and one or more coefficients.")
    names = [words[each * k : each * (k + 1)] for k in range(count)]
    quantities = [f"{'v' if by_voltage else 'i'}({','.join(name)})" for name in names]
    coefficients = [value_of(word, scope) for word in words[count * each :]]
    if len(coefficients) == 1:
        raise NetlistRefused(
            f"{name}: a POLY of one coefficient is a gain to some simulators and a constant to others; write 0 "
            "before it for a gain, or 0 after it."
        )
    if len(coefficients) > 200:
        raise NetlistRefused(f"{name}: that is more than 200 coefficients.")
    terms, degree = ["1"], 1
    while len(terms) < len(coefficients):
        terms += ["*".join(one) for one in itertools.combinations_with_replacement(quantities, degree)]
        degree += 1
    used = zip(coefficients, terms, strict=False)
    return "+".join(f"({value:.17g})*{term}" for value, term in used if value) or "0"


def _instance(reader: Builder, text: str, scope: Scope, place: Place) -> None:
    plain, given = pairs(re.sub(r"\bparams:", " ", text, flags=re.IGNORECASE))
    plain = [plain[0], *_unbracketed(plain[1:])]
    if len(plain) < 3:
        raise NetlistRefused(f"{plain[0]} wants nodes and the name of a subcircuit.")
    if place.depth >= _DEEPEST:
        raise NetlistRefused(f"subcircuits are nested more than {_DEEPEST} deep: does one hold itself?")
    name = plain[-1]
    result = scope.subcircuits.get(name.lower())
    if result is None:
        raise NetlistRefused(f"there is no .subckt {name}.")
    if len(plain) - 2 != len(result.pins):
        raise NetlistRefused(f"{plain[0]} has {len(plain) - 2} nodes, but {result.name} has {len(result.pins)}.")
    inner = scope.inner()
    for key, default in result.defaults:
        inner.parameters[key] = value_of(default, inner)
    known = {key for key, _ in result.defaults}
    for key, value in given:
        if key == "m" and "m" not in known and value_of(value, scope) == 1:
            continue
        if key not in known:
            raise NetlistRefused(f"{result.name} has no parameter {key}.")
        inner.parameters[key] = value_of(value, scope)
    called_from = reader.line
    outer = _nodes(reader, plain[1:-1], place)
    prefix = f"{place.prefix}{plain[0]}."
    lines = reader.definitions(result.lines, inner)
    pins = dict(zip((pin.lower() for pin in result.pins), outer, strict=True))
    lowered = tubes.recognised(result.pins, lines, inner)
    if lowered is not None:
        lines = lowered.rest
        reader.add(f"{plain[0]}.tube", lowered.device, tuple(pins[pin] for pin in lowered.pins), place.prefix)
    else:
        lines = tubes.flattened(result.pins, lines)
    for line in lines:
        reader.line = line.number
        if line.text[0] == ".":
            raise NetlistRefused(f"{line.text.split()[0]} does not belong inside a subcircuit.")
        reader.element(line.text, inner, Place(prefix, pins, place.depth + 1))
    reader.line = called_from


def _refused(what: str) -> Callable[[Builder, str, Scope, Place], None]:
    def read(reader: Builder, text: str, scope: Scope, place: Place) -> None:
        raise NetlistRefused(f"{text.split()[0]} is {what}, which is not known.")

    return read


ELEMENTS: dict[str, Callable[[Builder, str, Scope, Place], None]] = {
    "r": _passive("r", "a resistance", _resistor),
    "c": _passive("c", "a capacitance", _capacitor),
    "l": _passive("l", "an inductance", _inductor),
    "k": _coupling,
    "v": _source,
    "i": _source,
    "d": _junctions(2, 2, "two nodes", semiconductors.diode),
    "q": _junctions(3, 4, "collector, base, emitter", semiconductors.bipolar),
    "j": _junctions(3, 3, "drain, gate, source", semiconductors.jfet),
    "m": _mosfet,
    "s": _switch,
    "w": _switch,
    "b": _behavioural,
    "e": _controlled,
    "f": _controlled,
    "g": _controlled,
    "h": _controlled,
    "x": _instance,
    "t": _refused("a transmission line"),
    "a": _refused("a code model"),
}
