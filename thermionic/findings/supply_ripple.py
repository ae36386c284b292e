"""Ripple on the supply of the first stage."""

from collections.abc import Iterable
from math import log10

import numpy as np

from thermionic.blocks import SolvedAmplifier
from thermionic.findings.base import Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.values import Quantity, Series, display, step

# The ripple at the first anode against the signal there at full output. A rule of thumb: 70 dB down is
# about where hum is no longer heard from the listening chair.
LIMIT_DB = -70.0
MOST_FARAD = 470e-6


class SupplyRipple(Rule):
    """Ripple reaches the first stage's anode at a level that the rest amplifies to a hum."""

    name = "supply-ripple"
    fires_on = {"chain/driver/feed": "ht1", "supply/sections/ht1/capacitor/farad": "10u"}
    quiet_on = {"supply/sections/ht3/capacitor/farad": "100u"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        level = self._level(amplifier)
        if level is None or level <= LIMIT_DB:
            return
        stage = amplifier.design.stages[0]
        path = f"supply/sections/{stage.feed}/capacitor"
        section = next(s for s in amplifier.design.supply.sections if s.id == stage.feed)
        yield Finding(
            self.name,
            Severity.POOR,
            path,
            amplifier.compiled.designator(path),
            "Ripple on the first stage's supply",
            f"{display(amplifier.ripple(stage.feed), Quantity.VOLTAGE, 2)} peak to peak on {stage.feed}; "
            f"at the first anode that is {level:.0f} dB against the signal of full output, "
            f"{LIMIT_DB:.0f} dB wanted (a rule of thumb).",
            "All that comes after amplifies it, and the loudspeaker hums at twice the mains frequency.",
            10 ** ((level - LIMIT_DB) / 20),
            1.0,
            preferred_cure(
                amplifier,
                f"{path}/farad",
                (
                    farad
                    for farad in steps_up(section.capacitor.farad, lambda c: step(c, Series.E12, 4), 12)
                    if farad <= MOST_FARAD
                ),
                lambda trial: (found := self._level(trial)) is not None and found <= LIMIT_DB,
                lambda written: f"Raise the section's capacitor to {written}",
            ),
        )

    def _level(self, amplifier: SolvedAmplifier) -> float | None:
        """Ripple at the first anode against its signal at full output, dB."""
        stage = amplifier.design.stages[0]
        designator = amplifier.compiled.designator(f"chain/{stage.id}")
        anode = amplifier.netlist[designator].nodes[0]
        ripple = amplifier.ripple(anode) / (2 * np.sqrt(2))
        signal = amplifier.full_output.source_volt * amplifier.gain(anode)
        if ripple <= 0 or signal <= 0:
            return None
        return 20 * log10(ripple / signal)
