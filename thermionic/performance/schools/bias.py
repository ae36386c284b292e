"""Cathode bias and fixed bias."""

from __future__ import annotations

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.blocks import KINDS, Block, Flow
from thermionic.blocks.facets import Bias
from thermionic.design import Design, changed, dump, fitted, has_field, validate
from thermionic.errors import DesignRefused
from thermionic.performance.schools.working import Raw, block_in, free_name, output_stage, output_tubes, sides_of
from thermionic.performance.settling import mean_current, settled
from thermionic.values import Series, nearest, step

_SENSING = {"ohm": 10.0, "rating_watt": 1.0, "tolerance": 0.01}
_BIAS_OHM = 20e3  # a bias supply's own, about


def _cathode_resistor(amplifier: SolvedAmplifier, block: Block, wanted: float) -> tuple[Raw, Raw]:
    """A cathode resistor that gives the bias there is now at ``wanted`` amperes a tube, and its bypass."""
    side = sides_of(amplifier, block)[0]
    volt = -min(amplifier.over_cathode(use, "grid") for use in side)
    ampere = wanted * len(side)
    for use in side:  # a pentode's screen current goes through it too
        flow = amplifier.state.at.terminal_currents[use.part]
        ampere += float(flow[1]) if use.unit == "pentode" else 0.0
    ohm = nearest(max(volt, 0.5) / ampere, Series.E24)
    heat = ohm * ampere**2
    farad = nearest(1.0 / (2 * np.pi * 2.0 * ohm), Series.E12)
    rating = next(
        (volts for volts in (16.0, 25.0, 35.0, 50.0, 63.0, 100.0, 160.0, 250.0) if volts > 1.3 * volt), 400.0
    )
    watt = next((watts for watts in (0.5, 1.0, 2.0, 3.0, 5.0, 10.0, 17.0, 25.0) if watts > 2.2 * heat), 50.0)
    return ({"ohm": ohm, "rating_watt": watt}, {"farad": float(farad), "rating_volt": rating})


def may_cathode(amplifier: SolvedAmplifier) -> bool:
    uses = output_tubes(amplifier)
    return bool(uses) and uses[0].bias is Bias.FIXED


def make_cathode(amplifier: SolvedAmplifier) -> Design:
    block = output_stage(amplifier)
    assert block is not None
    wanted = mean_current(amplifier, block.id)
    raw = dump(amplifier.design)
    stage = block_in(raw, block.id)
    for name in ("bias", "bias_b"):
        stage.pop(name, None)
    if has_field(amplifier.design, f"blocks/{block.id}/shared_cathode"):
        stage["shared_cathode"] = True
        block = block.model_copy(update={"shared_cathode": True})
    stage["cathode_resistor"], stage["cathode_bypass"] = _cathode_resistor(amplifier, block, wanted)
    _drop_unused(raw)
    design = validate(raw)
    path = f"blocks/{block.id}/cathode_resistor/ohm"
    now = stage["cathode_resistor"]["ohm"]
    return settled(design, path, wanted, block.id, (now / 4, now * 4), solve(design), Series.E24)


def may_fix(amplifier: SolvedAmplifier) -> bool:
    uses, block = output_tubes(amplifier), output_stage(amplifier)
    if block is None or not uses or uses[0].bias is not Bias.CATHODE:
        return False
    path = f"blocks/{block.id}"
    return has_field(amplifier.design, f"{path}/bias") and fitted(amplifier.design, f"{path}/grid_leak")


def make_fixed(amplifier: SolvedAmplifier) -> Design:
    block = output_stage(amplifier)
    assert block is not None
    volt = -min(amplifier.over_cathode(use, "grid") for use in output_tubes(amplifier))
    # What the cathode stood at is anode voltage now: no more heat than nine tenths of the limit.
    wanted = min(
        mean_current(amplifier, block.id),
        *(
            0.9 * use.limits.anode_w / (amplifier.over_cathode(use, "anode") + volt)
            for use in output_tubes(amplifier)
        ),
    )
    raw = dump(amplifier.design)
    names = {block["id"] for block in raw["blocks"]}
    bias, winding = free_name("bias", names), free_name("bias_winding", names)
    mains = next((block["primary_volt"] for block in raw["blocks"] if "primary_volt" in block), None)
    if mains is None:
        raise DesignRefused("There is no mains winding that a bias could be taken beside.")
    pair = has_field(amplifier.design, f"blocks/{block.id}/bias_b")
    raw["blocks"] += [
        {"id": winding, "kind": "winding", "scope": "shared", "primary_volt": mains,
         "winding_volt": float(round(1.35 * volt + 6.0)), "winding_ohm": 40.0, "centre_tapped": False},
        {"id": bias, "kind": "bias-supply", "scope": "shared", "winding": f"{winding}.out",
         **KINDS["bias-supply"].first,
         "reservoir": {"farad": 100e-6, "rating_volt": _rating(2.4 * volt + 12.0)},
         "capacitor": {"farad": 100e-6, "rating_volt": _rating(2.4 * volt + 12.0)},
         **({"trim_b": {"track_ohm": 25e3, "travel": 0.6}} if pair else {})},
    ]  # fmt: skip
    stage = block_in(raw, block.id)
    stage["bias"] = f"{bias}.out"
    if pair:
        stage |= {"bias_b": f"{bias}.out_b", "shared_cathode": False}
    stage["cathode_resistor"] = dict(_SENSING)
    stage.pop("cathode_bypass", None)
    stage.pop("cathode_led", None)
    # A fixed bias asks for smaller leaks.
    limit = min(use.limits.grid_leak_fixed_bias_ohm for use in output_tubes(amplifier)) - _BIAS_OHM
    if stage["grid_leak"]["ohm"] > limit:
        stage["grid_leak"] = {**stage["grid_leak"], "ohm": step(max(limit, 10e3), Series.E12, -1)}
    design = validate(raw)
    trim = f"blocks/{bias}/trim/travel"
    other = f"blocks/{bias}/trim_b/travel" if pair else ""
    # More travel is more bias, up to the whole of the supply.
    return settled(design, trim, wanted, block.id, (0.05, 1.0), solve(changed(design, trim, 0.9)), None, other)


def _rating(volt: float) -> float:
    return next((one for one in (25.0, 35.0, 50.0, 63.0, 100.0, 160.0, 250.0) if one >= volt), 400.0)


def _drop_unused(raw: Raw) -> None:
    """Take out bias supplies and windings that nothing takes from any more."""
    while True:
        taken = {
            value.partition(".")[0] for block in raw["blocks"] for value in block.values() if isinstance(value, str)
        }
        left = [
            block
            for block in raw["blocks"]
            if block["id"] in taken
            or not (_only_gives(block["kind"], Flow.BIAS) or _only_gives(block["kind"], Flow.WINDING))
        ]
        if len(left) == len(raw["blocks"]):
            return
        raw["blocks"] = left


def _only_gives(kind: str, flow: Flow) -> bool:
    cls = KINDS[kind]
    made_ = cls.model_construct(**{name: info.get_default() for name, info in cls.model_fields.items()})
    ports = made_.ports().values()
    return bool(ports) and all(port is flow for port in ports)
