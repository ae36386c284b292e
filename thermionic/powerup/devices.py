"""How each class of device may fail: registered by class.

A class that is not here raises TypeError when a design has one, and fails a test before that.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace
from functools import singledispatch
from typing import Any

from thermionic import devices
from thermionic.devices.base import Device
from thermionic.devices.triode import Cathode
from thermionic.values import Quantity, Series, nearest, written

# A resistor read wrongly is out by a decade or by one colour; one that is open, or shorted by a whisker of solder.
WRONG = (0.1, 0.22, 0.47, 0.68, 1.5, 2.2, 4.7, 10.0)
OPEN_OHM, SHORT_OHM, LEAK_OHM = 1e9, 0.5, 470e3


@dataclass(frozen=True)
class Failure:
    """One way to fail: its key, what it is called and where to look (``{}`` is the part), how common it is, the
    device in its place (None for taken away) and a resistance laid across the part's first two terminals, if any.
    ``wrong_ohm`` says that the part is a resistor of that value by mistake."""

    key: str
    title: str
    look: str
    weight: float
    device: Device | None
    across_ohm: float | None = None
    wrong_ohm: float | None = None


def wrong_value(device: devices.Resistor, ohm: float, weight: float = 0.5) -> Failure:
    """A resistor fitted with another value."""
    fitted = written(nearest(ohm, Series.E12), Quantity.RESISTANCE)
    meant = written(float(device.ohm), Quantity.RESISTANCE)
    return Failure(
        "value", f"{{}} is about {fitted} where it should be {meant}",
        "Switch off, discharge, lift one end of {} and measure it.", weight, devices.Resistor(ohm), wrong_ohm=ohm,
    )  # fmt: skip


@singledispatch
def failures(device: Device, earthed: bool) -> Iterator[Failure]:
    """How the device may fail; ``earthed`` says whether one of its ends is on earth."""
    raise TypeError(f"how a {type(device).__name__} may fail is not registered")


def _never(device: Device, earthed: bool) -> Iterator[Failure]:
    return iter(())


failures.register(devices.VoltageSource, _never)  # these stand for what is outside
failures.register(devices.Feed, _never)


@failures.register
def _(device: devices.Resistor, earthed: bool) -> Iterator[Failure]:
    yield Failure(
        "open",
        "{} is open or not connected",
        "Switch off, discharge, and measure {} in place; look at its joints.",
        1.0,
        devices.Resistor(OPEN_OHM),
    )
    if device.ohm > 20 * SHORT_OHM:
        yield Failure(
            "short", "{} is shorted", "Look for solder or a lead across {}.", 0.4, devices.Resistor(SHORT_OHM)
        )
    for factor in WRONG:
        yield wrong_value(device, float(device.ohm) * factor)


@failures.register
def _(device: devices.Capacitor, earthed: bool) -> Iterator[Failure]:
    yield Failure("open", "{} is open or not connected", "Look at the joints of {}; hang a known good one across it.",
                  0.8, None)  # fmt: skip
    yield Failure("leak", "{} leaks", "Switch off, discharge, lift one end of {} and test it at its working voltage.",
                  0.6, device, LEAK_OHM)  # fmt: skip
    yield Failure("short", "{} is shorted" + (" or in the wrong way round" if earthed else ""),
                  "Switch off, discharge, and measure across {}.", 0.6, device, SHORT_OHM)  # fmt: skip


@failures.register
def _(device: devices.Potentiometer, earthed: bool) -> Iterator[Failure]:
    yield Failure("worn", "The track of {} is worn through", "Switch off, and measure {} from end to end.", 0.3,
                  replace(device, ohm=device.ohm * 50))  # fmt: skip


@failures.register
def _(device: Cathode, earthed: bool) -> Iterator[Failure]:
    for scale, title in ((0.75, "is weak"), (0.5, "is worn out")):
        yield Failure(
            f"weak{scale}", f"{{}} {title}", "Try another tube in the place of {}.", 1.0, _scaled(device, scale)
        )
    yield Failure(
        "dead",
        "{} does not conduct",
        "See that {} glows and sits in its socket; check its heater pins.",
        1.0,
        _scaled(device, 1e-6),
    )


def _scaled(device: Any, scale: float) -> Device:
    made: Device = replace(device, scale=device.scale * scale)
    return made


@failures.register
def _(device: devices.Transformer, earthed: bool) -> Iterator[Failure]:
    first, *rest = device.windings
    yield Failure("open", "A winding of {} is open", "Switch off, discharge, and measure the windings of {}.", 0.4,
                  replace(device, windings=(replace(first, ohm=OPEN_OHM), *rest)))  # fmt: skip
    if not rest:
        return
    last = rest[-1]
    for factor, words in ((2**-0.5, "lower"), (2**0.5, "higher")):
        changed = replace(last, turns=last.turns * factor, ohm=last.ohm * factor)
        yield Failure(f"tap{words}", f"The load hangs on the next {words} tap of {{}}",
                      "Compare the secondary's leads with the maker's drawing of {}.", 0.5,
                      replace(device, windings=(first, *rest[:-1], changed)))  # fmt: skip


@failures.register
def _(device: devices.IdealTransformer, earthed: bool) -> Iterator[Failure]:
    for factor, words in ((0.9, "low"), (1.1, "high")):
        yield Failure(f"tap{words}", f"{{}} gives 10 % too {words} a voltage",
                      "Look which of its leads are connected, and measure the winding unloaded.", 0.5,
                      replace(device, ratio=device.ratio * factor))  # fmt: skip


@failures.register
def _(device: devices.MainsSource, earthed: bool) -> Iterator[Failure]:
    if not device.folded or device.peak_volt < 0:
        return  # it stands for what is outside, or turns a half cycle over
    for factor, words in ((0.9, "low"), (1.1, "high")):
        yield Failure(f"tap{words}", f"{{}} gives 10 % too {words} a voltage",
                      "Check the mains tap, and measure the mains again.", 0.5,
                      replace(device, peak_volt=device.peak_volt * factor))  # fmt: skip


def _broken(device: Device, earthed: bool) -> Iterator[Failure]:
    yield Failure(
        "open", "{} is open or not connected", "Switch off, discharge, and look at {} and its joints.", 0.6, None
    )
    yield Failure("short", "{} is shorted", "Switch off, discharge, and measure across {}.", 0.4, device, SHORT_OHM)


for _class in (
    devices.LED, devices.Diode, devices.Zener, devices.Mosfet, devices.Converter, devices.LinearRegulator,
    devices.BipolarTransistor, devices.Inductor, devices.Thevenin, devices.GasRegulator, devices.SeleniumRectifier,
    devices.Thermistor, devices.Driver, devices.MeasuredLoudspeaker, devices.OutputTransformer,
):  # fmt: skip
    failures.register(_class, _broken)
