"""What each school of practice would do with this amplifier: a whole design, with why one would choose it.

Each reads what the design is through its facets and fields, changes the document, and sets what has to follow (a
cathode resistor, a bias, a load) so that the tubes idle where they did. None decides whether the outcome is good:
that is computed afterwards, and compared.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from thermionic.amplifier import SolvedAmplifier
from thermionic.design import Design
from thermionic.errors import DesignRefused
from thermionic.performance.schools import supplying
from thermionic.performance.schools.bias import make_cathode, make_fixed, may_cathode, may_fix
from thermionic.performance.schools.feedback import make_feedback, make_open, may_feed_back, may_open
from thermionic.performance.schools.loads import (
    make_choke,
    make_parallel,
    make_resistor,
    may_choke,
    may_double,
    may_halve,
    may_resistor,
)
from thermionic.performance.schools.screens import make_strapped, may_strap


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
    """The schools of stages that would change this amplifier."""
    return [school for school in SCHOOLS if school.applies(amplifier)]


def supply_schools(amplifier: SolvedAmplifier) -> list[School]:
    """The schools of supplies that would change this amplifier."""
    return [school for school in SUPPLY_SCHOOLS if school.applies(amplifier)]


def made(amplifier: SolvedAmplifier, slug: str) -> tuple[Design, School]:
    """The design as the school of that name would have it. Raises DesignRefused where there is none, or it does not
    apply, and what making it raises."""
    for school in (*SCHOOLS, *SUPPLY_SCHOOLS):
        if school.slug == slug:
            if not school.applies(amplifier):
                raise DesignRefused(f"{school.title}: {amplifier.design.name} is that already, or cannot be.")
            return school.make(amplifier), school
    raise DesignRefused(f"There is no school called {slug[:40]}.")


SCHOOLS = (
    School("cathode-bias", "Cathode bias",
           "It looks after itself: a tube that ages or is changed finds its own current, for some watts and volts.",
           may_cathode, make_cathode),
    School("fixed-bias", "Fixed bias",
           "More power and a stiffer class AB from the same supply, for a bias that must be set and watched.",
           may_fix, make_fixed),
    School("triode", "Triode connection",
           "The lowest distortion and output impedance without feedback, for half the power or less.",
           may_strap("triode"), make_strapped("triode")),
    School("ultra-linear", "Ultra-linear",
           "Most of a pentode's power with much of a triode's linearity, where the transformer has the taps.",
           may_strap("ultra-linear"), make_strapped("ultra-linear")),
    School("pentode", "Pentode connection",
           "The most power and gain, for a high output impedance that feedback has to bring down.",
           may_strap("pentode"), make_strapped("pentode")),
    School("feedback", "With feedback",
           "Less distortion and a firmer hold on the loudspeaker, for gain and for margins to be kept.",
           may_feed_back, make_feedback),
    School("no-feedback", "Without feedback",
           "Nothing to oscillate and a soft way into clipping; what the stages bend stays bent.",
           may_open, make_open),
    School("in-parallel", "Two output tubes in parallel",
           "Twice the current into half the load: more power and a lower impedance from tubes that may be cheaper.",
           may_double, make_parallel(True)),
    School("one-tube", "One output tube alone",
           "Nothing to be matched and less heat and capacitance to drive, for less power.",
           may_halve, make_parallel(False)),
    School("choke-load", "Choke in the driver's anode",
           "The driver swings about the whole of its rail and hardly bends, for weight and a choke's own resonance.",
           may_choke, make_choke),
    School("resistor-load", "Resistor in the driver's anode",
           "Light, cheap and flat to far beyond hearing, for half the rail's voltage.",
           may_resistor, make_resistor),
)  # fmt: skip

SUPPLY_SCHOOLS = (
    School("vacuum", "Vacuum rectifier",
           "It lets the HT come up with the tubes and sags softly; it drops volts, heats the chassis and wears.",
           supplying.may_vacuum, supplying.make_vacuum),
    School("silicon", "Silicon rectifier",
           "Stiffer, cooler and for ever; the HT is there before the tubes are, and higher.",
           supplying.may_silicon, supplying.make_silicon),
    School("choke", "Choke in the HT",
           "Most of the ripple goes for few volts, for iron that weighs, costs and must be kept from the input.",
           supplying.may_choke, supplying.make_choke),
    School("resistor", "Resistor in the HT",
           "Light and without a stray field; it takes volts and leaves more ripple.",
           supplying.may_resistor, supplying.make_resistor),
    School("filtered", "MOSFET filter",
           "No ripple to speak of and a low impedance, for a part that fails shorted and wants a heat-sink.",
           supplying.may_regulate, supplying.make_regulated),
    School("separate", "A supply for the front end",
           "The output stage's pulls do not reach the first stages, for a rectifier and a reservoir more.",
           supplying.may_separate, supplying.make_separate),
    School("film", "Film reservoir",
           "Nothing in it dries out, and ripple does not heat it; for its size there is less of it, and more ripple.",
           supplying.may_reservoir("film"), supplying.make_reservoir("film")),
    School("oil", "Oil-paper reservoir",
           "It outlives its owner and looks the part; it is small for its size, and old ones may hold PCB.",
           supplying.may_reservoir("oil"), supplying.make_reservoir("oil")),
    School("electrolytic", "Electrolytic reservoir",
           "The most microfarads for size and money; it dries out, and is to be replaced in its time.",
           supplying.may_reservoir("electrolytic"), supplying.make_reservoir("electrolytic")),
)  # fmt: skip
