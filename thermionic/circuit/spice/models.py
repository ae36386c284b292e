"""``.model`` cards, and the parts that a semiconductor with such a model comes to."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np

from thermionic import devices
from thermionic.circuit.spice.expressions import constant
from thermionic.errors import NetlistRefused

Parts = Iterator[tuple[str, devices.Device, tuple[str, ...]]]

# Parameters that are read, with SPICE's defaults; and those that change nothing at 27 °C or in what is solved.
_KNOWN = {
    "d": {"is": 1e-14, "n": 1.0, "rs": 0.0, "bv": np.inf, "ibv": 1e-3, "cjo": 0.0, "vj": 1.0, "m": 0.5, "tt": 0.0},
    "bjt": {"is": 1e-16, "bf": 100.0, "br": 1.0, "nf": 1.0, "nr": 1.0, "vaf": np.inf, "ikf": np.inf,
            "ise": 0.0, "ne": 1.5, "isc": 0.0, "nc": 2.0, "rb": 0.0, "rc": 0.0, "re": 0.0,
            "cje": 0.0, "vje": 0.75, "mje": 0.33, "tf": 0.0, "cjc": 0.0, "vjc": 0.75, "mjc": 0.33, "tr": 0.0},
    "mos": {"level": 1.0, "vto": 0.0, "kp": 2e-5, "lambda": 0.0, "is": 1e-14, "rd": 0.0, "rs": 0.0,
            "cgso": 0.0, "cgdo": 0.0},
}  # fmt: skip
_ALIASES = {"cj0": "cjo", "va": "vaf", "ik": "ikf", "pe": "vje", "pc": "vjc", "me": "mje", "mc": "mjc", "jbv": "ibv"}
_WITHOUT_EFFECT = {"eg", "xti", "tnom", "kf", "af", "fc", "xtb", "gamma", "phi", "mfg", "type", "iave", "vpk"}
_KINDS = {"d": "d", "npn": "bjt", "pnp": "bjt", "nmos": "mos", "pmos": "mos"}
_NEVER = 1e9


@dataclass(frozen=True)
class Model:
    """A model card: its kind in lower case (d, npn, pnp, nmos, pmos) and every parameter, given or by default."""

    name: str
    kind: str
    values: Mapping[str, float]

    def __getitem__(self, name: str) -> float:
        return self.values[name]


def read(text: str, parameters: Mapping[str, float]) -> Model:
    """A ``.model`` line. Raises NetlistRefused for a kind or a parameter that is not known."""
    found = re.fullmatch(r"\.model\s+(\S+)\s+([a-z]+)\s*\(?(.*?)\)?\s*", text, flags=re.IGNORECASE)
    if not found:
        raise NetlistRefused("a .model wants a name, a kind and parameters.")
    name, kind, body = found[1], found[2].lower(), found[3]
    if kind not in _KINDS:
        raise NetlistRefused(f"the model kind {found[2]} is not known; there are {', '.join(_KINDS)}.")
    known = _KNOWN[_KINDS[kind]]
    values = dict(known)
    pairs = re.findall(r"(\w+)\s*=\s*(\{[^}]*\}|'[^']*'|[^\s,()]+)", body)
    rest = re.sub(r"(\w+)\s*=\s*(\{[^}]*\}|'[^']*'|[^\s,()]+)", "", body).strip(" ,")
    if rest:
        raise NetlistRefused(f"“{rest[:40]}” makes no sense in a .model.")
    for key, value in pairs:
        low = _ALIASES.get(key.lower(), key.lower())
        if low in _WITHOUT_EFFECT:
            continue
        if low not in known:
            raise NetlistRefused(f"the parameter {key} of model {name} is not known; there are {', '.join(known)}.")
        values[low] = constant(value.strip("{}'"), parameters)
    if kind in ("nmos", "pmos") and values["level"] != 1:
        raise NetlistRefused(f"model {name} is level {values['level']:g}; level 1 is known.")
    return Model(name.lower(), kind, values)


def _wanted(model: Model, name: str, *kinds: str) -> None:
    if model.kind not in kinds:
        raise NetlistRefused(f"{name} uses the model {model.name}, which is of kind {model.kind}, not {kinds[0]}.")


def _above_zero(name: str, **sizes: float) -> None:
    for what, size in sizes.items():
        if not size > 0:
            raise NetlistRefused(f"the {what} of {name} is {size:g}; it must be above zero.")


def diode(model: Model, name: str, nodes: tuple[str, ...], area: float) -> Parts:
    """The parts of a diode of a model, ``area`` times as large."""
    _wanted(model, name, "d")
    _above_zero(name, area=area)
    saturation, broken = area * model["is"], np.isfinite(model["bv"])
    junction = devices.Diode(
        saturation,
        model["n"],
        model["rs"] / area,
        model["bv"] if broken else 1e6,
        area * model["ibv"],
    )
    charge = devices.JunctionCharge(area * model["cjo"], model["vj"], model["m"], model["tt"], saturation, model["n"])
    inside = nodes
    if model["rs"] > 0 and (model["cjo"] or model["tt"] or broken):
        # The charge and the breakdown are behind the resistance, so it becomes a part of its own.
        inside = (f"{name}__a", nodes[1])
        yield f"{name}__rs", devices.Resistor(model["rs"] / area), (nodes[0], inside[0])
        junction = replace(junction, ohm=0.0)
    yield name, junction, inside
    if model["cjo"] or model["tt"]:
        yield f"{name}__charge", charge, inside


def bipolar(model: Model, name: str, nodes: tuple[str, ...], area: float) -> Parts:
    """The parts of a transistor of a model: collector, base, emitter."""
    _wanted(model, name, "npn", "pnp")
    _above_zero(name, area=area)
    polarity = 1 if model.kind == "npn" else -1
    inside = list(nodes)
    for place, (key, letter) in enumerate((("rc", "c"), ("rb", "b"), ("re", "e"))):
        if model[key] > 0:
            inside[place] = f"{name}__{letter}"
            yield f"{name}__{key}", devices.Resistor(model[key] / area), (nodes[place], inside[place])
    collector, base, emitter = inside
    saturation = area * model["is"]
    yield (
        name,
        devices.BipolarTransistor(
            saturation,
            model["bf"],
            model["br"],
            model["vaf"] if model["vaf"] > 0 and np.isfinite(model["vaf"]) else _NEVER,
            area * model["ikf"] if model["ikf"] > 0 and np.isfinite(model["ikf"]) else _NEVER,
            model["nf"],
            model["nr"],
            polarity,
        ),
        (collector, base, emitter),
    )
    for leak, emission, end in (("ise", "ne", emitter), ("isc", "nc", collector)):
        if model[leak] > 0:
            ends = (base, end) if polarity > 0 else (end, base)
            yield f"{name}__{leak}", devices.Diode(area * model[leak], model[emission]), ends
    for farad, built, grading, transit, emission, end in (
        ("cje", "vje", "mje", "tf", "nf", emitter),
        ("cjc", "vjc", "mjc", "tr", "nr", collector),
    ):
        if model[farad] > 0 or model[transit] > 0:
            charge = devices.JunctionCharge(
                area * model[farad],
                model[built],
                model[grading],
                model[transit],
                saturation,
                model[emission],
                polarity,
            )
            yield f"{name}__{farad}", charge, (base, end)


def mosfet(model: Model, name: str, nodes: tuple[str, ...], width: float, length: float) -> Parts:
    """The parts of a MOSFET of a model: drain, gate, source."""
    _wanted(model, name, "nmos", "pmos")
    _above_zero(name, width=width, length=length)
    polarity = 1 if model.kind == "nmos" else -1
    inside = list(nodes)
    for place, key in ((0, "rd"), (2, "rs")):
        if model[key] > 0:
            inside[place] = f"{name}__{key[1]}"
            yield f"{name}__{key}", devices.Resistor(model[key]), (nodes[place], inside[place])
    yield (
        name,
        devices.Mosfet(
            polarity * model["vto"],
            model["kp"] * width / length,
            model["lambda"],
            model["is"],
            model["cgso"] * width,
            model["cgdo"] * width,
            polarity,
        ),
        tuple(inside),
    )
