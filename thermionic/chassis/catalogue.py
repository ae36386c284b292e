"""Sizes of usual parts, from ``data/sizes.toml``, in metres and kilograms."""

from __future__ import annotations

import tomllib
from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cache
from importlib import resources
from math import cos, pi, sin
from typing import Any

from thermionic.chassis.document import Mount

MM = 1e-3
_COPPER_AND_IRON = 0.6 / 0.066**3  # kg/m³ of the cube of the lamination's length: EI 66 with a square stack


@dataclass(frozen=True)
class Opening:
    """A hole to be made, from the middle of its body: round, or width by height; with what it is made."""

    at: tuple[float, float]
    tool: str
    diameter: float | None = None
    width: float | None = None
    height: float | None = None
    keyway: str = ""


@dataclass(frozen=True)
class Sizes:
    """The measures of a body: across and along the sheet, above and below it; its holes; the places of its pins,
    (across, along, above), by name; its mass; where the figures are from."""

    across: float
    along: float
    above: float
    below: float
    openings: tuple[Opening, ...] = ()
    pins: dict[str, tuple[float, float, float]] | None = None
    kg: float = 0.0
    round: bool = False
    source: str = ""
    unsure: bool = False


@cache
def _data() -> dict[str, Any]:
    return tomllib.loads((resources.files("thermionic.chassis.data") / "sizes.toml").read_text())


def material(name: str) -> dict[str, float]:
    """A sheet's conductivity, S/m, relative permeability, density, kg/m³, and heat conduction, W/mK."""
    result: dict[str, float] = _data()["materials"][name]
    return result


def panel_kinds() -> tuple[str, ...]:
    """Everything that sits in a hole of its own."""
    return tuple(_data()["panel"])


def panel(kind: str, gangs: int = 1) -> Sizes:
    """A pot, a jack, a switch and so on; pins behind the panel, those of a pot for each gang. Raises KeyError."""
    raw = _data()["panel"][kind]
    across, along, deep = (MM * one for one in raw["body"])
    out = MM * raw["outside"][2]
    gang = MM * raw.get("gang", 0.0)
    pins = {}
    for number in range(gangs):
        for name, (u, v) in raw["pins"].items():
            depth = min(0.8 * deep, 0.012) + number * gang
            pins[f"{name} {number + 1}" if gangs > 1 else name] = (MM * u, MM * v, -depth)
    openings = tuple(_opening(hole) for hole in raw["holes"])
    return Sizes(
        max(across, MM * raw["outside"][0]), max(along, MM * raw["outside"][1]), out, deep + gang * (gangs - 1),
        openings, pins, raw["kg"], False, raw["source"], raw["unsure"],
    )  # fmt: skip


def _opening(raw: dict[str, Any]) -> Opening:
    sizes = {name: MM * raw[name] for name in ("diameter", "width", "height") if name in raw}
    return Opening((MM * raw["at"][0], MM * raw["at"][1]), raw["tool"], **sizes)


def panel_title(kind: str) -> str:
    """What it is called. Raises KeyError."""
    return str(_data()["panel"][kind]["title"])


def with_pins(sizes: Sizes, names: Iterable[str]) -> Sizes:
    """A socket's measures with a pin of each of these names; one that it does not have is taken to be in its middle,
    under the sheet."""
    known = sizes.pins or {}
    depth = min((at[2] for at in known.values()), default=0.0)
    missing = {name: (0.0, 0.0, depth) for name in names if name not in known}
    return replace(sizes, pins=known | missing) if missing else sizes


BOARD = 0.012  # m, that a board with sockets on it hangs below the sheet


def socket(base: str, diameter: float, height: float, unsure: bool, board: bool = False) -> Sizes:
    """A socket in the chassis with its tube in it, or on a board below, the tube standing through a hole of its own
    size. Pins, by their numbers, lie under the sheet; seen from below they run clockwise from the key or the gap,
    which is towards the front at no turn."""
    bases = _data()["sockets"]
    raw = bases.get(base, bases["other"])
    radius, step = MM * raw["circle"] / 2, 2 * pi / raw["positions"]
    pins = {}
    for number in range(1, raw["positions"] + 1):
        angle = -pi / 2 + step * (number - 1 + raw["first"])
        pins[str(number)] = (radius * cos(angle), radius * sin(angle), -MM * 15.0 - (BOARD if board else 0.0))
    pitch, screw = MM * raw["screws"]["pitch"], MM * raw["screws"]["diameter"]
    hole = MM * raw["hole"]
    openings = (
        Opening((0.0, 0.0), f"chassis punch or hole saw {raw['hole']:g} mm", hole, keyway=raw.get("keyway", "")),
        *(Opening((side * pitch / 2, 0.0), "drill", screw) for side in (-1, 1)),
    )
    body = max(MM * raw["body"], diameter)
    if board:
        clear = diameter + 0.005
        openings = (Opening((0.0, 0.0), f"hole saw, {clear / MM:.0f} mm for the glass", clear),
                    *(Opening((side * (clear / 2 + 0.008), 0.0), "drill", 0.0032) for side in (-1, 1)))  # fmt: skip
        return Sizes(
            body, body, max(height - BOARD, 0.01), MM * raw["below"] + BOARD, openings, pins,
            0.02 + 2.5e2 * diameter**2 * height, True, raw["source"], True,
        )  # fmt: skip
    return Sizes(
        body, body, height, MM * raw["below"], openings, pins, 0.02 + 2.5e2 * diameter**2 * height, True,
        raw["source"], raw["unsure"] or unsure or base not in bases,
    )  # fmt: skip


def lamination(va: float) -> float:
    """The length of the lamination that so many volt-amperes want, m: see the data."""
    wanted = 66.0 * (max(va, 0.1) / 25.0) ** (1 / 3.6)
    lengths = _data()["laminations"]["lengths"]
    return MM * float(next((length for length in lengths if length >= 0.97 * wanted), lengths[-1]))


def iron(va: float, mount: Mount, pins: tuple[str, ...]) -> Sizes:
    """A transformer or choke for so many volt-amperes, with its leads along its front edge.

    Laminations without waste: the I is 6 long where the window is 1 by 3 and the outside 5 high; a square stack of 2
    with a coil that stands 1 out on either side.
    """
    length = lamination(va)
    one = length / 6
    screw = 0.0042 if length < 0.09 else 0.0052
    openings: tuple[Opening, ...]
    if mount == "toroid":
        across = along = 1.05 * length
        above, below = 0.5 * length, 0.004
        openings = (Opening((0.0, 0.0), "drill", 0.0082),)
    elif mount == "through":
        across, along, above, below = 6 * one, 5 * one, 2.2 * one, 2.0 * one
        openings = (
            Opening((0.0, 0.0), "chain-drill and file, or nibble", None, 4.1 * one, 4.1 * one),
            *_corners(5.4 * one, 4.4 * one, screw),
        )
    elif mount == "lying":
        across, along, above, below = 6 * one, 5 * one, 4 * one, 0.006
        openings = _corners(5.4 * one, 4.4 * one, screw)
    else:
        across, along, above, below = 6 * one, 4 * one, 5 * one, 0.006
        openings = _corners(5.0 * one, 2.6 * one, screw)
    leads = Opening((0.0, -along / 2 - 0.009), "step drill, with a grommet", 0.0095)
    places = {
        name: ((number - (len(pins) - 1) / 2) * 0.006, -along / 2 - 0.004, -0.012) for number, name in enumerate(pins)
    }
    return Sizes(
        across, along, above, below, openings if mount == "through" else (*openings, leads), places,
        _COPPER_AND_IRON * length**3, mount == "toroid", _data()["laminations"]["source"], True,
    )  # fmt: skip


def _corners(width: float, height: float, screw: float) -> tuple[Opening, ...]:
    return tuple(Opening((u * width / 2, v * height / 2), "drill", screw) for u in (-1, 1) for v in (-1, 1))


def can(farad: float, volt: float, made: str, lying: bool = False) -> Sizes:
    """A smoothing capacitor: an electrolytic standing in a clamp, or lying in two with a lead at either end, film and
    oil as blocks. Its volume goes as what it
    stores: some 0.9 litres a farad-volt electrolytic, six times that in film, ten in oil."""
    litres = max(farad * volt, 1e-5) * {"electrolytic": 0.9, "film": 5.5, "oil": 9.0}[made]
    wanted = (4 * litres * 1e-3 / (pi * 1.6)) ** (1 / 3)
    if made == "electrolytic":
        diameter = next(
            (one for one in (0.018, 0.022, 0.025, 0.03, 0.035, 0.04, 0.05) if one >= 0.97 * wanted), 0.065
        )
        height = max(4 * litres * 1e-3 / (pi * diameter**2), 0.025)
        openings = (
            Opening((0.0, 0.0), "hole saw", diameter + 0.001),
            *(Opening((side * (diameter / 2 + 0.007), 0.0), "drill", 0.0032) for side in (-1, 1)),
        )
        if lying:
            return Sizes(
                height, diameter, diameter, 0.004, _corners(0.6 * height, diameter + 0.008, 0.0032),
                {"plus": (height / 2 + 0.006, 0.0, diameter / 2), "minus": (-height / 2 - 0.006, 0.0, diameter / 2)},
                1.4e3 * litres * 1e-3, False, "by what it stores; makers differ by a third", True,
            )  # fmt: skip
        across = diameter + 0.022 if diameter > 0.02 else diameter
        return Sizes(
            across, diameter, height, 0.012, openings,
            {"plus": (0.004, 0.0, -0.012), "minus": (-0.004, 0.0, -0.012)}, 1.4e3 * litres * 1e-3, True,
            "by what it stores; makers differ by a third", True,
        )  # fmt: skip
    side = (litres * 1e-3 / 1.2) ** (1 / 3)
    return Sizes(
        side, side, 1.2 * side, 0.012, _corners(0.8 * side, 0.8 * side, 0.0042),
        {"plus": (0.006, 0.0, -0.012), "minus": (-0.006, 0.0, -0.012)}, 1.3e3 * litres * 1e-3, False,
        "by what it stores; makers differ by a third", True,
    )  # fmt: skip


def strip_kinds() -> tuple[str, ...]:
    """The strips and boards that small parts hang on."""
    return tuple(_data()["strips"])


def strip(nets: int, kind: str) -> Sizes:
    """A strip or board of a kind with a lug for each net, in as many rows as it takes; feet near both ends of each
    row. Raises KeyError for another kind."""
    raw = _data()["strips"][kind]
    pitch, gap = MM * raw["pitch"], MM * raw["gap"]
    rows = max(raw["rows"], -(-nets // raw["most"]))
    columns = max(3, -(-nets // rows))
    across, along = columns * pitch, MM * raw["width"] + (rows - 1) * gap
    pins = {
        str(number + 1): (
            (number % columns - (columns - 1) / 2) * pitch, (number // columns - (rows - 1) / 2) * gap,
            MM * raw["lug"],
        )
        for number in range(nets)
    }  # fmt: skip
    feet = tuple(
        Opening((side * (columns / 2 - 1.0) * pitch, (row - (rows - 1) / 2) * gap), "drill", 0.0032)
        for row in range(rows)
        for side in ((-1, 1) if columns > 4 else (0,))
    )
    return Sizes(across, along, MM * raw["height"], 0.004, feet, pins, 0.002 * nets + 0.02, False, raw["source"],
                 raw["unsure"])  # fmt: skip


SEAT = 0.014  # m, of a transistor and its washer under its heat-sink's fins, on either side of the sheet
SINK = 500e-6  # m³K/W of a finned heat-sink in still air: a usual figure for natural convection


def sink(kelvin_per_watt: float, pins: tuple[str, ...]) -> Sizes:
    """A transistor on its heat-sink."""
    side = (SINK / max(kelvin_per_watt, 0.3) / 0.6) ** (1 / 3)
    places = {name: ((number - (len(pins) - 1) / 2) * 0.005, 0.0, 0.02) for number, name in enumerate(pins)}
    return Sizes(side, side, 0.6 * side + SEAT - 0.004, 0.004, _corners(0.7 * side, 0.7 * side, 0.0032), places,
                 1.1e3 * 0.3 * side**3, False, "by its kelvin per watt", True)  # fmt: skip


def resized(sizes: Sizes, across: float, along: float, above: float, below: float, source: str) -> Sizes:
    """The same with measures that somebody took; holes and pins keep their places in proportion."""
    p, q = across / sizes.across, along / sizes.along
    return replace(
        sizes, across=across, along=along, above=above, below=below, source=source, unsure=False,
        openings=tuple(replace(opening, at=(p * opening.at[0], q * opening.at[1])) for opening in sizes.openings),
        pins={name: (p * at[0], q * at[1], at[2]) for name, at in (sizes.pins or {}).items()},
    )  # fmt: skip
