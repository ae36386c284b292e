"""The load that the output tube sees against the one its transformer is meant to show."""

from collections.abc import Iterable

from thermionic.blocks import SolvedAmplifier
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.values import Quantity, display, written


class OutputLoad(Rule):
    """The loudspeaker is on a tap that is not its own, so the tube sees another load than it should."""

    name = "output-load"
    fires_on = {"chain/transformer/tap_ohm": "16"}
    quiet_on = {"chain/transformer/tap_ohm": "8"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        transformer, speaker = amplifier.design.transformer, amplifier.design.loudspeaker
        seen = transformer.primary_ohm * speaker.ohm / transformer.tap_ohm
        ratio = seen / transformer.primary_ohm
        if 0.75 <= ratio <= 1.5:
            return
        best = min(transformer.taps_ohm, key=lambda tap: abs(speaker.ohm / tap - 1))
        typed = written(best, Quantity.RESISTANCE)
        better = abs(speaker.ohm / best - 1) < abs(ratio - 1)
        path = f"chain/{transformer.id}"
        yield Finding(
            self.name,
            Severity.POOR,
            path,
            amplifier.compiled.designator(path),
            "The loudspeaker is on the wrong tap",
            f"{speaker.ohm:g} Ω on the {transformer.tap_ohm:g} Ω tap shows the tube "
            f"{display(seen, Quantity.RESISTANCE)} in place of "
            f"{display(transformer.primary_ohm, Quantity.RESISTANCE)}.",
            "Too low a load costs power and doubles the distortion; too high a load costs power and bass."
            if ratio < 1
            else "Too high a load costs power and bass, and lets the anode swing further than it should.",
            max(ratio, 1 / ratio),
            1.5,
            Cure(f"{path}/tap_ohm", typed, f"Use the {best:g} Ω tap") if better else None,
        )
