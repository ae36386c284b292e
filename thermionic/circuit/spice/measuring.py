"""``.meas``: figures read from an analysis's curves."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

import numpy as np

from thermionic.circuit.spice.directives import Measure
from thermionic.circuit.spice.expressions import Names, constant
from thermionic.devices.base import Array
from thermionic.errors import NetlistRefused

_FUNCTIONS = ("max", "min", "pp", "avg", "rms", "integ")
_WAYS = ("rise", "fall", "cross")


def expressions(measure: Measure) -> list[str]:
    """What a .meas reads from the circuit, each as written. Raises NetlistRefused for what is not understood."""
    head = measure.words[0].lower() if measure.words else ""
    if head == "param":
        return []
    if head not in (*_FUNCTIONS, "deriv", "find", "when", "trig"):
        raise NetlistRefused(
            f".meas {measure.name} wants one of {', '.join(_FUNCTIONS).upper()}, DERIV, FIND with AT= or WHEN, WHEN, "
            "TRIG with TARG, and PARAM."
        )
    words = [word for word in measure.words[1:] if _is_quantity(word) or word[0] in "{'"]
    pairs = [one for pair in measure.options.items() for one in pair if _is_quantity(one)]
    return [_plain(word) for word in (*words, *pairs)]


def _is_quantity(word: str) -> bool:
    return bool(re.match(r"(v|i|vdb|vm|vp|vr|vi|db|mag|ph)\(", word, flags=re.IGNORECASE))


def _plain(word: str) -> str:
    """A quantity without the part of it that is asked for at AC: vdb(out) as v(out)."""
    low = word.lower()
    for prefix in ("vdb(", "vm(", "vp(", "vr(", "vi(", "db(", "mag(", "ph("):
        if low.startswith(prefix):
            inner = word[len(prefix) : -1]
            return inner if inner.lower().startswith(("v(", "i(")) else f"v({inner})"
    return word


def _shown(word: str, wave: Array) -> Array:
    """A complex curve as it is asked for: size, unless its word says decibels, phase (degrees) or a part."""
    if not np.iscomplexobj(wave):
        return wave
    low = word.lower()
    if low.startswith(("vdb(", "db(")):
        return 20 * np.log10(np.maximum(np.abs(wave), 1e-300))
    if low.startswith(("vp(", "ph(")):
        return np.degrees(np.unwrap(np.angle(wave)))
    if low.startswith("vr("):
        return wave.real
    if low.startswith("vi("):
        return wave.imag
    return np.abs(wave)


@dataclass(frozen=True)
class Curves:
    """An analysis as measured: its axis (time, frequency or the swept value) and any quantity along it."""

    axis: Array
    wave: Callable[[str], Array]

    def shown(self, word: str) -> Array:
        """A quantity as it is written."""
        return _shown(word, self.wave(_plain(word)))


def measured(
    measure: Measure, curves: Curves, known: Mapping[str, float | None], parameters: Mapping[str, float]
) -> float | None:
    """The figure; None where what it looks for does not happen. ``known`` are the figures before it.

    Raises NetlistRefused for what is not understood.
    """
    names = Names({**parameters, **{name.lower(): value for name, value in known.items() if value is not None}})
    low = [word.lower() for word in measure.words]

    def number(text: str) -> float:
        return constant(text.strip("{}'\""), names)

    if low[0] == "param":
        try:
            return number(measure.words[1] if len(measure.words) > 1 else "")
        except NetlistRefused:
            if any(value is None and name.lower() in measure.words[1].lower() for name, value in known.items()):
                return None
            raise
    if low[0] in (*_FUNCTIONS, "find", "deriv") and len(measure.words) < 2:
        raise NetlistRefused(f".meas {measure.name}: {low[0].upper()} wants what it is of, as in v(out).")
    if low[0] in _FUNCTIONS:
        return _over(low[0], curves, measure, number)
    if low[0] in ("find", "deriv"):
        wave = curves.shown(measure.words[1])
        if low[0] == "deriv":
            wave = np.gradient(wave, curves.axis)
        if "at" in measure.options:
            return _at(curves.axis, wave, number(measure.options["at"]))
        where = _crossing(measure, low[2:], curves, number)
        return None if where is None else _at(curves.axis, wave, where)
    if low[0] == "when":
        return _crossing(measure, low, curves, number)
    if low[0] == "trig":
        return _between(measure, curves, number)
    raise NetlistRefused(f".meas {measure.name} is not understood.")


def _at(axis: Array, wave: Array, place: float) -> float | None:
    if not axis[0] <= place <= axis[-1]:
        return None
    return float(np.interp(place, axis, wave))


def _over(what: str, curves: Curves, measure: Measure, number: Callable[[str], float]) -> float:
    """A figure of a whole curve or of a stretch of it."""
    axis, wave = curves.axis, curves.shown(measure.words[1])
    begin, end = axis[0], axis[-1]
    if "from" in measure.options:
        begin = max(begin, number(measure.options["from"]))
    if "to" in measure.options:
        end = min(end, number(measure.options["to"]))
    if not end > begin:
        raise NetlistRefused(f".meas {measure.name}: nothing lies from {begin:g} to {end:g}.")
    inside = (axis > begin) & (axis < end)
    x = np.concatenate([[begin], axis[inside], [end]])
    y = np.concatenate([[np.interp(begin, axis, wave)], wave[inside], [np.interp(end, axis, wave)]])
    if what in ("max", "min", "pp"):
        most, least = float(np.max(y)), float(np.min(y))
        return {"max": most, "min": least, "pp": most - least}[what]
    if what == "rms":
        # Of straight lines between the points, exactly.
        mean_square = np.sum(np.diff(x) * (y[:-1] ** 2 + y[:-1] * y[1:] + y[1:] ** 2) / 3) / (end - begin)
        return float(np.sqrt(mean_square))
    total = float(np.trapezoid(y, x))
    return total if what == "integ" else total / float(end - begin)


def _crossing(measure: Measure, low: list[str], curves: Curves, number: Callable[[str], float]) -> float | None:
    """Where a WHEN holds: quantity=value or quantity=quantity, the so many-th time it rises, falls or either."""
    pair = next(((name, value) for name, value in measure.options.items() if _is_quantity(name)), None)
    if low[:1] != ["when"] or pair is None:
        raise NetlistRefused(f".meas {measure.name} wants AT=, or WHEN and a quantity=value.")
    return _when(measure, curves, pair[0], pair[1], measure.options, number)


def _when(
    measure: Measure, curves: Curves, name: str, value: str, options: Mapping[str, str],
    number: Callable[[str], float],
) -> float | None:  # fmt: skip
    wave = curves.shown(name)
    level = curves.shown(value) if _is_quantity(value) else number(value)
    above = wave - level
    way = next((way for way in _WAYS if way in options), "cross")
    wanted = options.get(way, "1").lower()
    steps = np.arange(len(above) - 1)
    rises = (above[:-1] < 0) & (above[1:] >= 0)
    falls = (above[:-1] > 0) & (above[1:] <= 0)
    happens = {"rise": rises, "fall": falls, "cross": rises | falls}[way]
    late = number(options["td"]) if "td" in options else -np.inf
    result = [
        float(curves.axis[k] - above[k] * (curves.axis[k + 1] - curves.axis[k]) / (above[k + 1] - above[k]))
        for k in steps[happens]
    ]
    result = [place for place in result if place >= late]
    if wanted == "last":
        return result[-1] if result else None
    count = int(number(wanted))
    if count < 1:
        raise NetlistRefused(f".meas {measure.name}: {way} counts from 1.")
    return result[count - 1] if len(result) >= count else None


def _between(measure: Measure, curves: Curves, number: Callable[[str], float]) -> float | None:
    """From a TRIG to a TARG: each AT=, or a quantity with VAL= and which time. The options of each stand after it, so
    they are read again in their order."""
    ends: list[float | None] = []
    for name, options in _halves(measure):
        if "at" in options:
            ends.append(number(options["at"]))
        elif name and "val" in options:
            ends.append(_when(measure, curves, name, options["val"], options, number))
        else:
            raise NetlistRefused(f".meas {measure.name}: TRIG and TARG want a quantity and VAL=, or AT=.")
    if len(ends) != 2:
        raise NetlistRefused(f".meas {measure.name} wants TRIG and TARG.")
    return None if ends[0] is None or ends[1] is None else ends[1] - ends[0]


def _halves(measure: Measure) -> list[tuple[str, dict[str, str]]]:
    """TRIG's and TARG's quantity and options."""
    halves: list[tuple[str, dict[str, str]]] = []
    for word in measure.ordered:
        low = word.lower()
        if low in ("trig", "targ"):
            halves.append(("", {}))
        elif not halves:
            raise NetlistRefused(f".meas {measure.name}: “{word}” stands before TRIG.")
        elif "=" in word and not word.startswith(("{", "'")):
            name, value = word.split("=", 1)
            halves[-1][1][name.lower()] = value
        else:
            halves[-1] = (word, halves[-1][1])
    return halves
