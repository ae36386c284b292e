"""What is asked of a starting design."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from thermionic.design.iron import Piece


@dataclass(frozen=True)
class Wanted:
    """What is asked for. ``watt`` is into the load (loudspeaker and headphones), ``gain_db`` the gain at 1 kHz (phono
    and line). ``winding_volt`` is that of the mains winding at hand, rms, None where any can be had; ``tubes`` are
    the types at hand, ``screens`` how the output tubes should be connected, "" for any; ``highest_volt`` what no rail
    should pass; ``iron`` the pieces on the shelf."""

    sort: Literal["loudspeaker", "headphones", "phono", "line"]
    watt: float = 5.0
    gain_db: float | None = None
    load_ohm: float = 8.0
    source_volt: float = 2.0
    mains_volt: float = 230.0
    mains_hertz: float = 50.0
    winding_volt: float | None = None
    tubes: tuple[str, ...] = ()
    screens: Literal["", "triode", "ultra-linear", "pentode"] = ""
    channels: int = 2
    highest_volt: float | None = None
    iron: tuple[Piece, ...] = ()
