"""What a meter said of a transformer: resistances, and voltages with a low known AC voltage on two leads."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from thermionic.errors import ValueRefused

# A cheap meter's error, a fraction of what it reads, and its least: 0.1 Ω with its leads, 10 mV.
METER, LEAST_OHM, LEAST_VOLT = 0.02, 0.1, 0.01
MOST_LEADS, MOST_IN_A_WINDING = 16, 6
MOST = 1e9  # of a reading, V or Ω


@dataclass(frozen=True)
class Resistance:
    """The resistance read between two leads, Ω; None for an open circuit."""

    a: str
    b: str
    ohm: float | None

    @property
    def words(self) -> str:
        """It in words."""
        return f"resistance {self.a} to {self.b}"


@dataclass(frozen=True)
class Voltage:
    """With ``applied`` volts on the leads ``on_a`` and ``on_b``, what was read between ``a`` and ``b``, V rms. With a
    wire between ``joined``, two leads of different windings, a reading between those windings tells their sense."""

    on_a: str
    on_b: str
    applied: float
    a: str
    b: str
    volt: float
    joined: tuple[str, str] | None = None

    @property
    def words(self) -> str:
        """It in words."""
        return f"voltage {self.a} to {self.b} with {self.applied:g} V on {self.on_a} and {self.on_b}"


Reading = Resistance | Voltage


def check(leads: Sequence[str], readings: Iterable[Reading]) -> None:
    if len(set(leads)) < len(leads):
        raise ValueRefused("Two leads are called the same; every lead has a name of its own.")
    if not 2 <= len(leads) <= MOST_LEADS:
        raise ValueRefused(f"A transformer with {len(leads)} leads is not looked at: 2 to {MOST_LEADS} are.")
    for reading in readings:
        names = (
            [reading.a, reading.b]
            if isinstance(reading, Resistance)
            else [reading.a, reading.b, reading.on_a, reading.on_b]
        )
        names += list(reading.joined or ()) if isinstance(reading, Voltage) else []
        for name in names:
            if name not in leads:
                raise ValueRefused(f"There is no lead {name[:20]}; there is {', '.join(leads)}.")
        if reading.a == reading.b or (isinstance(reading, Voltage) and reading.on_a == reading.on_b):
            raise ValueRefused(f"The {reading.words}: a reading is between two leads, not from one to itself.")
        read = [reading.ohm] if isinstance(reading, Resistance) else [reading.volt, reading.applied]
        if not all(value is None or (isinstance(value, (int, float)) and abs(value) <= MOST) for value in read):
            raise ValueRefused(f"The {reading.words}: a meter reads no more than {MOST:g}.")
        value = reading.ohm if isinstance(reading, Resistance) else min(reading.volt, reading.applied)
        if value is not None and value < 0:
            raise ValueRefused(
                f"The {reading.words}: a meter on {'ohms' if isinstance(reading, Resistance) else 'AC volts'} "
                "reads no less than 0."
            )
        if isinstance(reading, Voltage) and reading.applied <= 0:
            raise ValueRefused(f"The {reading.words}: say how much is on the leads, above 0 V.")
