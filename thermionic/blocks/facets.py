"""What a compiled block says of itself, for all that reads a solved design without knowing its kind."""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

from thermionic import devices
from thermionic.blocks.fields import CoreRating
from thermionic.blocks.nodes import Node
from thermionic.tubes import Limits, TubeType
from thermionic.values import Quantity, display


class Bias(Enum):
    """How a tube is biased."""

    CATHODE = "cathode bias"
    FIXED = "fixed bias"
    LEAK = "grid-leak bias"


@dataclass(frozen=True)
class TubeUse:
    """One section at work. ``nodes`` maps its electrodes to nodes, ``knob`` is the path of the value that sets its
    current ("" if none), with ``knob_raises`` +1 where a larger value means more current, -1 less. ``side`` is a or b
    of a pair, "" else. ``source_node`` is where its signal comes from, before its coupling; ``section`` the letter of
    its section in the envelope."""

    block: str
    part: str
    envelope: str
    type: TubeType
    unit: str
    nodes: dict[str, Node]
    limits: Limits
    bias: Bias
    knob: str
    knob_raises: int
    side: str
    source_node: Node
    output: Node
    leak: str = ""
    section: str = "a"

    @property
    def path(self) -> str:
        """The path of its block."""
        return f"blocks/{self.block}"

    @property
    def anode(self) -> str:
        """Its anode's node."""
        return self.nodes["anode"]

    @property
    def cathode(self) -> str:
        """Its cathode's node."""
        return self.nodes["cathode"]

    @property
    def grid(self) -> str:
        """Its control grid's node."""
        return self.nodes["grid"]


@dataclass(frozen=True)
class RectifierUse:
    """A rectifying tube at work."""

    block: str
    part: str
    envelope: str
    type: TubeType


@dataclass(frozen=True)
class PassUse:
    """A transistor in series with a rail: its block and part, the path of its ratings, the nodes of drain, gate and
    source, and the node that its gate is held by (of which it follows the ripple, if it has any)."""

    block: str
    part: str
    path: str
    drain: Node
    gate: Node
    source: Node
    held: Node


@dataclass(frozen=True)
class BiasTrim:
    """A trimmer that sets a bias: its block, part and path, the path of the resistor that keeps the bias where its
    wiper opens, and whether that is fitted."""

    block: str
    part: str
    path: str
    guard: str
    guarded: bool


@dataclass(frozen=True)
class GasUse:
    """A gas tube at work as a regulator: its block, part, envelope and type; the parts of all in series with it, from
    the rail down; the paths of the resistor that feeds them and of a capacitor across them ("" if none)."""

    block: str
    part: str
    envelope: str
    type: TubeType
    chain: tuple[str, ...]
    resistor: str
    capacitor: str = ""


@dataclass(frozen=True)
class HeaterUse:
    """A heater at work: its block, the envelope, the resistance that stands for it and for how many bottles side by
    side that is; its volts and amperes as it is connected, and what is across each, Ω; which chain of its string it
    is in, and which channel of one that has both in series."""

    block: str
    envelope: str
    part: str
    count: int
    volt: float
    ampere: float
    shunt_ohm: float | None
    chain: int
    copy: int


@dataclass(frozen=True)
class HeaterFeed:
    """What feeds a heater string: its block, the node before its dropping resistor and that resistor's path and Ω
    ("", 0 for none), the winding's block ("" for DC), how it is held off earth, and by which node; ``source`` is the
    block that it is fed from, a winding or a rail's."""

    block: str
    node: Node
    dropping: str
    dropping_ohm: float
    winding: str
    reference: str
    held: Node
    source: str


@dataclass(frozen=True)
class Rail:
    """A supply rail: the node, the block and port that make it, and the path of what smooths it ("" if nothing)."""

    block: str
    node: Node
    capacitor: str = ""
    bias: bool = False
    port: str = "out"

    @property
    def name(self) -> str:
        """What it is called among all rails: its block, and its port where that is not the first."""
        return self.block if self.port == "out" else f"{self.block}_{self.port.removeprefix('out_')}"


@dataclass(frozen=True)
class Smoothing:
    """A resistor or choke in series with a rail: its block, its part and path, the nodes before and behind it."""

    block: str
    part: str
    path: str
    before: Node
    behind: Node


@dataclass(frozen=True)
class Standby:
    """A switch in a rail: the seconds after the mains at which it is closed, and the volts that it can break."""

    block: str
    part: str
    closes_at: float
    breaks_volt: float
    before: Node
    behind: Node


@dataclass(frozen=True)
class Wafer:
    """A rotary switch in the signal's way: its block, and the part of each of its contacts."""

    block: str
    parts: tuple[str, ...]


@dataclass(frozen=True)
class Indicated:
    """A lamp on a rail, the path of the resistor between, and the current that it is to light with."""

    block: str
    part: str
    rail: Node
    lamp: Node
    resistor: str
    ampere: float


@dataclass(frozen=True)
class LinearUse:
    """A three-terminal regulator at work: its block and part, the nodes of its input and output."""

    block: str
    part: str
    input: Node
    output: Node


@dataclass(frozen=True)
class ConverterUse:
    """A switching converter at work: the nodes of its input and output; the volts that its input must and may have,
    the current that it can deliver, and the seconds in which it comes up."""

    block: str
    part: str
    input: Node
    output: Node
    least_volt: float
    most_volt: float
    ampere: float
    rises_second: float


@dataclass(frozen=True)
class SeriesCapacitors:
    """Two capacitors in series from a rail to earth: paths of upper, lower and the resistor across each."""

    block: str
    node: Node
    upper: str
    lower: str
    balance: str


@dataclass(frozen=True)
class Load:
    """What the amplifier drives: a loudspeaker, headphones or the next box. ``tap_ohm`` is the load that its
    transformer tap is meant for, ``power`` whether watts are wanted of it, ``line_volt`` the level that the next box
    needs, V rms, ``ear_db`` what headphones give for 1 mW, dB re 20 uPa; None where there is no such thing."""

    block: str
    part: str
    node: Node
    ohm: float
    tap_ohm: float | None = None
    power: bool = True
    line_volt: float | None = None
    ear_db: float | None = None

    def written(self, output: float) -> str:
        """An output in words: watts if they are wanted of it, else volts."""
        return display(output, Quantity.POWER) if self.power else f"{display(output, Quantity.VOLTAGE)} rms"


@dataclass(frozen=True)
class Source:
    """A signal source: its part, its node, and its full level, V rms."""

    block: str
    part: str
    node: Node
    volt: float


@dataclass(frozen=True)
class TransformerUse:
    """A signal transformer: its part, the primary load it is meant to show (anode to anode for a pair; 0 where it is
    made for none), and its secondary taps by name and load, Ω. ``henry``, ``leakage_henry``, ``copper_ohm`` and
    ``farad`` are the whole primary's; ``tap_copper_ohm`` the secondary's copper up to each tap. ``halves`` are the
    places of the windings from rail to anode, of sides a and b; ``unused`` its ports that nothing takes from,
    ``turned`` whether the secondary is the other way round, ``hum_share`` the turns past the HT, of the primary's."""

    block: str
    part: str
    primary_ohm: float
    taps: dict[str, float]
    henry: float
    leakage_henry: float
    copper_ohm: float
    halves: tuple[tuple[int, ...], tuple[int, ...]]
    farad: float | None = None
    core: CoreRating | None = None
    tap_copper_ohm: dict[str, float] | None = None
    unused: tuple[str, ...] = ()
    turned: bool | None = None
    hum_share: float | None = None

    @property
    def path(self) -> str:
        """The path of its block."""
        return f"blocks/{self.block}"

    @property
    def is_pair(self) -> bool:
        """Whether its primary has a centre tap, for a pair."""
        return bool(self.halves[1])

    @property
    def made_for(self) -> devices.Core | None:
        """Its core as its rating makes it, None without a rating."""
        return self.core.core(self.henry, self.primary_ohm) if self.core else None


@dataclass(frozen=True)
class Loop:
    """A feedback path: the parts, side by side, that carry all of it between two nodes, and the path of the capacitor
    that may be put across its resistor ("" where there is none to put)."""

    block: str
    parts: tuple[str, ...]
    lead: str = ""

    @property
    def part(self) -> str:
        """The first of its parts."""
        return self.parts[0]


@dataclass(frozen=True)
class Core:
    """A mains transformer as its windings see it: the node of its primary behind everything in series with it,
    folded (see devices.MainsSource), the volts rms of its tap in use, and of the mains behind it; the part of its
    primary's copper, the volt-amperes that it is made for, and the volts rms of all its taps."""

    block: str
    node: Node
    tap_volt: float
    mains_volt: float
    part: str
    rating_va: float | None
    taps_volt: tuple[float, ...]


@dataclass(frozen=True)
class MainsSide:
    """What is before the mains transformers: its block, the part that is the mains, and the paths of the capacitors
    across the line and from there to protective earth ("" where there is none)."""

    block: str
    part: str
    line_capacitor: str
    earth_capacitor: str


@dataclass(frozen=True)
class Winding:
    """A mains winding as a rectifier finds it: open-circuit voltage (rms, each half if tapped) on the mains as it is,
    resistance (each half), the voltage that its primary is for, and whether it has a centre tap; with the core that
    it is on, if it shares one, and what its copper (each half's) is made for, A rms."""

    block: str
    volt: float
    ohm: float
    primary_volt: float
    hertz: float
    centre_tapped: bool
    core: Core | None = None
    rating_ampere: float | None = None


@dataclass(frozen=True)
class Copper:
    """The copper of a winding: its block, its part, the share of that part's heat that is in each half of it, where
    its halves conduct in turn, and what each half is made for, A rms."""

    block: str
    part: str
    share: float
    rating_ampere: float | None


@dataclass(frozen=True)
class Rectified:
    """A rectifier at work: its block and form, the winding's block, the part of each arm (of a bridge, the one that
    stands for all four), the nodes of its output. ``emf`` is the node of the winding's folded voltage; ``fills`` are
    the ends of what an arm fills, and ``far`` the node of the folded voltage that is on top of that backwards, ""
    in a bridge. A ``form`` of "coupled" is fed through a capacitor. ``diode`` is the path of its silicon or
    selenium, "" for a tube's alone; ``tube`` its envelope, if it has one."""

    block: str
    form: str
    winding: str
    parts: tuple[str, ...]
    plus: Node
    minus: Node
    emf: Node
    fills: tuple[Node, Node]
    far: Node
    diode: str = ""
    tube: str = ""
