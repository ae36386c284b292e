"""The load that the output tube sees against the one its transformer is meant to show."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.design import choices, find
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.values import Quantity, display


class OutputLoad(Rule):
    """The loudspeaker is on a tap that is not its own, so the tube sees another load than it should."""

    name = "output-load"
    fires_on = {"blocks/speaker/input": "transformer.16"}
    quiet_on = {"blocks/speaker/input": "transformer.8"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for load in amplifier.compiled.loads:
            if load.tap_ohm is None:
                continue
            path = f"blocks/{load.block}/input"
            use = next(
                transformer
                for transformer in amplifier.compiled.transformers
                if f"{transformer.block}." in _now(amplifier, path)
            )
            ratio = load.ohm / load.tap_ohm
            if 0.75 <= ratio <= 1.5:
                continue
            seen = use.primary_ohm * ratio
            best, ohm = min(use.taps.items(), key=lambda tap: abs(load.ohm / tap[1] - 1))
            better = abs(load.ohm / ohm - 1) < abs(ratio - 1) and f"{use.block}.{best}" in choices(
                amplifier.design, path
            )
            yield Finding(
                self.name,
                Severity.POOR,
                f"blocks/{use.block}",
                use.part,
                "The loudspeaker is on the wrong tap",
                f"{load.ohm:g} Ω on the {load.tap_ohm:g} Ω tap shows the tube "
                f"{display(seen, Quantity.RESISTANCE)} in place of {display(use.primary_ohm, Quantity.RESISTANCE)}.",
                "Too low a load costs power and doubles the distortion; too high a load costs power and bass."
                if ratio < 1
                else "Too high a load costs power and bass, and lets the anode swing further than it should.",
                max(ratio, 1 / ratio),
                1.5,
                Cure(path, f"{use.block}.{best}", f"Use the {best} Ω tap") if better else None,
            )


def _now(amplifier: SolvedAmplifier, path: str) -> str:
    return str(find(amplifier.design, path).value)
