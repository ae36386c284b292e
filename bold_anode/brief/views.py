"""The Brief: what the loudspeakers, the room and the source ask for, against what the design gives."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from bold_anode.amps.rooms import Shown
from bold_anode.amps.studies import shown as study_shown
from bold_anode.brief import choosing
from bold_anode.frame.requests import Request
from thermionic import design as documents
from thermionic.amplifier import SolvedAmplifier, needs, solve
from thermionic.amplifier.needs import level_db
from thermionic.values import Quantity, display


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
        "Loudspeakers": [
            ("brief/loudspeaker_db", "Sensitivity, 1 W at 1 m", "dB"),
            (f"blocks/{speaker}/ohm", "Impedance", "Ω"),
        ],
        "Listening": [
            ("brief/listening_metre", "Distance", "m"),
            ("brief/listening_db", "Peak level wanted there", "dB"),
        ],
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


def _comparisons(amplifier: SolvedAmplifier) -> list[Comparison]:
    needed, full = needs(amplifier.compiled), amplifier.full_output
    source = amplifier.compiled.source.volt
    speaker = amplifier.load.node
    as_set, most_gain = amplifier.gain(speaker), solve(documents.full_up(amplifier.design), amplifier).gain(speaker)
    return [
        Comparison(
            "Power each channel",
            display(needed.power_watt, Quantity.POWER),
            f"{display(full.power_watt, Quantity.POWER)} at {full.distortion:.1%} distortion",
            full.power_watt / needed.power_watt,
            "The design reaches the level wanted." if full.power_watt >= needed.power_watt
            else "Short of power: more sensitive loudspeakers, a lower level, or a bigger output stage.",
        ),
        Comparison(
            "Voltage gain, source to loudspeaker",
            f"{needed.gain:.3g} ×",
            f"{most_gain:.3g} × full up, {as_set:.3g} × as set",
            most_gain / needed.gain,
            f"With the volume up, the source's {display(source, Quantity.VOLTAGE)} drives it to the level wanted."
            if most_gain >= needed.gain
            else "Even full up, the source does not drive it to the level wanted: it needs more gain.",
        ),
    ]  # fmt: skip
