"""A layout of a solved amplifier, with everything that follows from where things are."""

from __future__ import annotations

from dataclasses import dataclass, replace

from thermionic.amplifier import SolvedAmplifier
from thermionic.chassis.arranging import order_of
from thermionic.chassis.bodies import bodies
from thermionic.chassis.body import Body
from thermionic.chassis.catalogue import material
from thermionic.chassis.causes import hums
from thermionic.chassis.document import Layout
from thermionic.chassis.earthing import EarthNetwork, earth_network
from thermionic.chassis.fields import Sheet
from thermionic.chassis.hum import LayoutHum
from thermionic.chassis.humming import Humming
from thermionic.chassis.transfer import Transfers, transfers
from thermionic.chassis.wires import Wiring
from thermionic.chassis.wiring import wired
from thermionic.lazily import lazily


@dataclass(frozen=True, eq=False)
class Laid:
    """A layout with everything that follows from where things are."""

    amplifier: SolvedAmplifier
    layout: Layout
    bodies: tuple[Body, ...]
    wiring: Wiring
    earth: EarthNetwork
    transfers: Transfers

    @lazily
    def sheet(self) -> Sheet:
        """The top sheet."""
        of = material(self.layout.box.material)
        return Sheet(self.layout.box.sheet, of["conductivity"], of["permeability"])

    def with_earth(self, network: EarthNetwork) -> Laid:
        """The same with another earth wiring."""
        return replace(self, earth=network)

    @lazily
    def humming(self) -> Humming:
        """What hums, and what that does."""
        return Humming(self)

    @lazily
    def hum(self) -> LayoutHum:
        """The hum of the worse channel. Raises Unbalanced."""
        self.humming.check_earth()
        return max(hums(self.humming), key=lambda hum: hum.volt)


def lay(amplifier: SolvedAmplifier, layout: Layout) -> Laid:
    """A layout of a solved amplifier."""
    result = bodies(amplifier, layout)
    wiring = wired(amplifier, result, layout)
    earth = earth_network(wiring, layout, order_of(result, amplifier.design))
    return Laid(amplifier, layout, result, wiring, earth, transfers(amplifier))
