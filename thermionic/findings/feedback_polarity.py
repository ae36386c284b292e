"""The sense of the feedback."""

from collections.abc import Iterable

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.errors import NetlistRefused
from thermionic.findings.base import Cure, Finding, Rule, Severity


class FeedbackPolarity(Rule):
    """Feedback adds to the signal in place of taking from it."""

    name = "feedback-polarity"
    example = "hurdle"
    fires_on = {"blocks/transformer/secondary_reversed": "yes"}
    quiet_on = {"blocks/feedback/resistor/ohm": "6k8"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for loop in amplifier.compiled.loops:
            try:
                gain = complex(amplifier.small_signal.loop_gain(loop.parts, np.array([REFERENCE_HERTZ]))[0])
            except NetlistRefused:
                continue
            if not np.isfinite(gain) or gain.real > -0.05:
                continue
            iron = next(iter(amplifier.compiled.transformers), None)
            field = f"blocks/{iron.block}/secondary_reversed" if iron else ""
            block = amplifier.design.block(iron.block) if iron else None
            turned = getattr(block, "secondary_reversed", None)
            yield Finding(
                self.name,
                Severity.DANGER,
                f"blocks/{loop.block}",
                loop.part,
                "The feedback is positive",
                f"At 1 kHz the signal comes back {abs(gain):.2g} times and in step with the input.",
                "It howls at switching on, at full power and at a frequency that can burn the loudspeaker "
                "and the transformer.",
                abs(gain),
                0.05,
                None if turned is None else Cure(field, "no" if turned else "yes", "Turn the secondary round"),
            )
