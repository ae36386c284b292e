"""The limits of a tube: maximum ratings by the system that they were given in."""

from __future__ import annotations

from dataclasses import dataclass

# By which system a maximum is meant, and what it is then called. "as given" is what users say of tubes of their own.
RATING_SYSTEMS = {
    "design centre": "design-centre maximum",
    "design maximum": "design maximum",
    "absolute maximum": "absolute maximum",
    "as given": "maximum that you gave it",
}


@dataclass(frozen=True)
class Limits:
    """Maximum ratings of one section of a triode or pentode, SI units; ``unsure`` names those to be taken with care.

    ``system`` is the rating system they are by. A pentode has its screen's too.
    """

    anode_v: float
    anode_w: float
    cathode_a: float
    grid_leak_fixed_bias_ohm: float
    grid_leak_cathode_bias_ohm: float
    heater_cathode_v: float
    screen_v: float | None = None
    screen_w: float | None = None
    system: str = "design centre"
    unsure: tuple[str, ...] = ()

    @property
    def called(self) -> str:
        """What a maximum of its rating system is called."""
        return RATING_SYSTEMS[self.system]


@dataclass(frozen=True)
class RectifierLimits:
    """Maximum ratings of a rectifier, SI units: reverse peak voltage, peak current an anode, output current, and the
    largest first capacitor (what the makers used, where no limit is published)."""

    reverse_v: float
    peak_a: float
    output_a: float
    first_capacitor_f: float
    heater_cathode_v: float
    system: str = "design centre"
    unsure: tuple[str, ...] = ()


@dataclass(frozen=True)
class RegulatorLimits:
    """A gas regulator's ratings, SI units: the current window, and the change of voltage over it."""

    least_a: float
    most_a: float
    system: str = "absolute maximum"
    unsure: tuple[str, ...] = ()


@dataclass(frozen=True)
class IndicatorLimits:
    """A tuning indicator's ratings, SI units: its target's voltage."""

    target_v: float
    system: str = "design centre"
    unsure: tuple[str, ...] = ()
