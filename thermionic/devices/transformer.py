"""Iron: output, interstage and mains transformers, and chokes."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from thermionic.devices.base import EARTH, Array, Device, Law, Noise, Pairs, Value, between, placed
from thermionic.devices.linear import thermal
from thermionic.devices.state_laws import CoreNumbers


@dataclass(frozen=True)
class OutputTransformer(Device):
    """Two windings on one core, linear.

    ``turns_ratio`` n is primary turns over those of the secondary in use; ``primary_henry`` Lp the magnetising
    inductance seen from the primary; ``leakage_henry`` the leakage inductance referred to the primary;
    ``primary_ohm`` and ``secondary_ohm`` the copper. The coupled-coil equations

        v1 = R1 i1 + (Lp + Lleak) di1/dt + (Lp / n) di2/dt
        v2 = R2 i2 + (Lp / n) di1/dt + (Lp / n^2) di2/dt

    are those of F. E. Terman, *Radio Engineers' Handbook* (1943), section 2, with all leakage put on the
    primary side. Core loss, saturation and winding capacitance are not modelled: see Transformer.
    """

    turns_ratio: Value
    primary_henry: Value
    leakage_henry: Value
    primary_ohm: Value
    secondary_ohm: Value
    terminals: ClassVar = ("primary_start", "primary_end", "secondary_start", "secondary_end")
    branches: ClassVar = 2

    def conductance(self) -> Array:
        return placed(6, *_winding(4, 0, 1, self.primary_ohm), *_winding(5, 2, 3, self.secondary_ohm))

    def inductances(self) -> tuple[tuple[Value, Value], tuple[Value, Value]]:
        """Primary, mutual and secondary inductance as a 2 x 2 matrix, H."""
        mutual = self.primary_henry / self.turns_ratio
        return (
            (self.primary_henry + self.leakage_henry, mutual),
            (mutual, self.primary_henry / self.turns_ratio**2),
        )

    def storage(self) -> Array:
        rows = self.inductances()
        return placed(6, *((4 + j, 4 + k, -rows[j][k]) for j in (0, 1) for k in (0, 1)))


def _winding(branch: int, start: int, end: int, ohm: Value) -> tuple[tuple[int, int, Value], ...]:
    """The entries of a winding's current and its resistive drop."""
    return (
        (start, branch, 1.0),
        (end, branch, -1.0),
        (branch, start, 1.0),
        (branch, end, -1.0),
        (branch, branch, -ohm),
    )


@dataclass(frozen=True)
class Core:
    """What a core takes to be magnetised, seen from the first winding.

    i = flux / henry (1 + (flux / knee_weber)^(2 m)), the odd power law customary for iron near saturation (E. L.
    Rudenberg, *Transient Performance of Electric Power Systems* (1950), ch. 20), with the flux in Wb-turns of
    that winding. ``henry`` is what it has at small flux, any gap included: a gap lowers it and with it the part
    that iron plays, so a gapped core stands steady current. ``knee_weber`` is where the current is twice what the
    straight line gives; None for a core that never saturates. Hysteresis is not modelled; ``loss_ohm`` across the
    first winding stands for the heat of the core.
    """

    henry: Value
    knee_weber: Value | None = None
    power: int = 4
    loss_ohm: Value | None = None


@dataclass(frozen=True)
class Winding:
    """One winding or one section of a tapped one: ``turns`` relative to the first, copper and leakage.

    Leakage inductance is in series with the winding, in its own terms (not referred).
    """

    turns: Value
    ohm: Value
    leakage_henry: Value = 0.0


@dataclass(frozen=True)
class Transformer(Device):
    """Any windings on one core, with copper, leakage, capacitance, core loss and saturation.

    For each winding k and the common flux F (Wb-turns of winding 1, an unknown of its own):

        v_k = R_k i_k + L_k di_k/dt + n_k dF/dt,    sum n_k i_k = i(F)

    with n_k the turns over those of winding 1 and i(F) the Core's. A tapped winding is two or more in series, on the
    same node at the tap; an ultra-linear primary is four. Steady primary current is part of sum n_k i_k, so residual
    DC in a push-pull pair, or a single-ended tube's, moves the core's working point as it does in iron.
    ``capacitances`` lists (terminal, terminal, farads): across windings and between them.
    Source of the picture: the equivalent circuit of R. Lee, *Electronic Transformers and Circuits*, 2nd ed. (1955),
    ch. 5.
    """

    windings: tuple[Winding, ...]
    core: Core
    capacitances: tuple[tuple[int, int, float], ...] = ()
    equation: ClassVar = Law.CORE

    @property
    def terminals(self) -> tuple[str, ...]:  # type: ignore[override]
        """Start and end of each winding, the start being the dotted end."""
        return tuple(f"{end}{k}" for k in range(1, len(self.windings) + 1) for end in ("start", "end"))

    @property
    def branches(self) -> int:  # type: ignore[override]
        """A current a winding, and the flux."""
        return len(self.windings) + 1

    @property
    def size(self) -> int:
        """Local unknowns: two terminals and a current a winding, and the flux."""
        return 3 * len(self.windings) + 1

    @property
    def flux(self) -> int:
        """Local index of the flux."""
        return self.size - 1

    @property
    def ports(self) -> Pairs:  # type: ignore[override]
        """The flux alone is sensed, and only a core that can saturate needs it."""
        return () if self.core.knee_weber is None else ((self.flux, EARTH),)

    def conductance(self) -> Array:
        first = 2 * len(self.windings)
        entries: list[tuple[int, int, Value]] = []
        for k, winding in enumerate(self.windings):
            entries += _winding(first + k, 2 * k, 2 * k + 1, winding.ohm)
            entries.append((self.flux, first + k, -(winding.turns / self.windings[0].turns)))
        entries.append((self.flux, self.flux, 1.0 / self.core.henry))
        matrix = placed(self.size, *entries)
        if self.core.loss_ohm is not None:
            matrix = matrix + between(self.size, 0, 1, 1.0 / self.core.loss_ohm)
        return matrix

    def storage(self) -> Array:
        first = 2 * len(self.windings)
        entries: list[tuple[int, int, Value]] = []
        for k, winding in enumerate(self.windings):
            entries.append((first + k, first + k, -winding.leakage_henry))
            entries.append((first + k, self.flux, -(winding.turns / self.windings[0].turns)))
        matrix = placed(self.size, *entries)
        for a, b, farad in self.capacitances:
            matrix = matrix + between(self.size, a, b, farad)
        return matrix

    def numbers(self) -> tuple[Value, ...]:
        assert self.core.knee_weber is not None
        return CoreNumbers(henry=self.core.henry, knee_weber=self.core.knee_weber, power=self.core.power)

    def noise(self, local: Array) -> tuple[Noise, ...]:
        # The copper's noise voltage drives the winding's own branch: as a current there it is 4kTR, in V^2/Hz.
        first = 2 * len(self.windings)
        sources = []
        for k, winding in enumerate(self.windings):
            if np.all(np.asarray(winding.ohm) > 0):
                ohm = np.asarray(winding.ohm)
                sources.append(Noise(first + k, EARTH, thermal(0, 1, ohm).white * ohm**2))
        return tuple(sources)


@dataclass(frozen=True)
class Choke(Transformer):
    """A winding on a gapped core whose inductance falls as its current rises; make it with ``choke``."""


def choke(henry: float, ohm: float, full_ampere: float, share: float = 0.5, farad: float = 0.0) -> Choke:
    """A choke of ``henry`` at no current, with ``share`` of that left (incrementally) at ``full_ampere``.

    Raises ValueError for a share outside 0.05 to 0.99.
    """
    if not 0.05 <= share <= 0.99:
        raise ValueError("A choke keeps between 5 and 99 % of its inductance at its full current.")
    power = 2
    # di/dF = (1 + (2m+1) u^(2m)) / L is 1 / (share L) at the full current, which fixes u there, and the knee.
    raised = (1.0 / share - 1.0) / (2 * power + 1)
    u = raised ** (1 / (2 * power))
    knee = henry * full_ampere / (u * (1 + raised))
    capacitances = ((0, 1, farad),) if farad else ()
    return Choke((Winding(1.0, ohm),), Core(henry, knee, power), capacitances)
