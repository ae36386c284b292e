"""An unknown transformer from a few meter readings: which leads are one winding, where its taps are, the turns.

Resistances say which leads hang together and in what order they come along the wire; voltages read while a low known
AC voltage is on two leads give the turns between them. Every reading is a straight line in the turns (or the ohms)
between neighbouring leads, so that for each order of the leads all of them are fitted at once by non-negative least
squares, each to the error of a meter; the order that fits best is the winding, unless another fits as well. What fits
nowhere contradicts the rest.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from thermionic.devices.base import Array
from thermionic.iron.fitting import AS_WELL, Fit, fitted, misfit, orders_of, total
from thermionic.iron.readings import (
    LEAST_VOLT,
    METER,
    Reading,
    Resistance,
    Voltage,
    check,
)

# A reading contradicts the rest where they agree by so many errors better without it; nearer than this to the fit
# none is suspected.
_FAR, _SUSPECT = 4.0, 1.2
_MOST_WRONG = 3
_CENTRE = 0.03  # of the half


@dataclass(frozen=True)
class Winding:
    """One winding: its leads in order along the wire. ``turns`` (one a lead, from 0 at the first) are in volts for
    the first applied volt, None where no reading tells; ``ohms`` likewise, in Ω. ``centre`` is the lead in the middle
    of the two ends, "" if none; ``sure`` whether no other order of the leads fits as well."""

    leads: tuple[str, ...]
    turns: tuple[float, ...] | None
    ohms: tuple[float, ...] | None
    centre: str
    sure: bool

    @property
    def whole(self) -> float | None:
        """The turns from end to end."""
        return self.turns[-1] if self.turns else None


@dataclass(frozen=True)
class Contradiction:
    """A reading that does not go with the rest: which, what it said, and what the others make of it (not a number
    where they do not tell); ``others`` are readings without which the rest would agree as well."""

    reading: Reading
    said: float
    expected: float
    others: tuple[Reading, ...] = ()


@dataclass(frozen=True)
class Next:
    """The reading worth taking next: ``ohms`` between two leads, a voltage to ``apply`` to them, or ``volts`` to read
    there; and that in words."""

    kind: Literal["ohms", "apply", "volts"]
    a: str
    b: str
    words: str


@dataclass(frozen=True)
class Found:
    """What the readings tell: the windings, the readings that contradict each other, what cannot be told yet in
    sentences, and the ``next`` reading worth taking, if any. ``senses`` gives for pairs of first leads whether they
    go up together."""

    windings: tuple[Winding, ...]
    contradictions: tuple[Contradiction, ...]
    cannot_tell: tuple[str, ...]
    next: Next | None
    senses: dict[tuple[str, str], bool] = field(default_factory=dict)

    def ratio(self, one: tuple[str, str], other: tuple[str, str]) -> float | None:
        """The turns between two leads over those between two others; None where that is not known."""
        turns = {lead: (place, at) for place, winding in enumerate(self.windings) if winding.turns
                 for lead, at in zip(winding.leads, winding.turns, strict=True)}  # fmt: skip
        spans = []
        for a, b in (one, other):
            if a not in turns or b not in turns or turns[a][0] != turns[b][0]:
                return None
            spans.append(abs(turns[a][1] - turns[b][1]))
        return spans[0] / spans[1] if spans[1] > 0 else None


def find(leads: Sequence[str], readings: Sequence[Reading]) -> Found:
    """What a transformer with these leads is, by these readings. Raises ValueRefused for readings that make no
    sense by themselves: an unknown lead, a negative value, one lead twice."""
    check(leads, readings)
    groups, clash = _groups(leads, readings)
    removed: list[Reading] = list(clash)
    kept = [reading for reading in readings if reading not in removed]
    cannot: list[str] = []
    alike: list[tuple[Reading, ...]] = [()] * len(removed)
    # What contradicts is taken out one by one, each time that without which the rest agree best by far.
    for _ in range(_MOST_WRONG):
        orders = orders_of(groups, kept)
        fit = fitted(groups, orders, kept)
        whole = total(fit)
        without = [
            (misfit(groups, [other for other in kept if other is not one]), one)
            for one, miss, _ in fit.misses
            if abs(miss) > _SUSPECT
        ]
        if not without:
            break
        least, worst = min(without, key=lambda pair: pair[0])
        if whole - least < _FAR**2:
            break
        removed.append(worst)
        alike.append(tuple(one for left, one in without if one is not worst and left - least < AS_WELL))
        kept = [one for one in kept if one is not worst]
    orders = orders_of(groups, kept)
    fit = fitted(groups, orders, kept)
    windings = tuple(_winding(group, order, fit) for group, order in zip(groups, orders, strict=True))
    contradictions = tuple(_contradiction(one, others, windings) for one, others in zip(removed, alike, strict=True))
    cannot += _unknown(windings, groups, kept)
    return Found(windings, contradictions, tuple(cannot), _next(windings, groups, kept), _senses(windings, kept))


# Which leads hang together.


def _groups(leads: Sequence[str], readings: Sequence[Reading]) -> tuple[list[list[str]], list[Reading]]:
    """Leads joined by a resistance, and readings of an open circuit within one of those."""
    group = {lead: {lead} for lead in leads}
    for reading in readings:
        if isinstance(reading, Resistance) and reading.ohm is not None:
            joined = group[reading.a] | group[reading.b]
            for lead in joined:
                group[lead] = joined
    result: list[list[str]] = []
    for lead in leads:
        members = sorted(group[lead], key=list(leads).index)
        if members not in result:
            result.append(members)
    clash: list[Reading] = []
    for reading in readings:
        if not isinstance(reading, Resistance) or reading.ohm is not None or reading.b not in group[reading.a]:
            continue
        joining = [other for other in readings if isinstance(other, Resistance) and other.ohm is not None
                   and {other.a, other.b} == {reading.a, reading.b}]  # fmt: skip
        clash.append(reading if not joining else joining[0])
    return result, clash


# What it comes to.


def _winding(group: list[str], order: tuple[tuple[str, ...], bool], fit: Fit) -> Winding:
    leads, sure = order
    turns, ohms = (_positions(steps) for steps in (fit.turns[leads], fit.ohms[leads]))
    centre = ""
    if turns and len(leads) >= 3:
        middle = 0.5 * turns[-1]
        near = [
            lead for lead, at in zip(leads[1:-1], turns[1:-1], strict=True) if abs(at - middle) < _CENTRE * middle
        ]
        centre = near[0] if len(near) == 1 else ""
    return Winding(leads, turns, ohms, centre, sure)


def _positions(steps: Array) -> tuple[float, ...] | None:
    if not len(steps) or not np.all(np.isfinite(steps)):
        return None
    return (0.0, *np.cumsum(steps).tolist())


def _contradiction(reading: Reading, others: tuple[Reading, ...], windings: tuple[Winding, ...]) -> Contradiction:
    """What the rest make of a reading that was taken out."""
    expected = np.nan
    for winding in windings:
        if reading.a not in winding.leads or reading.b not in winding.leads:
            continue
        at, to = winding.leads.index(reading.a), winding.leads.index(reading.b)
        if isinstance(reading, Resistance) and winding.ohms:
            expected = abs(winding.ohms[at] - winding.ohms[to])
        elif isinstance(reading, Voltage) and winding.turns:
            on = _turns_between(windings, reading.on_a, reading.on_b)
            expected = abs(winding.turns[at] - winding.turns[to]) / on * reading.applied if on else np.nan
    said = (reading.ohm if reading.ohm is not None else np.inf) if isinstance(reading, Resistance) else reading.volt
    return Contradiction(reading, float(said), float(expected), others)


def _turns_between(windings: tuple[Winding, ...], a: str, b: str) -> float | None:
    for winding in windings:
        if winding.turns and a in winding.leads and b in winding.leads:
            return abs(winding.turns[winding.leads.index(a)] - winding.turns[winding.leads.index(b)]) or None
    return None


def _unknown(windings: tuple[Winding, ...], groups: list[list[str]], readings: Sequence[Reading]) -> list[str]:
    result = []
    for winding in windings:
        name = ", ".join(winding.leads)
        if len(winding.leads) == 1:
            result.append(f"{name.capitalize()}: no continuity found yet.")
            continue
        if not winding.sure:
            result.append(f"In what order {name} come along their winding cannot be told yet.")
        if winding.turns is None:
            result.append(f"The turns of {name} cannot be told yet.")
    for one, other in itertools.combinations(groups, 2):
        if not _known_apart(one, other, readings):
            result.append(
                f"Whether {', '.join(one)} and {', '.join(other)} are two windings or one cannot be told: no "
                "resistance between them was read."
            )
    return result


def _known_apart(one: list[str], other: list[str], readings: Sequence[Reading]) -> bool:
    return any(
        isinstance(reading, Resistance) and reading.ohm is None
        and {reading.a in one, reading.b in one} == {True, False}
        and {reading.a in other, reading.b in other} == {True, False}
        for reading in readings
    )  # fmt: skip


def _next(windings: tuple[Winding, ...], groups: list[list[str]], readings: Sequence[Reading]) -> Next | None:
    """The reading that would tell most."""
    for one, other in itertools.combinations(groups, 2):
        if not _known_apart(one, other, readings):
            words = f"Resistance from {one[0]} to {other[0]}: open, or a part of one winding?"
            return Next("ohms", one[0], other[0], words)
    for winding in windings:
        if len(winding.leads) > 2 and (not winding.sure or winding.ohms is None):
            pair = _unread(winding.leads, readings, Resistance)
            if pair:
                return Next("ohms", *pair, f"Resistance from {pair[0]} to {pair[1]}.")
    applied = next((reading for reading in readings if isinstance(reading, Voltage)), None)
    if applied is None:
        best = max(windings, key=lambda winding: (winding.ohms or (0.0,))[-1])
        if len(best.leads) < 2:
            return None
        a, b = best.leads[0], best.leads[-1]
        words = (
            f"Put a low AC voltage, 6 V or so through a fuse, on {a} and {b}, which has the most resistance, and "
            "read what every other pair of leads gives."
        )
        return Next("apply", a, b, words)
    for winding in windings:
        if len(winding.leads) > 1 and (winding.turns is None or not winding.sure):
            pair = _unread(winding.leads, readings, Voltage)
            if pair:
                on = f"{applied.applied:g} V on {applied.on_a} and {applied.on_b}"
                return Next("volts", *pair, f"With {on}, the voltage {pair[0]} to {pair[1]}.")
    return None


def _unread(leads: Sequence[str], readings: Sequence[Reading], kind: type[Reading]) -> tuple[str, str] | None:
    read = [{reading.a, reading.b} for reading in readings if isinstance(reading, kind)]
    if kind is Voltage:
        read += [{reading.on_a, reading.on_b} for reading in readings if isinstance(reading, Voltage)]
    ends = [(leads[0], leads[-1]), *itertools.combinations(leads, 2)]
    return next((pair for pair in ends if set(pair) not in read), None)


def _senses(windings: tuple[Winding, ...], readings: Sequence[Reading]) -> dict[tuple[str, str], bool]:
    """For windings that were joined by a wire, whether both go up from their first lead at once."""
    place = {lead: (winding, at) for winding in windings if winding.turns
             for lead, at in zip(winding.leads, winding.turns, strict=True)}  # fmt: skip
    result: dict[tuple[str, str], bool] = {}
    for reading in readings:
        if not isinstance(reading, Voltage) or reading.joined is None:
            continue
        x, y = reading.joined
        a, b = (
            (reading.a, reading.b)
            if reading.a in place and place.get(x) and place[reading.a][0] is place[x][0]
            else (reading.b, reading.a)
        )
        on = _turns_between(windings, reading.on_a, reading.on_b)
        if not all(lead in place for lead in (x, y, a, b)) or on is None:
            continue
        if place[a][0] is not place[x][0] or place[b][0] is not place[y][0] or place[x][0] is place[y][0]:
            continue
        first, second = (place[a][1] - place[x][1]) / on, (place[b][1] - place[y][1]) / on
        together, against = (abs(first - sign * second) * reading.applied for sign in (1.0, -1.0))
        error = float(np.hypot(METER * reading.volt, LEAST_VOLT))
        misses = abs(reading.volt - together) / error, abs(reading.volt - against) / error
        if min(misses) < _FAR and abs(together - against) > 3 * error:
            result[place[x][0].leads[0], place[y][0].leads[0]] = misses[0] < misses[1]
    return result
