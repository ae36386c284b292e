"""The parts that a semiconductor with a model card comes to.

What has a compiled law of its own (junctions, Gummel and Poon's transistor, the square-law channel) is made of those;
the rest is written as expressions, which are compiled as any behavioural source's.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np

from thermionic import devices
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.spice.expressions import Names, parse
from thermionic.circuit.spice.models import Model
from thermionic.devices.base import THERMAL_VOLT
from thermionic.errors import NetlistRefused

Part = tuple[str, devices.Device, tuple[str, ...]]
Parts = Iterator[Part]
_NEVER = 1e9
_PERMITTIVITY = 3.9 * 8.854214871e-12  # of silicon dioxide, F/m
_BEND = 40.0
# The softest that a switch without hysteresis turns, V or A either side of its threshold.
_TURN = 1e-3


def _wanted(model: Model, name: str, *kinds: str) -> None:
    if model.kind not in kinds:
        raise NetlistRefused(f"{name} uses the model {model.name}, which is of kind {model.kind}, not {kinds[0]}.")


def _above_zero(name: str, **sizes: float) -> None:
    for what, size in sizes.items():
        if not size > 0:
            raise NetlistRefused(f"the {what} of {name} is {size:g}; it must be above zero.")


def _finite(value: float) -> float:
    return value if 0 < value < np.inf else _NEVER


def _law(
    kind: type, name: str, ends: tuple[str, str], text: str, nodes: Mapping[str, str], values: Mapping[str, float]
) -> Part:
    """A part whose current or charge is an expression, its nodes by the letters that the expression has for them."""
    law = parse(text, Names(values))
    wires = [
        node for quantity in law.quantities for node in (nodes[quantity.plus], nodes.get(quantity.minus, GROUND))
    ]
    return name, kind(law, len(law.quantities)), (*ends, *wires)


def _inside(model: Model, name: str, many: float, **terminals: str) -> tuple[list[str], list[Part]]:
    """The inner nodes of terminals that may have resistances, named by the model's parameters, and the resistors."""
    nodes: list[str] = []
    resistors: list[Part] = []
    for key, node in terminals.items():
        if 0 < model[key] < np.inf:
            resistors.append((f"{name}__{key}", devices.Resistor(model[key] / many), (node, f"{name}__{key}i")))
            node = f"{name}__{key}i"
        nodes.append(node)
    return nodes, resistors


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
    own_breakdown = broken and model["nbv"] > 0 and model["nbv"] != model["n"]
    if model["rs"] > 0 and (model["cjo"] or model["tt"] or broken or model["isr"] or model["ikf"]):
        # The charge and the breakdown are behind the resistance, so it becomes a part of its own.
        inside = (f"{name}__a", nodes[1])
        yield f"{name}__rs", devices.Resistor(model["rs"] / area), (nodes[0], inside[0])
        junction = replace(junction, ohm=0.0)
    if own_breakdown:
        # A junction in breakdown with a slope of its own: one that carries next to nothing forwards.
        yield (
            f"{name}__bv",
            devices.Diode(1e-30, model["nbv"], 0.0, model["bv"], area * model["ibv"]),
            inside,
        )
        junction = replace(junction, breakdown_volt=1e6)
    if model["ikf"] > 0:
        plain = "(is*(exp(min(v(a,k)/nv,40))*(1+max(v(a,k)/nv-40,0))-1))"
        text = f"{plain}/(1+sqrt(max({plain},0)/knee))"
        values = {
            "is": saturation, "nv": model["n"] * THERMAL_VOLT, "knee": area * model["ikf"], "tt": model["tt"],
        }  # fmt: skip
        at = {"a": inside[0], "k": inside[1]}
        yield _law(devices.BehaviouralCurrent, name, (inside[0], inside[1]), text, at, values)
        if model["tt"] > 0:
            charge = replace(charge, transit_second=0.0)
            yield _law(devices.BehaviouralCharge, f"{name}__tt", (inside[0], inside[1]), f"tt*{text}", at, values)
        if broken and not own_breakdown:
            yield f"{name}__bv", replace(junction, saturation_ampere=1e-30), inside
    else:
        yield name, junction, inside
    if model["isr"] > 0:
        yield f"{name}__isr", devices.Diode(area * model["isr"], model["nr"]), inside
    if charge.farad or charge.transit_second:
        yield f"{name}__charge", charge, inside


# The transport currents of Gummel and Poon's transistor as expressions; see devices.BipolarTransistor.
_GP = """(ISAT*(exp(min(P*v(b,e)/NFV,40))*(1+max(P*v(b,e)/NFV-40,0))-1))"""
_GR = """(ISAT*(exp(min(P*v(b,c)/NRV,40))*(1+max(P*v(b,c)/NRV-40,0))-1))"""
_QB = "((1+sqrt(1+4*max(F/IKF+R/IKR,0)))/(2*max(1-P*v(b,c)/VAF-P*v(b,e)/VAR,0.05)))"


def _gummel(text: str) -> str:
    """An expression of the forward and reverse transport currents F and R and the base charge QB."""
    return text.replace("QB", _QB).replace("F/IKF", f"{_GP}/IKF").replace("R/IKR", f"{_GR}/IKR").replace("FWD", _GP)


def bipolar(model: Model, name: str, nodes: tuple[str, ...], area: float) -> Parts:
    """The parts of a transistor of a model: collector, base, emitter and, where it is given, substrate."""
    _wanted(model, name, "npn", "pnp")
    _above_zero(name, area=area)
    polarity = 1 if model.kind == "npn" else -1
    outer = nodes[1]
    (collector, emitter), resistors = _inside(model, name, area, rc=nodes[0], re=nodes[2])
    yield from resistors
    values = {
        "isat": area * model["is"], "p": float(polarity), "nfv": model["nf"] * THERMAL_VOLT,
        "nrv": model["nr"] * THERMAL_VOLT, "ikf": area * _finite(model["ikf"]), "ikr": area * _finite(model["ikr"]),
        "vaf": _finite(model["vaf"]), "var": _finite(model["var"]),
    }  # fmt: skip
    least = model["rb"] if model["rbm"] < 0 else model["rbm"]
    if model["rb"] > 0 and least != model["rb"]:
        base = f"{name}__rbi"
        yield _base_resistance(model, name, outer, (collector, base, emitter), area, least, values)
    else:
        (base,), resistors = _inside(model, name, area, rb=outer)
        yield from resistors
    saturation = area * model["is"]
    yield (
        name,
        devices.BipolarTransistor(
            saturation, model["bf"], model["br"], _finite(model["vaf"]), area * _finite(model["ikf"]), model["nf"],
            model["nr"], polarity, _finite(model["var"]), area * _finite(model["ikr"]),
        ),
        (collector, base, emitter),
    )  # fmt: skip
    for leak, emission, end in (("ise", "ne", emitter), ("isc", "nc", collector)):
        if model[leak] > 0:
            ends = (base, end) if polarity > 0 else (end, base)
            yield f"{name}__{leak}", devices.Diode(area * model[leak], model[emission]), ends
    # The forward transit charge is that of the current that gets through, so the base charge is in it.
    shaped = model["tf"] > 0 and (
        model["xtf"] > 0 or any(np.isfinite(model[key]) and model[key] > 0 for key in ("vaf", "ikf", "var", "ikr"))
    )
    if shaped:
        bias = "1"
        if model["xtf"] > 0:
            bias += "+XTF*" + ("pwr(FWD/(FWD+ITF),2)" if model["itf"] > 0 else "1")
            bias += "*exp(min(P*v(b,c)/VTF,40))" if 0 < model["vtf"] < np.inf else ""
        more = {"tf": model["tf"], "xtf": model["xtf"], "itf": area * model["itf"], "vtf": 1.44 * model["vtf"]}
        yield _law(
            devices.BehaviouralCharge, f"{name}__tf", (base, emitter), _gummel(f"P*TF*FWD*({bias})/QB"),
            {"c": collector, "b": base, "e": emitter}, values | more,
        )  # fmt: skip
    yield from _junction_charges(model, name, nodes, (collector, base, emitter), area, shaped)


def _junction_charges(
    model: Model, name: str, nodes: tuple[str, ...], inside: tuple[str, str, str], area: float, shaped: bool
) -> Parts:
    """The charges of a transistor's junctions, at its nodes outside and inside. With ``shaped`` the forward transit
    charge is elsewhere."""
    (collector, base, emitter), outer = inside, nodes[1]
    saturation, polarity = area * model["is"], 1 if model.kind == "npn" else -1
    inner = min(max(model["xcjc"], 0.0), 1.0)
    for label, farad, built, grading, transit, emission, ends in (
        ("cje", model["cje"], "vje", "mje", 0.0 if shaped else model["tf"], "nf", (base, emitter)),
        ("cjc", inner * model["cjc"], "vjc", "mjc", model["tr"], "nr", (base, collector)),
        ("cjx", (1 - inner) * model["cjc"], "vjc", "mjc", 0.0, "nr", (outer, collector)),
    ):
        if farad > 0 or transit > 0:
            charge = devices.JunctionCharge(
                area * farad, model[built], model[grading], transit, saturation, model[emission], polarity
            )
            yield f"{name}__{label}", charge, ends
    if model["cjs"] > 0:
        substrate = nodes[3] if len(nodes) > 3 else GROUND
        charge = devices.JunctionCharge(area * model["cjs"], model["vjs"], model["mjs"], polarity=polarity)
        yield f"{name}__cjs", charge, (substrate, collector)


def _base_resistance(
    model: Model, name: str, outer: str, inner: tuple[str, str, str], area: float, least: float,
    values: Mapping[str, float],
) -> Part:  # fmt: skip
    """A base resistance that falls as the base is flooded, or with the base current where that is given (irb)."""
    collector, base, emitter = inner
    at = {"o": outer, "c": collector, "b": base, "e": emitter}
    more = {"rbm": least / area, "rbx": (model["rb"] - least) / area}
    if model["irb"] > 0:
        # Hauser's crowding: (tan z - z) / (z tan^2 z), z from the base current over irb (Vladimirescu, app. A).
        more |= {"irb": area * model["irb"], "bf": model["bf"], "ise": area * model["ise"], "br": model["br"],
                 "nev": model["ne"] * THERMAL_VOLT, "isc": area * model["isc"],
                 "ncv": model["nc"] * THERMAL_VOLT}  # fmt: skip
        forward = f"{_GP}/BF+ISE*(exp(min(P*v(b,e)/NEV,40))-1)"
        drawn = f"max({forward}+{_GR}/BR+ISC*(exp(min(P*v(b,c)/NCV,40))-1),1e-15)"
        z = f"((sqrt(1+14.59025*({drawn})/IRB)-1)/(2.4317*sqrt(({drawn})/IRB)))"
        ohm = f"(RBM+3*RBX*(tan({z})-{z})/({z}*tan({z})*tan({z})))"
    else:
        ohm = _gummel("(RBM+RBX/QB)")
    return _law(devices.BehaviouralCurrent, f"{name}__rb", (outer, base), f"v(o,b)/{ohm}", at, {**values, **more})


def mosfet(model: Model, name: str, nodes: tuple[str, ...], width: float, length: float, many: float) -> Parts:
    """The parts of a MOSFET of a model: drain, gate, source and bulk; ``many`` of them side by side."""
    if model.kind == "vdmos":
        yield from _vertical(model, name, nodes, many)
        return
    _wanted(model, name, "nmos", "pmos", "vdmos")
    _above_zero(name, width=width, length=length, m=many)
    polarity = 1 if model.kind == "nmos" else -1
    bulk = nodes[3]
    (drain, gate, source), resistors = _inside(model, name, many, rd=nodes[0], rg=nodes[1], rs=nodes[2])
    yield from resistors
    long = length - 2 * model["ld"]
    _above_zero(name, **{"length between its diffusions": long})
    oxide = _PERMITTIVITY / model["tox"] if model["tox"] > 0 else 0.0
    kp = model["kp"] if model["kp"] != 2e-5 or not oxide else model["uo"] * 1e-4 * oxide
    gain = many * kp * width / long
    tied = nodes[3] == nodes[2]
    plain = model["level"] != 3 and (model["gamma"] == 0 or (tied and model["rs"] == 0))
    if model["level"] == 2 and not plain:
        raise NetlistRefused(f"model {model.name}: level 2 is solved with gamma=0 only.")
    threshold = polarity * model["vto"]
    if plain:
        channel = devices.Mosfet(
            threshold, gain, model["lambda"] if model["level"] != 3 else 0.0, 0.0,
            many * model["cgso"] * width, many * model["cgdo"] * width, polarity,
        )  # fmt: skip
        yield name, channel, (drain, gate, source)
    else:
        yield from _channel(model, name, (drain, gate, source, bulk), threshold, gain, long, polarity)
        for key, end, farad in (("cgs", source, "cgso"), ("cgd", drain, "cgdo")):
            if model[farad] > 0:
                yield f"{name}__{key}", devices.Capacitor(many * model[farad] * width), (gate, end)
    if model["cgbo"] > 0:
        yield f"{name}__cgb", devices.Capacitor(many * model["cgbo"] * long), (gate, bulk)
    if oxide:
        # The channel's own capacitance as it is in saturation, at any bias.
        yield f"{name}__cox", devices.Capacitor(2 / 3 * many * oxide * width * long), (gate, source)
    if np.isfinite(model["rds"]) and model["rds"] > 0:
        yield f"{name}__rds", devices.Resistor(model["rds"] / many), (drain, source)
    for key, end, farad in (("bs", source, "cbs"), ("bd", drain, "cbd")):
        if bulk == end:
            continue
        ends = (bulk, end) if polarity > 0 else (end, bulk)
        if model["is"] > 0:
            yield f"{name}__{key}", devices.Diode(many * model["is"], model["n"]), ends
        if model[farad] > 0 or (model["tt"] > 0 and key == "bd"):
            charge = devices.JunctionCharge(
                many * model[farad], model["pb"], model["mj"], model["tt"], many * model["is"], model["n"]
            )
            yield f"{name}__{farad}", charge, ends


def _channel(
    model: Model, name: str, nodes: tuple[str, ...], threshold: float, gain: float, long: float, polarity: int,
) -> Parts:  # fmt: skip
    """A channel with the bulk's effect (level 1), or with the field's on mobility and velocity (level 3).

    A. Vladimirescu and S. Liu, "The simulation of MOS integrated circuits using SPICE2", UCB/ERL M80/7 (1980).
    Whichever end is the lower one (for an N channel) is the source.
    """
    drain, gate, source, bulk = nodes
    at = {"d": drain, "g": gate, "s": source, "x": bulk}
    values = {"p": float(polarity), "k": gain, "vt": threshold, "gam": model["gamma"], "phi": max(model["phi"], 0.1),
              "lam": model["lambda"], "theta": model["theta"]}  # fmt: skip
    # The voltages with the ends exchanged where the drain is the lower one.
    vds, vgs, vbs = "abs(v(d,s))", "(max(P*v(g,s),P*v(g,d)))", "(max(P*v(x,s),P*v(x,d)))"
    root = f"sqrt(max(PHI-{vbs},1e-6))"
    on = f"max({vgs}-VT-GAM*({root}-sqrt(PHI)),0)"
    if model["level"] != 3:
        used = f"min({vds},{on})"
        text = f"P*sgn(P*v(d,s))*K*{used}*({on}-0.5*{used})*(1+LAM*{vds})"
    else:
        body = f"(1+GAM/(4*{root}))"
        mobility = f"(1+THETA*{on})"
        if model["vmax"] > 0:
            # Velocity saturation: the field where it is half, times the length.
            values["vc"] = model["vmax"] * long / (1e-4 * model["uo"])
            critical = f"(VC*{mobility})"
            pinch = f"({on}/{body})"
            knee = f"({pinch}+{critical}-sqrt({pinch}*{pinch}+{critical}*{critical}))"
        else:
            knee, critical = f"({on}/{body})", ""
        used = f"min({vds},{knee})"
        text = f"P*sgn(P*v(d,s))*K/{mobility}*({on}-0.5*{body}*{used})*{used}"
        if critical:
            text += f"/(1+{used}/{critical})"
    yield _law(devices.BehaviouralCurrent, name, (drain, source), text, at, values)


def _vertical(model: Model, name: str, nodes: tuple[str, ...], many: float) -> Parts:
    """A vertical power MOSFET: its channel with a subthreshold foot, its body diode, its gate-drain capacitance.

    The equations are those of the VDMOS model of the public ngspice manual.
    """
    _above_zero(name, m=many)
    polarity = int(model["polarity"])
    outer_drain, _, outer_source = nodes[:3]
    (drain, gate, source), resistors = _inside(model, name, many, rd=nodes[0], rg=nodes[1], rs=nodes[2])
    yield from resistors
    at = {"d": drain, "g": gate, "s": source}
    foot = max(model["ksubthres"], 1e-6)
    values = {"p": float(polarity), "k": many * model["kp"], "vt": polarity * model["vto"], "lam": model["lambda"],
              "theta": model["theta"], "mtr": model["mtriode"], "shift": model["subshift"], "foot": foot}  # fmt: skip
    vds, vgs = "abs(v(d,s))", "max(P*v(g,s),P*v(g,d))"
    u = f"(({vgs}-VT-SHIFT)/FOOT)"
    on = f"(FOOT*(max({u},0)+ln(1+exp(-abs({u})))))"
    used = f"min(MTR*{vds},{on})"
    text = f"P*sgn(P*v(d,s))*K*(1+LAM*{vds})/(1+THETA*max({vgs},0))*{used}*({on}-0.5*{used})"
    yield _law(devices.BehaviouralCurrent, name, (drain, source), text, at, values)
    if np.isfinite(model["rds"]) and model["rds"] > 0:
        yield f"{name}__rds", devices.Resistor(model["rds"] / many), (drain, source)
    if model["cgs"] > 0:
        yield f"{name}__cgs", devices.Capacitor(many * model["cgs"]), (gate, source)
    if model["cgdmax"] > 0 or model["cgdmin"] > 0:
        swing = (model["cgdmax"] - model["cgdmin"]) / (1 + np.pi / 2)
        own = {"p": float(polarity), "sw": many * swing, "flat": many * (model["cgdmax"] - swing), "a": model["a"]}
        v = "(P*v(g,d))"
        above = f"(SW/A*(abs(A*{v})+ln(1+exp(-2*abs(A*{v})))-0.6931471805599453))"
        below = f"(SW*({v}*atan(A*{v})-ln(1+A*A*{v}*{v})/(2*A)))"
        law = f"P*(if({v}>0,{above},{below})+FLAT*{v})"
        yield _law(devices.BehaviouralCharge, f"{name}__cgd", (gate, drain), law, {"g": gate, "d": drain}, own)
    body = Model(
        f"{model.name} (its body diode)", "d",
        {"is": model["is"], "n": model["n"], "rs": model["rb"], "bv": model["bv"], "ibv": model["ibv"], "nbv": 0.0,
         "cjo": model["cjo"], "vj": model["vj"], "m": model["m"], "tt": model["tt"], "isr": 0.0, "nr": 2.0,
         "ikf": 0.0},
    )  # fmt: skip
    ends = (outer_source, outer_drain) if polarity > 0 else (outer_drain, outer_source)
    yield from diode(body, f"{name}__body", ends, many)


def jfet(model: Model, name: str, nodes: tuple[str, ...], area: float) -> Parts:
    """The parts of a junction FET of a model: drain, gate, source. Its channel is the square law of Shichman and
    Hodges (see devices.Mosfet) with twice beta for the transconductance."""
    _wanted(model, name, "njf", "pjf")
    _above_zero(name, area=area)
    polarity = 1 if model.kind == "njf" else -1
    gate = nodes[1]
    (drain, source), resistors = _inside(model, name, area, rd=nodes[0], rs=nodes[2])
    yield from resistors
    # SPICE gives the pinch-off of either channel as an N channel's.
    channel = devices.Mosfet(
        model["vto"], 2 * area * model["beta"], model["lambda"], 0.0, polarity=polarity
    )  # fmt: skip
    yield name, channel, (drain, gate, source)
    for key, end, farad in (("gs", source, "cgs"), ("gd", drain, "cgd")):
        ends = (gate, end) if polarity > 0 else (end, gate)
        yield f"{name}__{key}", devices.Diode(area * model["is"], model["n"]), ends
        if model[farad] > 0:
            charge = devices.JunctionCharge(area * model[farad], model["pb"], model["m"])
            yield f"{name}__{farad}", charge, ends


def switch(model: Model, name: str, ends: tuple[str, str], control: tuple[str, str], by: str) -> Parts:
    """A switch: a conductance that goes from roff's to ron's, as a logarithm, where its control passes from ``vt`` -
    ``vh`` to ``vt`` + ``vh`` (``it`` and ``ih`` for one that goes by a current, which ``control`` reads).

    It has no memory: a hysteresis is the width of its passage.
    """
    _wanted(model, name, "sw" if by == "v" else "csw", "sw", "csw")
    _above_zero(name, ron=model["ron"], roff=model["roff"])
    at, width = model["vt" if by == "v" else "it"], model["vh" if by == "v" else "ih"]
    sign = -1.0 if width < 0 else 1.0
    values = {"at": at, "half": max(abs(width), _TURN if by == "v" else 1e-3 * _TURN), "sign": sign,
              "mid": -0.5 * float(np.log(model["ron"] * model["roff"])),
              "span": 0.5 * float(np.log(model["roff"] / model["ron"]))}  # fmt: skip
    u = "min(max(SIGN*(v(x,y)-AT)/HALF,-1),1)"
    text = f"v(a,b)*exp(MID+SPAN*{u}*(3-{u}*{u})/2)"
    nodes = {"a": ends[0], "b": ends[1], "x": control[0], "y": control[1]}
    yield _law(devices.BehaviouralCurrent, name, ends, text, nodes, values)
