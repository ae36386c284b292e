"""A source that is any expression of the circuit's voltages and currents: SPICE's B."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Protocol

from thermionic.devices.base import EARTH, Array, Device, Law, Pairs, Value, placed


class Expression(Protocol):
    """A function of several quantities."""

    @property
    def program(self) -> tuple[float, ...]:
        """What computes it with its slopes; see programs."""
        ...


@dataclass(frozen=True)
class _Behavioural(Device):
    """A ``law`` of ``senses`` pairs of control terminals, which carry no current.

    Terminals are a, b, then the controls in pairs.
    """

    law: Expression
    senses: int
    equation: ClassVar = Law.PROGRAM
    # What the law's value is multiplied by where it enters the equations.
    enters: ClassVar[float]

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """a, b, then plus and minus of each control."""
        return ("a", "b", *(f"{side}{k}" for k in range(1, self.senses + 1) for side in ("plus", "minus")))

    @property
    def ports(self) -> Pairs:  # type: ignore[override]
        """One sensed pair a control; with none, where the law's value goes, which it ignores."""
        return tuple((2 + 2 * k, 3 + 2 * k) for k in range(self.senses)) or self.injects

    def numbers(self) -> tuple[Value, ...]:
        return (self.enters, *self.law.program)


@dataclass(frozen=True)
class BehaviouralCurrent(_Behavioural):
    """A current ``law``, from a through the source to b."""

    enters: ClassVar = 1.0

    @property
    def injects(self) -> Pairs:
        return ((0, 1),)

    def across_itself(self, nodes: tuple[str, ...]) -> tuple[LawOfItsVolts, tuple[str, str]] | None:
        """As a two-terminal device with its two nodes, where all that it senses is the voltage between the nodes that
        it is on; else None."""
        ends, sensed = nodes[:2], nodes[2:]
        if self.senses != 1 or set(ends) != set(sensed) or len(set(ends)) != 2:
            return None
        return LawOfItsVolts(self.law, 1.0 if sensed == ends else -1.0), (sensed[0], sensed[1])


@dataclass(frozen=True)
class LawOfItsVolts(Device):
    """A current ``law`` of the voltage from plus to minus, times ``sign``: a tube's or a diode's law that somebody
    wrote. It may conduct over part of the mains cycle, so it is solved as a rectifier is."""

    law: Expression
    sign: float
    terminals: ClassVar = ("plus", "minus")
    ports: ClassVar = ((0, 1),)
    equation: ClassVar = Law.PROGRAM
    rectifies: ClassVar = True

    def numbers(self) -> tuple[Value, ...]:
        return (self.sign, *self.law.program)


@dataclass(frozen=True)
class BehaviouralVoltage(_Behavioural):
    """A voltage ``law``, from b up to a, with a current of its own."""

    branches: ClassVar = 1
    enters: ClassVar = -1.0

    @property
    def injects(self) -> Pairs:
        return ((self.size - 1, EARTH),)

    def conductance(self) -> Array:
        branch = self.size - 1
        return placed(self.size, (0, branch, 1.0), (1, branch, -1.0), (branch, 0, 1.0), (branch, 1, -1.0))


@dataclass(frozen=True)
class BehaviouralCharge(_Behavioural):
    """A charge ``law``, coulombs; what it changes by flows from a to b.

    The charge, in nC, is an unknown of its own, so that the equations' only storage stays linear.
    """

    branches: ClassVar = 1
    enters: ClassVar = -1e9

    @property
    def injects(self) -> Pairs:
        return ((self.size - 1, EARTH),)

    def conductance(self) -> Array:
        return placed(self.size, (self.size - 1, self.size - 1, 1.0))

    def storage(self) -> Array:
        return placed(self.size, (0, self.size - 1, 1e-9), (1, self.size - 1, -1e-9))
