"""A layout: what the builder decided about where everything goes. Lengths are metres, turns degrees anticlockwise as
seen from outside the face.

A face's own coordinates, u to the right and v up, are as it is seen from outside: the top from above with its front
edge below, the sides and the bottom as one walks round the box (see ``geometry``).
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, ValidationError, model_validator

from thermionic.blocks.fields import Model, named
from thermionic.errors import ThermionicError

Face = Literal["top", "front", "rear", "left", "right", "bottom"]
FACES: tuple[Face, ...] = ("top", "front", "rear", "left", "right", "bottom")
# How iron and cans stand, and whether a socket is in the sheet or on a board below it.
Mount = Literal["upright", "lying", "through", "toroid", "chassis", "board"]
MOUNTS: dict[str, tuple[Mount, ...]] = {
    "iron": ("upright", "lying", "through", "toroid"), "can": ("upright", "lying"), "socket": ("chassis", "board"),
}  # fmt: skip
# The direction of a coil within its iron: up, or level, across the body or along it before it is turned.
CoilAxis = Literal["vertical", "across", "along"]
USUAL_AXIS: dict[Mount, CoilAxis] = {
    "upright": "vertical", "toroid": "vertical", "lying": "along", "through": "along",
}  # fmt: skip
MOST = 400
# What is round a transformer or choke: a copper band round core and coil, or a steel can over it.
Screen = Literal["none", "copper band", "steel can"]
StripKind = Literal["tag strip", "tag board", "turret board"]
School = Literal["star", "bus", "local stars", "chassis", "daisy chain"]
Text = Annotated[str, Field(min_length=1, max_length=60)]
Key = Annotated[str, Field(min_length=1, max_length=90)]
Place = Annotated[float, Field(ge=-2.0, le=2.0)]


class LayoutRefused(ThermionicError):
    """A layout that cannot be: what is wrong with it, in a sentence."""


class Box(Model):
    """The box: outside measures, its sheet, and what closes it. ``lip`` is the inner flange along the open edges."""

    width: Annotated[float, Field(ge=0.06, le=1.0)] = named("Width", 0.42)
    depth: Annotated[float, Field(ge=0.06, le=0.8)] = named("Depth", 0.28)
    height: Annotated[float, Field(ge=0.025, le=0.3)] = named("Height", 0.07)
    sheet: Annotated[float, Field(ge=0.0005, le=0.006)] = named("Sheet", 0.002)
    material: Literal["aluminium", "steel", "copper"] = named("Material", "aluminium")
    built: Literal["folded", "welded", "rack case", "bought or reused"] = named("Built as", "folded")
    lip: Annotated[float, Field(ge=0.0, le=0.03)] = named("Lip", 0.012)
    bottom: bool = named("Bottom plate", True)
    lid: Annotated[float, Field(ge=0.0, le=0.5)] = named("Room under a lid (0: none)", 0.0)
    surround: Annotated[float, Field(ge=0.0, le=0.05)] = named("Wooden surround, thickness", 0.0)

    @model_validator(mode="after")
    def _hollow(self) -> Box:
        if 2 * self.lip > 0.8 * min(self.width, self.depth):
            raise ValueError("The lips would meet in the middle; they are at most two fifths of the shorter side.")
        return self


class Size(Model):
    """The measures of a body that the builder took, or knows better: across, along and above the sheet, below it."""

    across: Annotated[float, Field(gt=0.0, le=0.5)]
    along: Annotated[float, Field(gt=0.0, le=0.5)]
    above: Annotated[float, Field(ge=0.0, le=0.5)]
    below: Annotated[float, Field(ge=0.0, le=0.3)]
    source: Text = "measured by you"


class Placed(Model):
    """Where a body is: its middle on a face, its turn, and whether it is fixed to the face from within.

    ``raised`` lifts it off the sheet (below nothing: sunk). What is ``pinned`` stays where it is when the rest is
    arranged. Iron has a ``screen``, and a ``coil`` whose axis is the usual one of its mount where it is None; small
    parts are on one kind of ``strip``, with its earth at one of its lugs.
    """

    body: Key
    face: Face = "top"
    u: Place
    v: Place
    turn: Annotated[float, Field(ge=0.0, lt=360.0)] = 0.0
    inside: bool = False
    raised: Annotated[float, Field(ge=-0.1, le=0.1)] = 0.0
    pinned: bool = False
    mount: Mount | None = None
    screen: Screen | None = None
    coil: CoilAxis | None = None
    strip: StripKind | None = None
    earth_lug: Annotated[int, Field(ge=1, le=MOST)] | None = None


class Fitting(Model):
    """Something that the design does not ask for: a foot, a vent, a handle, a meter."""

    key: Annotated[str, Field(pattern=r"^fitting:[a-z -]{2,20}:[0-9]{1,3}$")]
    name: Annotated[str, Field(max_length=60)] = ""

    @property
    def kind(self) -> str:
        """Which of the sizes it has."""
        return self.key.split(":")[1]


class WireChoice(Model):
    """What the builder chose of a wire: its shield, at which ends that is earthed, and the bends of its way, each
    (x, y), m; None to be routed."""

    wire: Annotated[str, Field(min_length=1, max_length=250)]
    shielded: bool = False
    screen: Literal["one end", "both ends"] = "one end"
    bends: Annotated[tuple[tuple[Place, Place], ...], Field(max_length=12)] | None = None


class Stray(Model):
    """What was measured of a transformer's stray field: µT rms on its axis, so far from its middle, m."""

    body: Key
    microtesla: Annotated[float, Field(gt=0.0, le=1e5)]
    distance: Annotated[float, Field(ge=0.03, le=1.0)]


class Hole(Model):
    """A hole that the box has already: round with a diameter, or width by height."""

    face: Face
    u: Place
    v: Place
    diameter: Annotated[float, Field(gt=0.0, le=0.3)] | None = None
    width: Annotated[float, Field(gt=0.0, le=0.5)] | None = None
    height: Annotated[float, Field(gt=0.0, le=0.5)] | None = None

    @model_validator(mode="after")
    def _sized(self) -> Hole:
        if (self.diameter is None) == (self.width is None or self.height is None):
            raise ValueError("A hole has a diameter, or a width and a height.")
        return self


class Earthing(Model):
    """How signal earth is wired; ``bolt`` says whether its one connection to the chassis is at the inputs or at the
    supply, ``breaker`` whether a loop breaker is in that (never in protective earth)."""

    school: School = named("Earths", "bus")
    bolt: Literal["inputs", "supply"] = named("Chassis connection at the", "inputs")
    breaker: bool = named("Loop breaker", False)
    gauge: Annotated[float, Field(ge=0.1, le=10.0)] = named("Earth wire, mm²", 0.75)
    jacks_insulated: bool = named("Jacks insulated from the panel", True)
    protective_gauge: Annotated[float, Field(ge=0.1, le=16.0)] = named("Protective earth, mm²", 1.5)


class Layout(Model):
    """One layout of an amplifier."""

    format: Literal["bold-anode-layout"] = "bold-anode-layout"
    version: Literal[1] = 1
    name: Text = "First layout"
    box: Box = Box()
    placed: Annotated[tuple[Placed, ...], Field(max_length=MOST)] = ()
    fittings: Annotated[tuple[Fitting, ...], Field(max_length=60)] = ()
    sizes: dict[Key, Size] = Field(default_factory=dict, max_length=MOST)
    wires: Annotated[tuple[WireChoice, ...], Field(max_length=MOST)] = ()
    colours: dict[Annotated[str, Field(max_length=20)], Annotated[str, Field(min_length=1, max_length=30)]] = Field(
        default_factory=dict, max_length=12
    )
    strays: Annotated[tuple[Stray, ...], Field(max_length=40)] = ()
    holes: Annotated[tuple[Hole, ...], Field(max_length=MOST)] = ()
    earthing: Earthing = Earthing()
    measured_volt: Annotated[float, Field(gt=0.0, le=10.0)] | None = named("Hum measured at the load, V rms", None)
    heater_pitch: Annotated[float, Field(ge=0.0, le=0.2)] = named("Twist of the heater pairs (0: none)", 0.015)

    @model_validator(mode="after")
    def _once(self) -> Layout:
        for what, keys in (
            ("placed", [placed_body.body for placed_body in self.placed]),
            ("a fitting", [fitting.key for fitting in self.fittings]),
            ("chosen as a wire", [wire.wire for wire in self.wires]),
        ):
            twice = next((key for key in keys if keys.count(key) > 1), None)
            if twice is not None:
                raise ValueError(f"{twice} is {what} twice.")
        return self

    def of(self, body: str) -> Placed | None:
        """Where a body is; None for one that is not placed."""
        return next((placed_body for placed_body in self.placed if placed_body.body == body), None)

    def with_placed(self, *changed: Placed) -> Layout:
        """The same with bodies placed, or placed elsewhere."""
        by_key = {placed_body.body: placed_body for placed_body in self.placed} | {one.body: one for one in changed}
        return self.model_copy(update={"placed": tuple(by_key.values())})

    def choice(self, wire: str) -> WireChoice:
        """What was chosen of a wire."""
        return next((one for one in self.wires if one.wire == wire), WireChoice(wire=wire or "none"))


def read_layout(raw: Any) -> Layout:
    """A layout from its document. Raises LayoutRefused, with the place."""
    if isinstance(raw, dict) and raw.get("format", "bold-anode-layout") != "bold-anode-layout":
        raise LayoutRefused(f"This is no layout: its format is “{str(raw['format'])[:40]}”.")
    try:
        return Layout.model_validate(raw)
    except ValidationError as wrong:
        first = wrong.errors()[0]
        place = "/".join(str(part) for part in first["loc"]) or "the layout"
        raise LayoutRefused(f"{place}: {first['msg'].removeprefix('Value error, ')}") from None


def changed_layout(layout: Layout, **changes: Any) -> Layout:
    """A layout with other values, checked. Raises LayoutRefused."""
    return read_layout(layout.model_dump(mode="json") | changes)
