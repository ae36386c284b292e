"""Builds of one amplifier as arrays of circuits: how parts and tubes stray, and which of them stray together."""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.amplifier.compiling import Compiled
from thermionic.blocks.fields import tolerance_of
from thermionic.blocks.ports import block_at
from thermionic.circuit.netlist import Netlist
from thermionic.design import find
from thermionic.devices.base import Array, Device
from thermionic.devices.scatter import Of, TubeSpread, deviations, scattered

# How alike the tubes of a matched pair are: their deviations correlate by so much.
MATCHED = 0.95


@dataclass(frozen=True)
class Cause:
    """What strays by itself: its name, the path of what sets it, and what it is: a ``part``, a ``bottle``, how the
    two bottles of a matched pair stray ``alike``, or ``apart``."""

    name: str
    path: str
    kind: Literal["part", "bottle", "alike", "apart"]


@dataclass
class Deviates:
    """Independent standard normal deviates, a column a cause: each (builds,), and whose each is."""

    builds: int
    random: np.random.Generator
    columns: list[Array] = field(default_factory=list)
    causes: list[Cause] = field(default_factory=list)
    places: dict[tuple[str, ...], int] = field(default_factory=dict)

    def column(self, key: tuple[str, ...], cause: Cause) -> Array:
        """The deviates of a cause, drawn when first asked for; the first build is the design itself."""
        if key not in self.places:
            drawn = self.random.standard_normal(self.builds)
            drawn[0] = 0.0
            self.places[key] = len(self.columns)
            self.columns.append(drawn)
            self.causes.append(cause)
        return self.columns[self.places[key]]


@dataclass(frozen=True)
class Builds:
    """How the parts of one channel are drawn. ``channel`` marks what each channel has of its own."""

    amplifier: SolvedAmplifier
    spread: TubeSpread
    deviates: Deviates
    partners: dict[str, str]
    channel: str

    def netlist(self) -> Netlist:
        """The circuit as an array of builds."""
        netlist = self.amplifier.state.at.system.netlist
        return replace(
            netlist, parts=tuple(replace(part, device=self._varied(part.name, part.device)) for part in netlist.parts)
        )

    def _varied(self, name: str, device: Device) -> Device:
        kinds = {deviation.of: deviation for deviation in deviations(device)}
        factors: dict[Of, Array | float] = {}
        if Of.PART in kinds:
            factors[Of.PART] = self._factor(name, _tolerance(self.amplifier.compiled, name, kinds[Of.PART].tolerance))
        if Of.EMISSION in kinds:
            factors |= self._tube(name)
        return scattered(device, factors)

    def _key(self, block: str, name: str) -> tuple[str, ...]:
        """Whose it is: each channel's own, or shared."""
        design = self.amplifier.design
        shared = block and design.block(block).scope == "shared"
        return (name,) if shared or not block else (name, self.channel)

    def _factor(self, name: str, tolerance: float) -> Array:
        path = self.amplifier.netlist[name].path if name in self.amplifier.netlist else ""
        block = block_at(path)
        strayed = self.deviates.column(self._key(block, name), Cause(name, path, "part"))
        factor: Array = np.exp(tolerance / 3 * strayed)
        return factor

    def _tube(self, name: str) -> dict[Of, Array | float]:
        """Factors of one section: by its bottle's deviates, its own, and its partner's where they are matched."""
        use = next((tube for tube in self.amplifier.compiled.tubes if tube.part == name), None)
        bottle = use.envelope if use else name
        path = f"envelopes/{bottle}/type" if use else ""
        alone = use is None or len(use.type.section_letters) == 1
        alike = 1.0 if alone else float(np.clip(self.spread.sections_alike, 0.0, 1.0)) ** 0.5
        split = use is not None and self.amplifier.design.envelope(bottle).split == "channels"
        cause = Cause(bottle.upper(), path, "bottle")
        both = []
        for which in ("emission", "amplification"):
            shared = self._bottle(bottle, path, which, split)
            own = 0.0 if alone else self.deviates.column((name, self.channel, which), cause)
            both.append(alike * shared + (1 - alike**2) ** 0.5 * own)
        return self.spread.factors(*both)

    def _bottle(self, bottle: str, path: str, which: str, split: bool) -> Array:
        pair = self._pair(bottle)
        where = (which,) if split else (self.channel, which)
        if pair is None:
            return self.deviates.column((bottle, *where), Cause(bottle.upper(), path, "bottle"))
        a, b = (one.upper() for one in pair)
        path = f"envelopes/{pair[0]}/type"
        alike = self.deviates.column((*pair, *where), Cause(f"{a} and {b}", path, "alike"))
        own = self.deviates.column((bottle, *where), Cause(f"{a} against {b}", path, "apart"))
        both: Array = MATCHED**0.5 * alike + (1 - MATCHED) ** 0.5 * own
        return both

    def _pair(self, bottle: str) -> tuple[str, str] | None:
        """The matched pair that a bottle is of, side a first."""
        return next(((a, b) for b, a in self.partners.items() if bottle in (a, b)), None)


def _tolerance(compiled: Compiled, name: str, usual: float) -> float:
    """A part's tolerance, a fraction: its own or the usual; 0 for what no path of the design stands for."""
    path = compiled.netlist[name].path if name in compiled.netlist else ""
    return tolerance_of(find(compiled.design, path).value, usual) if path else 0.0


def partners(amplifier: SolvedAmplifier) -> dict[str, str]:
    """The bottles of side b of each pair, with those of side a that they can be matched to."""
    result = {}
    for block in dict.fromkeys(use.block for use in amplifier.compiled.tubes):
        uses = amplifier.compiled.tubes_of(block)
        sides = [[use.envelope for use in uses if use.side == side] for side in "ab"]
        for a, b in zip(*sides, strict=False):
            if a != b:
                result[b] = a
    return result
