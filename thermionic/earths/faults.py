"""Faults of earth wiring to be tried: what each does, and how a meter finds it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from thermionic.chassis.earthing import BOLT_OHM, EarthNetwork, Link
from thermionic.chassis.laid import Laid
from thermionic.chassis.wires import Terminal
from thermionic.devices.base import Array
from thermionic.earths.returns import Returns, returns

OPEN_OHM, CORRODED_OHM, TOUCH_OHM = 1e6, 1.0, 0.02
SOURCE_OHM = 0.3  # of a cable's screen and two earth wires to a distribution board: as usual
_BEHIND = 0.5  # m
_TRIED = 12


@dataclass(frozen=True)
class EarthFault:
    """One fault: its key, in words; the earth wiring with it, where the meter's leads go and what it then reads
    against what it should, Ω."""

    key: str
    words: str
    network: EarthNetwork
    probe: tuple[str, str]
    probe_words: str
    reads: float
    should: float


def faults(laid: Laid) -> tuple[EarthFault, ...]:
    """The faults that this wiring can have."""
    return tuple(_faults(laid))


def tried(laid: Laid, key: str) -> tuple[EarthFault, Laid, Returns] | None:
    """One fault by its key, with the layout that has it and its earth wiring solved; None for no such fault."""
    fault = next((fault for fault in faults(laid) if fault.key == key), None)
    if fault is None:
        return None
    wrong = laid.with_earth(fault.network)
    return fault, wrong, returns(wrong)


def _faults(laid: Laid) -> Iterator[EarthFault]:
    earth = laid.earth
    terminals = {earth.key: earth for earth in laid.wiring.earths}
    bolt = earth.reference

    def named(link: Link) -> str:
        return " and ".join(terminals[end].body.title if end in terminals else "the sheet" for end in link.ends)

    joined = [link for link in earth.links if link.wire is not None and link.wire.kind == "earth"]
    wires = [link for link in joined if link.wire is not None and link.wire.length > 0.02]
    by_current = sorted(wires, key=lambda link: -link.wire.length if link.wire else 0.0)[:_TRIED]
    for link in by_current:
        for words, ohm, name in (
            (f"The joint between {named(link)} is missing", OPEN_OHM, "missing"),
            (f"The joint between {named(link)} is corroded to 1 Ω", CORRODED_OHM, "corroded"),
        ):
            changed = [replace(one, ohm=one.ohm + ohm) if one.key == link.key else one for one in earth.links]
            network = earth.with_links(changed)
            far = _far_end(earth, link)
            yield _fault(f"{name}:{link.key}", words, earth, network, (far, bolt), terminals)
    for terminal in laid.wiring.earths:
        if (
            terminal.body.nature.on_panel
            and laid.layout.earthing.jacks_insulated
            and (laid.layout.earthing.school != "chassis")
        ):
            touch = Link(f"touch: {terminal.key}", (terminal.key, bolt), TOUCH_OHM, 1e-7)
            network = earth.with_links([*earth.links, touch], {touch.key: _over_sheet(laid, terminal, bolt)})
            yield _fault(f"touch:{terminal.key}", f"{terminal.body.title} touches the panel", earth, network,
                         (terminal.key, bolt), terminals)  # fmt: skip
            # By the cable's screen and the house's wiring, half a metre behind the box: that loop's EMF by this
            # amplifier's own fields is counted; what flows in the house's earth is not known.
            own = Link(f"source: {terminal.key}", (terminal.key, bolt), SOURCE_OHM, 2e-6)
            network = earth.with_links([*earth.links, own], {own.key: _behind(laid, terminal, bolt)})
            words = f"The source at {terminal.body.title} has a protective earth of its own"
            yield _fault(f"source:{terminal.key}", words, earth, network, (terminal.key, bolt), terminals)
    cans = [earth for earth in laid.wiring.earths if earth.body.nature.can]
    if cans and laid.layout.earthing.school != "chassis":
        last = max(cans, key=lambda can: float(np.abs(can.at - terminals[bolt].at).sum()))
        second = Link(f"second: {last.key}", (last.key, bolt), 2 * BOLT_OHM, 1e-7)
        network = earth.with_links([*earth.links, second], {second.key: _over_sheet(laid, last, bolt)})
        words = f"A second connection to the chassis, at {last.body.title}"
        yield _fault(f"second:{last.key}", words, earth, network, (last.key, bolt), terminals)


def _over_sheet(laid: Laid, terminal: Terminal, bolt: str) -> Array:
    """Straight along the sheet from where a terminal touches it to the bolt."""
    there = next(earth.at for earth in laid.wiring.earths if earth.key == bolt)
    under = -laid.layout.box.sheet
    return np.array([[terminal.at[0], terminal.at[1], under], [there[0], there[1], under]])


def _behind(laid: Laid, terminal: Terminal, bolt: str) -> Array:
    """From a jack out behind the box, along it and back to the bolt."""
    there = next(earth.at for earth in laid.wiring.earths if earth.key == bolt)
    out = laid.layout.box.depth + _BEHIND
    places = [(terminal.at[0], terminal.at[1]), (terminal.at[0], out), (there[0] + 0.1, out), (there[0], there[1])]
    return np.array([[x, y, terminal.at[2]] for x, y in places])


def _far_end(earth: EarthNetwork, link: Link) -> str:
    """The end of a link that is further from the chassis' bolt."""
    return max(link.ends, key=lambda end: resistance(earth, end, earth.reference))


def _fault(
    key: str,
    words: str,
    before: EarthNetwork,
    after: EarthNetwork,
    probe: tuple[str, str],
    terminals: dict[str, Terminal],
) -> EarthFault:
    ends = [terminals[end].body.title if end in terminals else "the chassis" for end in probe]
    return EarthFault(
        key, words, after, probe, f"between {ends[0]} and {ends[1]}, switched off and discharged",
        resistance(after, *probe), resistance(before, *probe),
    )  # fmt: skip


def resistance(network: EarthNetwork, one: str, other: str) -> float:
    """What a meter reads between two nodes, Ω."""
    if one == other:
        return 0.0
    amperes = np.zeros((len(network.nodes), 1), dtype=complex)
    amperes[network.nodes.index(one)] += 1.0
    amperes[network.nodes.index(other)] -= 1.0
    volts = network.volts(np.array([1e-3]), amperes)
    return float(abs(volts[network.nodes.index(one), 0] - volts[network.nodes.index(other), 0]))
