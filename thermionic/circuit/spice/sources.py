"""Independent sources: DC, AC, and the waves of a transient."""

from __future__ import annotations

import itertools
import re

import numpy as np

from thermionic import devices
from thermionic.circuit.spice.words import Scope, no_more, pairs, split, value_of
from thermionic.errors import NetlistRefused

_WAVES = {"sin": (2, 6), "pulse": (2, 7), "exp": (2, 6), "pwl": (2, 100_000)}
_SAME = {"sine": "sin", "pul": "pulse"}


def source(text: str, scope: Scope) -> tuple[list[str], devices.VoltageSource | devices.CurrentSource]:
    """The name and nodes of a V or I line, and its device. Raises NetlistRefused."""
    text = re.sub(r"\b(sine?|pulse|pul|exp|pwl|dc|ac)\s*\(", r"\1(", text, flags=re.IGNORECASE)
    plain, given = pairs(text)
    options = no_more(given, "dc", "ac", "r", "td", "rser", "cpar")
    if len(plain) < 3:
        raise NetlistRefused(f"{plain[0]} wants two nodes.")
    for name in ("rser", "cpar"):
        if name in options and value_of(options[name], scope) != 0:
            raise NetlistRefused(f"{plain[0]}: {name}= is not known; put the part into the netlist.")
    steady, tone, wave = 0.0, 0.0 + 0.0j, None
    words = plain[3:]
    if "dc" in options:
        words = ["dc", options["dc"], *words]
    if "ac" in options:
        words = [*words, "ac", options["ac"]]
    at, stated = 0, False
    while at < len(words):
        word = words[at]
        head = word.lower().split("(")[0]
        head = _SAME.get(head, head)
        if head == "dc":
            at += "(" not in word
            if at >= len(words):
                raise NetlistRefused(f"{plain[0]}: DC wants a value.")
            value = word[word.index("(") + 1 : -1] if "(" in word else words[at]
            steady, stated = value_of(value, scope), True
        elif head == "ac":
            size, phase = 1.0, 0.0
            if at + 1 < len(words) and not _begins(words[at + 1]):
                at += 1
                size = value_of(words[at], scope)
                if at + 1 < len(words) and not _begins(words[at + 1]):
                    at += 1
                    phase = value_of(words[at], scope)
            tone = size * np.exp(1j * np.radians(phase))
        elif head in _WAVES:
            inside, at = _inside(word, words, at)
            wave = _wave(head, inside, options, scope)
        elif at == 0 and not re.match(r"[a-z]\w*\(", word, flags=re.IGNORECASE):
            steady, stated = value_of(word, scope), True
        else:
            raise NetlistRefused(
                f"“{word[:40]}” is not known for a source; read are DC, AC, SIN, PULSE, EXP and PWL."
            )
        at += 1
    if wave is not None and not stated:
        steady = wave.at(0.0)
    amplitude: complex | float = tone if tone.imag else tone.real
    kind = devices.VoltageSource if plain[0][0].lower() == "v" else devices.CurrentSource
    return plain[:3], kind(steady, amplitude, wave)


def _begins(word: str) -> bool:
    """Whether a word begins something of a source."""
    head = word.lower().split("(")[0]
    return _SAME.get(head, head) in (*_WAVES, "dc", "ac")


def _inside(word: str, words: list[str], at: int) -> tuple[list[str], int]:
    """What a wave's parentheses hold, or without them the words up to the next beginning; and the last of it."""
    if "(" in word:
        return split(word[word.index("(") + 1 : word.rindex(")")]), at
    end = at + 1
    while end < len(words) and not _begins(words[end]):
        end += 1
    return words[at + 1 : end], end - 1


def _wave(head: str, inside: list[str], options: dict[str, str], scope: Scope) -> devices.Wave:
    repeat = None
    if head == "pwl":
        # REPEAT FOREVER (...) ENDREPEAT, or r=0 after the points, goes over them again and again.
        words = [word for word in inside if word.lower() not in ("repeat", "forever", "endrepeat")]
        if len(words) < len(inside):
            repeat = 0.0
            if len(words) == 1 and words[0].startswith("("):
                words = split(words[0][1:-1])
        inside = words
        if "r" in options:
            repeat = value_of(options["r"], scope)
        if repeat is not None and repeat < 0:
            repeat = None
    elif "r" in options:
        raise NetlistRefused("r= is for PWL.")
    numbers = [value_of(one, scope) for one in inside]
    delay = value_of(options["td"], scope) if "td" in options else 0.0
    least, most = _WAVES[head]
    if not least <= len(numbers) <= most:
        raise NetlistRefused(f"{head.upper()} wants {least} to {most} numbers; there are {len(numbers)}.")
    if head == "sin":
        offset, amplitude, hertz, late, damping, phase = [*numbers, 0.0, 0.0, 0.0, 0.0][:6]
        if not hertz > 0:
            raise NetlistRefused("SIN wants a frequency above zero.")
        if damping < 0:
            raise NetlistRefused("SIN wants a damping of zero or more: one below zero grows without end.")
        return devices.Sine(offset, amplitude, hertz, late, damping, float(np.radians(phase)))
    if head == "pulse":
        return _pulse(numbers)
    if head == "exp":
        low, high, late, rise, back, fall = [*numbers, *[1e-9] * (6 - len(numbers))]
        if not (rise > 0 and fall > 0):
            raise NetlistRefused("EXP wants time constants above zero.")
        return devices.Exponential(low, high, late, rise, max(back, late), fall)
    times, values = numbers[::2], numbers[1::2]
    if len(times) != len(values) or any(b <= a for a, b in itertools.pairwise(times)):
        raise NetlistRefused("PWL wants pairs of time and value, the times rising.")
    if repeat is None:
        return devices.Piecewise(tuple(time + delay for time in times), tuple(values))
    if repeat > 0 or times[0] != 0 or len(times) < 2:
        raise NetlistRefused("PWL repeats from its beginning: the first time and r must be 0.")
    return devices.Piecewise(tuple(times), tuple(values), delay, times[-1])


def _pulse(numbers: list[float]) -> devices.Pulse:
    low, high, delay, rise, fall, width, period = [*numbers, *[0.0] * (7 - len(numbers))]
    endless = 1e6
    rise, fall = max(rise, 1e-9), max(fall, 1e-9)
    width = width if width > 0 else endless
    period = period if period > 0 else width + rise + fall + endless
    if period < rise + width + fall:
        raise NetlistRefused("PULSE: the period is shorter than rise, width and fall.")
    return devices.Pulse(low, high, delay, rise, fall, width, period)
