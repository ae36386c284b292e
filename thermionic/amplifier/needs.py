"""What the brief asks of the amplifier: watts and voltage gain."""

from __future__ import annotations

from dataclasses import dataclass
from math import log10, sqrt

from thermionic.amplifier.compiling import Compiled


@dataclass(frozen=True)
class Needs:
    """Needed per channel: ``power_watt`` into the loudspeaker, ``output_volt`` (rms) across it, and the voltage
    ``gain`` from the source's full level to it. ``level_at_one_watt_db`` is what the listener gets for 1 W a
    channel, dB re 20 uPa."""

    power_watt: float
    output_volt: float
    gain: float
    level_at_one_watt_db: float


def needs(compiled: Compiled) -> Needs:
    """Power and gain needed, in free field.

    The level falls by 6 dB for each doubling of distance and the channels' powers add: L. L. Beranek, *Acoustics*
    (1954), section 10. In a furnished room the reverberant sound makes it some 2 to 4 dB more than that; this is
    the pessimistic figure, and a rule of thumb next to a measurement in the room.
    """
    brief, channels = compiled.design.brief, compiled.design.channels
    at_one_watt = brief.loudspeaker_db - 20 * log10(brief.listening_metre) + 10 * log10(channels)
    power = 10 ** ((brief.listening_db - at_one_watt) / 10)
    output = sqrt(power * compiled.load.ohm)
    source = max(compiled.source.volt, 1e-9)
    return Needs(power, output, output / source, at_one_watt)


def level_db(compiled: Compiled, power_watt: float) -> float:
    """The level at the listener for ``power_watt`` a channel, dB re 20 uPa; see ``needs``."""
    return needs(compiled).level_at_one_watt_db + 10 * log10(max(power_watt, 1e-12))
