"""The Brief: what the loudspeakers, the room and the source ask for, against what the design gives."""

from __future__ import annotations

from dataclasses import dataclass
from math import log10
from typing import Any

from bold_anode.amps.rooms import Shown
from bold_anode.amps.studies import shown as study_shown
from bold_anode.brief import choosing
from bold_anode.frame.requests import Request
from thermionic import design as documents
from thermionic.amplifier import SolvedAmplifier, needs, solve
from thermionic.amplifier.needs import Needs, level_db
from thermionic.blocks.facets import Load
from thermionic.values import Quantity, display

_BRIDGED = 0.1  # of the input that it drives, an output's impedance: a rule of thumb


@dataclass(frozen=True)
class Row:
    """A value of the brief that can be typed."""

    path: str
    label: str
    text: str
    unit: str


@dataclass(frozen=True)
class Comparison:
    """Needed against given; ``share`` is given over needed, shown as a bar up to twice."""

    name: str
    needed: str
    given: str
    share: float
    words: str

    @property
    def enough(self) -> bool:
        """Whether what is given covers what is needed."""
        return self.share >= 1.0

    @property
    def bar(self) -> float:
        """The bar's length, 0 to 100; 50 is just enough."""
        return min(100.0, 50.0 * self.share)


def draw(request: Request, shown: Shown) -> tuple[str, dict[str, Any]]:
    """The room."""
    amplifier = shown.solved.amplifier
    return "brief/brief.html", {
        "groups": _groups(amplifier),
        "comparisons": _comparisons(amplifier),
        "needed": needs(amplifier.compiled),
        "at_the_ear": amplifier.load.ear_db,
        "reached_db": level_db(amplifier.compiled, amplifier.full_output.power_watt),
        "sorts": choosing.SORTS,
        "screens": choosing.SCREENS,
        "first": choosing.first(amplifier),
        **study_shown(request, shown.project, "chooser"),
    }


def _groups(amplifier: SolvedAmplifier) -> list[tuple[str, list[Row]]]:
    design, compiled = amplifier.design, amplifier.compiled
    speaker, source = compiled.load.block, compiled.source.block
    groups = {
        **_load_rows(compiled.load, f"blocks/{speaker}"),
        "Source": [(f"blocks/{source}/source_volt", "Level at full scale, rms", "V")],
        "House": [
            ("brief/mains_volt", "Mains voltage, as measured", "V"),
            ("brief/mains_low_volt", "Lowest that was read", "V"),
            ("brief/mains_high_volt", "Highest that was read", "V"),
            ("brief/mains_hertz", "Mains frequency", "Hz"),
        ],
    }
    return [
        (
            title,
            [
                Row(path, label, documents.field(design, path).text.removesuffix(unit).strip(), unit)
                for path, label, unit in rows
            ],
        )
        for title, rows in groups.items()
    ]


def _load_rows(load: Load, path: str) -> dict[str, list[tuple[str, str, str]]]:
    """What is asked of the load: loudspeakers in a room, headphones on a head, or the box that follows."""
    if load.line_volt is not None:
        return {"What follows": [
            (f"{path}/level_volt", "Level it needs, rms", "V"),
            (f"{path}/ohm", "Input resistance", "Ω"),
            (f"{path}/cable_farad", "Cable's capacitance", "F"),
        ]}  # fmt: skip
    if load.ear_db is not None:
        return {"Headphones": [
            (f"{path}/sensitivity_db", "Sensitivity, 1 mW", "dB"),
            (f"{path}/ohm", "Impedance", "Ω"),
            ("brief/listening_db", "Peak level wanted at the ear", "dB"),
        ]}  # fmt: skip
    return {
        "Loudspeakers": [
            ("brief/loudspeaker_db", "Sensitivity, 1 W at 1 m", "dB"),
            (f"{path}/ohm", "Impedance", "Ω"),
        ],
        "Listening": [
            ("brief/listening_metre", "Distance", "m"),
            ("brief/listening_db", "Peak level wanted there", "dB"),
        ],
    }


def _comparisons(amplifier: SolvedAmplifier) -> list[Comparison]:
    needed = needs(amplifier.compiled)
    first = _line(amplifier, needed) if needed.power_watt is None else [_power(amplifier, needed.power_watt)]
    return [*first, _gain(amplifier, needed)]


def _power(amplifier: SolvedAmplifier, needed: float) -> Comparison:
    full = amplifier.full_output
    driven = "headphones" if amplifier.load.ear_db is not None else "loudspeakers"
    return Comparison(
        "Power each channel",
        display(needed, Quantity.POWER),
        f"{display(full.power_watt, Quantity.POWER)} at {full.distortion:.1%} distortion",
        full.power_watt / needed,
        "The design reaches the level wanted." if full.power_watt >= needed
        else f"Short of power: more sensitive {driven}, a lower level, or a bigger output stage.",
    )  # fmt: skip


def _line(amplifier: SolvedAmplifier, needed: Needs) -> list[Comparison]:
    """Level and headroom, and the impedance that drives what follows."""
    full, ohm = amplifier.full_output, amplifier.output_impedance
    headroom = 20 * log10(full.output_volt / needed.output_volt)
    most = amplifier.load.ohm * _BRIDGED
    return [
        Comparison(
            "Level into what follows",
            f"{display(needed.output_volt, Quantity.VOLTAGE)} rms",
            f"{display(full.output_volt, Quantity.VOLTAGE)} rms at {full.distortion:.1%} distortion",
            full.output_volt / needed.output_volt,
            f"Headroom {headroom:.0f} dB above the level needed." if headroom >= 0
            else "It distorts before what follows is fully driven: a stage that swings further is needed.",
        ),
        Comparison(
            "Output impedance",
            f"at most {display(most, Quantity.RESISTANCE, 2)}",
            display(ohm, Quantity.RESISTANCE),
            most / max(ohm, 1e-3),
            "A tenth of the input that it drives, or less, leaves level and response alone (a rule of thumb)."
            if ohm <= most
            else "What follows loads it: a follower, or a higher input resistance (a tenth is a rule of thumb).",
        ),
    ]  # fmt: skip


def _gain(amplifier: SolvedAmplifier, needed: Needs) -> Comparison:
    source, node = amplifier.compiled.source.volt, amplifier.load.node
    as_set, most = amplifier.gain(node), solve(documents.full_up(amplifier.design), amplifier).gain(node)
    return Comparison(
        "Voltage gain, source to load",
        f"{needed.gain:.3g} ×",
        f"{most:.3g} ×" if most < 1.001 * as_set else f"{most:.3g} × full up, {as_set:.3g} × as set",
        most / needed.gain,
        f"The source's {display(source, Quantity.VOLTAGE)} drives it to the level wanted, full up."
        if most >= needed.gain
        else "Even full up, the source does not drive it to the level wanted: it needs more gain.",
    )
