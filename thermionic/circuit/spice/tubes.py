"""Tubes among a netlist's subcircuits.

What we print of a tube is the device again, and so is the usual published triode. Any other tube's subcircuit, as of
a pentode with an arctangent, has sources whose voltage only its other sources read: those are read into them, so that
nothing is left inside that has to be solved for, and the expressions stay exactly what they were.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cache

from thermionic import devices
from thermionic.circuit.spice.expressions import constant
from thermionic.circuit.spice.laws import digits, pentode_subcircuit, triode_subcircuit
from thermionic.circuit.spice.lines import Line
from thermionic.circuit.spice.words import Scope, bare
from thermionic.devices import PentodeCoefficients, TriodeCoefficients
from thermionic.errors import NetlistRefused

_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)(?:E[-+]?\d+)?"
_MOST_TEXT = 5000  # of one expression with others read into it


@dataclass(frozen=True)
class Lowered:
    """A subcircuit read as a device: on which of its pins that is, and what else is in it."""

    device: devices.Device
    pins: tuple[str, ...]
    rest: list[Line]


def recognised(pins: Sequence[str], lines: list[Line], scope: Scope) -> Lowered | None:
    """The tube that a subcircuit is, if it is one that is known. ``pins`` are its own names for them."""
    low = [pin.lower() for pin in pins]
    return _ours(low, lines, scope) or _published_triode(low, lines, scope)


# Ours: the very lines of ``laws``, with any numbers.

# Sentinels that the lines are printed with once, each to be found again as a number by itself.
_KP, _MU, _KVB, _GAIN, _EX, _C, _G, _XI, _COARSE_MU, _COARSE = (
    8101,
    8192,
    8103,
    8104,
    8105,
    8106,
    8107,
    8108,
    8109,
    8110,
)
# The ratio is printed as a quotient, which must come out as it went in.
_SHIELD, _RATIO, _SLOPE, _LINE, _SHARP, _DRIVE = 8111, 3, 8113, 8114, 8115, 8116


def _space(coarse: bool) -> TriodeCoefficients:
    share = _COARSE / _GAIN if coarse else 0.0
    return TriodeCoefficients(1 / _MU, _EX, 2 / _GAIN, _KP, _KVB, _G, _XI, _C, share, 1 / _COARSE_MU)


@cache
def _forms() -> tuple[tuple[str, re.Pattern[str]], ...]:
    """Every form in which a tube is printed: its kind, and a pattern of its lines."""
    forms = []
    for coarse in (False, True):
        forms.append(("triode", _pattern(triode_subcircuit(_space(coarse)))))
        for drive in (0.0, float(_DRIVE)):
            k = PentodeCoefficients(_space(coarse), _SHIELD, _RATIO / (1 + _RATIO), _LINE, _SHARP, _SLOPE, drive)
            forms.append(("pentode", _pattern(pentode_subcircuit(k))))
    return tuple(forms)


def _pattern(body: str) -> re.Pattern[str]:
    known = {str(value): f"n{value}" for value in (*range(8101, 8117), _MU, _RATIO)}
    derived = {digits(value) for value in (1 / (1 + 1 / _SHIELD), -1 / _SHARP, 1 / _MU)}
    seen: set[str] = set()
    pieces = []
    at = 0
    text = _plain("\n".join(body.splitlines()[1:-1]))
    for number in re.finditer(r"(?<![A-Z\d.])-?\d+\.?\d*(?:E[-+]?\d+)?", text):
        pieces.append(re.escape(text[at : number.start()]))
        word = number[0]
        if word in known:
            pieces.append(f"(?P={known[word]})" if word in seen else f"(?P<{known[word]}>{_NUMBER})")
            seen.add(word)
        elif word in {one.upper() for one in derived}:
            pieces.append(_NUMBER)
        else:
            pieces.append(re.escape(word))
        at = number.end()
    return re.compile("".join([*pieces, re.escape(text[at:])]))


def _plain(text: str) -> str:
    return re.sub(r"[ \t]+", " ", text).strip().upper()


def _ours(pins: list[str], lines: list[Line], scope: Scope) -> Lowered | None:
    if pins not in (["a", "g", "k"], ["a", "s", "g", "k"]):
        return None
    text = "\n".join(_plain(line.text) for line in lines)
    for kind, pattern in _forms():
        match = pattern.fullmatch(text)
        if not match or (kind == "triode") != (len(pins) == 3):
            continue
        read = {int(name[1:]): float(value) for name, value in match.groupdict().items()}
        gain = read[_GAIN]
        space = TriodeCoefficients(
            1 / read[_MU], read[_EX], 2 / gain, read[_KP], read[_KVB], read[_G], read[_XI], read[_C],
            read.get(_COARSE, 0.0) / gain, 1 / read.get(_COARSE_MU, 1.0),
        )  # fmt: skip
        scale = scope.parameters.get("scale", 1.0)
        if kind == "triode":
            return Lowered(devices.Triode(space, scale=scale), tuple(pins), [])
        ratio = read[_RATIO]
        k = PentodeCoefficients(
            space, read[_SHIELD], ratio / (1 + ratio), read[_LINE], read[_SHARP], read[_SLOPE], read.get(_DRIVE, 0.0)
        )
        return Lowered(devices.Pentode(k, scale=scale), tuple(pins), [])
    return None


# The usual published triode: N. Koren's, as an E of the effective voltage and a G of the anode current.

_ARGUMENT = r"(?P<{}>[^()*/+]+)"
_SOURCE = r"([EBG]\w*)\s+(\S+)\s+(\S+)\s+(?:VALUE\s*=?|[IV]\s*=)\s*(.+)"


def _published_triode(pins: list[str], lines: list[Line], scope: Scope) -> Lowered | None:
    if len(pins) != 3:
        return None
    sources = [match for line in lines if (match := re.fullmatch(_SOURCE, line.text, flags=re.IGNORECASE))]
    for voltage in sources:
        if voltage[3].lower() not in ("0", "gnd") or voltage[2].lower() in pins:
            continue
        effective = _effective_voltage(_packed(voltage[4]), scope.parameters)
        if effective is None:
            continue
        (anode, grid, cathode), mu, kp, kvb = effective
        node = re.escape(voltage[2].lower())
        for current in sources:
            power = _power(_packed(current[4]), node, scope.parameters)
            if power is None or [current[2].lower(), current[3].lower()] != [anode, cathode]:
                continue
            if {anode, grid, cathode} != set(pins):
                continue
            ex, kg1 = power
            rest = [
                line
                for line in lines
                if line.text not in (voltage[0], current[0]) and not _only_loads(line.text, voltage[2])
            ]
            if any(re.search(rf"(?<![\w.]){node}(?![\w.])", line.text.lower()) for line in rest):
                continue
            device = devices.Triode(TriodeCoefficients(mu, ex, kg1, kp, kvb, grid_g=0.0))
            return Lowered(device, (anode, grid, cathode), rest)
    return None


def _packed(expression: str) -> str:
    return re.sub(r"\s+", "", bare(expression.strip())).lower().replace("**", "^")


def _only_loads(text: str, node: str) -> bool:
    """Whether a line is a resistor from the node to earth, which an ideal source does not notice."""
    words = text.lower().split()
    return words[0][0] == "r" and len(words) >= 4 and sorted(words[1:3]) == sorted(["0", node.lower()])


def _effective_voltage(
    text: str, names: Mapping[str, float]
) -> tuple[tuple[str, str, str], float, float, float] | None:
    ak = r"v\((?P<a>[^(),]+),(?P<k>[^(),]+)\)"
    again = r"v\((?P=a),(?P=k)\)"
    inner = (
        rf"1/{_ARGUMENT.format('mu')}\+v\((?P<g>[^(),]+),(?P=k)\)/"
        rf"sqrt\({_ARGUMENT.format('kvb')}\+(?:{again}\*{again}|{again}\^2|pwr\({again},2\))\)"
    )
    kp, same = _ARGUMENT.format("kp"), "(?P=kp)"
    for form in (rf"{ak}/{kp}\*(?:ln|log)\(1\+exp\({same}\*\({inner}\)\)\)",
                 rf"{ak}/{kp}\*(?:ln|log)\(1\+exp\(\({inner}\)\*{same}\)\)"):  # fmt: skip
        match = re.fullmatch(form, text)
        if match:
            try:
                mu, kp_value, kvb = (constant(bare(match[name]), names) for name in ("mu", "kp", "kvb"))
            except NetlistRefused:
                return None
            return (match["a"], match["g"], match["k"]), mu, kp_value, kvb
    return None


def _power(text: str, node: str, names: Mapping[str, float]) -> tuple[float, float] | None:
    """Exponent and kg1 of Koren's anode current."""
    ex, kg1 = _ARGUMENT.format("ex"), _ARGUMENT.format("kg1")
    volt = rf"v\({node}\)"
    for form in (
        rf"\(pwr\({volt},{ex}\)\+pwrs\({volt},(?P=ex)\)\)/{kg1}",
        rf"\(pwrs\({volt},{ex}\)\+pwr\({volt},(?P=ex)\)\)/{kg1}",
        rf"\({volt}\^{ex}\)/{kg1}\*\(1\+sgn\({volt}\)\)",
        rf"{volt}\^{ex}/{kg1}\*\(1\+sgn\({volt}\)\)",
    ):
        match = re.fullmatch(form, text)
        if match:
            try:
                return constant(bare(match["ex"]), names), constant(bare(match["kg1"]), names)
            except NetlistRefused:
                return None
    return None


# Any other: what its own sources only tell each other.


def _closing(text: str, opened: int) -> int:
    """Where the parenthesis that is opened at a place is closed; the end where it is not."""
    depth = 0
    for place in range(opened, len(text)):
        depth += (text[place] == "(") - (text[place] == ")")
        if depth == 0:
            return place
    return len(text)


def _with_powers(text: str) -> str:
    """Every exp(a*log(b)) as a power of b, which is nothing where b is below zero and its logarithm has no value: so
    the usual pentodes write their screen's current, which a cut-off tube has none of."""
    match = re.search(r"\bexp\(\s*([\w.{}]+)\s*\*\s*(\(\s*)?(?:log|ln)\(", text, flags=re.IGNORECASE)
    if not match:
        return text
    opened = match.end() - 1
    inner = _closing(text, opened)
    outer = _closing(text, match.start() + 3)
    if text[inner + 1 : outer].replace(" ", "") != (")" if match[2] else ""):
        return text
    power = f"pwr(max({_with_powers(text[opened + 1 : inner])},0),{match[1].strip('{}')})"
    return text[: match.start()] + power + _with_powers(text[outer + 1 :])


def flattened(pins: Sequence[str], lines: list[Line]) -> list[Line]:
    """The lines with every source to earth that only expressions read put into those expressions."""
    low = {pin.lower() for pin in pins} | {"0", "gnd"}
    lines = [Line(line.number, _with_powers(line.text)) for line in lines]
    for line in lines:
        match = re.fullmatch(r"[EB]\w*\s+(\S+)\s+(?:0|gnd)\s+(?:VALUE\s*=?|V\s*=)\s*(.+)", line.text, re.IGNORECASE)
        if not match or match[1].lower() in low:
            continue
        node = match[1].lower()
        put = _reader_of(node, bare(match[2].strip()))
        others = [one for one in lines if one is not line and not _only_loads(one.text, node)]
        replaced = [Line(other.number, put(other.text)) for other in others]
        is_read = replaced != others
        if is_read and not any(_names_node(one.text, node) or len(one.text) > _MOST_TEXT for one in replaced):
            return flattened(pins, replaced)
    return lines


def _reader_of(node: str, expression: str) -> Callable[[str], str]:
    volt = re.compile(rf"\bv\(\s*{re.escape(node)}\s*(?:,\s*(?:0|gnd)\s*)?\)", re.IGNORECASE)
    return lambda text: volt.sub(lambda _: f"({expression})", text)


def _names_node(text: str, node: str) -> bool:
    """Whether an element still is on the node or reads it."""
    words = re.split(r"[\s,()]+", text.lower())
    return node in words[1:]
