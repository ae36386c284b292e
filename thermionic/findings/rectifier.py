"""Rectifiers past their ratings: reverse voltage, current, and the first capacitor behind a vacuum rectifier."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from functools import partial

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks.facets import Rectified, SeriesCapacitors
from thermionic.blocks.fields import RectifierDiode
from thermionic.circuit.netlist import GROUND
from thermionic.design import Capacitor, Resistor, find, optional_parts
from thermionic.findings.base import FIT, Cure, Finding, Rule, Severity, applied, preferred_cure, steps_up
from thermionic.findings.mains import worst
from thermionic.supplies.moments import Moment, at_work, cold
from thermionic.supplies.rectifying import rectifying
from thermionic.tubes.limits import RectifierLimits
from thermionic.values import Quantity, Series, display, step

_PREFERRED = 12  # steps that are tried


@dataclass(frozen=True)
class _Rated:
    """A rectifier with what it is called and its ratings."""

    use: Rectified
    part: str
    called: str
    tube: RectifierLimits | None
    silicon: RectifierDiode | None

    @property
    def blocks(self) -> str:
        """What it is called that stands the reverse voltage."""
        if self.silicon and self.tube:
            return f"{self.silicon.material} in series with the {self.called}"
        return self.called

    @property
    def reverse_volt(self) -> float:
        """What it stands backwards, V: silicon in series with a tube takes all of it."""
        if self.silicon:
            return self.silicon.total_volt
        assert self.tube is not None
        return self.tube.reverse_v


def _rated(amplifier: SolvedAmplifier) -> Iterator[_Rated]:
    for use in amplifier.compiled.said(Rectified):
        silicon = find(amplifier.design, use.diode).value if use.diode else None
        tube, called = None, f"{silicon.material} rectifier" if silicon else "rectifier"
        if use.tube:
            type_ = amplifier.design.tube_of(use.tube)
            tube, called = type_.unit("rectifier").rectifier_limits, type_.type
        yield _Rated(use, use.parts[0], called, tube, silicon)


class RectifierReverse(Rule):
    """A rectifier has more across it backwards than it is made for."""

    name = "rectifier-reverse"
    example = "mill"
    fires_on = {"blocks/winding/winding_volt": "345 V"}
    quiet_on = {"blocks/winding/winding_volt": "305 V"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for rated in _rated(amplifier):
            limit = rated.reverse_volt
            result = worst(amplifier, limit, (cold, at_work), _of(rated.use, "reverse_volt"))
            if result is None:
                continue
            yield Finding(
                self.name,
                result.severity,
                f"blocks/{rated.use.block}",
                rated.part,
                f"The {rated.blocks} has too much across it backwards",
                f"{result.value:.0f} V {result.words}; it is made for {limit:g} V.{_unsure(rated, 'reverse_v')}",
                "It arcs over or breaks down, and shorts the winding. Silicon in series with a vacuum rectifier's "
                "anodes takes the reverse voltage from it.",
                result.value,
                limit,
                _reverse_cure(amplifier, rated, result.value),
            )


def _of(use: Rectified, what: str) -> Callable[[Moment], float]:
    """One of a rectifier's figures at a moment."""
    return lambda moment: float(getattr(rectifying(moment.state, use), what))


def _unsure(rated: _Rated, field: str) -> str:
    unsure = rated.tube is not None and not (rated.silicon and field == "reverse_v") and field in rated.tube.unsure
    return " That rating is not certain for this type." if unsure else ""


def _reverse_cure(amplifier: SolvedAmplifier, rated: _Rated, volt: float) -> Cure | None:
    path = f"blocks/{rated.use.block}"
    if rated.silicon is None:
        silicon = f"{path}/silicon"
        return Cure(silicon, FIT, "Put silicon in series with its anodes") if silicon in optional_parts(
            amplifier.design
        ) else None  # fmt: skip
    enough = int(volt * 1.2 // rated.silicon.reverse_volt) + 1
    what = "plates" if rated.silicon.material == "selenium" else "diodes"
    return Cure(f"{rated.use.diode}/in_series", str(enough), f"Put {enough} {what} in series in each arm")


class RectifierCurrent(Rule):
    """A rectifier delivers more than it is made for, or in higher peaks."""

    name = "rectifier-current"
    example = "mill"
    fires_on = {"blocks/rectifier/anode_resistor/ohm": "47"}
    quiet_on = {"blocks/rectifier/anode_resistor/ohm": "390"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for rated in _rated(amplifier):
            tube, silicon = rated.tube, rated.silicon
            # In a bridge, and of two anodes, each arm carries half of what comes out.
            arms = 2 if rated.use.form in ("bridge", "full-wave") else 1
            mean = tube.output_a if tube else silicon.ampere * arms if silicon else None
            peak = tube.peak_a if tube else None
            for limit, what, field in ((mean, "mean_ampere", "output_a"), (peak, "peak_ampere", "peak_a")):
                if limit is None:
                    continue
                result = worst(
                    amplifier, limit, (at_work,),
                    _of(rated.use, what), grows=1.6,
                )  # fmt: skip
                if result is None:
                    continue
                peaks = what == "peak_ampere"
                yield Finding(
                    self.name,
                    result.severity,
                    f"blocks/{rated.use.block}",
                    rated.part,
                    f"The {rated.called} {'gives too high a peak' if peaks else 'delivers too much'}",
                    f"{display(result.value, Quantity.CURRENT)} {'in each peak' if peaks else 'of steady current'} "
                    f"{result.words}; it is made for {display(limit, Quantity.CURRENT)}.{_unsure(rated, field)}",
                    "Its cathode is stripped, or its junction overheats. A smaller first capacitor, resistance "
                    "before the anodes or a choke input lower the peak.",
                    result.value,
                    limit,
                    partial(_peak_cure, amplifier, rated.use, limit) if peaks else None,
                )
                break


def _peak_cure(amplifier: SolvedAmplifier, use: Rectified, limit: float) -> Cure | None:
    path = f"blocks/{use.block}/anode_resistor"

    def enough(trial: SolvedAmplifier) -> float:
        again = next(rectified for rectified in trial.compiled.said(Rectified) if rectified.block == use.block)
        return limit / max(rectifying(trial.state, again).peak_ampere, 1e-9)

    if path not in optional_parts(amplifier.design):
        return None
    resistor = find(amplifier.design, path).value
    if not isinstance(resistor, Resistor):
        fit = Cure(path, FIT, "Put resistors before its anodes")
        return fit if enough(solve(applied(amplifier.design, fit), amplifier)) >= 1 else None
    return preferred_cure(
        amplifier,
        f"{path}/ohm",
        steps_up(resistor.ohm, lambda ohm: step(ohm, Series.E12, 1), _PREFERRED),
        enough,
        lambda written: f"Raise the anode resistors to {written}",
    )


class FirstCapacitor(Rule):
    """The first capacitor behind a vacuum rectifier is larger than that tube can fill."""

    name = "first-capacitor"
    example = "mill"
    fires_on = {"blocks/reservoir/capacitor/farad": "100u"}
    quiet_on = {"blocks/reservoir/capacitor/farad": "47u"}

    def examine(self, amplifier: SolvedAmplifier) -> Iterable[Finding]:
        for rated in _rated(amplifier):
            if rated.tube is None:
                continue
            compiled, limit = amplifier.compiled, rated.tube.first_capacitor_f
            ends = {compiled.node(rated.use.plus), GROUND}
            direct = [
                (path, part.farad)
                for path, part in compiled.components(Capacitor)
                if any(set(compiled.netlist[name].nodes) == ends for name in compiled.designators(path))
            ]
            direct += [
                (use.upper, 1 / sum(1 / find(amplifier.design, one).value.farad for one in (use.upper, use.lower)))
                for use in compiled.said(SeriesCapacitors)
                if compiled.node(use.node) in ends
            ]
            total = sum(farad for _, farad in direct)
            if total <= limit * 1.001:
                continue
            path = direct[0][0]
            fitting = display(limit, Quantity.CAPACITANCE)
            yield Finding(
                self.name,
                Severity.POOR,
                path,
                compiled.designator(path),
                f"The first capacitor is too large for the {rated.called}",
                f"{display(total, Quantity.CAPACITANCE)}; it is made to fill {fitting}."
                + _unsure(rated, "first_capacitor_f"),
                "Switched on again while it is hot it must fill all of that at once, and its cathode sparks.",
                total,
                limit,
                Cure(f"{path}/farad", fitting, f"Fit {fitting}")
                if len(direct) == 1 and direct[0][1] == find(amplifier.design, path).value.farad
                else None,
            )
