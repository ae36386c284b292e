"""Ways to a starting design: which amplifier to begin with, with which tubes, for how much output."""

from __future__ import annotations

from dataclasses import dataclass


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
