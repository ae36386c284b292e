"""The designs that a new project can start from."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic import examples
from thermionic.design import Design
from thermionic.errors import DesignRefused


@dataclass(frozen=True)
class Starter:
    """A starting design with a line about it."""

    key: str
    title: str
    about: str


_STARTERS = (
    Starter("lantern", "2A3, 4 W", "Single-ended 2A3 driven by a 6SL7GT; 3.5 kΩ transformer, silicon rectifier."),
    Starter("beacon", "300B, 8 W", "Single-ended 300B with two 6SN7GT stages; 3 kΩ transformer, silicon rectifier."),
    Starter("mill", "45, 2 W", "Single-ended 45 driven through an interstage transformer by a 5687."),
    Starter("weir", "KT88 as a triode, 6 W", "Single-ended KT88 strapped, two 6SN7GT stages, GZ34 and a choke."),
    Starter("reedbed", "Four 6BX7GT sections, 8 W", "Parallel single-ended: two double triodes on one transformer."),
    Starter("wicket", "EL84 ultra-linear, 4 W", "Single-ended EL84 with a screen tap and feedback to an ECC83."),
    Starter("hurdle", "EL84 push-pull, 10 W", "Cathodyne ECC83, cathode bias, feedback."),
    Starter("lychgate", "6V6GT push-pull triodes, 3 W", "Floating paraphase, strapped 6V6GT, no feedback."),
    Starter(
        "saltpan", "EL34 push-pull, 16 W", "Ultra-linear with fixed bias, EF86, long-tailed pair, 16 dB of feedback."
    ),
    Starter("otter", "Headphones, 6AS7G", "A follower without output transformer, for 300 Ω."),
    Starter("sluice", "Line preamplifier", "A series-regulated pair and a cathode follower, ECC82."),
    Starter(
        "sedge", "Line stage on 12 V", "ECC82 and its follower on an HT converter that shares 12 V with the heaters."
    ),
    Starter("plover", "Phono preamplifier", "Moving magnet, passive equalisation between two ECC83 stages."),
)


def starters() -> tuple[Starter, ...]:
    """What can be chosen."""
    return _STARTERS


def starter(key: str) -> Design:
    """A starting design. Raises DesignRefused for a key that is not among them."""
    if key not in {choice.key for choice in _STARTERS}:
        raise DesignRefused("Choose one of the starting designs.")
    return examples.example(key)
