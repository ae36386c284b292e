"""What flows between blocks, and the fields that say from where a block takes it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum
from typing import Annotated, Any

from pydantic import Field


class Flow(Enum):
    """What a port carries. ``PLACE`` is any node that a block names, for feedback and extra parts."""

    SIGNAL = "signal"
    PAIR = "balanced pair"
    RAIL = "rail"
    BIAS = "bias"
    MAINS = "mains"
    CORE = "mains transformer"
    WINDING = "winding"
    BUCKED = "end of a primary past its HT"
    PLACE = "place"

    @property
    def orders(self) -> bool:
        """Whether a block comes after the one it takes this from. What goes back does not order."""
        return self not in (Flow.PLACE, Flow.BUCKED)


@dataclass(frozen=True)
class Takes:
    """Marks a field as a reference to another block's port, ``block.port``, carrying one of ``flows``."""

    flows: tuple[Flow, ...]


_PATTERN = r"^[a-z][a-z0-9_]*\.[a-z0-9_.]+$"
_Text = Annotated[str, Field(pattern=_PATTERN, max_length=80)]

SignalRef = Annotated[_Text, Takes((Flow.SIGNAL,))]
PairRef = Annotated[_Text, Takes((Flow.PAIR,))]
SignalOrPairRef = Annotated[_Text, Takes((Flow.SIGNAL, Flow.PAIR))]
RailRef = Annotated[_Text, Takes((Flow.RAIL,))]
# A screen hangs on a rail, or on a tap of the transformer that its anode drives.
ScreenRef = Annotated[_Text, Takes((Flow.RAIL, Flow.PLACE))]
# A section hangs on a rail, or on the end of an output transformer's primary that bucks its hum.
SectionRef = Annotated[_Text, Takes((Flow.RAIL, Flow.BUCKED))]
# A cathode returns to earth, or to a winding of the transformer that its anode drives.
TapRef = Annotated[_Text, Takes((Flow.PLACE,))]
BiasRef = Annotated[_Text, Takes((Flow.BIAS,))]
MainsRef = Annotated[_Text, Takes((Flow.MAINS,))]
CoreRef = Annotated[_Text, Takes((Flow.CORE,))]
WindingRef = Annotated[_Text, Takes((Flow.WINDING,))]
# Heaters are on a winding or, fed with DC, on a rail.
HeaterFeedRef = Annotated[_Text, Takes((Flow.WINDING, Flow.RAIL))]
PlaceRef = Annotated[_Text, Takes((Flow.PLACE, Flow.SIGNAL, Flow.RAIL, Flow.BIAS))]


def split(reference: str) -> tuple[str, str]:
    """A reference as block and port: ``transformer.8`` is the port 8 of transformer."""
    block, _, port = reference.partition(".")
    return block, port


def takes_in(metadata: Any) -> Takes | None:
    """The Takes among a field's marks."""
    return next((mark for mark in metadata if isinstance(mark, Takes)), None)


def block_at(path: str) -> str:
    """The block that a path of a design leads to or into, ``blocks/output/grid_leak`` to ``output``; "" for a path of
    something else."""
    kind, _, rest = path.partition("/")
    return rest.partition("/")[0] if kind == "blocks" else ""
