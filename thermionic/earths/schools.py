"""The ways to wire signal earth, each put into this layout and computed."""

from __future__ import annotations

from dataclasses import dataclass

from thermionic.chassis.document import Earthing, Layout
from thermionic.chassis.laid import Laid, lay
from thermionic.earths.returns import returns

WHY = {
    "star": "Nobody's return flows in another's wire. Long wires, and each makes a loop with its signal's.",
    "bus": "Short, tidy, and each return is beside its signal. What comes last must be the charging pulses.",
    "local stars": "Each stage meets in itself first: its own loop is small. Wants a plan of what belongs to whom.",
    "daisy chain": "One wire from each to the next that is near. What it saves in wire it gives back as hum.",
    "chassis": "No wires at all, as many old sets were built. The sheet carries everybody's current.",
}


@dataclass(frozen=True)
class Compared:
    """One school in this layout: the volts at the load by returns, by fields in signal and earth wires, and all hum,
    V rms, fresh and with ``aged`` bolts; its wire, m, its loops, crosstalk, dB; why one would choose it."""

    school: str
    now: bool
    why: str
    returned: float
    by_field: float
    hum: float
    aged_hum: float
    wire: float
    loops: int
    crosstalk: float | None


def with_school(layout: Layout, school: str) -> Layout:
    """The layout with another school. Raises KeyError for one that is not known."""
    if school not in WHY:
        raise KeyError(school)
    changed = Earthing.model_validate(layout.earthing.model_dump() | {"school": school})
    return layout.model_copy(update={"earthing": changed})


def compared(laid: Laid) -> tuple[Compared, ...]:
    """Every school in this layout."""
    schools = []
    for school, why in WHY.items():
        now = school == laid.layout.earthing.school
        other = laid if now else lay(laid.amplifier, with_school(laid.layout, school))
        back = returns(other)
        wire = sum(link.wire.length for link in other.earth.links if link.wire)
        field = sum(cause.volt**2 for cause in other.hum.causes if cause.way == "magnetic") ** 0.5
        aged = other.with_earth(other.earth.aged()).hum.volt
        schools.append(Compared(school, now, why, back.load_volt, field, other.hum.volt, aged, wire, len(back.loops),
                              back.crosstalk_db))  # fmt: skip
    return tuple(schools)
