"""Hum at the load, whichever way the ripple gets there."""

from collections.abc import Iterable
from functools import partial
from math import log10

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import Rail
from thermionic.blocks.fields import FilamentSupply
from thermionic.design import find
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.supplies.hum import hum, hum_volt
from thermionic.supplies.ripple import written_ripple
from thermionic.values import Quantity, Series, display, step

# Hum against full output. A rule of thumb: 70 dB down is about where hum is no longer heard from the listening
# chair, and 85 dB down what a line stage must be, whose hum the power amplifier brings up.
POWER_DB, LINE_DB = -70.0, -85.0
MOST_FARAD = 470e-6
_BALANCED = 0.005  # of the filament's volts
_CURES = 2  # rails tried, the guiltiest first


class Hum(Rule):
    """Ripple reaches the load at a level that is heard."""

    name = "hum"
    fires_on = {"blocks/driver/feed": "ht1.out", "blocks/ht1/capacitor/farad": "10u"}
    quiet_on = {"blocks/ht3/capacitor/farad": "100u"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        level = self._level(amplifier)
        limit = POWER_DB if amplifier.load.power else LINE_DB
        if level is None or level <= limit:
            return
        filament = _filament(amplifier)
        if filament is not None:
            yield filament
            return
        heard = hum(amplifier)
        guilty = [rail for rail, _ in heard.by_rail] if heard else []
        ripple = display(amplifier.ripple(amplifier.load.node), Quantity.VOLTAGE, 2)
        evidence = (
            f"{ripple} peak to peak of ripple at the load, {level:.0f} dB against full output, {limit:.0f} dB wanted "
            "(a rule of thumb)"
        )
        path, part = f"blocks/{amplifier.load.block}", amplifier.load.part
        if guilty:
            rail = guilty[0]
            own = written_ripple(amplifier, rail.node)
            evidence += f"; most comes by {rail.name}, ripple {own}"
            path = rail.capacitor or f"blocks/{rail.block}"
            part = amplifier.compiled.designator(rail.capacitor) if rail.capacitor else part
        yield Finding(
            self.name,
            Severity.POOR,
            path,
            part,
            "It will hum",
            f"{evidence}.",
            "It is heard at twice the mains frequency whenever the music is soft. Heaters and wiring add their own.",
            10 ** ((level - limit) / 20),
            1.0,
            partial(self._cure, amplifier, guilty, limit),
        )

    def _cure(self, amplifier: SolvedAmplifier, guilty: list[Rail], limit: float) -> Cure | None:
        for rail in guilty[:_CURES]:
            if not rail.capacitor:
                continue
            now = find(amplifier.design, rail.capacitor).value.farad
            result = preferred_cure(
                amplifier,
                f"{rail.capacitor}/farad",
                (farad for farad in steps_up(now, lambda c: step(c, Series.E12, 4), 12) if farad <= MOST_FARAD),
                lambda trial: 0.0 if (level := self._level(trial)) is None else 10 ** ((limit - level) / 20),
                lambda written, rail=rail: f"Raise the capacitor of {rail.block} to {written}",  # type: ignore[misc]
            )
            if result:
                return result
        return None

    def _level(self, amplifier: SolvedAmplifier) -> float | None:
        """Ripple at the load against full output there, both rms, dB."""
        full, ripple = amplifier.full_output.output_volt, hum_volt(amplifier)
        return 20 * log10(ripple / full) if ripple > 0 and full > 0 else None


def _filament(amplifier: SolvedAmplifier) -> Finding | None:
    """The hum of a filament off its balance, where there is one and most of the hum is at the mains' own
    frequency."""
    mains, heard = amplifier.state.mains, hum(amplifier)
    off = [
        (path, supply)
        for path, supply in amplifier.compiled.components(FilamentSupply)
        if abs(supply.unbalance) > _BALANCED
    ]
    if mains is None or heard is None or not off:
        return None
    size = np.abs(heard.harmonics)
    own = round(amplifier.design.brief.mains_hertz / mains.hertz)
    if own < 1 or size[own - 1] ** 2 < 0.5 * float(np.sum(size**2)):
        return None
    path, supply = max(off, key=lambda one: abs(one[1].unbalance))
    volt = display(heard.volt, Quantity.VOLTAGE, 2)
    level = 20 * log10(heard.volt / amplifier.full_output.output_volt)
    return Finding(
        Hum.name,
        Severity.POOR,
        path,
        amplifier.compiled.designator(path),
        "It will hum",
        f"{volt} rms at the load, {level:.0f} dB against full output, most of it at "
        f"{amplifier.design.brief.mains_hertz:g} Hz: the filament's pot stands at {supply.travel:g}, off its "
        "balance.",
        "Its AC is in series with the cathode by as much as the pot is off the middle.",
        10 ** ((level - POWER_DB) / 20),
        1.0,
        Cure(f"{path}/travel", "0.5", "Balance the filament's pot"),
    )
