"""Starting designs for what is wanted: known good amplifiers with other tubes, rails and loads, each settled, solved
and cured until its own findings have nothing against it; what they condemn is not proposed.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from dataclasses import dataclass
from typing import Any

import numpy as np

from thermionic import budget, examples
from thermionic.amplifier import SolvedAmplifier, compile_design, solve
from thermionic.amplifier.magnetising import magnetising_ampere
from thermionic.blocks.ports import block_at
from thermionic.design import Design, changed, dump, find, fit_part, fitted, full_up, optional_parts, validate
from thermionic.design.iron import Piece, places_for, put_in, rewire, value_at
from thermionic.errors import BudgetSpent, DesignRefused, ThermionicError
from thermionic.findings import Finding, Severity, applied, examine
from thermionic.performance.comparing import Comparison, compared
from thermionic.performance.driving_up import driven_up, idle_set
from thermionic.performance.recipes import RECIPES, Recipe
from thermionic.performance.schools import made
from thermionic.performance.wanted import Wanted
from thermionic.values import Quantity, Series, display, step

# What a settled design may fall short of the power wanted.
_SHORT = 0.95
_CURES = 10
_GAIN_OFF = 6.0  # dB that a gain may be off
_MOST_LEVEL = 2.0  # V rms that the next box is taken to need at most
_A_DESIGN = 60.0  # seconds at most, for one that will not settle
# So many are enough; where it takes so many seconds, a few.
_ENOUGH, _FEW, _LONG = 8, 4, 14.0
# Iron: spare power and current, how near to what a design has a piece on the shelf is (by the figure that it goes by)
# to be tried in its place, how many of them, and for how long.
_ROOM = 1.15
_NEAR = {"output": ("primary_ohm", 1.4), "mains": ("winding_volt", 1.1), "choke": ("henry", 2.0)}
_TRIALS, _A_PIECE = 2, 2.0
Told = Callable[[float, str], None]


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


def _quietly(part: float, said: str) -> None:
    """Tell nobody."""


def choose(wanted: Wanted, told: Told = _quietly, *, threads: int = 2) -> list[Proposal]:
    """Designs that do what is wanted, those of tubes at hand first, then by what they take from the wall; ``told``
    hears how far it is, 0 to 1, and what is being tried.

    Raises BudgetSpent. Empty where none that is known does it. Where it takes long it ends with a few.
    """
    fitting = [recipe for recipe in RECIPES[wanted.sort] if _may(recipe, wanted)]
    fitting.sort(key=lambda recipe: -_at_hand(recipe, wanted))
    proposals: list[Proposal] = []
    to_try, under_way = iter(fitting), set[Future[Proposal | None]]()
    began, begun, title = time.monotonic(), 0, ""
    pool = ThreadPoolExecutor(threads)
    try:
        while True:
            long = time.monotonic() - began > _LONG
            wants_more = len(proposals) < (_FEW if long else _ENOUGH)
            while wants_more and len(under_way) < threads and (recipe := next(to_try, None)) is not None:
                under_way.add(pool.submit(budget.carried(_tried), recipe, wanted))
                begun, title = begun + 1, recipe.title
            if not under_way:
                break
            done, under_way = wait(under_way, timeout=0.2, return_when=FIRST_COMPLETED)
            proposals += [proposal for one in done if (proposal := one.result()) is not None]
            told((begun - len(under_way)) / len(fitting), title)
    finally:
        pool.shutdown(cancel_futures=True)
    proposals.sort(key=lambda one: (len(one.missing), one.numbers.wall_watt))
    return proposals[:_ENOUGH]


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
        amplifier = driven_up(amplifier, wanted)
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
            paired = fitted(cured[0].design, f"{path}/push_pull")
            pieces = [
                one
                for one in wanted.iron
                if one.kind == kind and one.name not in _names(used) and not (paired and one.number("ampere"))
            ]  # a core that is made for steady current has no use for a centre tap
            sized = [(max(ohm / now, now / ohm), piece) for piece in pieces if now and (ohm := piece.number(figure))]
            for apart, piece in sorted(sized, key=lambda pair: pair[0])[:_TRIALS]:
                if apart > near:
                    break
                try:
                    with budget.limit(_A_PIECE):
                        trial = solve(put_in(cured[0].design, path, piece), cured[0])
                        better = _sound(idle_set(trial) if kind == "output" else trial, wanted)
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
    result = []
    for path, piece in used.items():
        each = design.block(block_at(path)).scope == "channel"
        if each and design.channels > 1 and sum(one.name == piece.name for one in wanted.iron) < design.channels:
            result.append(f"a second {piece.name}")
    for use in amplifier.compiled.transformers:
        if f"blocks/{use.block}" not in used:
            watt = display(_ROOM * amplifier.full_output.power_watt, Quantity.POWER, 2)
            many = "an output transformer" if design.channels == 1 else f"{design.channels} output transformers"
            result.append(f"{many} of {display(use.primary_ohm, Quantity.RESISTANCE)}, {watt}")
    return tuple(result)


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
        return abs(_gain_db(amplifier) - wanted.gain_db) <= _GAIN_OFF
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
    return _levelled(validate(raw), wanted)


def _levelled(design: Design, wanted: Wanted) -> Design:
    """The design whose line output is to come to what the gain that is wanted makes of the source, at least."""
    compiled = compile_design(design)
    if wanted.gain_db is None or compiled.load.line_volt is None:
        return design
    level = compiled.source.volt * 10 ** ((wanted.gain_db - _GAIN_OFF) / 20)
    return changed(design, f"blocks/{compiled.load.block}/level_volt", min(level, _MOST_LEVEL))


def _tapped(raw: dict[str, Any], ohm: float) -> None:
    """The loudspeaker on the tap that is called as it is; the nearest where there is none."""
    for block in raw["blocks"]:
        if block["kind"] != "loudspeaker":
            continue
        iron, _, tap = block["input"].partition(".")
        taps = next((block["taps"] for block in raw["blocks"] if block["id"] == iron and "taps" in block), None)
        if taps is None:
            continue
        best = min(taps, key=lambda tap: abs(np.log(float(tap["id"]) / ohm)))
        rewire(raw, f"{iron}.{tap}", f"{iron}.{best['id']}")  # what else hangs on that tap goes with it


def _cured(amplifier: SolvedAmplifier) -> tuple[SolvedAmplifier, list[Finding]] | None:
    """With every finding above worth knowing cured by what it offers; None where one has no cure."""
    for _ in range(_CURES):
        budget.check("curing a starting design")
        findings = examine(amplifier)
        bad = [finding for finding in findings if finding.severity > Severity.NOTE]
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
