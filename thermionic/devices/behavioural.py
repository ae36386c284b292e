"""A source that is any expression of the circuit's voltages and currents: SPICE's B."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Protocol

from thermionic.devices.base import EARTH, Array, Device, Pairs, placed


class Law(Protocol):
    """A function of several quantities, with its derivatives."""

    def value(self, v: Array) -> tuple[Array, Array]:
        """f (...) and its gradient (..., quantities) at v (..., quantities)."""
        ...


@dataclass(frozen=True)
class BehaviouralCurrent(Device):
    """A current ``law`` of ``senses`` pairs of control terminals, from a through the source to b.

    Terminals are a, b, then the controls in pairs. Control terminals carry no current.
    """

    law: Law
    senses: int

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

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        f, gradient = self.law.value(v)
        return f[..., None], gradient[..., None, :]


@dataclass(frozen=True)
class BehaviouralVoltage(Device):
    """A voltage ``law`` of ``senses`` pairs of control terminals, from b up to a, with a current of its own."""

    law: Law
    senses: int
    branches: ClassVar = 1

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

    def currents(self, v: Array, phase: Array | float = 0.0) -> tuple[Array, Array]:
        f, gradient = self.law.value(v)
        return -f[..., None], -gradient[..., None, :]


def _controls(count: int) -> tuple[str, ...]:
    return tuple(f"{side}{k}" for k in range(1, count + 1) for side in ("plus", "minus"))
