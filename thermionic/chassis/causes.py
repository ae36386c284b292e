"""The hum of a layout by what causes it: each source, its way in, and what that leaves at the load."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from thermionic.blocks.fields import FilamentSupply
from thermionic.chassis.body import Attached, Body
from thermionic.chassis.coupling import Push, coupled
from thermionic.chassis.geometry import direction, in_room
from thermionic.chassis.hum import Cause, LayoutHum
from thermionic.chassis.nets import EARTH, Net
from thermionic.chassis.sources import SCREEN_SHARE, IronSource, PairSource, coil_axis
from thermionic.chassis.transfer import HARMONICS, rms
from thermionic.devices.base import Array, ComplexArray
from thermionic.lazily import lazily
from thermionic.performance.quiet import quiet
from thermionic.supplies.heating import heater_hum

if TYPE_CHECKING:
    from thermionic.chassis.humming import Humming

# By how many times each way of getting in is unsure, either way.
WIRES_UNSURE, CAPACITIVE_UNSURE, EARTH_UNSURE, INSIDE_UNSURE, LEAK_UNSURE = 1.6, 1.8, 1.5, 3.0, 10.0
# Inside a tube, between its grid's and its cathode's leads: an area, m², that a field goes through.
_TUBE_AREA = 1.0e-4
# A shell core gathers so many times the field that it stands in, at this flux density at its rating, T.
_GATHERS, _CORE_TESLA = 3.0, 1.0


def hums(humming: Humming) -> list[LayoutHum]:
    """The hum of each channel."""
    return _Causes(humming).channels()


class _Causes:
    def __init__(self, humming: Humming) -> None:
        self.humming, self.laid, self.transfers = humming, humming.laid, humming.transfers
        self.amplifier, self.box, self.placed = humming.amplifier, humming.box, humming.placed
        self.hertz = humming.hertz

    def channels(self) -> list[LayoutHum]:
        humming, result = self.humming, []
        supply = humming.supply_emf()
        pushed = coupled(humming, [source for source, _ in humming.pairs])
        elsewhere = self._elsewhere()
        for channel in humming.numbers:
            causes = self._magnetic(channel, humming.gains(channel), supply)
            causes += self._capacitive(channel, pushed)
            causes += [*self._earth(channel), *elsewhere]
            causes = [cause for cause in causes if cause.volt > 1e-10]
            causes.sort(key=lambda cause: -cause.volt)
            result.append(LayoutHum(humming.reference, tuple(causes), channel, humming.layout.measured_volt))
        return result

    def _magnetic(
        self, channel: int, gains: ComplexArray, supply: ComplexArray,
    ) -> list[Cause]:  # fmt: skip
        causes = []
        grouped: dict[str, list[tuple[PairSource, ComplexArray]]] = defaultdict(list)
        for source, emf in self.humming.pairs:
            grouped[f"{source.pair.kind}:{source.pair.of}"].append((source, emf))
        for several in grouped.values():
            emf = np.sum([one for _, one in several], axis=0)
            name = several[0][0].name
            loudest = max(several, key=lambda one: rms((gains * one[1]).sum(axis=0)))[0].pair
            causes.append(self._cause(name, loudest.key, "magnetic", gains * emf, WIRES_UNSURE))
        causes.append(self._cause("Charging current in supply and earth wires", "supply", "magnetic", gains * supply,
                                  WIRES_UNSURE))  # fmt: skip
        for iron, emf in self.humming.irons:
            causes.append(self._cause(iron.body.title, iron.body.key, "magnetic", gains * emf, iron.unsure))
            causes += self._into_bodies(channel, iron)
        return causes

    def _cause(
        self, source: str, key: str, way: str, parts: ComplexArray, unsure: float,
    ) -> Cause:  # fmt: skip
        """A cause by what it gives through each wire, (wires, harmonics)."""
        whole = parts.sum(axis=0)
        names, which = self._grouped
        loudest = (np.abs(which @ parts) ** 2).sum(axis=1)
        most = names[int(np.argmax(loudest))] if len(names) else EARTH
        hertz = float(self.hertz[int(np.argmax(np.abs(whole)))])
        return Cause(source, key, way, f"the wires of {most.name}", f"net:{most.node}:{most.channel}", rms(whole),
                     hertz, unsure)  # fmt: skip

    @lazily
    def _grouped(self) -> tuple[list[Net], Array]:
        """The nets of signal, and which ways are of which: (nets, ways)."""
        names = [net for net in dict.fromkeys(self.humming.nets) if net != EARTH]
        places = {net: place for place, net in enumerate(names)}
        which = np.zeros((len(names), len(self.humming.nets)))
        for way, net in enumerate(self.humming.nets):
            if net in places:
                which[places[net], way] = 1.0
        return names, which

    def _into_bodies(self, channel: int, iron: IronSource) -> list[Cause]:
        """A stray field in output transformers and in tubes."""
        dipole, causes = self.humming.dipole(iron), []
        for body in self.laid.bodies:
            placed = self.placed.get(body.key)
            if placed is None or body is iron.body or body.channel not in (0, channel):
                continue
            at = self.humming.lowered(in_room(self.box, placed, (0.0, 0.0, body.sizes.above * 0.45)))
            emf = np.zeros(HARMONICS, dtype=complex)
            if body.nature.pickup == "core":
                axis = direction(self.box, placed, coil_axis(body))
                use = next(use for use in self.amplifier.compiled.transformers if use.block in body.blocks)
                emf = self._in_core(use.part, use.block) * self.humming.field(at, dipole, axis, iron)
                emf *= SCREEN_SHARE[body.screen or "none"]
                gain = self.transfers.of_terminal(Attached(use.part, 0, channel))
                causes.append(self._spot(iron, body, "in its core", gain * emf, iron.unsure * 1.5))
            elif body.nature.pickup == "electrodes":
                # Its leads stand upright, which way round is not known: what is level of the field goes through.
                across, along = (self.humming.field(at, dipole, axis, iron) for axis in np.eye(3)[:2])
                emf = -2j * np.pi * self.hertz * _TUBE_AREA * np.hypot(np.abs(across), np.abs(along))
                whole = np.zeros(HARMONICS, dtype=complex)
                for pin in body.pins:
                    for one in pin.attached:
                        if one.channel in (0, channel) and one.is_grid(self.amplifier.netlist):
                            whole += self.transfers.of_terminal(one) * emf
                causes.append(self._spot(iron, body, "inside the tube", whole, INSIDE_UNSURE * 1.5))
        return causes

    def _in_core(self, part: str, block: str) -> ComplexArray:
        """The EMF in a signal transformer's primary for 1 T along its coil, V: a core that its full power at its
        lowest frequency takes to ``_CORE_TESLA`` has so many turns times area."""
        use = next(
            (transformer for transformer in self.amplifier.compiled.transformers if transformer.block == block), None
        )
        rating = use.core if use else None
        ohm = (use.primary_ohm if use else 0.0) or 5000.0
        watt, low = (rating.watt, rating.hertz) if rating else (10.0, 40.0)
        linkage = np.sqrt(2 * watt * ohm) / (2 * np.pi * low) / _CORE_TESLA
        result: ComplexArray = -2j * np.pi * self.hertz * linkage * _GATHERS
        return result

    def _spot(self, iron: IronSource, body: Body, where: str, phasors: ComplexArray, unsure: float) -> Cause:
        hertz = float(self.hertz[int(np.argmax(np.abs(phasors)))])
        return Cause(iron.body.title, iron.body.key, "magnetic", f"{body.title}, {where}", body.key, rms(phasors),
                     hertz, unsure)  # fmt: skip

    # Capacitive.

    def _capacitive(self, channel: int, pushed: Sequence[Push]) -> list[Cause]:
        grouped: dict[str, dict[Net, ComplexArray]] = defaultdict(dict)
        first: dict[str, str] = {}
        for push in pushed:
            net = push.net
            if net.channel not in (0, channel):
                continue
            name = push.driver.name
            first.setdefault(name, push.driver.key)
            left = self.transfers.of_current(net.node) * push.amperes
            grouped[name][net] = grouped[name].get(net, 0) + left
        causes = []
        for name, by_net in grouped.items():
            whole = np.sum(list(by_net.values()), axis=0)
            net = max(by_net, key=lambda one: rms(by_net[one]))
            hertz = float(self.hertz[int(np.argmax(np.abs(whole)))])
            causes.append(Cause(name, first[name], "capacitive", f"the wires of {net.name}",
                                f"net:{net.node}:{net.channel}", rms(whole), hertz, CAPACITIVE_UNSURE))  # fmt: skip
        return causes

    def _earth(self, channel: int) -> list[Cause]:
        """What the returns leave across the earth wires."""
        weights = self.humming.earth_weights(channel)
        parts = weights * self.humming.earth_volts()
        whole = parts.sum(axis=0)
        place = int(np.argmax([rms(part) for part in parts])) if len(parts) else 0
        hertz = float(self.hertz[int(np.argmax(np.abs(whole)))])
        terminal = next(
            (earth for earth in self.laid.wiring.earths if earth.key == self.laid.earth.nodes[place]), None
        )
        path = f"the earth of {terminal.body.title}" if terminal else "earth"
        key = terminal.body.key if terminal else "earth"
        return [Cause("Returns in the earth wiring", "earth", "earth", path, key, rms(whole), hertz, EARTH_UNSURE)]

    def _beside_the_rails(self) -> tuple[str, str]:
        """What the hum is called where most of it gets in besides the rails, and the part."""
        off = [path for path, supply in self.amplifier.compiled.components(FilamentSupply) if supply.unbalance]
        if off:
            return "A filament off its balance", self.amplifier.compiled.designator(off[0])
        return "Mains by another way than the rails", ""

    def _elsewhere(self) -> list[Cause]:
        """What is there whatever the layout: ripple on the rails, and leakage in the tubes."""
        known, result = quiet(self.amplifier), []
        mains = self.amplifier.design.brief.mains_hertz
        if known.hum_volt > 0:
            rail = known.hum_causes[0].name if known.hum_causes else ""
            title, path = ("Ripple on the rails", rail) if rail else self._beside_the_rails()
            result.append(Cause(title, "rails", "supply", path, "rails", known.hum_volt, known.hum_hertz, 1.2))
        leaks = heater_hum(self.amplifier)
        if leaks:
            volt = float(np.sqrt(sum(leak.volt**2 for leak in leaks)))
            part = leaks[0].part
            result.append(
                Cause("Leakage from heaters to cathodes", "leak", "leakage", part, part, volt, mains, LEAK_UNSURE)
            )
        return result
