"""The lines that ask for an analysis, or say how one begins."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np

from thermionic.circuit.spice.expressions import constant
from thermionic.circuit.spice.words import bare, no_more, pairs, split
from thermionic.errors import NetlistRefused

_MOST_STEPS, _MOST_POINTS = 1000, 20_000


@dataclass(frozen=True)
class Tran:
    """``.tran``: print every ``step``, from ``begin`` to ``until``, with steps no longer than ``longest``."""

    step: float
    until: float
    begin: float = 0.0
    longest: float | None = None
    at_rest: bool = False


@dataclass(frozen=True)
class Four:
    """``.four``: the harmonics of ``quantities``, each as written, at ``hertz``."""

    hertz: float
    harmonics: int
    quantities: tuple[str, ...]


@dataclass(frozen=True)
class Sweep:
    """The values that a source or a part takes in turn, the last of several sweeps being the outermost."""

    name: str
    values: tuple[float, ...]


@dataclass(frozen=True)
class Measure:
    """``.meas``: a figure of an analysis by name, its words and options as written, and both in their order."""

    number: str
    analysis: str
    name: str
    words: tuple[str, ...]
    options: Mapping[str, str]
    ordered: tuple[str, ...] = ()


@dataclass(frozen=True)
class Thd:
    """``.thd``: distortion of ``quantity`` driven by the sources' own AC at ``hertz``, at multiples of it; with
    ``load``, the power in that resistor."""

    hertz: float
    quantity: str
    levels: tuple[float, ...]
    load: str | None
    harmonics: int


@dataclass
class Analyses:
    """What the netlist's own lines ask for. ``supply`` and the last of ``startup`` name the sources that are the
    mains."""

    op: bool = False
    hertz: tuple[float, ...] = ()
    tran: Tran | None = None
    four: list[Four] = field(default_factory=list)
    dc: tuple[Sweep, ...] = ()
    steps: list[Sweep] = field(default_factory=list)
    measures: list[Measure] = field(default_factory=list)
    begin: dict[str, float] = field(default_factory=dict)
    thd: list[Thd] = field(default_factory=list)
    supply: tuple[str, ...] | None = None
    startup: tuple[float, float | None, tuple[str, ...]] | None = None


def take(found: Analyses, text: str, number: str, values: Mapping[str, float]) -> bool:
    """Add what a line asks for; False for a line that is none of these. Raises NetlistRefused."""
    words = split(text)
    word = words[0].lower()
    reader = _READERS.get(word)
    if reader is None:
        return False
    reader(found, words, text, number, values)
    return True


def _op(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    found.op = True


def _once(word: str, there: object) -> None:
    if there:
        raise NetlistRefused(f"this is a second {word}; one is run.")


def _ac(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    _once(".ac", found.hertz)
    found.hertz = _sweep(words[1:], values)


def _sweep(words: list[str], values: Mapping[str, float]) -> tuple[float, ...]:
    if words[:1] and words[0].lower() == "list" and len(words) > 1:
        listed = tuple(constant(bare(word), values) for word in words[1:])
        if any(hertz <= 0 for hertz in listed):
            raise NetlistRefused(".ac wants frequencies above zero.")
        return listed
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


def _tran(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    _once(".tran", found.tran)
    flags = {"uic", "startup", "steady", "nodiscard"}
    at_rest = any(word.lower() == "uic" for word in words)
    numbers = [constant(bare(word), values) for word in words[1:] if word.lower() not in flags]
    if len(numbers) == 1:
        numbers = [numbers[0] / 1000, numbers[0]]  # only an end: a thousand points
    if not 2 <= len(numbers) <= 4:
        raise NetlistRefused(".tran wants a step and an end, and if need be a beginning and a longest step.")
    step, until, begin, longest = [*numbers, 0.0, 0.0][:4] if len(numbers) < 4 else numbers
    step = step or until / 1000
    if not (0 < step <= until and 0 <= begin < until and longest >= 0):
        raise NetlistRefused(".tran wants 0 < step ≤ end and a beginning before the end.")
    if (until - begin) / step > 200_000:
        raise NetlistRefused("that is more than 200,000 points; take a longer step.")
    found.tran = Tran(step, until, begin, longest or None, at_rest)


def _four(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    if len(words) < 3:
        raise NetlistRefused(".four wants a frequency and one or more of v(node), v(a,b) and i(part).")
    hertz = constant(bare(words[1]), values)
    if not hertz > 0:
        raise NetlistRefused(f".four wants a frequency above zero, not {words[1]}.")
    rest, harmonics = words[2:], 9
    if re.fullmatch(r"\d+", rest[0]):
        harmonics, rest = int(rest[0]), rest[1:]
        if not 1 <= harmonics <= 100:
            raise NetlistRefused(".four is done for 1 to 100 harmonics.")
    quantities = re.findall(r"[vi]\(\s*[^()\s,]+\s*(?:,\s*[^()\s,]+\s*)?\)", " ".join(rest), flags=re.IGNORECASE)
    left = re.sub(r"[vi]\(\s*[^()\s,]+\s*(?:,\s*[^()\s,]+\s*)?\)", "", " ".join(rest), flags=re.IGNORECASE)
    if not quantities or left.strip(" ,"):
        raise NetlistRefused(".four is done for v(node), v(a,b) and i(part).")
    found.four.append(Four(hertz, harmonics, tuple(quantities)))


def _steps_of(words: list[str], values: Mapping[str, float], line: str) -> tuple[str, tuple[float, ...], list[str]]:
    """The name, the values and what is left of a sweep: name start stop step, dec or oct, or list."""
    if not words:
        raise NetlistRefused(f"{line} wants what to change, and from where to where.")
    how = "lin"
    if words[0].lower() in ("dec", "oct", "lin"):
        how, words = words[0].lower(), words[1:]
    name, rest = words[0], words[1:]
    if name.lower() == "param" and rest:
        name, rest = rest[0], rest[1:]
    if rest and rest[0].lower() in ("dec", "oct", "lin"):
        how, rest = rest[0].lower(), rest[1:]
    if rest and rest[0].lower() == "list":
        listed = tuple(constant(bare(word), values) for word in rest[1:])
        if not 1 <= len(listed) <= _MOST_STEPS:
            raise NetlistRefused(f"{line}: a list holds 1 to {_MOST_STEPS} values.")
        return name, listed, []
    if len(rest) < 3:
        raise NetlistRefused(f"{line} wants a name, a first and a last value and a step, or a list.")
    first, last, step = (constant(bare(word), values) for word in rest[:3])
    if how == "lin":
        if step == 0 or (last - first) / step < 0:
            raise NetlistRefused(f"{line}: a step of {step:g} does not lead from {first:g} to {last:g}.")
        count = int(np.floor((last - first) / step + 1e-9)) + 1
        made = first + step * np.arange(min(count, _MOST_POINTS + 1))
    else:
        if not (first > 0 and last >= first and step >= 1):
            raise NetlistRefused(f"{line}: {how} wants 0 < first ≤ last and points.")
        base = 10.0 if how == "dec" else 2.0
        count = int(np.floor(np.log(last / first) / np.log(base) * step + 1e-6)) + 1
        made = first * base ** (np.arange(min(count, _MOST_POINTS + 1)) / step)
    return name, tuple(made.tolist()), rest[3:]


def _dc(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    _once(".dc", found.dc)
    rest = words[1:]
    sweeps: list[Sweep] = []
    while rest or not sweeps:
        name, steps, rest = _steps_of(rest, values, ".dc")
        sweeps.append(Sweep(name, steps))
    if len(sweeps) > 2 or np.prod([float(len(sweep.values)) for sweep in sweeps]) > _MOST_POINTS:
        raise NetlistRefused(f".dc sweeps one thing or two, at up to {_MOST_POINTS} points.")
    found.dc = tuple(sweeps)


def _step(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    name, steps, rest = _steps_of(words[1:], values, ".step")
    if rest:
        raise NetlistRefused(f"“{rest[0][:40]}” is not expected after the .step.")
    found.steps.append(Sweep(name, steps))
    if len(found.steps) > 3 or np.prod([float(len(step.values)) for step in found.steps]) > _MOST_STEPS:
        raise NetlistRefused(f".step is run up to {_MOST_STEPS} times, for three things at most.")


def _meas(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    spaced = re.sub(r"\bparam\s*=?\s*(?=['{])", "param ", text, flags=re.IGNORECASE)
    plain, given = pairs(spaced)
    kinds = ("tran", "ac", "dc", "op")
    if len(plain) < 3:
        raise NetlistRefused(".meas wants an analysis, a name and what to measure.")
    if plain[1].lower() not in kinds:
        plain = [plain[0], "", *plain[1:]]  # an analysis need not be named where there is one
    ordered = split(re.sub(r"\s*=\s*", "=", text))
    if (len(plain) < 4 and not given) or plain[2] not in ordered:
        raise NetlistRefused(".meas wants an analysis, a name and what to measure.")
    after = ordered.index(plain[2]) + 1
    found.measures.append(
        Measure(number, plain[1].lower(), plain[2], tuple(plain[3:]), dict(given), tuple(ordered[after:]))
    )


def _ic(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    plain, given = pairs(text)
    pattern = re.compile(r"v\(\s*([^()\s,]+)\s*\)", flags=re.IGNORECASE)
    if len(plain) != 1 or not given or not all(pattern.fullmatch(name) for name, _ in given):
        raise NetlistRefused(".ic wants v(node)=value.")
    for name, value in given:
        node = pattern.fullmatch(name)
        assert node is not None
        found.begin[node[1]] = constant(value, values)


def _thd(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    plain, given = pairs(text)
    options = no_more(given, "load", "harmonics")
    wants = ".thd wants a frequency, v(node) or v(a,b), and if need be multiples of the sources' AC."
    if len(plain) < 3 or not re.fullmatch(r"v\([^()]+\)", plain[2], flags=re.IGNORECASE):
        raise NetlistRefused(wants)
    hertz = constant(bare(plain[1]), values)
    levels = tuple(constant(bare(word), values) for word in plain[3:]) or (1.0,)
    if not hertz > 0 or any(b <= a for a, b in zip((0.0, *levels), levels, strict=False)):
        raise NetlistRefused(f"{wants} Frequency and multiples are above zero, the multiples rising.")
    harmonics = int(constant(options.get("harmonics", "10"), values))
    if not 2 <= harmonics <= 64:
        raise NetlistRefused(".thd is done with 2 to 64 harmonics.")
    found.thd.append(Thd(hertz, plain[2], levels, options.get("load"), harmonics))


def _supply(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    found.supply = tuple(words[1:])


def _startup(found: Analyses, words: list[str], text: str, number: str, values: Mapping[str, float]) -> None:
    plain, given = pairs(text)
    options = no_more(given, "off")
    if len(plain) < 2:
        raise NetlistRefused(".startup wants how long to follow it, s, and if need be the mains' sources.")
    until = constant(bare(plain[1]), values)
    off = constant(options["off"], values) if "off" in options else None
    if not 0 < until <= 3600 or (off is not None and not 0 < off < until):
        raise NetlistRefused(".startup runs for up to an hour, and off= lies within it.")
    found.startup = (until, off, tuple(plain[2:]))


_READERS = {
    ".op": _op, ".ac": _ac, ".tran": _tran, ".four": _four, ".dc": _dc, ".step": _step, ".meas": _meas,
    ".measure": _meas, ".ic": _ic, ".thd": _thd, ".supply": _supply, ".startup": _startup,
}  # fmt: skip
KNOWN = tuple(dict.fromkeys(name for name in _READERS if name != ".measure"))
