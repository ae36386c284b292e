"""A trimmer of a bias whose wiper may open."""

from collections.abc import Iterable

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import BiasTrim
from thermionic.findings.base import FIT, Cure, Finding, Rule, Severity


class BiasWiper(Rule):
    """A trimmer's wiper that lifts off its track leaves the grids without bias, unless a resistor holds them."""

    name = "bias-wiper"
    example = "saltpan"
    fires_on = {"blocks/bias/guard": ""}
    quiet_on = {"blocks/bias/guard": "fit"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        said: set[str] = set()
        for trim in amplifier.compiled.said(BiasTrim):
            if trim.guarded or trim.block in said:
                continue
            said.add(trim.block)
            yield Finding(
                self.name,
                Severity.NOTE,
                trim.path,
                trim.part,
                "If a trimmer's wiper loses contact, the bias is lost",
                f"Nothing but the track's wiper holds the grids behind {trim.part}; tracks wear, and wipers lift.",
                "Without bias the tubes draw all that they can until something burns. A resistor from each wiper to "
                "the whole of the supply gives them more bias then, not less.",
                1.0,
                1.0,
                Cure(trim.guard, FIT, "Put a resistor from each wiper to the supply"),
            )
