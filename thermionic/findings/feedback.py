"""The sense of the feedback, and how near it is to oscillating."""

from collections.abc import Iterable
from functools import partial

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.loop import GAIN_MARGIN, PHASE_MARGIN, LoopGain, Margin, loop_gain
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.blocks.facets import Loop
from thermionic.design import find
from thermionic.devices import Resistor
from thermionic.errors import NetlistRefused
from thermionic.findings.base import Cure, Finding, Rule, Severity, preferred_cure, steps_up
from thermionic.values import Quantity, Series, display, step

# A margin of less than this share of what the rule of thumb asks rings for long, and is gone with the next tube.
_RINGS = 0.5
_RUNGS = 48
_FOLLOWED = np.geomspace(0.03, 3e7, 181)


class FeedbackPolarity(Rule):
    """Feedback adds to the signal in place of taking from it."""

    name = "feedback-polarity"
    example = "hurdle"
    fires_on = {"blocks/transformer/secondary_reversed": "yes"}
    quiet_on = {"blocks/feedback/resistor/ohm": "6k8"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for loop in amplifier.compiled.loops:
            try:
                gain = complex(loop_gain(amplifier, loop, hertz=np.array([REFERENCE_HERTZ])).gain[0])
            except NetlistRefused:
                continue
            if not np.isfinite(gain) or gain.real > -0.05:
                continue
            iron = next(iter(amplifier.compiled.transformers), None)
            field = f"blocks/{iron.block}/secondary_reversed" if iron else ""
            turned = iron.turned if iron else None
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
                None if turned is None else Cure(field, "no" if turned else "yes", "Swap the two secondary leads"),
            )


class FeedbackMargin(Rule):
    """The feedback comes near to turning round at one end of the band, or does."""

    name = "feedback-margin"
    example = "saltpan"
    fires_on = {"blocks/feedback/resistor/ohm": "18k"}
    quiet_on = {"blocks/feedback/resistor/ohm": "22k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for loop in amplifier.compiled.loops:
            try:
                result = loop_gain(amplifier, loop, hertz=_FOLLOWED)
            except NetlistRefused:
                continue
            if not np.all(np.isfinite(result.gain)) or not result.is_negative:
                continue  # feedback that is positive is another rule's
            ends = ((_short(result.low), result.low, "low"), (_short(result.high), result.high, "high"))
            share, margin, end = min(ends, key=lambda end: end[0])
            if _is_enough(result):
                continue
            yield Finding(
                self.name,
                Severity.DANGER if not result.is_stable else Severity.POOR if share < _RINGS else Severity.NOTE,
                f"blocks/{loop.block}",
                loop.part,
                "The feedback oscillates" if not result.is_stable else "The feedback's margins are thin",
                _margin_words(result, margin, end),
                "It may burn the loudspeaker and the transformer with nothing to be heard."
                if not result.is_stable
                else "It rings after every edge, and another loudspeaker or tube can make it oscillate.",
                1.0 / max(share, 1e-3),
                1.0,
                partial(self._cure, amplifier, loop, result),
            )

    def _cure(self, amplifier: SolvedAmplifier, loop: Loop, found: LoopGain) -> Cure | None:
        """Less feedback: the loop gain goes nearly as one over the resistor."""
        path = f"{amplifier.netlist[loop.part].path}/ohm"
        if not isinstance(amplifier.netlist[loop.part].device, Resistor):
            return None
        now = find(amplifier.design, path).value
        rungs = list(steps_up(now, lambda ohm: step(ohm, Series.E24, 1), _RUNGS))
        foreseen = (
            place for place, ohm in enumerate(rungs) if _is_enough(LoopGain(found.hertz, found.gain * now / ohm))
        )
        return preferred_cure(
            amplifier,
            path,
            rungs[max(next(foreseen, 0) - 1, 0) :],
            lambda trial: _is_enough(
                loop_gain(
                    trial, next(one for one in trial.compiled.loops if one.block == loop.block), hertz=_FOLLOWED
                )
            ),
            lambda written: f"Raise the feedback resistor to {written} (less feedback)",
        )


def _is_enough(found: LoopGain) -> bool:
    return found.is_stable and min(_short(found.low), _short(found.high)) >= 1.0


def _short(margin: Margin) -> float:
    """The lesser of its margins over what the rule of thumb asks; 1 or more for enough."""
    phase = 1.0 if margin.phase_degrees is None else margin.phase_degrees / PHASE_MARGIN
    return min(phase, 1.0 if margin.gain_db is None else margin.gain_db / GAIN_MARGIN)


def _margin_words(found: LoopGain, margin: Margin, end: str) -> str:
    phase = gain = ""
    if margin.phase_degrees is not None and margin.crossing_hertz is not None:
        phase = f"phase margin {margin.phase_degrees:.0f}° at {display(margin.crossing_hertz, Quantity.FREQUENCY, 2)}"
    if margin.gain_db is not None and margin.turning_hertz is not None:
        turning = display(margin.turning_hertz, Quantity.FREQUENCY, 2)
        if not found.is_stable:
            size = f"{-margin.gain_db:.1f} dB"
            return (
                f"{end.capitalize()}-frequency loop: at {turning}, where it turns positive, its gain is still {size}."
            )
        gain = f"gain margin {margin.gain_db:.1f} dB at {turning}"
    margins = ", ".join(words for words in (phase, gain) if words) or "no margin"
    return (
        f"{end.capitalize()}-frequency {margins}; wanted are {PHASE_MARGIN:.0f}° and {GAIN_MARGIN:.0f} dB (a rule of "
        "thumb)."
    )
