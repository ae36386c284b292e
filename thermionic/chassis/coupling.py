"""What alternating voltages drive into the wires of signal, by the capacitance between them: those of the mains, of
heaters and of rectifiers on their pairs, and the ripple on anodes and rails on the wires that they have."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from thermionic.chassis.capacitances import Twist, capacitances, left_by_twist, walls
from thermionic.chassis.fields import Pieces
from thermionic.chassis.geometry import in_room
from thermionic.chassis.nets import Net
from thermionic.chassis.sources import PairSource
from thermionic.chassis.transfer import rms
from thermionic.chassis.wires import UNTWISTED
from thermionic.devices.base import Array, ComplexArray

if TYPE_CHECKING:
    from thermionic.chassis.humming import Humming

RADIUS, _PIN = 0.4e-3, 0.008  # m: of a wire; the length of a pin
_UPRIGHT = np.array([0.0, 0.0, _PIN])
_COARSE = 0.03  # m, of a piece with one charge along it
_FELT = 1e-3  # of the most sensitive net's: what is less is no victim of a capacitance
# Ripple that by one picofarad into the most sensitive net would leave less of the reference is not followed.
_FARAD, _LEAST = 1e-12, 1e-6


@dataclass(frozen=True, eq=False)
class Driver:
    """A conductor with an alternating voltage, V (harmonics,): what the hum's list calls it, the key of its wires,
    and its pieces (one leg of a pair, its other one the driver beside it) with what the twist leaves of their
    difference (pieces,), or the net whose wires it is."""

    name: str
    key: str
    volts: ComplexArray
    leg: Pieces | None = None
    share: Array | None = None
    net: Net | None = None


@dataclass(frozen=True, eq=False)
class Push:
    """The current that a driver sends into a net, A, (harmonics,)."""

    driver: Driver
    net: Net
    amperes: ComplexArray


def coupled(humming: Humming, pairs: Sequence[PairSource]) -> list[Push]:
    """What every alternating voltage drives into every net that feels it."""
    felt = {
        net: float(np.abs(humming.transfers.of_current(net.node)).max())
        for net in dict.fromkeys(wire.net for wire in humming.laid.wiring.wires)
    }
    most = max(felt.values(), default=0.0)
    victims = [net for net in felt if felt[net] > _FELT * most]
    drivers = [*_legs(humming, pairs), *_rippling(humming, felt, most)]
    if not victims or not drivers:
        return []
    conductors: dict[Net, int] = {}
    for net in (*victims, *(driver.net for driver in drivers if driver.net)):
        conductors.setdefault(net, len(conductors))
    cut = [_wires(humming, conductors)]
    places = []
    for driver in drivers:
        if driver.leg is None:
            assert driver.net is not None
            places.append(conductors[driver.net])
            continue
        places.append(len(conductors) + len(cut) - 1)
        cut.append(Pieces(driver.leg.start, driver.leg.end, np.full(len(driver.leg.wire), places[-1])))
    pieces = Pieces(*(np.concatenate([getattr(one, name) for one in cut]) for name in ("start", "end", "wire")))
    between = -capacitances(pieces, np.full(len(pieces.wire), RADIUS), len(conductors) + len(cut) - 1,
                            walls(humming.box), _twist(len(cut[0].wire), drivers))  # fmt: skip
    omega = 2j * np.pi * humming.hertz
    return [
        Push(driver, net, omega * between[conductors[net], place] * driver.volts)
        for driver, place in zip(drivers, places, strict=True)
        for net in victims
        if net != driver.net
    ]


def _twist(others: int, drivers: Sequence[Driver]) -> Twist:
    """The twist of the pieces of so many others and, behind them, of every pair's legs."""
    mates, shares, first = [np.arange(others)], [np.ones(others)], others
    for number, driver in enumerate(driver for driver in drivers if driver.leg is not None):
        assert driver.leg is not None
        assert driver.share is not None
        count = len(driver.leg.wire)
        mates.append(np.arange(first, first + count) + (count if number % 2 == 0 else -count))
        shares.append(driver.share)
        first += count
    return Twist(np.concatenate(mates), np.concatenate(shares))


def _legs(humming: Humming, pairs: Sequence[PairSource]) -> list[Driver]:
    """The two legs of every pair."""
    whole = Pieces.of([humming.lowered(source.pair.points) for source in pairs], _COARSE)
    aside, result = whole.sideways, []
    pitch = np.array([source.pair.pitch for source in pairs])[whole.wire] if pairs else np.zeros(0)
    share = left_by_twist(whole.length, np.where(whole.near_ends(UNTWISTED), 0.0, pitch))
    for number, source in enumerate(pairs):
        own = whole.wire == number
        middle = Pieces(whole.start[own], whole.end[own], whole.wire[own])
        for side, volts in zip((1, -1), source.volts, strict=True):
            leg = middle.moved(side * aside[own] * source.pair.spacing / 2)
            result.append(Driver(source.name, source.pair.key, volts, leg, share[own]))
    return result


def _rippling(humming: Humming, felt: dict[Net, float], most: float) -> list[Driver]:
    """The nets whose own ripple may be heard by others: anodes and rails."""
    drivers = []
    for net in felt:
        volts = humming.transfers.of_node(net.node)
        if rms(2 * np.pi * humming.hertz * volts) * _FARAD * most < _LEAST * humming.reference:
            continue
        name = "Ripple on the wires of rails" if net in humming.rails else "Ripple on the wires of anodes"
        drivers.append(Driver(name, f"net:{net.node}:{net.channel}", volts, net=net))
    return drivers


def _wires(humming: Humming, conductors: dict[Net, int]) -> Pieces:
    """The unshielded wires and the pins of nets, each piece with its net's number."""
    lines: list[Array] = []
    owners = []
    for wire in humming.laid.wiring.wires:
        if wire.net in conductors and not wire.shielded:
            lines.append(humming.lowered(wire.points))
            owners.append(conductors[wire.net])
    for body in humming.laid.bodies:
        for pin in body.pins if body.key in humming.placed else ():
            if pin.net in conductors:
                at = humming.lowered(in_room(humming.box, humming.placed[body.key], pin.at))
                lines.append(np.array([at, at + _UPRIGHT]))
                owners.append(conductors[pin.net])
    whole = Pieces.of(lines, _COARSE)
    return Pieces(whole.start, whole.end, np.array(owners, dtype=int)[whole.wire])
