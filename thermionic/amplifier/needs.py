"""What the brief, or the box that follows, asks of the amplifier: a level at its load, and the gain for it."""

from __future__ import annotations

from dataclasses import dataclass
from math import log10, sqrt

from thermionic.amplifier.compiling import Compiled


@dataclass(frozen=True)
class Needs:
    """Needed per channel: ``output_volt`` (rms) at the load, and the voltage ``gain`` from the source's full level to
    it. Of loudspeakers and headphones ``power_watt`` is that in watts, and ``level_at_one_watt_db`` what the listener
    gets for 1 W a channel, dB re 20 uPa; None for what a line output drives."""

    output_volt: float
    gain: float
    power_watt: float | None = None
    level_at_one_watt_db: float | None = None


def needs(compiled: Compiled) -> Needs:
    """What is needed: of a line output the level that the next box asks for; of loudspeakers and headphones the
    power that gives the level wanted by the brief.

    From loudspeakers the level falls by 6 dB for each doubling of distance in free field, and the channels' powers
    add: L. L. Beranek, *Acoustics* (1954), section 10. In a furnished room the reverberant sound makes it some 2 to
    4 dB more than that; this is the pessimistic figure, and a rule of thumb next to a measurement in the room.
    """
    load, source = compiled.load, max(compiled.source.volt, 1e-9)
    if load.line_volt is not None:
        return Needs(load.line_volt, load.line_volt / source)
    brief, channels = compiled.design.brief, compiled.design.channels
    if load.ear_db is not None:
        at_one_watt = load.ear_db + 30.0
    else:
        at_one_watt = brief.loudspeaker_db - 20 * log10(brief.listening_metre) + 10 * log10(channels)
    power = 10 ** ((brief.listening_db - at_one_watt) / 10)
    output = sqrt(power * load.ohm)
    return Needs(output, output / source, power, at_one_watt)


def level_db(compiled: Compiled, power_watt: float) -> float | None:
    """The level at the listener for ``power_watt`` a channel, dB re 20 uPa; see ``needs``. None at a line output."""
    at_one_watt = needs(compiled).level_at_one_watt_db
    return None if at_one_watt is None else at_one_watt + 10 * log10(max(power_watt, 1e-12))
