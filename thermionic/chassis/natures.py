"""What is so of every body of a family: how it takes part in wiring, hum, heat and arrangement.

Whoever reads a body asks for what it does (``body.nature.mains_iron``), never for the name of its family. A family
that is not listed is a plain piece of hardware: a foot, a handle, a meter, a test point.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Pickup = Literal["", "core", "electrodes"]
Lane = Literal["", "mains iron", "output iron", "choke", "reservoir"]


@dataclass(frozen=True)
class Nature:
    """What is so of a family.

    - ``glass``: a tube in a socket: pulled by hand, hot on top, its pins may carry stoppers.
    - ``iron``: laminations with a coil; ``mains_iron``: with the mains on it; ``gapped``: with a supply's DC in
      it.
    - ``pickup``: where a magnetic field enters the signal.
    - ``mains_stop``: its place among what the mains pass before the transformer, from 0; None for all else.
    - ``protective_pin``: its pin in the protective earth's wire from the inlet to the bolt; "" for none.
    - ``earth_bolt``: where signal earth meets the sheet; ``on_panel``: its body may touch the panel that it is in;
      ``hub``: other earth returns may meet on it; ``can``: a smoothing capacitor, whose case may touch the sheet.
    - ``sink``: fins that cool what is bolted on; ``vent``: holes for air; ``warm``: its heat is judged by itself.
    - ``radiated``: the share of its heat that its neighbours see; ``into_box``: the share that goes into the box from
      above the sheet. Usual shares, unsure by half.
    - ``mounts``: the name of its ways of mounting in ``document.MOUNTS``; "" where there is one way only.
    - ``lane``: where arranging puts it on the sheet; ``corner``: where on the sheet it goes in every school.
    - ``across``: where arranging puts it on a wall, from its left, as a share of its width; ``across_later``: late in
      the signal's way; ``across_by_side``: what is added for the right channel and taken off for the left.
    """

    glass: bool = False
    iron: bool = False
    mains_iron: bool = False
    gapped: bool = False
    pickup: Pickup = ""
    mains_stop: int | None = None
    protective_pin: str = ""
    earth_bolt: bool = False
    on_panel: bool = False
    hub: bool = False
    can: bool = False
    sink: bool = False
    vent: bool = False
    warm: bool = False
    radiated: float = 0.3
    into_box: float = 0.5
    mounts: str = ""
    lane: Lane = ""
    across: float = 0.5
    across_later: float | None = None
    across_by_side: float = 0.0
    corner: tuple[float, float] | None = None


_IRON_INTO_BOX = 0.35

NATURES = {
    "tube": Nature(glass=True, pickup="electrodes", radiated=0.7, into_box=0.08, mounts="socket"),
    "transformer": Nature(iron=True, pickup="core", into_box=_IRON_INTO_BOX, mounts="iron", lane="output iron"),
    "mains transformer": Nature(
        iron=True, mains_iron=True, into_box=_IRON_INTO_BOX, mounts="iron", lane="mains iron"
    ),
    "choke": Nature(iron=True, gapped=True, into_box=_IRON_INTO_BOX, mounts="iron", lane="choke"),
    "capacitor": Nature(can=True, mounts="can", lane="reservoir"),
    "strip": Nature(hub=True, warm=True),
    "heat-sink": Nature(sink=True, warm=True),
    "vent": Nature(vent=True),
    "jack": Nature(on_panel=True, across=0.1, across_later=0.35, across_by_side=0.06),
    "terminals": Nature(across_by_side=0.11),
    "inlet": Nature(mains_stop=0, protective_pin="earth", across=0.93),
    "fuse": Nature(mains_stop=1, across=0.82),
    "mains switch": Nature(mains_stop=2, across=0.9),
    "earth bolt": Nature(protective_pin="bolt", across=0.97, corner=(0.95, 0.92)),
    "signal earth": Nature(earth_bolt=True, corner=(0.12, 0.9)),
    "pot": Nature(across=0.3),
    "rotary switch": Nature(across=0.2),
    "switch": Nature(across=0.75),
    "lamp": Nature(across=0.82),
}
PLAIN = Nature()


def nature(family: str) -> Nature:
    """What is so of a family by its name; of one that is not listed, of plain hardware."""
    return NATURES.get(family, PLAIN)
