"""Starting designs for what is wanted: known good amplifiers with other tubes, rails and loads, each settled, solved
and cured until its own findings have nothing against it; what they condemn is not proposed.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from thermionic import budget, examples
from thermionic.amplifier import SolvedAmplifier, grid_onset, solve
from thermionic.amplifier.driven import WELL_BEFORE
from thermionic.amplifier.magnetising import magnetising_ampere
from thermionic.blocks.facets import Bias
from thermionic.design import Design, changed, dump, field, find, fit_part, full_up, optional_parts, validate
from thermionic.design.iron import Piece, places_for, put_in, rewire, value_at
from thermionic.errors import BudgetSpent, DesignRefused, ThermionicError
from thermionic.findings import Finding, Severity, applied, examine
from thermionic.performance.comparing import Comparison, compared
from thermionic.performance.schools import made
from thermionic.values import Quantity, Series, display, nearest, step

# How hot a tube is set to idle, over its limit, and what a settled design may fall short of the power wanted.
_IDLE, _SHORT = 0.85, 0.95
_CURES = 10
_A_DESIGN = 8.0  # seconds at most, for one that will not settle
_LOADS = (0.75, 1.3)
_RAILS = (1.0, 1.07, 1.14, 1.22, 1.3)
# So many are enough; where it takes so many seconds, a few.
_ENOUGH, _FEW, _LONG = 8, 4, 14.0
# Iron: spare power and current, how near to what a design has a piece on the shelf is (by the figure that it goes by)
# to be tried in its place, how many of them, and for how long.
_ROOM = 1.15
_NEAR = {"output": ("primary_ohm", 1.4), "mains": ("winding_volt", 1.1), "choke": ("henry", 2.0)}
_TRIALS, _A_PIECE = 2, 2.0
Told = Callable[[float, str], None]


@dataclass(frozen=True)
class Wanted:
    """What is asked for. ``watt`` is into the load (loudspeaker and headphones), ``gain_db`` the gain at 1 kHz (phono
    and line). ``winding_volt`` is that of the mains winding at hand, rms, None where any can be had; ``tubes`` are
    the types at hand, ``screens`` how the output tubes should be connected, "" for any; ``highest_volt`` what no rail
    should pass; ``iron`` the pieces on the shelf."""

    sort: Literal["loudspeaker", "headphones", "phono", "line"]
    watt: float = 5.0
    gain_db: float | None = None
    load_ohm: float = 8.0
    source_volt: float = 2.0
    mains_volt: float = 230.0
    mains_hertz: float = 50.0
    winding_volt: float | None = None
    tubes: tuple[str, ...] = ()
    screens: Literal["", "triode", "ultra-linear", "pentode"] = ""
    channels: int = 2
    highest_volt: float | None = None
    iron: tuple[Piece, ...] = ()


@dataclass(frozen=True)
class Recipe:
    """A way to a design: an example to begin with, its tubes by envelope, a school to be made of it ("" for none),
    and the range of output that it is good for, W (V rms for a preamplifier)."""

    title: str
    example: str
    tubes: tuple[tuple[str, str], ...] = ()
    school: str = ""
    least: float = 0.0
    most: float = 1e3


@dataclass(frozen=True)
class Proposal:
    """A settled design with what it comes to; ``missing`` names its tubes and iron that are not at hand, ``iron`` the
    pieces on the shelf that are in it."""

    title: str
    design: Design
    numbers: Comparison
    tubes: tuple[str, ...]
    missing: tuple[str, ...]
    iron: tuple[str, ...]
    gain_db: float


def _pair(name: str) -> tuple[tuple[str, str], ...]:
    return (("v3", name), ("v4", name))


RECIPES: dict[str, tuple[Recipe, ...]] = {
    "loudspeaker": (
        Recipe("One 2A3, one driver stage", "lantern", most=4.5),
        Recipe("One 2A3, a high-mu driver", "lantern", (("v1", "ECC83"),), most=4.5),
        Recipe("One 2A3 with a choke in the driver's anode", "lantern", school="choke-load", most=4.5),
        Recipe("One 2A3 with feedback", "lantern", school="feedback", most=4.5),
        Recipe("Two 2A3 in parallel", "lantern", school="in-parallel", least=3.0, most=9.0),
        Recipe("One 2A3, two driver stages", "weir", (("v2", "2A3"),), most=4.5),
        Recipe("One 45, interstage transformer", "mill", most=2.2),
        Recipe("One 300B", "beacon", least=3.0, most=10.0),
        Recipe("One KT88 strapped as a triode", "weir", least=2.0, most=8.0),
        Recipe("One 6L6GC strapped as a triode", "weir", (("v2", "6L6GC"),), most=6.0),
        Recipe("One EL84, ultra-linear with feedback", "wicket", most=5.0),
        Recipe("One EL84, pentode with feedback", "wicket", school="pentode", most=6.0),
        Recipe("One EL84 strapped as a triode", "wicket", school="triode", most=2.5),
        Recipe("One 6V6GT, ultra-linear with feedback", "wicket", (("v2", "6V6GT"),), most=4.5),
        Recipe("Two EL84, cathodyne, feedback", "hurdle", least=5.0, most=18.0),
        Recipe("Two EL84, ultra-linear", "hurdle", school="ultra-linear", least=4.0, most=16.0),
        Recipe("Two EL84, fixed bias", "hurdle", school="fixed-bias", least=6.0, most=18.0),
        Recipe("Two 6V6GT, cathodyne, feedback", "hurdle", (("v2", "6V6GT"), ("v3", "6V6GT")), least=5.0, most=14.0),
        Recipe("Four EL84", "hurdle", school="in-parallel", least=10.0, most=35.0),
        Recipe("Two 6V6GT strapped as triodes, paraphase", "lychgate", least=2.0, most=6.0),
        Recipe("Two EL34, ultra-linear, fixed bias", "saltpan", least=12.0, most=45.0),
        Recipe("Two EL34, pentode, fixed bias", "saltpan", school="pentode", least=12.0, most=55.0),
        Recipe("Two EL34 strapped as triodes", "saltpan", school="triode", least=8.0, most=20.0),
        Recipe("Two EL34, ultra-linear, cathode bias", "saltpan", school="cathode-bias", least=10.0, most=35.0),
        Recipe("Two KT88, ultra-linear, fixed bias", "saltpan", _pair("KT88"), least=20.0, most=60.0),
        Recipe("Two 6L6GC, ultra-linear, fixed bias", "saltpan", _pair("6L6GC"), least=10.0, most=45.0),
        Recipe("Two 6550, ultra-linear, fixed bias", "saltpan", _pair("6550"), least=20.0, most=60.0),
        Recipe("Four EL34, ultra-linear, fixed bias", "saltpan", school="in-parallel", least=30.0, most=90.0),
        Recipe("Two EL34, ultra-linear, without feedback", "saltpan", school="no-feedback", least=10.0, most=40.0),
        Recipe("Four small triodes in parallel", "reedbed", least=3.0, most=9.0),
    ),
    "headphones": (
        Recipe("Gain stage and a 6AS7G follower", "otter"),
        Recipe("Gain stage and a 6080 follower", "otter", (("v2", "6080"),)),
        Recipe("An ECC88 before the follower", "otter", (("v1", "ECC88"),)),
        Recipe("A 6SN7GT before the follower", "otter", (("v1", "6SN7GT"),)),
        Recipe("An ECC81 before the follower", "otter", (("v1", "ECC81"),)),
        Recipe("A 6CG7 before the follower", "otter", (("v1", "6CG7"),)),
        Recipe("A choke in the gain stage's anode", "otter", school="choke-load"),
        Recipe("A 6BX7GT follower", "otter", (("v2", "6BX7GT"),)),
        Recipe("A 6BL7GT follower", "otter", (("v2", "6BL7GT"),)),
    ),
    "phono": (
        Recipe("Two ECC83 stages, passive equalisation", "plover"),
        Recipe("An ECC88 follower behind two ECC83 stages", "plover", (("v2", "ECC88"),)),
        Recipe("An ECC81 follower behind two ECC83 stages", "plover", (("v2", "ECC81"),)),
        Recipe("Two 6SL7GT stages", "plover", (("v1", "6SL7GT"),)),
        Recipe("Two 5751 stages", "plover", (("v1", "5751"),)),
        Recipe("Two ECC81 stages", "plover", (("v1", "ECC81"),)),
        Recipe("Two ECC83 stages with a 6SN7GT follower", "plover", (("v2", "6SN7GT"),)),
    ),
    "line": (
        Recipe("A series-regulated pair and a follower", "sluice"),
        Recipe("An ECC88 pair and a follower", "sluice", (("v1", "ECC88"),)),
        Recipe("A 6SN7GT pair and a follower", "sluice", (("v1", "6SN7GT"),)),
        Recipe("An ECC82 pair and a follower", "sluice", (("v1", "ECC82"),)),
        Recipe("An ECC81 pair and a follower", "sluice", (("v1", "ECC81"),)),
    ),
}  # fmt: skip


def _quietly(part: float, said: str) -> None:
    """Tell nobody."""


def choose(wanted: Wanted, told: Told = _quietly, *, threads: int = 2) -> list[Proposal]:
    """Designs that do what is wanted, those of tubes at hand first, then by what they take from the wall; ``told``
    hears how far it is, 0 to 1, and what is being tried.

    Raises BudgetSpent. Empty where none that is known does it. Where it takes long it ends with a few.
    """
    fitting = [recipe for recipe in RECIPES[wanted.sort] if _may(recipe, wanted)]
    fitting.sort(key=lambda recipe: -_at_hand(recipe, wanted))
    found: list[Proposal] = []
    to_try, under_way = iter(fitting), set[Future[Proposal | None]]()
    began, begun, title = time.monotonic(), 0, ""
    pool = ThreadPoolExecutor(threads)
    try:
        while True:
            long = time.monotonic() - began > _LONG
            wants_more = len(found) < (_FEW if long else _ENOUGH)
            while wants_more and len(under_way) < threads and (recipe := next(to_try, None)) is not None:
                under_way.add(pool.submit(budget.carried(_tried), recipe, wanted))
                begun, title = begun + 1, recipe.title
            if not under_way:
                break
            done, under_way = wait(under_way, timeout=0.2, return_when=FIRST_COMPLETED)
            found += [proposal for one in done if (proposal := one.result()) is not None]
            told((begun - len(under_way)) / len(fitting), title)
    finally:
        pool.shutdown(cancel_futures=True)
    found.sort(key=lambda one: (len(one.missing), one.numbers.wall_watt))
    return found[:_ENOUGH]


def _tried(recipe: Recipe, wanted: Wanted) -> Proposal | None:
    """The recipe settled, where that comes to something in the time that it may take. Raises BudgetSpent."""
    try:
        with budget.limit(_A_DESIGN):
            return _settled(recipe, wanted)
    except BudgetSpent:
        if budget.spent():
            raise
        return None
    except ThermionicError:
        return None


def _may(recipe: Recipe, wanted: Wanted) -> bool:
    """Whether a recipe could come to it by the range that it is good for and the way its screens are connected."""
    if wanted.sort != "loudspeaker":
        return True
    if not recipe.least <= wanted.watt <= recipe.most:
        return False
    if not wanted.screens:
        return True
    words = {"triode": "triode", "ultra-linear": "ultra-linear", "pentode": "pentode"}[wanted.screens]
    return words in recipe.title


def _types(recipe: Recipe) -> dict[str, str]:
    design = examples.example(recipe.example)
    return {envelope.id: envelope.type for envelope in design.envelopes} | dict(recipe.tubes)


def _at_hand(recipe: Recipe, wanted: Wanted) -> int:
    hand = {name.upper() for name in wanted.tubes}
    return sum(name.upper() in hand for name in _types(recipe).values())


def _settled(recipe: Recipe, wanted: Wanted) -> Proposal | None:
    """The recipe made, settled and cured; None where it does not come to what is wanted or is condemned."""
    design = _begun(recipe, wanted)
    if recipe.school:
        design = made(solve(design), recipe.school)[0]
    amplifier = solve(design)
    if wanted.sort == "loudspeaker":
        amplifier = _driven_up(amplifier, wanted)
    if wanted.gain_db is not None:
        amplifier = _toned_down(amplifier, wanted)
    cured = _sound(_ironed(amplifier), wanted)
    if cured is None:
        return None
    cured, used = _from_the_shelf(cured, wanted)
    amplifier, findings = cured
    names = tuple(dict.fromkeys(envelope.type for envelope in amplifier.design.envelopes))
    hand = {name.upper() for name in wanted.tubes}
    missing = tuple(name for name in names if hand and name.upper() not in hand)
    design = changed(amplifier.design, "name", recipe.title)
    return Proposal(
        recipe.title, design, compared(amplifier, findings), names, missing + _iron_missing(amplifier, used, wanted),
        tuple(dict.fromkeys(piece.name for piece in used.values())), _gain_db(amplifier),
    )  # fmt: skip


_Cured = tuple[SolvedAmplifier, list[Finding]]


def _sound(amplifier: SolvedAmplifier, wanted: Wanted) -> _Cured | None:
    """The design cured, where it then does what is wanted."""
    cured = _cured(amplifier)
    return cured if cured is not None and _enough(cured[0], wanted) else None


def _ironed(amplifier: SolvedAmplifier) -> SolvedAmplifier:
    """With output transformers made for what goes through them: a core for the power, and for the steady current
    where it has a gap."""
    design = amplifier.design
    for use in amplifier.compiled.transformers:
        path = f"blocks/{use.block}/core"
        core = find(design, path).value if optional_parts(design).get(path) else None
        if core is None:
            continue
        full = _ROOM * amplifier.full_output.power_watt
        if full > core.watt:
            design = changed(design, f"{path}/watt", step(full, Series.E12, 1))
        if core.ampere and (steady := magnetising_ampere(amplifier, use.part)) > core.ampere:
            design = changed(design, f"{path}/ampere", step(_ROOM * steady, Series.E12, 1))
    return amplifier if design == amplifier.design else solve(design, amplifier)


def _from_the_shelf(cured: _Cured, wanted: Wanted) -> tuple[_Cured, dict[str, Piece]]:
    """With pieces on the shelf in the places that they are near to, one by one, where the design then stays sound;
    and those pieces by their path."""
    used: dict[str, Piece] = {}
    for kind, (figure, near) in _NEAR.items():
        for path, _ in places_for(cured[0].design, kind):
            now = value_at(cured[0].design, path, figure)
            paired = getattr(find(cured[0].design, path).value, "push_pull", False)
            pieces = [
                one
                for one in wanted.iron
                if one.kind == kind and one.name not in _names(used) and not (paired and one.number("ampere"))
            ]  # a core that is made for steady current has no use for a centre tap
            sized = [(max(ohm / now, now / ohm), one) for one in pieces if now and (ohm := one.number(figure))]
            for apart, piece in sorted(sized, key=lambda pair: pair[0])[:_TRIALS]:
                if apart > near:
                    break
                try:
                    with budget.limit(_A_PIECE):
                        trial = solve(put_in(cured[0].design, path, piece), cured[0])
                        better = _sound(_idle_set(trial) if kind == "output" else trial, wanted)
                except BudgetSpent:
                    if budget.spent():
                        raise
                    continue
                except ThermionicError:
                    continue
                # A cure may have asked for another piece.
                if better is not None and put_in(better[0].design, path, piece) == better[0].design:
                    cured, used[path] = better, piece
                    break
    return cured, used


def _names(used: dict[str, Piece]) -> set[str]:
    return {piece.name for piece in used.values()}


def _iron_missing(amplifier: SolvedAmplifier, used: dict[str, Piece], wanted: Wanted) -> tuple[str, ...]:
    """The output transformers that are not on the shelf, and the second one of a kind that every channel has."""
    design = amplifier.design
    found = []
    for path, piece in used.items():
        each = design.block(path.split("/")[1]).scope == "channel"
        if each and design.channels > 1 and sum(one.name == piece.name for one in wanted.iron) < design.channels:
            found.append(f"a second {piece.name}")
    for use in amplifier.compiled.transformers:
        if f"blocks/{use.block}" not in used:
            watt = display(_ROOM * amplifier.full_output.power_watt, Quantity.POWER, 2)
            many = "an output transformer" if design.channels == 1 else f"{design.channels} output transformers"
            found.append(f"{many} of {display(use.primary_ohm, Quantity.RESISTANCE)}, {watt}")
    return tuple(found)


def _gain_db(amplifier: SolvedAmplifier) -> float:
    """The gain at 1 kHz with every control full up, dB."""
    opened = solve(full_up(amplifier.design), amplifier)
    return float(20 * np.log10(opened.gain(opened.load.node)))


def _enough(amplifier: SolvedAmplifier, wanted: Wanted) -> bool:
    power = wanted.sort in ("loudspeaker", "headphones")
    if power and amplifier.full_output.power_watt < _SHORT * wanted.watt:
        return False
    if wanted.highest_volt is not None and amplifier.highest_rail > wanted.highest_volt:
        return False
    if wanted.gain_db is not None:
        return abs(_gain_db(amplifier) - wanted.gain_db) <= 6.0
    return True


def _begun(recipe: Recipe, wanted: Wanted) -> Design:
    """The example with what is wanted written into it."""
    design = examples.example(recipe.example)
    design = changed(design, "channels", str(wanted.channels))
    design = changed(changed(design, "brief/mains_volt", wanted.mains_volt), "brief/mains_hertz", wanted.mains_hertz)
    for envelope, name in recipe.tubes:
        design = changed(design, f"envelopes/{envelope}/type", name)
    raw = dump(design)
    for block in raw["blocks"]:
        if "primary_volt" in block:
            block["primary_volt"] = wanted.mains_volt
        if block["kind"] in ("input", "line-input") and wanted.sort != "phono":
            block["source_volt"] = wanted.source_volt
        if block["kind"] in ("loudspeaker", "headphones"):
            block["ohm"] = wanted.load_ohm
    _tapped(raw, wanted.load_ohm)
    if wanted.winding_volt is not None:
        main = next((block for block in raw["blocks"] if block["id"] == "winding"), None)
        if main is None:
            raise DesignRefused("There is no winding in it.")
        main["winding_volt"] = wanted.winding_volt
    return validate(raw)


def _tapped(raw: dict[str, Any], ohm: float) -> None:
    """The loudspeaker on the tap that is called as it is; the nearest where there is none."""
    for block in raw["blocks"]:
        if block["kind"] != "loudspeaker":
            continue
        iron, _, tap = block["input"].partition(".")
        taps = next((one["taps"] for one in raw["blocks"] if one["id"] == iron and "taps" in one), None)
        if taps is None:
            continue
        best = min(taps, key=lambda one: abs(np.log(float(one["id"]) / ohm)))
        rewire(raw, f"{iron}.{tap}", f"{iron}.{best['id']}")  # what else hangs on that tap goes with it


def _driven_up(amplifier: SolvedAmplifier, wanted: Wanted) -> SolvedAmplifier:
    """The output tubes idling at their share of the limit, with the rail, where it is free, and the load that give
    the power wanted with the least of it and no grid or rating passed; the most of it where none does."""
    first = _idle_set(amplifier)
    rails: tuple[float, ...] = (1.0,) if wanted.winding_volt is not None else _RAILS
    if wanted.winding_volt is None and first.full_output.power_watt > 1.6 * wanted.watt:
        rails = (0.9, 1.0)
    if wanted.highest_volt is not None and wanted.winding_volt is None:
        most = wanted.highest_volt / first.highest_rail
        rails = tuple(factor for factor in rails if factor <= most) or (0.98 * most,)
    best, merit, before = first, -1.0, first
    for factor in rails:
        trial = first if factor == 1.0 else _with_rail(first, factor)
        if trial is None:
            break
        worth = _worth(trial)
        if worth > merit:
            best, merit = trial, worth
        if trial.full_output.power_watt >= wanted.watt or factor == rails[-1]:
            # Near what is wanted: other loads, on this rail and on the one before it.
            for rail in dict.fromkeys((before, trial)):
                for load in _LOADS:
                    if merit >= wanted.watt and _is_sound(best):
                        return best
                    loaded = _with_load(rail, load)
                    if loaded is not None and (worth := _worth(loaded)) > merit:
                        best, merit = loaded, worth
        before = trial
    return best


def _worth(amplifier: SolvedAmplifier) -> float:
    """Its power, W, of which what breaks a rule has little."""
    return amplifier.full_output.power_watt * (1.0 if _is_sound(amplifier) else 0.3)


def _is_sound(amplifier: SolvedAmplifier) -> bool:
    """Whether the last stage's tubes are within their voltages, and their grids do not conduct well before full
    output: what no single change cures."""
    full = amplifier.output(amplifier.full_output)
    for use in amplifier.compiled.tubes:
        if use.block not in amplifier.route:
            continue
        if amplifier.over_cathode(use, "anode") > use.limits.anode_v:
            return False
        screen = use.limits.screen_v
        if "screen" in use.nodes and screen and amplifier.over_cathode(use, "screen") > screen:
            return False
        onset = grid_onset(amplifier, use.part)
        if onset is not None and onset < WELL_BEFORE * full:
            return False
    return True


def _with_rail(amplifier: SolvedAmplifier, factor: float) -> SolvedAmplifier | None:
    path = "blocks/winding/winding_volt"
    now = amplifier.design.block("winding").winding_volt  # type: ignore[attr-defined]
    try:
        return _idle_set(solve(changed(amplifier.design, path, float(round(now * factor))), amplifier))
    except ThermionicError:
        return None


def _with_load(amplifier: SolvedAmplifier, factor: float) -> SolvedAmplifier | None:
    iron = next(iter(amplifier.compiled.transformers), None)
    if iron is None:
        return None
    ohm = nearest(iron.primary_ohm * factor, Series.E12)
    try:
        return solve(changed(amplifier.design, f"blocks/{iron.block}/primary_ohm", ohm), amplifier)
    except ThermionicError:
        return None


def _idle_set(amplifier: SolvedAmplifier) -> SolvedAmplifier:
    """With the bias of the last stage's tubes at the idle heat meant for them, by a few steps of a secant in the
    logarithm; as it was where no value does it."""
    uses = [use for use in amplifier.compiled.tubes if use.block in amplifier.route]
    last = max((use.block for use in uses), key=amplifier.route.index)
    uses = [use for use in uses if use.block == last]
    knobs = list(dict.fromkeys(use.knob for use in uses if use.knob))
    if not knobs:
        return amplifier
    now = amplifier
    for _ in range(5):
        heat = max(now.parts[use.part].dissipation / use.limits.anode_w for use in uses)
        if abs(heat / _IDLE - 1) < 0.04:
            break
        try:
            design = now.design
            for knob in knobs:
                value = _value(now, knob)
                over = heat / _IDLE
                if uses[0].bias is Bias.FIXED:
                    value = float(np.clip(value * over**0.35, 0.02, 1.0))
                    design = changed(design, knob, round(value, 4))
                else:
                    design = changed(design, knob, nearest(value * over**1.3, Series.E24))
            now = solve(design, now)
        except ThermionicError:
            return amplifier
    return now


def _value(amplifier: SolvedAmplifier, path: str) -> float:
    return float(field(amplifier.design, path).value)


def _cured(amplifier: SolvedAmplifier) -> tuple[SolvedAmplifier, list[Finding]] | None:
    """With every finding above worth knowing cured by what it offers; None where one has no cure."""
    for _ in range(_CURES):
        budget.check("curing a starting design")
        findings = examine(amplifier)
        bad = [one for one in findings if one.severity > Severity.NOTE]
        if not bad:
            return amplifier, findings
        cures = {cure.path: cure for one in bad if (cure := one.cure) is not None}
        if not cures:
            return None
        design = amplifier.design
        for cure in cures.values():
            design = applied(design, cure)
        amplifier = solve(design, amplifier)
    return None


def _toned_down(amplifier: SolvedAmplifier, wanted: Wanted) -> SolvedAmplifier:
    """With cathode bypasses taken out, from the last stage on, while there is more gain than is wanted by 3 dB."""
    assert wanted.gain_db is not None
    for block_id in reversed(amplifier.route):
        path = f"blocks/{block_id}/cathode_bypass"
        if _gain_db(amplifier) <= wanted.gain_db + 3.0:
            break
        if optional_parts(amplifier.design).get(path):
            amplifier = solve(fit_part(amplifier.design, path, False), amplifier)
    return amplifier
