"""Loudspeakers as electrical loads: the model of a driver, and a measured table."""

from __future__ import annotations

import csv
import io
import re
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from thermionic.devices.base import Array, ComplexArray, Device, Noise, Value, placed
from thermionic.devices.linear import thermal
from thermionic.errors import NetlistRefused


@dataclass(frozen=True)
class Driver(Device):
    """A moving-coil driver: voice coil, and the motion seen through it as a parallel resonance.

    R. H. Small, "Direct-radiator loudspeaker system analysis", JAES 20 (1972), p. 383: the coil's ``ohm`` (Re) and
    ``henry`` (Le) in series with Res, Lces and Cmes in parallel, of resonance ``resonance_hertz`` and
    mechanical and electrical Q. The rise at high frequencies is a plain inductance's; a real one's is softer.
    """

    ohm: Value
    henry: Value
    resonance_hertz: Value
    mechanical_q: Value
    electrical_q: Value
    terminals: ClassVar = ("plus", "minus")
    branches: ClassVar = 3  # coil current, motional voltage, motional inductor's current

    def motional(self) -> tuple[Value, Value, Value]:
        """Res (Ω), Cmes (F) and Lces (H)."""
        res = self.ohm * self.mechanical_q / self.electrical_q
        omega = 2 * np.pi * self.resonance_hertz
        cmes = self.electrical_q / (omega * self.ohm)
        return res, cmes, 1 / (omega**2 * cmes)

    def conductance(self) -> Array:
        res, _, _ = self.motional()
        coil, motion, spring = 2, 3, 4
        return placed(
            5,
            (0, coil, 1.0), (1, coil, -1.0), (coil, 0, 1.0), (coil, 1, -1.0),
            (coil, coil, -self.ohm), (coil, motion, -1.0),
            (motion, coil, -1.0), (motion, motion, 1 / res), (motion, spring, 1.0),
            (spring, motion, 1.0),
        )  # fmt: skip

    def storage(self) -> Array:
        _, cmes, lces = self.motional()
        return placed(5, (2, 2, -self.henry), (3, 3, cmes), (4, 4, -lces))

    def noise(self, local: Array) -> tuple[Noise, ...]:
        ohm = np.asarray(self.ohm)
        return (Noise(2, -1, thermal(0, 1, ohm).white * ohm**2),)


@dataclass(frozen=True)
class MeasuredLoudspeaker(Device):
    """An impedance as measured: frequencies (Hz, rising), magnitudes (Ω) and phases (rad).

    Between points magnitude and phase are interpolated over log frequency; outside them the end point's
    magnitude holds, at DC as a resistance. A table has no response in time: a transient takes ``Driver`` instead.
    """

    hertz: tuple[float, ...]
    ohms: tuple[float, ...]
    phases: tuple[float, ...]
    terminals: ClassVar = ("plus", "minus")

    def impedance(self, hertz: Array) -> ComplexArray:
        """The impedance at any frequencies, Ω."""
        log = np.log10(np.maximum(hertz, 1e-3))
        known = np.log10(self.hertz)
        size = np.exp(np.interp(log, known, np.log(self.ohms)))
        angle = np.interp(log, known, self.phases)
        angle = np.where(np.asarray(hertz) <= 0, 0.0, angle)
        z: ComplexArray = size * np.exp(1j * angle)
        return z

    def conductance(self) -> Array:
        y = 1.0 / self.ohms[0]
        return placed(2, (0, 0, y), (1, 1, y), (0, 1, -y), (1, 0, -y))

    def dispersion(self, hertz: Array) -> ComplexArray:
        y = 1.0 / self.impedance(hertz) - 1.0 / self.ohms[0]
        y = np.where(np.asarray(hertz) <= 0, 0.0, y)
        matrix: ComplexArray = y[:, None, None] * np.array([[1.0, -1.0], [-1.0, 1.0]])
        return matrix


def read_impedance(text: str) -> MeasuredLoudspeaker:
    """A measured impedance from plain text or CSV: a line a frequency, with Hz, Ω and degrees.

    Columns may be divided by commas, semicolons, tabs or spaces; lines that start with a letter, ``*``, ``#`` or
    ``"`` are headings. Raises NetlistRefused, by line number, for anything else, for fewer than three
    points, or frequencies that do not rise.
    """
    rows: list[tuple[float, float, float]] = []
    for number, line in enumerate(io.StringIO(text.lstrip("\ufeff")), start=1):
        line = line.strip()
        if not line or line[0] in "*#\"'" or line[0].isalpha():
            continue
        cells = next(csv.reader([re.sub(r"[;\t ]+|,\s*", ",", line)]))
        try:
            hertz, ohm, degree = (float(cell) for cell in cells[:3])
        except ValueError:
            raise NetlistRefused(
                f"Line {number} of the impedance table, “{line[:40]}”, is not a frequency in Hz, a magnitude in Ω "
                "and a phase in degrees."
            ) from None
        if not (0 < hertz < 1e7 and 0 < ohm < 1e6 and -180 <= degree <= 180):
            raise NetlistRefused(
                f"Line {number} of the impedance table has {hertz:g} Hz, {ohm:g} Ω, {degree:g}°: a frequency and "
                "a magnitude must be above zero and a phase between -180° and 180°."
            )
        if rows and hertz <= rows[-1][0]:
            raise NetlistRefused(f"Line {number} of the impedance table: frequencies must rise, line by line.")
        rows.append((hertz, ohm, np.radians(degree)))
    if len(rows) < 3:
        raise NetlistRefused(f"The impedance table has {len(rows)} points; at least 3 are needed.")
    columns = zip(*rows, strict=True)
    return MeasuredLoudspeaker(*(tuple(float(value) for value in column) for column in columns))
