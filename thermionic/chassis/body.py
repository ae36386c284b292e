"""What is placed on a chassis: bodies with their pins, and the part terminals that meet there."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.chassis.catalogue import Sizes
from thermionic.chassis.document import CoilAxis, Face, Mount, Screen
from thermionic.chassis.natures import Nature, nature
from thermionic.chassis.nets import Net
from thermionic.circuit.netlist import Netlist

OWN_EARTH = -1


@dataclass(frozen=True)
class Attached:
    """A terminal of a part, of one channel's copy of it, by its number among the part's terminals; OWN_EARTH for the
    earth that a part has without having it as a terminal: a converter's return."""

    part: str
    terminal: int
    channel: int

    def is_grid(self, netlist: Netlist) -> bool:
        """Whether it is a tube's grid in this netlist, which has the part."""
        return self.terminal != OWN_EARTH and netlist[self.part].device.terminals[self.terminal] == "grid"


@dataclass(frozen=True)
class Pin:
    """A place on a body where a wire is soldered: its name, (across, along, above) from the body's middle, m, the net
    that it is on (None for one that the netlist does not have), the part terminals that meet there, and whether it
    is a grid's, or behind a grid's stopper."""

    name: str
    at: tuple[float, float, float]
    net: Net | None = None
    attached: tuple[Attached, ...] = ()
    grid: bool = False


@dataclass(frozen=True)
class Body:
    """Something to be placed.

    ``family`` is what it is called (tube, transformer, choke, ...), ``nature`` what is so of all bodies of it,
    ``home`` the face that it usually goes on, within where ``inside``; ``watt`` what it turns to heat.
    Of iron, ``coil`` is the direction of its coil.
    ``heaters`` are the names of its heater pins; ``part`` and ``path`` those of the one part that it is, in the
    netlist and in the design, if it is one.
    """

    key: str
    title: str
    short: str
    family: str
    sizes: Sizes
    pins: tuple[Pin, ...] = ()
    home: Face = "top"
    inside: bool = False
    channel: int = 0
    watt: float = 0.0
    blocks: tuple[str, ...] = ()
    heaters: tuple[str, ...] = ()
    mount: Mount | None = None
    envelope: str = ""
    part: str = ""
    path: str = ""
    screen: Screen | None = None
    coil: CoilAxis = "vertical"

    @property
    def nature(self) -> Nature:
        """What is so of every body of its family."""
        return nature(self.family)

    def pin(self, name: str) -> Pin:
        """A pin by its name. Raises KeyError."""
        for pin in self.pins:
            if pin.name == name:
                return pin
        raise KeyError(name)


SIDES = {0: "", 1: " left", 2: " right"}
