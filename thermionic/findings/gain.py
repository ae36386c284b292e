"""The whole gain against what the source gives."""

from collections.abc import Iterable
from math import log10

import numpy as np

from thermionic.amplifier import SolvedAmplifier, compile_design
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.circuit.small_signal import respond
from thermionic.design import full_up
from thermionic.devices import Potentiometer
from thermionic.findings.base import Finding, Rule, Severity
from thermionic.values import Quantity, display

# A source that could drive the amplifier this much past full output leaves the volume control at the foot of its
# travel: a rule of thumb.
MOST_EXCESS_DB = 26.0


class TotalGain(Rule):
    """The source cannot drive the amplifier to full output, or drives it there with the control hardly open; a line
    output, to the level that what follows needs."""

    name = "total-gain"
    fires_on = {"blocks/input/source_volt": "300 mV"}
    quiet_on = {"blocks/input/source_volt": "1.2 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        source, full = amplifier.compiled.source, amplifier.full_output
        if amplifier.load.line_volt is not None:
            yield from self._line(amplifier, amplifier.load.line_volt)
            return
        opened = _most_gain(amplifier) / amplifier.gain(amplifier.load.node)
        needed = full.source_volt / opened
        excess = 20 * log10(max(source.volt, 1e-9) / needed)
        if 0.0 <= excess <= MOST_EXCESS_DB:
            return
        low = excess < 0
        yield Finding(
            self.name,
            Severity.POOR if low else Severity.NOTE,
            f"blocks/{source.block}",
            source.part,
            "The source cannot drive it to full output" if low else "There is far more gain than the source needs",
            f"Full output takes {display(needed, Quantity.VOLTAGE)} with every control full up; the source gives "
            f"{display(source.volt, Quantity.VOLTAGE)} ({excess:+.0f} dB).",
            "It will never play as loud as it could: it needs more gain, or a hotter source."
            if low
            else (
                "The volume control is used at the foot of its travel, and the noise of all that gain "
                "is always there."
            ),
            abs(excess),
            MOST_EXCESS_DB,
        )

    def _line(self, amplifier: SolvedAmplifier, wanted: float) -> Iterable[Finding]:
        source, full = amplifier.compiled.source, amplifier.full_output.output_volt
        given = min(_most_gain(amplifier) * source.volt, full)
        if given >= wanted:
            return
        yield Finding(
            self.name, Severity.POOR, f"blocks/{source.block}", source.part,
            "The output falls short of what follows",
            f"With every control full up the source's {display(source.volt, Quantity.VOLTAGE)} give "
            f"{display(given, Quantity.VOLTAGE)} rms; what follows needs {display(wanted, Quantity.VOLTAGE)}.",
            "It clips there: a stage that swings further is needed." if given == full
            else "What follows is never driven to its full output: it needs more gain, or a hotter source.",
            wanted / given, 1.0,
        )  # fmt: skip


def _most_gain(amplifier: SolvedAmplifier) -> float:
    """Gain at 1 kHz with every control full up; their resistances change no direct voltage worth the name."""
    system = amplifier.state.at.system
    wanted = compile_design(full_up(amplifier.design)).netlist
    for part in wanted.parts:
        if isinstance(part.device, Potentiometer) and system.place(part.name).part.device != part.device:
            system = system.with_device(part.name, part.device)
    slopes = system.jacobian(amplifier.state.at.port_slopes)
    tone = respond(system, slopes, np.array([REFERENCE_HERTZ]), system.tone[:, None])[0, :, 0]
    name = amplifier.compiled.node
    return float(abs(tone[system.node(name(amplifier.load.node))] / tone[system.node(name(amplifier.source_node))]))
