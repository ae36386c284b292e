"""Published or measured points of a tube, and how far a model is from them."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, fields

import numpy as np

from thermionic.devices import Pentode, Triode, VacuumRectifier
from thermionic.errors import FitRefused


@dataclass(frozen=True)
class Point:
    """An operating point of a triode in SI units; what the source does not give is None.

    A pentode's point has its screen voltage and current too; ``strapped`` says that the pentode was measured as a
    triode, its screen on its anode, and ``anode_a`` is then the sum of both currents.
    """

    anode_v: float
    grid_v: float
    anode_a: float
    gm_s: float | None = None
    mu: float | None = None
    ra_ohm: float | None = None
    screen_v: float | None = None
    screen_a: float | None = None
    strapped: bool = False
    source: str = ""
    unsure: bool = False


@dataclass(frozen=True)
class Cutoff:
    """The current, A, or for a remote cut-off the transconductance, S, that is left at a very negative grid, V."""

    anode_v: float
    grid_v: float
    anode_a: float | None = None
    gm_s: float | None = None
    screen_v: float | None = None
    source: str = ""
    unsure: bool = False


@dataclass(frozen=True)
class GridCurrent:
    """A published grid current, A, with the grid positive, V."""

    grid_v: float
    grid_a: float
    source: str = ""
    unsure: bool = False


@dataclass(frozen=True)
class Drop:
    """A rectifier's published drop, V, at a steady current in one anode, A."""

    drop_v: float
    anode_a: float
    source: str = ""
    unsure: bool = False


# What a point can be compared in.
FIGURES = ("anode_a", "screen_a", "gm_s", "mu", "ra_ohm")


def characteristics(
    device: Triode | Pentode, anode_v: float, grid_v: float, screen_v: float | None = None, strapped: bool = False
) -> dict[str, float]:
    """Currents and small-signal figures at a point, by the names of FIGURES with ``grid_a``; SI units.

    Of a pentode, mu is that of control grid to anode, gm ra; ``strapped`` ties its screen to the anode. mu and ra are
    infinite where the tube is cut off. Raises ValueError if a pentode's screen voltage is wanting.
    """
    if isinstance(device, Triode):
        i, g = device.currents(np.array([grid_v, anode_v], dtype=float))
        anode, gm, ga, grid = float(i[1]), float(g[1, 0]), float(g[1, 1]), float(i[0])
        result = {"anode_a": anode, "grid_a": grid, "gm_s": gm}
    else:
        if strapped:
            screen_v = anode_v
        if screen_v is None:
            raise ValueError("a pentode's point needs its screen voltage")
        i, g = device.currents(np.array([grid_v, screen_v, anode_v], dtype=float))
        if strapped:
            gm, ga = float(g[1, 0] + g[2, 0]), float(np.sum(g[1:, 1:]))
            result = {"anode_a": float(i[1] + i[2]), "grid_a": float(i[0]), "gm_s": gm}
        else:
            gm, ga = float(g[2, 0]), float(g[2, 2])
            result = {"anode_a": float(i[2]), "screen_a": float(i[1]), "grid_a": float(i[0]), "gm_s": gm}
    result["mu"] = gm / ga if ga > 0 else float("inf")
    result["ra_ohm"] = 1 / ga if ga > 0 else float("inf")
    return result


def errors(device: Triode | Pentode, point: Point) -> dict[str, float]:
    """The model's relative error at a point, for each figure that the point gives."""
    model = characteristics(device, point.anode_v, point.grid_v, point.screen_v, point.strapped)
    return {
        key: model[key] / published - 1.0
        for key in FIGURES
        if key in model and (published := getattr(point, key)) is not None
    }


def cutoff_ratio(device: Triode | Pentode, cutoff: Cutoff) -> float:
    """What the model leaves at a published cut-off, over what is published."""
    model = characteristics(device, cutoff.anode_v, cutoff.grid_v, cutoff.screen_v)
    if cutoff.anode_a is not None:
        return model["anode_a"] / cutoff.anode_a
    assert cutoff.gm_s is not None
    return model["gm_s"] / cutoff.gm_s


def drop_error(device: VacuumRectifier, drop: Drop) -> float:
    """The model's relative error in a published drop."""
    perveance = float(device.perveance)
    return float((drop.anode_a / perveance) ** (2 / 3) / drop.drop_v - 1.0)


_COLUMNS: Mapping[str, tuple[str, ...]] = {
    "triode": ("anode_v", "grid_v", "anode_a", "gm_s", "mu", "ra_ohm"),
    "pentode": ("anode_v", "screen_v", "grid_v", "anode_a", "screen_a", "gm_s", "ra_ohm"),
    "rectifier": ("drop_v", "anode_a"),
}
_NEEDED: Mapping[str, tuple[str, ...]] = {
    "triode": ("anode_v", "grid_v", "anode_a"),
    "pentode": ("anode_v", "screen_v", "grid_v", "anode_a"),
    "rectifier": ("drop_v", "anode_a"),
}
_RANGES: Mapping[str, tuple[float, float]] = {
    "anode_v": (0.0, 5000.0), "screen_v": (0.0, 2000.0), "grid_v": (-1000.0, 100.0), "drop_v": (0.1, 500.0),
    "anode_a": (0.0, 10.0), "screen_a": (0.0, 5.0), "gm_s": (1e-6, 0.2), "mu": (0.5, 500.0), "ra_ohm": (10.0, 1e8),
}  # fmt: skip
KINDS = tuple(_COLUMNS)


def read_points(text: str, kind: str) -> tuple[Point, ...] | tuple[Drop, ...]:
    """Points from CSV with a heading line, SI units: volts, amperes, siemens, ohms.

    Columns for a triode: anode_v, grid_v, anode_a, and if known gm_s, mu, ra_ohm. For a pentode screen_v too, and
    if known screen_a. For a rectifier drop_v and anode_a. Other columns are ignored; an empty cell is not known.
    Raises FitRefused, by line, for anything that is not a number or could not be one of a tube.
    """
    if kind not in _COLUMNS:
        raise FitRefused(f"“{kind}” cannot be fitted; there are {', '.join(_COLUMNS)}.")
    known, needed = _COLUMNS[kind], _NEEDED[kind]
    sample = text.lstrip("\ufeff")
    delimiter = ";" if sample.split("\n", 1)[0].count(";") > sample.split("\n", 1)[0].count(",") else ","
    rows = _lines(csv.reader(io.StringIO(sample, newline=None), delimiter=delimiter))
    heading = [cell.strip().lower() for cell in next(rows, [])]
    missing = [name for name in needed if name not in heading]
    if missing:
        raise FitRefused(
            f"The first line must name the columns. Wanting: {', '.join(missing)}. "
            f"Known for a {kind}: {', '.join(known)}."
        )
    points: list[dict[str, float]] = []
    for line, cells in enumerate(rows, start=2):
        if not any(cell.strip() for cell in cells) or cells[0].lstrip().startswith("#"):
            continue
        values: dict[str, float] = {}
        for name, cell in zip(heading, cells, strict=False):
            if name in known and cell.strip():
                try:
                    value = float(cell)
                except ValueError:
                    raise FitRefused(f"Line {line}: “{cell[:30]}” under {name} is not a number.") from None
                low, high = _RANGES[name]
                if not low <= value <= high:
                    raise FitRefused(
                        f"Line {line}: {name} is {value:g}; it must be from {low:g} to {high:g} (volts, amperes, "
                        "siemens and ohms, not milliamperes)."
                    )
                values[name] = value
        absent = [name for name in needed if name not in values]
        if absent:
            raise FitRefused(f"Line {line} gives no {', '.join(absent)}.")
        points.append(values)
        if len(points) > 5000:
            raise FitRefused("More than 5000 points; thin them out.")
    made = Drop if kind == "rectifier" else Point
    return tuple(made(**values) for values in points)  # type: ignore[arg-type,return-value]


def _lines(reader: Iterator[list[str]]) -> Iterator[list[str]]:
    """The lines of a table. Raises FitRefused, by line, for what cannot be taken apart into cells."""
    line = 0
    while True:
        line += 1
        try:
            yield next(reader)
        except StopIteration:
            return
        except csv.Error as fault:
            raise FitRefused(f"Line {line} is no line of a table: {fault}.") from None


def distinct(points: Sequence[Point], name: str) -> int:
    """How many different values of a column there are among points that carry current."""
    assert name in {entry.name for entry in fields(Point)}
    return len({round(float(getattr(point, name) or 0.0), 3) for point in points if point.anode_a > 0})
