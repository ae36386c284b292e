"""``.model`` cards: their kinds, their parameters with SPICE's defaults, and what a temperature makes of them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from thermionic.circuit.spice.expressions import constant
from thermionic.devices.base import BOLTZMANN, CHARGE, KELVIN
from thermionic.errors import NetlistRefused

# Parameters that are read, with SPICE's defaults; and those that change nothing in what is solved.
_CHANNEL = {"is": 1e-14, "rd": 0.0, "rs": 0.0}
_MOS = {
    **_CHANNEL, "level": 1.0, "vto": 0.0, "kp": 2e-5, "lambda": 0.0, "gamma": 0.0, "phi": 0.6, "rsh": 0.0,
    "rg": 0.0, "rb": 0.0, "rds": np.inf, "cgso": 0.0, "cgdo": 0.0, "cgbo": 0.0, "cbd": 0.0, "cbs": 0.0, "pb": 0.8,
    "mj": 0.5, "tt": 0.0, "n": 1.0, "tox": 0.0, "uo": 600.0, "theta": 0.0, "vmax": 0.0, "kappa": 0.2, "ld": 0.0,
    "eta": 0.0, "delta": 0.0, "nfs": 0.0, "nsub": 0.0, "w": 1e-4, "l": 1e-4,
}  # fmt: skip
_KNOWN: dict[str, dict[str, float]] = {
    "d": {"is": 1e-14, "n": 1.0, "rs": 0.0, "bv": np.inf, "ibv": 1e-3, "nbv": 0.0, "cjo": 0.0, "vj": 1.0, "m": 0.5,
          "tt": 0.0, "isr": 0.0, "nr": 2.0, "ikf": 0.0, "eg": 1.11, "xti": 3.0},
    "bjt": {"is": 1e-16, "bf": 100.0, "br": 1.0, "nf": 1.0, "nr": 1.0, "vaf": np.inf, "ikf": np.inf, "var": np.inf,
            "ikr": np.inf, "ise": 0.0, "ne": 1.5, "isc": 0.0, "nc": 2.0, "rb": 0.0, "rbm": -1.0, "irb": 0.0,
            "rc": 0.0, "re": 0.0, "cje": 0.0, "vje": 0.75, "mje": 0.33, "tf": 0.0, "xtf": 0.0, "vtf": np.inf,
            "itf": 0.0, "cjc": 0.0, "vjc": 0.75, "mjc": 0.33, "xcjc": 1.0, "tr": 0.0, "cjs": 0.0, "vjs": 0.75,
            "mjs": 0.0, "eg": 1.11, "xti": 3.0, "xtb": 0.0},
    "mos": _MOS,
    "vdmos": {"vto": 0.0, "kp": 1.0, "lambda": 0.0, "theta": 0.0, "mtriode": 1.0, "subshift": 0.0, "ksubthres": 0.1,
              "rd": 0.0, "rs": 0.0, "rg": 0.0, "rds": np.inf, "rb": 0.0, "cgs": 0.0, "cgdmin": 0.0, "cgdmax": 0.0,
              "a": 1.0, "is": 1e-14, "n": 1.0, "bv": np.inf, "ibv": 1e-10, "cjo": 0.0, "vj": 0.8, "m": 0.5,
              "tt": 0.0, "polarity": 1.0},
    "jfet": {**_CHANNEL, "vto": -2.0, "beta": 1e-4, "lambda": 0.0, "cgs": 0.0, "cgd": 0.0, "pb": 1.0, "m": 0.5,
             "n": 1.0},
    "sw": {"vt": 0.0, "vh": 0.0, "it": 0.0, "ih": 0.0, "ron": 1.0, "roff": 1e12},
    "r": {"r": 0.0, "tc1": 0.0, "tc2": 0.0},
    "c": {"c": 0.0},
    "l": {"l": 0.0},
}  # fmt: skip
_ALIASES = {
    "cj0": "cjo", "cj": "cjo", "va": "vaf", "vbf": "vaf", "ik": "ikf", "pe": "vje", "pc": "vjc", "me": "mje",
    "mc": "mjc", "jbv": "ibv", "vb": "var", "ccs": "cjs", "ps": "vjs", "ms": "mjs", "js": "is", "pj": "vj",
    "vt0": "vto", "vth": "vto", "mu": "uo", "nbvl": "nbv",
}  # fmt: skip
_WITHOUT_EFFECT = {
    "tnom", "kf", "af", "fc", "mfg", "type", "iave", "vpk", "ptf", "tc", "ron", "qg", "vds", "xc", "nk", "iss", "ns",
    "trs", "trs1", "trs2", "tbv1", "tbv2", "tcv", "tikf", "trb1", "trb2", "trc1", "trc2", "tre1", "tre2", "vtotc",
    "betatce", "tikf1", "nss", "tpg", "xj", "pbsw", "cjsw", "mjsw", "cox", "b", "tt1", "cta", "jsw", "kfn",
    "nch", "wd", "rthjc", "rthca", "cthj", "rthja", "tksubthres1", "tksubthres2", "texp0", "texp1", "tcvth", "bex",
    "quasisat", "vq", "rq", "noia", "ibvl", "level_", "eg_", "gap1", "gap2", "rl", "dev", "lot", "vcbo", "icrating",
}  # fmt: skip
_KINDS = {
    "d": "d", "npn": "bjt", "pnp": "bjt", "nmos": "mos", "pmos": "mos", "vdmos": "vdmos", "vdmosn": "vdmos",
    "vdmosp": "vdmos", "njf": "jfet", "pjf": "jfet", "sw": "sw", "csw": "sw", "r": "r", "res": "r", "c": "c",
    "cap": "c", "l": "l", "ind": "l",
}  # fmt: skip
# A level of MOSFET 1 to 3 that takes more than these do is refused by the parameter that says so.
_NOT_MODELLED = {"eta": 0.0, "delta": 0.0, "nfs": 0.0}


@dataclass(frozen=True)
class Model:
    """A model card: its kind in lower case (d, npn, pnp, nmos, ...) and every parameter, given or by default."""

    name: str
    kind: str
    values: Mapping[str, float]

    def __getitem__(self, name: str) -> float:
        return self.values[name]

    def at(self, kelvin: float) -> Model:
        """The model at another temperature than the 27 °C that its parameters are for.

        Saturation currents and emission as SPICE scales them (A. Vladimirescu, *The SPICE Book* (1994), app. A);
        capacitances are left. Raises NetlistRefused for a kind that is not known at another temperature.
        """
        if kelvin == KELVIN or self.kind in ("sw", "csw", "r", "res", "c", "cap", "l", "ind"):
            return self
        family = _KINDS[self.kind]
        if family not in ("d", "bjt"):
            raise NetlistRefused(f"model {self.name} of kind {self.kind} is known at 27 °C only.")
        ratio = kelvin / KELVIN
        values = dict(self.values)
        slope = CHARGE / (BOLTZMANN * kelvin) * values["eg"] * (ratio - 1.0)

        def scaled(emission: float) -> float:
            return float(ratio ** (values["xti"] / emission) * np.exp(slope / emission))

        if family == "d":
            values["is"] *= scaled(values["n"])
            values["isr"] *= scaled(values["nr"])
            emissions = ["n", "nr", "nbv"]
        else:
            gain = ratio ** values["xtb"]
            values["is"] *= scaled(1.0)
            for leak, emission in (("ise", "ne"), ("isc", "nc")):
                values[leak] *= scaled(values[emission]) / gain
            values["bf"] *= gain
            values["br"] *= gain
            emissions = ["nf", "nr", "ne", "nc"]
        for name in emissions:
            values[name] *= ratio  # the thermal voltage, which the laws have at 27 °C
        return replace(self, values=values)


def read(text: str, parameters: Mapping[str, float], known_models: Mapping[str, Model] | None = None) -> Model:
    """A ``.model`` line. Raises NetlistRefused for a kind or a parameter that is not known."""
    match = re.fullmatch(r"\.model\s+(\S+)\s+([a-z]+)(?::\S+)?\s*\(?(.*?)\)?\s*", text, flags=re.IGNORECASE)
    if not match:
        like = re.fullmatch(r"\.model\s+(\S+)\s+ako:\s*(\S+)\s+([a-z]*)\s*\(?(.*?)\)?\s*", text, flags=re.IGNORECASE)
        base = (known_models or {}).get(like[2].lower()) if like else None
        if not like or base is None:
            raise NetlistRefused("a .model wants a name, a kind and parameters.")
        name, kind, body, values = like[1], base.kind, like[4], dict(base.values)
    else:
        name, kind, body = match[1], match[2].lower(), match[3]
        if kind not in _KINDS:
            raise NetlistRefused(f"the model kind {match[2]} is not known; there are {', '.join(_KINDS)}.")
        values = dict(_KNOWN[_KINDS[kind]])
    known = _KNOWN[_KINDS[kind]]
    if _KINDS[kind] == "vdmos":
        # Which channel it is stands as a word of its own, or in the kind's last letter.
        if re.search(r"\bpchan\b", body, flags=re.IGNORECASE) or kind == "vdmosp":
            values["polarity"] = -1.0
        body = re.sub(r"\b[np]chan\b", "", body, flags=re.IGNORECASE)
        kind = "vdmos"
    pattern = r"(\w+)\s*=\s*(\{[^}]*\}|'[^']*'|[^\s,()]+)"
    rest = re.sub(pattern, "", body).strip(" ,()")
    if rest:
        raise NetlistRefused(f"“{rest[:40]}” makes no sense in a .model.")
    given: set[str] = set()
    ends: dict[str, float] = {}
    for key, value in re.findall(pattern, body):
        low = _ALIASES.get(key.lower(), key.lower())
        if _KINDS[kind] == "sw" and low in ("von", "voff", "ion", "ioff"):
            ends[low[1:]] = constant(value.strip("{}'"), parameters)
            continue
        if low not in known and low in _WITHOUT_EFFECT:
            continue
        if low not in known:
            raise NetlistRefused(f"the parameter {key} of model {name} is not known; there are {', '.join(known)}.")
        values[low] = constant(value.strip("{}'"), parameters)
        given.add(low)
    if ends:
        if set(ends) != {"on", "off"}:
            raise NetlistRefused(f"model {name}: a switch wants both where it is on and where it is off.")
        values["vt"] = values["it"] = 0.5 * (ends["on"] + ends["off"])
        values["vh"] = values["ih"] = 0.5 * (ends["on"] - ends["off"])
    if values.get("level") == 3 and "tox" not in given:
        values["tox"] = 1e-7  # what that level takes where nothing is said
    model = Model(name.lower(), kind, values)
    if _KINDS[kind] == "mos":
        _level(model, given)
    return model


def _level(model: Model, given: set[str]) -> None:
    level = model["level"]
    if level not in (1, 2, 3):
        raise NetlistRefused(f"model {model.name} is level {level:g}; levels 1 to 3 and VDMOS are known.")
    if model["nsub"] > 0 and (level == 3 or "gamma" not in given):
        raise NetlistRefused(
            f"model {model.name} gives nsub; it is solved by its gamma and phi, and level 3 without."
        )
    for key, nothing in _NOT_MODELLED.items():
        if model[key] != nothing:
            raise NetlistRefused(
                f"{key} of model {model.name} is {model[key]:g}; it is solved only with {nothing:g}."
            )
