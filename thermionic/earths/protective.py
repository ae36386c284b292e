"""Protective earth: what can be seen of it in the layout, and what only the builder can see.

It is no signal earth and is in none of those figures. Local codes and a licensed electrician decide; nothing here
says that anything is safe.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import Enum

import numpy as np

from thermionic.chassis.geometry import in_room
from thermionic.chassis.laid import Laid
from thermionic.chassis.wires import GAUGE
from thermionic.chassis.wiring import protective_ends

LONGEST = 0.25  # m from the inlet to the bolt: a rule of thumb for "the shortest way"
APART = 0.012  # m, from another bolt


class Verdict(Enum):
    """What is said of a point."""

    AMISS = "amiss"
    SEEN = "as it should be in the drawing"
    LOOK = "for you to check"


@dataclass(frozen=True)
class Point:
    """One point of protective earth: what it is about, what is said of it, in words."""

    about: str
    verdict: Verdict
    words: str


def points(laid: Laid) -> tuple[Point, ...]:
    """Every point of protective earth, what is amiss first; none where there is no mains."""
    layout, box = laid.layout, laid.layout.box
    inlet, bolt = protective_ends([body for body in laid.bodies if layout.of(body.key) is not None])
    if inlet is None:
        return ()
    result: list[Point] = []
    if bolt is None:
        result.append(Point("A bolt of its own", Verdict.AMISS, "There is no bolt for protective earth; put one in."))
    else:
        at = {body.key: in_room(box, one, (0.0, 0.0, 0.0)) for body in laid.bodies if (one := layout.of(body.key))}
        long = float(np.abs(at[inlet.key] - at[bolt.key]).sum())
        short = long <= LONGEST
        words = f"{long * 1e3:.0f} mm from the inlet's earth pin to the bolt"
        words += "; short enough." if short else "; move the bolt beside the inlet."
        result.append(Point("The shortest way from the inlet", Verdict.SEEN if short else Verdict.AMISS, words))
        near = [
            body
            for body in laid.bodies
            if body.key in at
            and body is not bolt
            and body.sizes.openings
            and float(np.linalg.norm(at[body.key] - at[bolt.key])) < APART
        ]
        words = "No transformer's foot, no signal earth and no solder tag of another wire on it."
        if near:
            words = f"{near[0].title} is at the same place: give it a bolt of its own."
        result.append(Point("Nothing else on its bolt", Verdict.AMISS if near else Verdict.LOOK, words))
    gauge = layout.earthing.protective_gauge
    thin = gauge < GAUGE["mains"]
    words = f"{gauge:g} mm², and the mains wires have {GAUGE['mains']:g} mm²: "
    words += "never thinner than those." if thin else "not thinner. Your local code may want more."
    result.append(Point("Wire size", Verdict.AMISS if thin else Verdict.SEEN, words))
    words = (
        "Paint and anodising scraped off under a star washer, a crimped eye, a second nut or a locking one; never "
        "through a rivet, a hinge, or the bush of a pot."
    )
    result.append(Point("Bared metal, star washer, lock", Verdict.LOOK, words))
    for body in laid.bodies:
        if layout.of(body.key) and body.nature.iron and body.mount != "toroid":
            words = "Its bolts through bare metal bond its frame to the box: measure it."
            result.append(Point(f"The frame of {body.title}", Verdict.LOOK, words))
    for there, about, words in (
        (box.bottom, "The bottom plate", "Bonded by bare screw seats or a wire of its own."),
        (box.lid > 0, "The lid", "Bonded by a wire of its own: hinges and paint do not do it."),
        (box.surround > 0, "Metal on the wooden surround", "Handles and panels on wood are bonded too."),
    ):
        if there:
            result.append(Point(about, Verdict.LOOK, words))
    words = "There is none. One may be in signal earth only, never in protective earth."
    if layout.earthing.breaker:
        words = "It is in signal earth's connection to the chassis alone; protective earth goes there unbroken."
    result.append(Point("The loop breaker", Verdict.SEEN, words))
    order = {Verdict.AMISS: 0, Verdict.LOOK: 1, Verdict.SEEN: 2}
    return tuple(sorted(result, key=lambda one: order[one.verdict]))
