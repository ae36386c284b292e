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
class BehaviouralCurrent(Device):
    """A current ``law`` of ``senses`` pairs of control terminals, from a through the source to b.

    Terminals are a, b, then the controls in pairs. Control terminals carry no current.
    """

    law: Expression
    senses: int
    equation: ClassVar = Law.PROGRAM

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """a, b, then plus and minus of each control."""
        return ("a", "b", *_controls(self.senses))

    @property
    def ports(self) -> Pairs:  # type: ignore[override]
        """One sensed pair a control; with none, the source's own ends, which the law ignores."""
        return tuple((2 + 2 * k, 3 + 2 * k) for k in range(self.senses)) or ((0, 1),)

    @property
    def injects(self) -> Pairs:
        return ((0, 1),)

    def numbers(self) -> tuple[Value, ...]:
        return (1.0, *self.law.program)


@dataclass(frozen=True)
class BehaviouralVoltage(Device):
    """A voltage ``law`` of ``senses`` pairs of control terminals, from b up to a, with a current of its own."""

    law: Expression
    senses: int
    branches: ClassVar = 1
    equation: ClassVar = Law.PROGRAM

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """a, b, then plus and minus of each control."""
        return ("a", "b", *_controls(self.senses))

    @property
    def ports(self) -> Pairs:  # type: ignore[override]
        """One sensed pair a control; with none, the source's own current, which the law ignores."""
        return tuple((2 + 2 * k, 3 + 2 * k) for k in range(self.senses)) or ((self.size - 1, EARTH),)

    @property
    def injects(self) -> Pairs:
        return ((self.size - 1, EARTH),)

    def conductance(self) -> Array:
        branch = self.size - 1
        return placed(self.size, (0, branch, 1.0), (1, branch, -1.0), (branch, 0, 1.0), (branch, 1, -1.0))

    def numbers(self) -> tuple[Value, ...]:
        return (-1.0, *self.law.program)


@dataclass(frozen=True)
class BehaviouralCharge(Device):
    """A charge ``law``, coulombs, of ``senses`` pairs of control terminals; what it changes by flows from a to b.

    The charge, in nC, is an unknown of its own, so that the equations' only storage stays linear.
    """

    law: Expression
    senses: int
    branches: ClassVar = 1
    equation: ClassVar = Law.PROGRAM

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """a, b, then plus and minus of each control."""
        return ("a", "b", *_controls(self.senses))

    @property
    def ports(self) -> Pairs:  # type: ignore[override]
        """One sensed pair a control."""
        return tuple((2 + 2 * k, 3 + 2 * k) for k in range(self.senses))

    @property
    def injects(self) -> Pairs:
        return ((self.size - 1, EARTH),)

    def conductance(self) -> Array:
        return placed(self.size, (self.size - 1, self.size - 1, 1.0))

    def storage(self) -> Array:
        return placed(self.size, (0, self.size - 1, 1e-9), (1, self.size - 1, -1e-9))

    def numbers(self) -> tuple[Value, ...]:
        return (-1e9, *self.law.program)


def _controls(count: int) -> tuple[str, ...]:
    return tuple(f"{side}{k}" for k in range(1, count + 1) for side in ("plus", "minus"))
