"""How one specimen of a device differs from the next: registered by class.

A class that is not registered raises TypeError, and fails a test before that.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from enum import Enum
from functools import singledispatch
from typing import Any

import numpy as np

from thermionic import devices
from thermionic.devices.base import Array, Device, Value
from thermionic.devices.triode import Cathode


class Of(Enum):
    """What a deviation belongs to: a part, which may state a tolerance of its own; a tube section's emission or its
    amplification factor; a winding's turns."""

    PART = "part"
    EMISSION = "emission"
    AMPLIFICATION = "amplification"
    TURNS = "turns"


@dataclass(frozen=True)
class Deviation:
    """One quantity that differs between specimens.

    ``tolerance`` is the usual one, as a fraction of the value: three standard deviations of a part, one of a tube or
    a winding. ``scaled`` gives the device with the quantity times a factor, which may be an array of variants.
    """

    of: Of
    tolerance: float
    scaled: Callable[[Any, Value], Device]


@singledispatch
def deviations(device: Device) -> tuple[Deviation, ...]:
    """What differs between specimens of a device. Raises TypeError for a class that is not registered."""
    raise TypeError(f"how specimens of a {type(device).__name__} differ is not registered")


def scattered(device: Device, factors: Mapping[Of, Array | float]) -> Device:
    """The device with each of its deviating quantities times the factor of its kind, where there is one."""
    for deviation in deviations(device):
        if deviation.of in factors:
            device = deviation.scaled(device, factors[deviation.of])
    return device


def limits(device: Device) -> tuple[Device, ...]:
    """The device at the limit of its production spread, one for each of emission and turns: what states no tolerance
    of its own, and moves a steady voltage."""
    return tuple(
        deviation.scaled(device, 1.0 + deviation.tolerance)
        for deviation in deviations(device)
        if deviation.of in (Of.EMISSION, Of.TURNS)
    )


@dataclass(frozen=True)
class TubeSpread:
    """How the sections of tubes of one type differ in production, as standard deviations of the natural logarithm.

    ``emission`` scales the currents of a section, ``amplification`` its amplification factor, with ``correlation``
    between the two; ``sections_alike`` is the part of a section's deviation that all sections of one envelope share
    (0 to 1).
    """

    emission: float = 0.15
    amplification: float = 0.04
    correlation: float = -0.3
    sections_alike: float = 0.5

    def factors(self, emission: Array | float, own: Array | float) -> dict[Of, Array | float]:
        """Factors of emission and amplification from two independent standard normal deviates."""
        r = self.correlation
        amplification = r * emission + (1 - r**2) ** 0.5 * own
        return {
            Of.EMISSION: np.exp(self.emission * emission),
            Of.AMPLIFICATION: np.exp(self.amplification * amplification),
        }


# Usual tolerances of parts that state none, and the production spread of a winding's turns.
_RESISTOR, _CAPACITOR, _POTENTIOMETER, _INDUCTANCE, _TURNS = 0.05, 0.2, 0.2, 0.2, 0.03


def _none(device: Device) -> tuple[Deviation, ...]:
    return ()


for _class in (
    devices.AffinePorts,  # rectifiers over the mains cycle
    devices.VoltageSource,  # what is outside the amplifier
    devices.Feed,
    devices.Thevenin,
    devices.Driver,
    devices.MeasuredLoudspeaker,
    devices.OutputTransformer,
    devices.LED,  # a junction's volts hardly differ
    devices.BipolarTransistor,
    devices.Diode,
    devices.Zener,
    devices.Mosfet,
    devices.SeleniumRectifier,
    devices.Converter,  # regulated
    devices.LinearRegulator,
    devices.GasRegulator,
    devices.Thermistor,
):
    deviations.register(_class, _none)


@deviations.register
def _(device: devices.Resistor) -> tuple[Deviation, ...]:
    return (Deviation(Of.PART, _RESISTOR, lambda part, factor: replace(part, ohm=part.ohm * factor)),)


@deviations.register
def _(device: devices.Potentiometer) -> tuple[Deviation, ...]:
    return (Deviation(Of.PART, _POTENTIOMETER, lambda part, factor: replace(part, ohm=part.ohm * factor)),)


@deviations.register
def _(device: devices.Capacitor) -> tuple[Deviation, ...]:
    return (Deviation(Of.PART, _CAPACITOR, lambda part, factor: replace(part, farad=part.farad * factor)),)


@deviations.register
def _(device: devices.Inductor) -> tuple[Deviation, ...]:
    return (Deviation(Of.PART, _INDUCTANCE, lambda part, factor: replace(part, henry=part.henry * factor)),)


@deviations.register
def _(device: devices.Transformer) -> tuple[Deviation, ...]:
    """A choke is one winding on a core: the gap sets its inductance, the flux at which the iron saturates stays. The
    bands of a transformer are part of the iron's figures."""

    def gapped(choke: devices.Transformer, factor: Value) -> Device:
        return replace(choke, core=replace(choke.core, henry=choke.core.henry * factor))

    return (Deviation(Of.PART, _INDUCTANCE, gapped),) if len(device.windings) == 1 else ()


@deviations.register
def _(device: Cathode) -> tuple[Deviation, ...]:
    return (
        Deviation(Of.EMISSION, TubeSpread.emission, lambda tube, factor: replace(tube, scale=tube.scale * factor)),
    )


@deviations.register
def _(device: devices.Triode) -> tuple[Deviation, ...]:
    def amplifying(tube: devices.Triode, factor: Value) -> Device:
        return replace(tube, coefficients=tube.coefficients.amplifying(factor))

    return (*deviations.dispatch(Cathode)(device), Deviation(Of.AMPLIFICATION, TubeSpread.amplification, amplifying))


@deviations.register
def _(device: devices.Pentode) -> tuple[Deviation, ...]:
    def amplifying(tube: devices.Pentode, factor: Value) -> Device:
        space = tube.coefficients.space.amplifying(factor)
        return replace(tube, coefficients=replace(tube.coefficients, space=space))

    return (*deviations.dispatch(Cathode)(device), Deviation(Of.AMPLIFICATION, TubeSpread.amplification, amplifying))


@deviations.register
def _(device: devices.MainsSource) -> tuple[Deviation, ...]:
    if not device.folded or device.peak_volt < 0:  # it stands for what is outside, or turns a half cycle over
        return ()
    return (Deviation(Of.TURNS, _TURNS, lambda mains, factor: replace(mains, peak_volt=mains.peak_volt * factor)),)


@deviations.register
def _(device: devices.IdealTransformer) -> tuple[Deviation, ...]:
    return (Deviation(Of.TURNS, _TURNS, lambda winding, factor: replace(winding, ratio=winding.ratio * factor)),)
