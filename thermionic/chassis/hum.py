"""What hum there is, by cause, with its bands."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

# The ways in which hum gets in that depend on where things are.
LAID = ("magnetic", "capacitive", "earth")
READ_UNSURE = 1.1  # of a hum that was read: a usual meter's


@dataclass(frozen=True)
class Cause:
    """One source of hum by one way: what it is and where it gets in, in words and by the key of its body or wire; the
    volts at the load, rms, its strongest frequency, Hz, and by how many times it is unsure either way."""

    source: str
    key: str
    way: str
    path: str
    path_key: str
    volt: float
    hertz: float
    unsure: float


@dataclass(frozen=True)
class LayoutHum:
    """All hum of a layout at the load of its worse channel, by cause, the most first. ``reference_volt`` is the
    load's at 1 W (or the reference output of a line stage). ``measured_volt`` is what was read there on the finished
    amplifier: no cause alone can be more than that."""

    reference_volt: float
    causes: tuple[Cause, ...]
    channel: int
    measured_volt: float | None = None

    @property
    def volt(self) -> float:
        """All of it, V rms, sources added by their squares."""
        return float(np.sqrt(sum(cause.volt**2 for cause in self.causes)))

    @property
    def laid_volt(self) -> float:
        """What the layout has a say in: without ripple on the rails and what leaks inside tubes, V rms."""
        return float(np.sqrt(sum(cause.volt**2 for cause in self.causes if cause.way in LAID)))

    def band(self) -> tuple[float, float]:
        """The least and the most that it may be, V rms, as each cause is unsure."""
        reaches = np.array([self.reach(cause) for cause in self.causes]).reshape(-1, 2)
        low, high = (float(np.sqrt(np.sum(reaches[:, side] ** 2))) for side in (0, 1))
        return (low, high) if self.measured_volt is None else (low, min(high, self.measured_volt * READ_UNSURE))

    def reach(self, cause: Cause) -> tuple[float, float]:
        """The least and the most that one cause may be, V rms."""
        most = cause.volt * cause.unsure
        if self.measured_volt is not None:
            most = min(most, self.measured_volt * READ_UNSURE)
        return min(cause.volt / cause.unsure, most), most

    def below(self, volt: float) -> float:
        """A voltage in dB below the reference (above nothing: better)."""
        return float(20 * np.log10(self.reference_volt / max(volt, 1e-12)))
