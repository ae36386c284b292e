"""Schools of supplies: vacuum or silicon, choke or resistor, regulated or not, one or two, and what the reservoir is
of.

Only the supply is changed; bias and stages stay as they are, so that what a school does to the working points shows.
"""

from __future__ import annotations

from collections.abc import Callable

from thermionic import tubes
from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks import Block, Choke, Component, Resistor
from thermionic.blocks.facets import PassUse, Rail, Rectified, SeriesCapacitors, Smoothing, Standby, Winding
from thermionic.blocks.fields import PassTransistor
from thermionic.blocks.ports import split
from thermionic.circuit.netlist import GROUND
from thermionic.design import Design, dump, find, has_field, validate
from thermionic.design import sections as sections_of
from thermionic.errors import DesignRefused
from thermionic.performance.schools.working import Raw, block_in, free_name
from thermionic.supplies.moments import house_volts
from thermionic.supplies.ratings import resistor_watt
from thermionic.values import Series, nearest, step

_HT_VOLT = 60.0  # above what a supply is taken to be HT
_MARGIN = 1.1
# A choke's henries and copper, Ω, up to its amperes: what is usually wound for so much.
_CHOKES = ((0.06, 20.0, 350.0), (0.12, 10.0, 150.0), (0.2, 5.0, 90.0), (0.4, 3.0, 50.0))
_DROP = 0.05  # of the rail, that a series resistor takes
_LEFT = 0.92  # of its rail, that a MOSFET filter gives
_RESERVOIRS = {"electrolytic": 100e-6, "film": 33e-6, "oil": 10e-6}
_SINKS = (10.0, 8.0, 6.0, 5.0, 4.0, 3.0, 2.5, 2.0, 1.5, 1.0)


def ht_rectifier(amplifier: SolvedAmplifier) -> Rectified | None:
    """The rectifier of the HT: of those with a high positive rail the one that gives most."""
    result = [
        (amplifier.voltage(use.plus) * _ampere(amplifier, use), use)
        for use in amplifier.compiled.said(Rectified)
        if use.minus == GROUND and amplifier.voltage(use.plus) > _HT_VOLT
    ]
    return max(result, key=lambda pair: pair[0])[1] if result else None


def _ampere(amplifier: SolvedAmplifier, use: Rectified) -> float:
    arms = [amplifier.state.of(name).mean_ampere for name in use.parts]
    return sum(arms) / len(arms)


def _behind(amplifier: SolvedAmplifier, block_id: str) -> list[Block]:
    """The blocks that make a rail of the one that a block makes."""
    rails = {rail.block for rail in amplifier.compiled.rails}
    return [
        block
        for block in amplifier.design.blocks
        if block.id in rails and split(block.references.get("input", "."))[0] == block_id
    ]


def _sections(amplifier: SolvedAmplifier) -> tuple[Block, Block] | None:
    """The reservoir behind the HT's rectifier, and the first block behind that and a standby switch."""
    use = ht_rectifier(amplifier)
    switches = {standby.block for standby in amplifier.compiled.said(Standby)}
    for reservoir in _behind(amplifier, use.block) if use else ():
        behind = _behind(amplifier, reservoir.id)
        if behind and behind[0].id in switches:
            behind = _behind(amplifier, behind[0].id)
        if behind:
            return reservoir, behind[0]
    return None


def _smoothing(amplifier: SolvedAmplifier, block: Block) -> Smoothing | None:
    """The resistor or choke in series with a block's rail, if that is what makes it."""
    return next((use for use in amplifier.compiled.said(Smoothing) if use.block == block.id), None)


def _smooths(amplifier: SolvedAmplifier, with_: type[Component]) -> bool:
    """Whether the first section behind the HT's reservoir smooths with such a part."""
    result = _sections(amplifier)
    use = _smoothing(amplifier, result[1]) if result else None
    return use is not None and isinstance(find(amplifier.design, use.path).value, with_)


def _draws(amplifier: SolvedAmplifier, block: Block) -> float:
    """What goes through a section's series resistor or choke, A."""
    use = _smoothing(amplifier, block)
    assert use is not None
    return abs(float(amplifier.state.at.terminal_currents[use.part][0]))


def _rectifier_tube(amplifier: SolvedAmplifier, use: Rectified, half_volt: float) -> str | None:
    """The smallest full-wave type that delivers what is drawn and stands the winding on the highest mains."""
    high, usual = house_volts(amplifier.design)[2], amplifier.design.brief.mains_volt
    ampere, reverse = _MARGIN * _ampere(amplifier, use), 2 * 2**0.5 * half_volt * high / usual
    fitting = []
    for type_ in tubes.types_with("rectifier").values():
        for unit in type_.units:
            limits = unit.rectifier_limits
            if limits and unit.sections == 2 and limits.output_a >= ampere and limits.reverse_v >= reverse:
                fitting.append((limits.output_a, type_.type))
    return min(fitting)[1] if fitting else None


def may_vacuum(amplifier: SolvedAmplifier) -> bool:
    use = ht_rectifier(amplifier)
    if use is None or use.tube or use.form not in ("bridge", "full-wave"):
        return False
    winding = _winding(amplifier, use)
    halved = use.form == "full-wave" or not winding.centre_tapped
    return halved and _rectifier_tube(amplifier, use, _rated_volt(winding, amplifier)) is not None


def _winding(amplifier: SolvedAmplifier, use: Rectified) -> Winding:
    return next(winding for winding in amplifier.compiled.said(Winding) if winding.block == use.winding)


def _rated_volt(winding: Winding, amplifier: SolvedAmplifier) -> float:
    """The winding's open-circuit volts with its primary on the volts that it is for, each half's if it is tapped."""
    mains = winding.core.mains_volt if winding.core else amplifier.design.mains[0]
    return winding.volt * winding.primary_volt / mains


def make_vacuum(amplifier: SolvedAmplifier) -> Design:
    """A tube on a winding of twice the ends, and a first capacitor that it can fill."""
    use = ht_rectifier(amplifier)
    assert use is not None
    winding = _winding(amplifier, use)
    name = _rectifier_tube(amplifier, use, _rated_volt(winding, amplifier))
    assert name is not None
    raw = dump(amplifier.design)
    block_in(raw, winding.block)["centre_tapped"] = True
    old = block_in(raw, use.block)
    (section,) = sections_of.allot(amplifier.design, raw, [name])
    new = {"id": use.block, "kind": "tube-rectifier", "scope": old.get("scope", "shared"),
           "winding": old["winding"], "tubes": [section]}  # fmt: skip
    raw["blocks"][raw["blocks"].index(old)] = new
    limits = amplifier.design.tube_type(name).unit("rectifier").rectifier_limits
    for reservoir in _behind(amplifier, use.block):
        capacitor = block_in(raw, reservoir.id).get("capacitor")
        if capacitor and limits and capacitor["farad"] > limits.first_capacitor_f:
            capacitor["farad"] = step(limits.first_capacitor_f * 1.0001, Series.E12, -1)
    return validate(raw)


def may_silicon(amplifier: SolvedAmplifier) -> bool:
    use = ht_rectifier(amplifier)
    return use is not None and bool(use.tube) and use.form == "full-wave"


def make_silicon(amplifier: SolvedAmplifier) -> Design:
    use = ht_rectifier(amplifier)
    assert use is not None
    raw = dump(amplifier.design)
    old = block_in(raw, use.block)
    new = {"id": use.block, "kind": "silicon-rectifier", "scope": old.get("scope", "shared"),
           "winding": old["winding"], "form": "full-wave", "diode": {"in_series": 2}}  # fmt: skip
    raw["blocks"][raw["blocks"].index(old)] = new
    _unheat(raw, use.tube)
    sections_of.drop_unused(raw)
    return validate(raw)


def _unheat(raw: Raw, envelope: str) -> None:
    """Take a tube out of the heater strings. Raises DesignRefused where others are in series with it."""
    for block in list(raw["blocks"]):
        if block["kind"] != "heater-string":
            continue
        chains = [word.strip() for word in block["tubes"].split(",")]
        if any(envelope in chain.split("+") and chain != envelope for chain in chains):
            raise DesignRefused(
                f"{envelope.upper()} is heated in series with others: its heater must be made up for."
            )
        block["tubes"] = ", ".join(chain for chain in chains if chain != envelope)
        if not block["tubes"]:
            raw["blocks"].remove(block)


def may_choke(amplifier: SolvedAmplifier) -> bool:
    return _smooths(amplifier, Resistor)


def make_choke(amplifier: SolvedAmplifier) -> Design:
    """A choke in place of the first series resistor."""
    result = _sections(amplifier)
    assert result is not None
    ampere = _draws(amplifier, result[1])
    henry, ohm = next(((h, r) for most, h, r in _CHOKES if _MARGIN * ampere <= most), _CHOKES[-1][1:])
    return _swapped(amplifier, result[1], "lc-section", "resistor", "choke",
                    {"henry": henry, "copper_ohm": ohm, "rating_ampere": float(f"{1.3 * ampere:.2g}")})  # fmt: skip


def may_resistor(amplifier: SolvedAmplifier) -> bool:
    return _smooths(amplifier, Choke)


def make_resistor(amplifier: SolvedAmplifier) -> Design:
    """A resistor in place of the first choke, that takes a twentieth of the rail."""
    result = _sections(amplifier)
    assert result is not None
    ampere = max(_draws(amplifier, result[1]), 1e-4)
    ohm = nearest(_DROP * amplifier.voltage(result[0].node("out")) / ampere, Series.E12)
    return _swapped(amplifier, result[1], "rc-section", "choke", "resistor",
                    {"ohm": ohm, "rating_watt": resistor_watt(ohm * ampere**2)})  # fmt: skip


def _swapped(amplifier: SolvedAmplifier, block: Block, kind: str, old: str, new: str, part: Raw) -> Design:
    raw = dump(amplifier.design)
    section = block_in(raw, block.id)
    section.pop(old)
    section |= {"kind": kind, new: part}
    return validate(raw)


def may_regulate(amplifier: SolvedAmplifier) -> bool:
    return _smooths(amplifier, Component) and not amplifier.compiled.said(PassUse)


def make_regulated(amplifier: SolvedAmplifier) -> Design:
    """A MOSFET filter in place of the first section: its gate on a divider, and a heat-sink for the highest mains."""
    result = _sections(amplifier)
    assert result is not None
    reservoir, section = result
    high, usual = house_volts(amplifier.design)[2], amplifier.design.brief.mains_volt
    volt = amplifier.voltage(reservoir.node("out"))
    top = amplifier.on_mains(high).without_tubes.at.voltage(amplifier.compiled.node(reservoir.node("out")))
    upper = 100e3
    watt = (1 - _LEFT) * volt * _draws(amplifier, section) * (high / usual) ** 2
    made = PassTransistor(rating_volt=next(one for one in (400.0, 600.0, 800.0, 1000.0, 1e4) if one > 1.2 * top))
    sink = next(
        (sink for sink in _SINKS
         if made.model_copy(update={"sink_kelvin_per_watt": sink}).junction_celsius(watt) < 115.0), _SINKS[-1],
    )  # fmt: skip
    raw = dump(amplifier.design)
    old = block_in(raw, section.id)
    lower = nearest(upper * _LEFT / (1 - _LEFT), Series.E12)
    rating = old["capacitor"]["rating_volt"]
    new = {
        "id": section.id, "kind": "source-follower", "scope": old.get("scope", "shared"), "input": old["input"],
        "upper": {"ohm": upper}, "lower": {"ohm": lower}, "gate_capacitor": {"farad": 10e-6, "rating_volt": rating},
        "transistor": {"rating_volt": made.rating_volt, "sink_kelvin_per_watt": sink}, "discharge": {},
        "output": {"farad": 22e-6, "rating_volt": rating},
    }  # fmt: skip
    raw["blocks"][raw["blocks"].index(old)] = new
    return validate(raw)


def _front(amplifier: SolvedAmplifier) -> Block | None:
    """The first section behind the rail that the last stage and what it drives hang on."""
    stages = [at for at, block_id in enumerate(amplifier.route) if amplifier.compiled.tubes_of(block_id)]
    last = [amplifier.design.block(block_id) for block_id in amplifier.route[stages[-1] :]] if stages else []
    rails = {rail.block for rail in amplifier.compiled.rails if not rail.bias}
    for producer in {split(reference)[0] for block in last for reference in block.references.values()} & rails:
        for block in _behind(amplifier, producer):
            if _smoothing(amplifier, block):
                return block
    return None


def may_separate(amplifier: SolvedAmplifier) -> bool:
    use = ht_rectifier(amplifier)
    fits = use is not None and use.form in ("bridge", "full-wave") and _sections(amplifier) is not None
    return fits and _front(amplifier) is not None


def make_separate(amplifier: SolvedAmplifier) -> Design:
    """A rectifier and a reservoir of its own, on the same winding, for what hangs behind the output stage's rail."""
    result, use, front = _sections(amplifier), ht_rectifier(amplifier), _front(amplifier)
    assert result is not None
    assert use is not None
    assert front is not None
    raw = dump(amplifier.design)
    ids = {block["id"] for block in raw["blocks"]}
    rectifier, reservoir = free_name("front_rectifier", ids), free_name("front_reservoir", ids)
    old = block_in(raw, result[0].id)["capacitor"]
    at = raw["blocks"].index(block_in(raw, front.id))
    raw["blocks"][at:at] = [
        {"id": rectifier, "kind": "silicon-rectifier", "scope": "shared", "form": use.form,
         "winding": block_in(raw, use.block)["winding"], "diode": {"in_series": 2}},
        {"id": reservoir, "kind": "reservoir", "scope": "shared", "input": f"{rectifier}.out",
         "capacitor": {"farad": 22e-6, "rating_volt": old["rating_volt"]}, "bleeder": {"ohm": 220e3,
         "rating_watt": resistor_watt(amplifier.voltage(result[0].node("out")) ** 2 / 220e3)}},
    ]  # fmt: skip
    block_in(raw, front.id)["input"] = f"{reservoir}.out"
    return validate(raw)


def may_reservoir(made: str) -> Callable[[SolvedAmplifier], bool]:
    """Whether the reservoir is of another make than ``made``, and a single capacitor."""

    def may(amplifier: SolvedAmplifier) -> bool:
        result = _sections(amplifier)
        if result is None or result[0].id in {
            series_capacitors.block for series_capacitors in amplifier.compiled.said(SeriesCapacitors)
        }:
            return False
        path = f"blocks/{result[0].id}/capacitor/made"
        return has_field(amplifier.design, path) and find(amplifier.design, path).value != made

    return may


def make_reservoir(made: str) -> Callable[[SolvedAmplifier], Design]:
    """A reservoir as large as is usual of that make, for the same volts."""

    def make(amplifier: SolvedAmplifier) -> Design:
        result = _sections(amplifier)
        assert result is not None
        raw = dump(amplifier.design)
        capacitor = block_in(raw, result[0].id)["capacitor"]
        capacitor |= {"made": made, "farad": _RESERVOIRS[made], "ripple_ampere": None}
        return validate(raw)

    return make


def main_rail(amplifier: SolvedAmplifier) -> Rail | None:
    """The rail of the first block behind the HT's reservoir, or of the rectifier where there is none."""
    result, use = _sections(amplifier), ht_rectifier(amplifier)
    block = result[1].id if result else use.block if use else ""
    return next((rail for rail in amplifier.compiled.rails if rail.block == block), None)
