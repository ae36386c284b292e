"""Before the windings: the fuse, the mains transformer's load, and what leaks to protective earth."""

from __future__ import annotations

from collections.abc import Iterable
from functools import partial
from math import pi

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Core, MainsSide, Rectified
from thermionic.blocks.fields import FusePart
from thermionic.design import find
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.findings.mains import worst
from thermionic.supplies.moments import Moment, at_work, house_volts
from thermionic.supplies.starting import shorted_ampere
from thermionic.values import Quantity, display

FUSES = (
    0.1,
    0.125,
    0.16,
    0.2,
    0.25,
    0.315,
    0.4,
    0.5,
    0.63,
    0.8,
    1.0,
    1.25,
    1.6,
    2.0,
    2.5,
    3.15,
    4.0,
    5.0,
    6.3,
    8.0,
    10.0,
)
# A fuse carries its rated current for ever; a quarter of it is left for what it ages by (a rule of thumb).
LOADED = 0.75
# It is sure to open in seconds at this multiple of its rating: IEC 60127-2 (2.1 times in 30 min, 4 times in 3 s).
OPENS = 4.0
# What may flow to protective earth in plugged equipment of class I: IEC 60065 and IEC 62368-1 have 3.5 mA.
LEAKAGE = 3.5e-3


SURGE = (
    "The core's own surge at switching on is in no figure here: take a time-lag fuse, and see that it holds when you "
    "switch on twenty times."
)


def _smaller(fitting: float | None, fuse: FusePart) -> str:
    if fitting and fitting < fuse.ampere:
        return "A smaller fuse, or one of its own in that winding."
    return "No mains fuse both carries the transformer's rated current and opens then: fit one in that winding."


def _fit(path: str, ampere: float | None) -> Cure | None:
    if ampere is None:
        return None
    words = display(ampere, Quantity.CURRENT)
    return Cure(f"{path}/ampere", words, f"Fit {words}")


def rated_primary_ampere(amplifier: SolvedAmplifier) -> float:
    """What the mains transformers that state a rating draw at it together, A rms: no fuse is offered below that."""
    cores = amplifier.compiled.said(Core)
    return sum(core.rating_va / core.tap_volt for core in cores if core.rating_va is not None)


def _current(name: str, moment: Moment) -> float:
    return moment.state.rms_ampere(name)


class FuseRating(Rule):
    """A mains fuse that does not carry the amplifier, or does not open on a shorted rectifier."""

    name = "fuse-rating"
    example = "reedbed"
    fires_on = {"blocks/mains/fuse/ampere": "500 mA"}
    quiet_on = {"blocks/mains/fuse/ampere": "1.6 A"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for path, fuse in amplifier.compiled.components(FusePart):
            name = amplifier.compiled.designator(path)
            result = worst(amplifier, fuse.ampere, (at_work,), partial(_current, name), grows=1.6)
            if result is not None:
                rated = rated_primary_ampere(amplifier)
                enough = next((fuse for fuse in FUSES if LOADED * fuse >= result.value and fuse >= rated), None)
                yield Finding(
                    self.name, result.severity, path, name, f"{name} does not carry the amplifier",
                    f"{display(result.value, Quantity.CURRENT)} rms {result.words}; it is made for "
                    f"{display(fuse.ampere, Quantity.CURRENT)}.",
                    "It opens after minutes or weeks, and the next one is then chosen too large. The transformer's "
                    f"own no-load current comes on top. {SURGE}", result.value, fuse.ampere,
                    _fit(path, enough),
                )  # fmt: skip
                continue
            yield from self._opens(amplifier, path, name, fuse)

    def _opens(self, amplifier: SolvedAmplifier, path: str, name: str, fuse: FusePart) -> Iterable[Finding]:
        for use in amplifier.compiled.said(Rectified):
            ampere = shorted_ampere(amplifier, use.block)
            needed = OPENS * fuse.ampere
            if ampere is None or use.plus == "0" or ampere >= needed:
                continue
            usual = _current(name, at_work(amplifier, amplifier.design.brief.mains_volt))
            least = max(usual / LOADED, rated_primary_ampere(amplifier))
            fitting = next((fuse for fuse in FUSES if least <= fuse and OPENS * fuse <= ampere), None)
            yield Finding(
                self.name, Severity.POOR, path, name, f"{name} may not open on a shorted rectifier",
                f"{display(ampere, Quantity.CURRENT)} rms at {amplifier.design.brief.mains_volt:.0f} V mains with "
                f"the {use.block.replace('_', ' ')} shorted; {display(needed, Quantity.CURRENT)} open it in seconds.",
                f"The transformer burns before the fuse goes. {_smaller(fitting, fuse)} {SURGE}",
                needed, ampere,
                _fit(path, fitting if fitting and fitting < fuse.ampere else None),
            )  # fmt: skip


class TransformerLoad(Rule):
    """A mains transformer gives more volt-amperes than it is made for."""

    name = "transformer-load"
    example = "reedbed"
    fires_on = {"blocks/mains_transformer/rating_va": "120"}
    quiet_on = {"blocks/mains_transformer/rating_va": "200"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for core in amplifier.compiled.said(Core):
            rating = core.rating_va
            if rating is None:
                continue
            _, usual, _ = house_volts(amplifier.design)
            volt_ampere = core.tap_volt * amplifier.rms_ampere(core.part)
            if volt_ampere <= rating:
                continue
            yield Finding(
                self.name, Severity.OVER, f"blocks/{core.block}", core.part, "The mains transformer is overloaded",
                f"{volt_ampere:.0f} VA at {usual:.0f} V mains, working; it is made for {rating:g} VA. Its own "
                "no-load current comes on top.",
                "Its copper heats by the square of that, and its insulation ages the faster.", volt_ampere, rating,
            )  # fmt: skip


class EarthLeakage(Rule):
    """What a capacitor from the line to protective earth lets through."""

    name = "earth-leakage"
    example = "sluice"
    fires_on = {"blocks/mains/earth_capacitor": "fit", "blocks/mains/earth_capacitor/farad": "100n"}
    quiet_on = {"blocks/mains/earth_capacitor": "fit", "blocks/mains/earth_capacitor/farad": "2n2"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        _, _, high = house_volts(amplifier.design)
        for side in amplifier.compiled.said(MainsSide):
            if not side.earth_capacitor:
                continue
            part = find(amplifier.design, side.earth_capacitor).value
            ampere = 2 * pi * amplifier.design.brief.mains_hertz * part.farad * high
            if ampere <= LEAKAGE:
                continue
            yield Finding(
                self.name, Severity.DANGER, side.earth_capacitor, side.part, "Too much flows to protective earth",
                f"{display(ampere, Quantity.CURRENT)} at {high:.0f} V mains; {display(LEAKAGE, Quantity.CURRENT)} is "
                "the usual limit where protective earth is connected, and your local code may have less.",
                "Where the earth is missing or broken it flows through whoever touches the chassis. It must be of "
                "class Y, which fails open; have it seen by a licensed electrician.", ampere, LEAKAGE,
                Cure(f"{side.earth_capacitor}/farad", "2n2", "Fit 2.2 nF of class Y"),
            )  # fmt: skip


class LineCapacitor(Rule):
    """A capacitor on the mains is rated for less than the mains may be."""

    name = "line-capacitor"
    example = "sluice"
    fires_on = {"blocks/mains/line_capacitor/rating_volt": "250 V"}
    quiet_on = {"blocks/mains/line_capacitor/rating_volt": "275 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        _, _, high = house_volts(amplifier.design)
        for side in amplifier.compiled.said(MainsSide):
            for path, kind, fails in (
                (side.line_capacitor, "X", "It is across the line: class X, made to stand the mains' spikes, and "
                 "what fails shorted there the fuse has to clear. A capacitor for DC of any voltage is none."),
                (side.earth_capacitor, "Y", "It is from the line to the chassis: class Y, which never fails shorted, "
                 "for a short there makes the chassis live. A class X or a DC type will not do."),
            ):  # fmt: skip
                if not path:
                    continue
                rating = find(amplifier.design, path).value.rating_volt
                if rating >= high:
                    continue
                yield Finding(
                    self.name, Severity.DANGER, f"{path}/rating_volt", side.part,
                    f"The class {kind} capacitor is made for less than the mains",
                    f"{high:.0f} V AC at the highest mains; it is made for {rating:g} V AC.", fails, high, rating,
                    Cure(f"{path}/rating_volt", "310 V" if kind == "X" else "300 V", "Fit the usual rating"),
                )  # fmt: skip
