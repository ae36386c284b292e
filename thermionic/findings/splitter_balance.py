"""The two outputs of whatever gives a balanced pair."""

from collections.abc import Iterable
from math import log10

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Flow
from thermionic.findings.base import Finding, Rule, Severity

# Two halves that differ by more than this let even harmonics through and throw power away: a rule of thumb.
LIMIT_DB = 1.0


class SplitterBalance(Rule):
    """A splitter gives its two sides different signals."""

    name = "splitter-balance"
    example = "hurdle"
    fires_on = {"blocks/splitter/cathode_load/ohm": "68k"}
    quiet_on = {"blocks/splitter/cathode_load/ohm": "91k"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for block in amplifier.design.blocks:
            for port, flow in block.ports().items():
                if flow is not Flow.PAIR:
                    continue
                a, b = (abs(amplifier.phasor(block.node(port, side))) for side in "ab")
                if min(a, b) <= 0:
                    continue
                off = abs(20 * log10(a / b))
                if off <= LIMIT_DB:
                    continue
                louder = "a" if a > b else "b"
                yield Finding(
                    self.name,
                    Severity.POOR,
                    f"blocks/{block.id}",
                    amplifier.compiled.designator(f"blocks/{block.id}"),
                    f"{block.label} is out of balance",
                    f"Side {louder} has {off:.1f} dB more signal than the other; {LIMIT_DB:g} dB is what does "
                    "no harm "
                    "(a rule of thumb).",
                    "One output tube works harder than the other: even harmonics come through, and power is lost.",
                    off,
                    LIMIT_DB,
                )
