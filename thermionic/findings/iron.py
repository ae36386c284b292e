"""Iron that does not fit: cores magnetised too far or too small, chokes and windings past their rating."""

from collections.abc import Iterable
from math import isfinite

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.magnetising import lowest_full_hertz, magnetising_ampere
from thermionic.blocks import Choke
from thermionic.blocks.facets import Copper
from thermionic.design import find
from thermionic.findings.base import Cure, Finding, Rule, Severity
from thermionic.values import Quantity, display

# A push-pull core stands this part of its limit as steady flux, any other what it is made for and a tenth more: rules
# of thumb.
PAIR_SHARE, OVER = 0.1, 1.1
# The lowest string of a double bass (E1, equal temperament), Hz: full output is rarely asked for below it. Half an
# octave above it, much of the bass is bent.
LOWEST_NOTE, MUCH_HIGHER = 41.2, 1.5
_CHOKES = (0.05, 0.06, 0.08, 0.1, 0.12, 0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.7, 1.0)


class CoreCurrent(Rule):
    """Steady current through a primary takes the core further than it is made for."""

    name = "core-current"
    fires_on = {"blocks/transformer/core/ampere": "40 mA"}
    quiet_on = {"blocks/transformer/core/ampere": "55 mA"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use in amplifier.compiled.transformers:
            core, made_for = use.core, use.made_for
            if core is None or made_for is None or made_for.knee_weber is None:
                continue
            ampere = magnetising_ampere(amplifier, use.part)
            spare = PAIR_SHARE * float(made_for.knee_weber) / use.henry
            allowed = OVER * core.ampere if core.ampere else spare
            if ampere <= allowed:
                continue
            yield Finding(
                self.name,
                Severity.OVER,
                f"blocks/{use.block}",
                use.part,
                "The transformer's core carries too much steady current",
                f"{display(ampere, Quantity.CURRENT)} of DC magnetises the core; "
                + (
                    f"it is made for {display(core.ampere, Quantity.CURRENT)}."
                    if core.ampere
                    else f"an ungapped core takes about {display(spare, Quantity.CURRENT)} (a rule of thumb)."
                ),
                "Its inductance falls, and the bass distorts long before the tubes clip.",
                ampere,
                allowed,
            )


class CoreSize(Rule):
    """The output transformer's core is too small for what the tubes give at low notes."""

    name = "core-size"
    example = "saltpan"
    fires_on = {"blocks/transformer/core/watt": "15 W"}
    quiet_on = {"blocks/transformer/core/watt": "17 W"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for use in amplifier.compiled.transformers:
            lowest = lowest_full_hertz(amplifier, use)
            if lowest is None or not isfinite(lowest) or lowest <= LOWEST_NOTE:
                continue  # a core that the steady current alone fills is another rule's
            full = amplifier.load.written(amplifier.output(amplifier.full_output))
            yield Finding(
                self.name,
                Severity.POOR if lowest > MUCH_HIGHER * LOWEST_NOTE else Severity.NOTE,
                f"blocks/{use.block}",
                use.part,
                "The transformer is too small for the bass",
                f"At {full} its core comes to its rating at {display(lowest, Quantity.FREQUENCY, 2)}; the lowest "
                f"string of a double bass is {LOWEST_NOTE:g} Hz.",
                "Below that the core takes more current than the load does: the bass distorts long before the "
                "tubes clip.",
                lowest,
                LOWEST_NOTE,
            )


class WindingCurrent(Rule):
    """A mains winding carries more than its copper is made for."""

    name = "winding-current"
    example = "saltpan"
    fires_on = {"blocks/winding/rating_ampere": "400 mA"}
    quiet_on = {"blocks/winding/rating_ampere": "440 mA"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for block in amplifier.design.blocks:
            path = f"blocks/{block.id}"
            coppers = [copper for copper in amplifier.compiled.said(Copper) if copper.block == block.id]
            rating = coppers[0].rating_ampere if coppers else None
            if rating is None:
                continue
            ampere = sum(copper.share**0.5 * amplifier.rms_ampere(copper.part) for copper in coppers)
            if ampere <= rating:
                continue
            yield Finding(
                self.name,
                Severity.OVER,
                path,
                coppers[0].part,
                "The mains winding carries more than it is made for",
                f"{display(ampere, Quantity.CURRENT)} rms at {amplifier.design.brief.mains_volt:.0f} V mains, "
                f"working; it is made for {display(rating, Quantity.CURRENT)}.",
                "Its copper heats by the square of that, and its insulation ages the faster.",
                ampere,
                rating,
            )


def _larger(path: str, ampere: float) -> Cure | None:
    """The next larger choke that is usual."""
    usual = next((choke for choke in _CHOKES if choke >= ampere), None)
    if usual is None:
        return None
    words = display(usual, Quantity.CURRENT)
    return Cure(f"{path}/rating_ampere", words, f"Fit a choke made for {words}")


class ChokeCurrent(Rule):
    """A choke carries more than it is made for."""

    name = "choke-current"
    example = "saltpan"
    fires_on = {"blocks/ht1/choke/rating_ampere": "150 mA"}
    quiet_on = {"blocks/ht1/choke/rating_ampere": "250 mA"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for path in amplifier.compiled.by_path:
            choke = find(amplifier.design, path).value
            if not isinstance(choke, Choke):
                continue
            name = amplifier.compiled.designator(path)
            system = amplifier.state.at.system
            ampere = abs(float(amplifier.state.at.x[system.branch(name)]))
            if ampere <= choke.rating_ampere:
                continue
            yield Finding(
                self.name,
                Severity.OVER,
                path,
                name,
                "A choke carries more than it is made for",
                f"{display(ampere, Quantity.CURRENT)} of steady current; it is made for "
                f"{display(choke.rating_ampere, Quantity.CURRENT)}.",
                "Its core saturates, its inductance goes and the hum comes; its copper heats by the square.",
                ampere,
                choke.rating_ampere,
                _larger(path, ampere),
            )
