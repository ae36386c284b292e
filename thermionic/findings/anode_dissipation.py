"""Anode dissipation against the tube's limit."""

from collections.abc import Iterable
from functools import partial

from thermionic.amplifier import SolvedAmplifier
from thermionic.design import field
from thermionic.errors import DesignRefused
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure, steps_down, steps_up
from thermionic.findings.tubes import worst_of_each_block
from thermionic.values import Quantity, Series, step


class AnodeDissipation(Rule):
    """The anode turns more power into heat than the tube's maximum."""

    name = "anode-dissipation"
    fires_on = {"blocks/output/cathode_resistor/ohm": "560"}
    quiet_on = {"blocks/output/cathode_resistor/ohm": "1k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use, heat in worst_of_each_block(amplifier, lambda use: amplifier.parts[use.part].dissipation):
            limit = use.limits.anode_w
            if heat <= limit:
                continue
            yield Finding(
                self.name,
                Severity.OVER,
                use.path,
                use.part,
                f"{use.type.type} anode runs too hot",
                f"{heat:.1f} W at idle; the {use.limits.called} is {limit:g} W ({heat / limit:.0%}).",
                "Past its limit the anode glows, gives off gas, and the tube's life is short.",
                heat,
                limit,
                partial(self._cure, amplifier, use.knob, use.knob_raises, use.part, heat / limit, limit),
            )

    def _cure(
        self, amplifier: SolvedAmplifier, knob: str, raises: int, part: str, times: float, limit: float
    ) -> Cure | None:
        if not knob:
            return None
        try:
            at = field(amplifier.design, knob)
        except DesignRefused:
            return None
        likely = None
        if at.quantity is Quantity.RESISTANCE:
            ladder = steps_up(at.value, lambda r: step(r, Series.E24, 1), 24)
            # Dissipation falls as some 0.55 to 0.8 power of a cathode resistor: of triodes the former.
            likely = at.value * times ** (1 / 0.6)
            words = "Raise the cathode resistor to {}"
        elif raises < 0:
            ladder = steps_up(at.value, lambda volt: round(volt * 1.05, 3), 16)
            words = "Set the bias to {}"
        else:
            ladder = steps_down(at.value, lambda share: round(share - 0.04, 3), 0.0, 16)
            words = "Turn the bias to {}"
        return preferred_cure(
            amplifier,
            knob,
            ladder,
            lambda trial: limit / max(trial.parts[part].dissipation, 1e-9),
            lambda written: words.format(written),
            likely,
        )
