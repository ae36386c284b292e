"""What each school of practice would do with this amplifier: a whole design, with why one would choose it.

Each reads what the design is through its facets and fields, changes the document, and sets what has to follow (a
cathode resistor, a bias, a load) so that the tubes idle where they did. None decides whether the outcome is good:
that is computed afterwards, and compared.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.blocks import KINDS, Block, Flow
from thermionic.blocks.facets import Bias, TubeUse
from thermionic.blocks.ports import split
from thermionic.design import Design, changed, consumers, dump, validate
from thermionic.design import sections as sections_of
from thermionic.errors import DesignRefused, NetlistRefused
from thermionic.performance.settling import mean_current, settled
from thermionic.values import Series, nearest, step

Raw = dict[str, Any]
_TAP, _SINGLE_TAP = 0.43, 0.4
_FEEDBACK_DB = 12.0
_SENSING = {"ohm": 10.0, "rating_watt": 1.0, "tolerance": 0.01}
_CHOKE_HENRY, _CHOKE_OHM = 100.0, 1500.0
_BIAS_OHM = 20e3  # a bias supply's own, about


@dataclass(frozen=True)
class School:
    """One school: its name, what is done, and in a sentence why someone would choose it. ``applies`` says whether the
    design is not that already and could be; ``make`` makes it, or raises ThermionicError."""

    slug: str
    title: str
    why: str
    applies: Callable[[SolvedAmplifier], bool]
    make: Callable[[SolvedAmplifier], Design]


def schools(amplifier: SolvedAmplifier) -> list[School]:
    """The schools that would change this amplifier."""
    return [school for school in SCHOOLS if school.applies(amplifier)]


def made(amplifier: SolvedAmplifier, slug: str) -> tuple[Design, School]:
    """The design as the school of that name would have it. Raises DesignRefused where there is none, or it does not
    apply, and what making it raises."""
    for school in SCHOOLS:
        if school.slug == slug:
            if not school.applies(amplifier):
                raise DesignRefused(f"{school.title}: {amplifier.design.name} is that already, or cannot be.")
            return school.make(amplifier), school
    raise DesignRefused(f"There is no school called {slug[:40]}.")


# What there is to work on.


def _output(amplifier: SolvedAmplifier) -> Block | None:
    """The last stage on the signal's way that drives a transformer."""
    for block_id in reversed(amplifier.route):
        if amplifier.compiled.tubes_of(block_id):
            return amplifier.design.block(block_id) if _iron(amplifier.design, block_id) else None
    return None


def _iron(design: Design, block_id: str) -> Block | None:
    """The transformer behind a stage, one with taps on its primary to have."""
    return next(
        (other for other, _, _ in consumers(design, block_id) if "screen_tap" in type(other).model_fields), None
    )


def _uses(amplifier: SolvedAmplifier) -> tuple[TubeUse, ...]:
    block = _output(amplifier)
    return amplifier.compiled.tubes_of(block.id) if block else ()


def _driver(amplifier: SolvedAmplifier) -> Block | None:
    """The stage before the last one, where it is a single tube with a load of its own."""
    stages = [block_id for block_id in amplifier.route if amplifier.compiled.tubes_of(block_id)]
    if len(stages) < 2:
        return None
    block = amplifier.design.block(stages[-2])
    single = len(amplifier.compiled.tubes_of(block.id)) == 1
    return block if single and "anode_choke" in type(block).model_fields else None


def _is_pentode(amplifier: SolvedAmplifier) -> bool:
    uses = _uses(amplifier)
    return bool(uses) and all(use.unit == "pentode" for use in uses)


def _strapping(amplifier: SolvedAmplifier) -> str:
    """How the output tubes' screens are: triode, ultra-linear, pentode; "" where they are no pentodes."""
    block = _output(amplifier)
    if block is None or not _is_pentode(amplifier):
        return ""
    screen = getattr(block, "screen", None)
    if not screen:
        return "triode"
    producer, port = split(screen)
    flow = amplifier.design.block(producer).ports().get(port)
    return "pentode" if flow is Flow.RAIL else "ultra-linear"


def _of(raw: Raw, block_id: str) -> Raw:
    found: Raw = next(one for one in raw["blocks"] if one["id"] == block_id)
    return found


def _sides(amplifier: SolvedAmplifier, block: Block) -> list[list[TubeUse]]:
    """The tubes of each side that has a cathode circuit of its own; all together where one circuit is shared."""
    uses = amplifier.compiled.tubes_of(block.id)
    if getattr(block, "shared_cathode", False):
        return [list(uses)]
    sides = dict.fromkeys(use.side for use in uses)
    return [[use for use in uses if use.side == side] for side in sides]


# Settling what has to follow.


def _cathode_resistor(amplifier: SolvedAmplifier, block: Block, wanted: float) -> tuple[Raw, Raw]:
    """A cathode resistor that gives the bias there is now at ``wanted`` amperes a tube, and its bypass."""
    side = _sides(amplifier, block)[0]
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


# The schools.


def _may_cathode(amplifier: SolvedAmplifier) -> bool:
    uses = _uses(amplifier)
    return bool(uses) and uses[0].bias is Bias.FIXED


def _make_cathode(amplifier: SolvedAmplifier) -> Design:
    block = _output(amplifier)
    assert block is not None
    wanted = mean_current(amplifier, block.id)
    raw = dump(amplifier.design)
    stage = _of(raw, block.id)
    for name in ("bias", "bias_b"):
        stage.pop(name, None)
    if "shared_cathode" in type(block).model_fields:
        stage["shared_cathode"] = True
        block = block.model_copy(update={"shared_cathode": True})
    stage["cathode_resistor"], stage["cathode_bypass"] = _cathode_resistor(amplifier, block, wanted)
    _drop_unused(raw)
    design = validate(raw)
    path = f"blocks/{block.id}/cathode_resistor/ohm"
    now = stage["cathode_resistor"]["ohm"]
    return settled(design, path, wanted, block.id, now / 4, now * 4, solve(design), Series.E24)


def _may_fix(amplifier: SolvedAmplifier) -> bool:
    uses, block = _uses(amplifier), _output(amplifier)
    if block is None or not uses or uses[0].bias is not Bias.CATHODE:
        return False
    return "bias" in type(block).model_fields and bool(getattr(block, "grid_leak", None))


def _make_fixed(amplifier: SolvedAmplifier) -> Design:
    block = _output(amplifier)
    assert block is not None
    volt = -min(amplifier.over_cathode(use, "grid") for use in _uses(amplifier))
    # What the cathode stood at is anode voltage now: no more heat than nine tenths of the limit.
    wanted = min(
        mean_current(amplifier, block.id),
        *(0.9 * use.limits.anode_w / (amplifier.over_cathode(use, "anode") + volt) for use in _uses(amplifier)),
    )
    raw = dump(amplifier.design)
    names = {one["id"] for one in raw["blocks"]}
    bias, winding = _free("bias", names), _free("bias_winding", names)
    mains = next((one["primary_volt"] for one in raw["blocks"] if "primary_volt" in one), None)
    if mains is None:
        raise DesignRefused("There is no mains winding that a bias could be taken beside.")
    pair = "bias_b" in type(block).model_fields
    raw["blocks"] += [
        {"id": winding, "kind": "winding", "scope": "shared", "primary_volt": mains,
         "winding_volt": float(round(1.35 * volt + 6.0)), "winding_ohm": 40.0, "centre_tapped": False},
        {"id": bias, "kind": "bias-supply", "scope": "shared", "winding": f"{winding}.out",
         **KINDS["bias-supply"].first,
         "reservoir": {"farad": 100e-6, "rating_volt": _rating(2.4 * volt + 12.0)},
         "capacitor": {"farad": 100e-6, "rating_volt": _rating(2.4 * volt + 12.0)},
         **({"trim_b": {"track_ohm": 25e3, "travel": 0.6}} if pair else {})},
    ]  # fmt: skip
    stage = _of(raw, block.id)
    stage["bias"] = f"{bias}.out"
    if pair:
        stage |= {"bias_b": f"{bias}.out_b", "shared_cathode": False}
    stage["cathode_resistor"] = dict(_SENSING)
    stage.pop("cathode_bypass", None)
    stage.pop("cathode_led", None)
    # A fixed bias asks for smaller leaks.
    limit = min(use.limits.grid_leak_fixed_bias_ohm for use in _uses(amplifier)) - _BIAS_OHM
    if stage["grid_leak"]["ohm"] > limit:
        stage["grid_leak"] = {**stage["grid_leak"], "ohm": step(max(limit, 10e3), Series.E12, -1)}
    design = validate(raw)
    trim = f"blocks/{bias}/trim/travel"
    other = f"blocks/{bias}/trim_b/travel" if pair else ""
    # More travel is more bias, up to the whole of the supply.
    return settled(design, trim, wanted, block.id, 0.05, 1.0, solve(changed(design, trim, 0.9)), None, other)


def _rating(volt: float) -> float:
    return next((one for one in (25.0, 35.0, 50.0, 63.0, 100.0, 160.0, 250.0) if one >= volt), 400.0)


def _may_strap(wanted: str) -> Callable[[SolvedAmplifier], bool]:
    def applies(amplifier: SolvedAmplifier) -> bool:
        now = _strapping(amplifier)
        return bool(now) and now != wanted

    return applies


def _strap(wanted: str) -> Callable[[SolvedAmplifier], Design]:
    def make(amplifier: SolvedAmplifier) -> Design:
        block = _output(amplifier)
        assert block is not None
        iron = _iron(amplifier.design, block.id)
        assert iron is not None
        current = mean_current(amplifier, block.id)
        raw = dump(amplifier.design)
        stage, transformer = _of(raw, block.id), _of(raw, iron.id)
        stage.pop("screen_bypass", None)
        stage["screen_resistor"] = stage.get("screen_resistor") or {"ohm": 100.0, "rating_watt": 1.0}
        if wanted == "triode":
            stage.pop("screen", None)
        elif wanted == "ultra-linear":
            tap = _TAP if transformer.get("push_pull") else _SINGLE_TAP
            transformer["screen_tap"] = transformer.get("screen_tap") or tap
            stage["screen"] = f"{iron.id}.ul"
        else:
            stage["screen"] = _screen_rail(amplifier, block)
        design = validate(raw)
        return _idling(design, amplifier, block, current)

    return make


def _screen_rail(amplifier: SolvedAmplifier, block: Block) -> str:
    """The highest rail that the screens stand, of those that a channel's stage hangs on; the lowest where none is."""
    limit = min(use.limits.screen_v or np.inf for use in amplifier.compiled.tubes_of(block.id))
    rails = sorted(
        (rail for rail in amplifier.compiled.rails if not rail.bias),
        key=lambda rail: -amplifier.voltage(rail.node),
    )
    if not rails:
        raise DesignRefused("There is no rail to hang the screens on.")
    fit = next((rail for rail in rails if amplifier.voltage(rail.node) <= limit), rails[-1])
    # Not the reservoir itself, where there is anything behind it: its ripple would go straight in.
    if fit is rails[0] and len(rails) > 1 and not hasattr(amplifier.design.block(fit.block), "resistor"):
        behind = [rail for rail in rails[1:] if amplifier.voltage(rail.node) > 0.85 * amplifier.voltage(fit.node)]
        fit = behind[0] if behind else fit
    return f"{fit.block}.{fit.port}"


def _idling(design: Design, amplifier: SolvedAmplifier, block: Block, wanted: float) -> Design:
    """The design with the output tubes' bias set so that they idle as they did."""
    use = amplifier.compiled.tubes_of(block.id)[0]
    if not use.knob:
        return design
    try:
        if use.knob.endswith("/ohm"):
            now = amplifier.netlist[amplifier.compiled.designator(use.knob)].device.ohm  # type: ignore[attr-defined]
            return settled(design, use.knob, wanted, block.id, now / 5, now * 5, amplifier, Series.E24)
        other = next((one.knob for one in amplifier.compiled.tubes_of(block.id) if one.knob != use.knob), "")
        return settled(design, use.knob, wanted, block.id, 0.02, 1.0, amplifier, None, other)
    except DesignRefused:
        return design


def _may_feed_back(amplifier: SolvedAmplifier) -> bool:
    first = _first(amplifier)
    stages = [one for one in amplifier.route if amplifier.compiled.tubes_of(one)]
    return (
        not amplifier.compiled.loops
        and first is not None
        and len(stages) > 1
        and amplifier.load.power
        and bool(amplifier.compiled.transformers)
    )


def _first(amplifier: SolvedAmplifier) -> Block | None:
    """The first stage, where feedback can come in at the foot of its cathode."""
    for block_id in amplifier.route:
        if amplifier.compiled.tubes_of(block_id):
            block = amplifier.design.block(block_id)
            has = "cathode_foot" in type(block).model_fields and getattr(block, "cathode_resistor", None)
            return block if has else None
    return None


def _make_feedback(amplifier: SolvedAmplifier) -> Design:
    first = _first(amplifier)
    assert first is not None
    raw = dump(amplifier.design)
    stage = _of(raw, first.id)
    stage["cathode_foot"] = stage.get("cathode_foot") or {"ohm": 100.0}
    foot = stage["cathode_foot"]["ohm"]
    name = _free("feedback", {one["id"] for one in raw["blocks"]})
    source = getattr(amplifier.design.block(amplifier.load.block), "input", "")
    gain = amplifier.gain(amplifier.load.node) / max(abs(amplifier.phasor(_grid(amplifier, first))), 1e-9)
    # Closed, the gain from that grid comes down by so much: the divider is what is left over one.
    closed = gain / 10 ** (_FEEDBACK_DB / 20)
    ohm = nearest(max(foot * (1.0 / max(1.0 / closed - 1.0 / gain, 1e-9) - 1.0), foot), Series.E12)
    raw["blocks"].append(
        {"id": name, "kind": "feedback", "scope": "channel", "source": source, "into": f"{first.id}.foot",
         "resistor": {"ohm": ohm}}
    )  # fmt: skip
    design = validate(raw)
    after = solve(design, amplifier)
    try:
        loop = next(one for one in after.compiled.loops if one.block == name)
        sense = after.small_signal.loop_gain(loop.parts, np.array([REFERENCE_HERTZ]))[0].real
    except NetlistRefused:
        return design
    if sense > 0:
        return design
    for iron in reversed(amplifier.compiled.transformers):
        if "secondary_reversed" in type(design.block(iron.block)).model_fields:
            turned = getattr(design.block(iron.block), "secondary_reversed")  # noqa: B009
            return changed(design, f"blocks/{iron.block}/secondary_reversed", "no" if turned else "yes")
    return design


def _grid(amplifier: SolvedAmplifier, block: Block) -> str:
    return amplifier.compiled.tubes_of(block.id)[0].grid


def _may_open(amplifier: SolvedAmplifier) -> bool:
    return bool(amplifier.compiled.loops)


def _make_open(amplifier: SolvedAmplifier) -> Design:
    raw = dump(amplifier.design)
    gone = {loop.block for loop in amplifier.compiled.loops}
    raw["blocks"] = [one for one in raw["blocks"] if one["id"] not in gone]
    for loop in amplifier.compiled.loops:
        into = split(amplifier.design.block(loop.block).references.get("into", ""))[0]
        stage = next((one for one in raw["blocks"] if one["id"] == into), None)
        if stage is None or not stage.get("cathode_foot") or not stage.get("cathode_resistor"):
            continue
        # The foot was there for the feedback alone; its ohms go to the resistor above it.
        if not any(str(one).startswith(f"{into}.foot") for block in raw["blocks"] for one in block.values()):
            foot = stage.pop("cathode_foot")
            ohm = stage["cathode_resistor"]["ohm"] + foot["ohm"]
            stage["cathode_resistor"] = {**stage["cathode_resistor"], "ohm": nearest(ohm, Series.E24)}
    return validate(raw)


def _may_double(amplifier: SolvedAmplifier) -> bool:
    uses = _uses(amplifier)
    sides = max(1, len({use.side for use in uses}))
    return bool(uses) and len(uses) // sides == 1


def _may_halve(amplifier: SolvedAmplifier) -> bool:
    uses = _uses(amplifier)
    sides = max(1, len({use.side for use in uses}))
    return bool(uses) and len(uses) // sides > 1


def _times(several: bool) -> Callable[[SolvedAmplifier], Design]:
    """Two output tubes in place of one, or one in place of several, with what goes with them."""

    def make(amplifier: SolvedAmplifier) -> Design:
        block = _output(amplifier)
        assert block is not None
        iron = _iron(amplifier.design, block.id)
        assert iron is not None
        raw = dump(amplifier.design)
        stage, transformer = _of(raw, block.id), _of(raw, iron.id)
        factor = 2.0
        for name in type(block).section_fields():
            now = list(stage[name])
            if several:
                types = [amplifier.design.envelope(one.partition(".")[0]).type for one in now]
                stage[name] = now + sections_of.allot(amplifier.design, raw, types)
            else:
                factor = float(len(now))
                stage[name] = now[:1]
        share = 1 / factor if several else factor
        if stage.get("cathode_resistor") and _uses(amplifier)[0].bias is Bias.CATHODE:
            old = stage["cathode_resistor"]
            stage["cathode_resistor"] = {
                **old,
                "ohm": nearest(old["ohm"] * share, Series.E24),
                "rating_watt": old.get("rating_watt", 0.5) / share,
            }
            if stage.get("cathode_bypass"):
                farad = nearest(stage["cathode_bypass"]["farad"] / share, Series.E12)
                stage["cathode_bypass"] = {**stage["cathode_bypass"], "farad": farad}
        for name in ("primary_ohm", "primary_henry", "primary_copper_ohm", "leakage_henry"):
            transformer[name] *= share
        sections_of.drop_unused(raw)
        return validate(raw)

    return make


def _may_choke(amplifier: SolvedAmplifier) -> bool:
    block = _driver(amplifier)
    return block is not None and bool(getattr(block, "anode_load", None))


def _make_choke(amplifier: SolvedAmplifier) -> Design:
    block = _driver(amplifier)
    assert block is not None
    (use,) = amplifier.compiled.tubes_of(block.id)
    raw = dump(amplifier.design)
    stage = _of(raw, block.id)
    stage.pop("anode_load")
    current = mean_current(amplifier, block.id)
    stage["anode_choke"] = {
        "henry": _CHOKE_HENRY, "copper_ohm": _CHOKE_OHM, "rating_ampere": float(f"{2 * current:.2g}")
    }  # fmt: skip
    design = validate(raw)
    # The anode now stands at the rail: what it may draw there is what it drew, or 0.8 of its limit.
    rail = amplifier.voltage(amplifier.compiled.node(_feed_node(amplifier, block)))
    wanted = min(current, 0.8 * use.limits.anode_w / max(rail, 1.0))
    return _idling(design, amplifier, block, wanted)


def _feed_node(amplifier: SolvedAmplifier, block: Block) -> str:
    producer, port = split(getattr(block, "feed"))  # noqa: B009
    return amplifier.design.block(producer).node(port)


def _may_resistor(amplifier: SolvedAmplifier) -> bool:
    block = _driver(amplifier)
    return block is not None and bool(getattr(block, "anode_choke", None))


def _make_resistor(amplifier: SolvedAmplifier) -> Design:
    block = _driver(amplifier)
    assert block is not None
    raw = dump(amplifier.design)
    stage = _of(raw, block.id)
    stage.pop("anode_choke")
    # Two fifths of the rail across the resistor at the current it has, or less if that is small.
    rail = amplifier.voltage(amplifier.compiled.node(_feed_node(amplifier, block)))
    current = mean_current(amplifier, block.id)
    ohm = nearest(0.4 * rail / current, Series.E12)
    heat = ohm * current**2
    watt = next((one for one in (0.5, 1.0, 2.0, 3.0, 5.0) if one > 2 * heat), 10.0)
    stage["anode_load"] = {"ohm": ohm, "rating_watt": watt}
    return _idling(validate(raw), amplifier, block, current)


def _free(wanted: str, names: set[str]) -> str:
    return next(one for one in _numbered(wanted) if one not in names)


def _numbered(wanted: str) -> Iterator[str]:
    yield wanted
    for number in range(2, 100):
        yield f"{wanted}_{number}"


def _drop_unused(raw: Raw) -> None:
    """Take out bias supplies and windings that nothing takes from any more."""
    while True:
        taken = {value.partition(".")[0] for one in raw["blocks"] for value in one.values() if isinstance(value, str)}
        left = [
            one
            for one in raw["blocks"]
            if one["id"] in taken
            or not (_only_gives(one["kind"], Flow.BIAS) or _only_gives(one["kind"], Flow.WINDING))
        ]
        if len(left) == len(raw["blocks"]):
            return
        raw["blocks"] = left


def _only_gives(kind: str, flow: Flow) -> bool:
    cls = KINDS[kind]
    made_ = cls.model_construct(**{name: info.get_default() for name, info in cls.model_fields.items()})
    ports = made_.ports().values()
    return bool(ports) and all(one is flow for one in ports)


SCHOOLS = (
    School("cathode-bias", "Cathode bias",
           "It looks after itself: a tube that ages or is changed finds its own current, for some watts and volts.",
           _may_cathode, _make_cathode),
    School("fixed-bias", "Fixed bias",
           "More power and a stiffer class AB from the same supply, for a bias that must be set and watched.",
           _may_fix, _make_fixed),
    School("triode", "Triode connection",
           "The lowest distortion and output impedance without feedback, for half the power or less.",
           _may_strap("triode"), _strap("triode")),
    School("ultra-linear", "Ultra-linear",
           "Most of a pentode's power with much of a triode's linearity, where the transformer has the taps.",
           _may_strap("ultra-linear"), _strap("ultra-linear")),
    School("pentode", "Pentode connection",
           "The most power and gain, for a high output impedance that feedback has to bring down.",
           _may_strap("pentode"), _strap("pentode")),
    School("feedback", "With feedback",
           "Less distortion and a firmer hold on the loudspeaker, for gain and for margins to be kept.",
           _may_feed_back, _make_feedback),
    School("no-feedback", "Without feedback",
           "Nothing to oscillate and a soft way into clipping; what the stages bend stays bent.",
           _may_open, _make_open),
    School("in-parallel", "Two output tubes in parallel",
           "Twice the current into half the load: more power and a lower impedance from tubes that may be cheaper.",
           _may_double, _times(True)),
    School("one-tube", "One output tube alone",
           "Nothing to be matched and less heat and capacitance to drive, for less power.",
           _may_halve, _times(False)),
    School("choke-load", "Choke in the driver's anode",
           "The driver swings about the whole of its rail and hardly bends, for weight and a choke's own resonance.",
           _may_choke, _make_choke),
    School("resistor-load", "Resistor in the driver's anode",
           "Light, cheap and flat to far beyond hearing, for half the rail's voltage.",
           _may_resistor, _make_resistor),
)  # fmt: skip
