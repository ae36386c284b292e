"""What hums: the currents in pairs of wires, the voltages on them, and the moments of transformers and chokes, as
phasors at the mains' harmonics."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import HeaterFeed, HeaterUse, Rectified, Winding
from thermionic.blocks.fields import Choke
from thermionic.chassis.body import Body
from thermionic.chassis.document import CoilAxis, Layout
from thermionic.chassis.fields import MU0
from thermionic.chassis.transfer import HARMONICS, Transfers
from thermionic.chassis.wires import Pair
from thermionic.devices import Resistor
from thermionic.devices.base import Array, ComplexArray
from thermionic.lazily import lazily
from thermionic.supplies.heating import StringState, heating

# The stray field of a mains transformer of 100 VA on E and I laminations, on its coil's axis 10 cm from its middle, T
# rms; of a toroid, and of one between bells, as shares of that. An order of magnitude: makers, flux density and
# copper bands differ by three times either way, so what follows is unsure by as much until somebody measures theirs.
STRAY_TESLA, STRAY_AT, STRAY_VA = 15e-6, 0.1, 100.0
STRAY_SHARE = {"upright": 1.0, "lying": 1.0, "through": 0.6, "toroid": 0.15}
STRAY_UNSURE, STRAY_MEASURED, CHOKE_UNSURE = 3.2, 1.4, 3.0
# What is left of it by a copper band round core and coil, and by a steel can: as usual, unsure by two.
SCREEN_SHARE = {"none": 1.0, "copper band": 0.4, "steel can": 0.25}
# Between the primary and any other winding, and the core, without a screen between them, F: of usual transformers,
# unsure by three times.
WINDING_FARAD, CORE_FARAD = 200e-12, 400e-12
# Of the field of the current in the windings, the part that gets out besides the magnetising flux's.
_LEAK = 0.3
# A gapped choke's flux density at its full current, T: as usual.
CHOKE_TESLA = 1.0
# How far the middle of a heater pair is off earth, as a share of its volts end to end, by what it is referred to.
OFF = {"one end": 0.5, "none": 0.5, "centre tap": 0.03, "balance resistors": 0.03, "balance pot": 0.01}


@dataclass(frozen=True, eq=False)
class PairSource:
    """A pair as a source: its current, A, and the volts of its two legs to earth, V, (harmonics,) each."""

    pair: Pair
    amperes: ComplexArray
    volts: tuple[ComplexArray, ComplexArray]

    @property
    def name(self) -> str:
        """What the hum's list calls it: all pairs that one winding feeds go by one name."""
        of = self.pair.of.replace("_", " ")
        return {"mains": "Mains wires", "HT AC": f"Rectifier's wires of {of}"}.get(
            self.pair.kind, "Heater wires" if of == "heaters" else f"Heater wires of {of}"
        )


@dataclass(frozen=True, eq=False)
class IronSource:
    """A transformer's or choke's moment along its coil's axis, A m² (harmonics,), and by how many times it is
    unsure."""

    body: Body
    moment: ComplexArray
    unsure: float


_AXES: dict[CoilAxis, tuple[float, float, float]] = {
    "across": (1.0, 0.0, 0.0), "along": (0.0, 1.0, 0.0), "vertical": (0.0, 0.0, 1.0),
}  # fmt: skip


def coil_axis(body: Body) -> tuple[float, float, float]:
    """The direction of a body's coil: across, along, up."""
    return _AXES[body.coil]


class Sources:
    """What hums in a design, for any layout of it."""

    def __init__(self, amplifier: SolvedAmplifier, transfers: Transfers) -> None:
        self.amplifier, self.transfers = amplifier, transfers
        self.compiled = amplifier.compiled
        self.uses = self.compiled.said(Rectified)
        self.windings = {winding.block: winding for winding in self.compiled.said(Winding)}

    def pair(self, pair: Pair) -> PairSource:
        """A pair's current and volts."""
        if pair.kind == "mains":
            amperes = self._mains_amperes
            live = np.zeros(HARMONICS, dtype=complex)
            live[0] = np.sqrt(2) * self.amplifier.design.brief.mains_volt
            return PairSource(pair, amperes, (live, 0 * live))
        if pair.kind == "HT AC":
            use = next(use for use in self.uses if use.winding == pair.of)
            return PairSource(pair, self.arms(use)[2], self._winding_volts(use))
        return self._heater(pair)

    def _heater(self, pair: Pair) -> PairSource:
        feed = next(
            (heater_feed for heater_feed in self.compiled.said(HeaterFeed) if heater_feed.block == pair.of), None
        )
        amperes = np.zeros(HARMONICS, dtype=complex)
        volts = np.zeros((2, HARMONICS), dtype=complex)
        design = self.amplifier.design
        if feed is not None and not feed.winding:
            return self._steady(pair, feed)
        if feed is None:
            for body in pair.behind:
                heater = design.tube_of(body.envelope).heater
                amperes[0] += np.sqrt(2) * (heater.amperes if heater else 0.0)
            volt, off = 6.3, OFF["centre tap"]
            first = design.tube_of(pair.behind[0].envelope).heater if pair.behind else None
            volt = first.volts if first else volt
        else:
            string = next(string for string in self._strings if string.feed is feed)
            volt, off = string.volt, OFF[feed.reference]
            chains: dict[int, list[HeaterUse]] = {}
            for heated in string.heated:
                chains.setdefault(heated.use.chain, []).append(heated.use)
            behind = [body.envelope for body in pair.behind]
            for uses in chains.values():
                drawn = max((heated.ampere for heated in string.heated if heated.use in uses), default=0.0)
                count = max((behind.count(use.envelope) for use in uses), default=0)
                amperes[0] += np.sqrt(2) * drawn * count
        volts[0, 0] = np.sqrt(2) * volt * (0.5 + off)
        volts[1, 0] = np.sqrt(2) * volt * (off - 0.5)
        return PairSource(pair, amperes, (volts[0], volts[1]))

    def _steady(self, pair: Pair, feed: HeaterFeed) -> PairSource:
        """A pair that heats with DC: what ripples on it, and what that drives through the heaters behind it. One leg
        is at earth."""
        ripple = self.transfers.of_node(feed.node)
        behind = [body.envelope for body in pair.behind]
        siemens = 0.0
        for use in self.compiled.said(HeaterUse):
            heater = self.amplifier.netlist[use.part].device
            if use.block == feed.block and isinstance(heater, Resistor):
                siemens += behind.count(use.envelope) / float(heater.ohm * use.count)
        return PairSource(pair, ripple * siemens, (ripple, 0 * ripple))

    def leak(self, winding: str) -> ComplexArray:
        """What comes out of a winding ("" for the core) by its capacitance to the primary, A, (harmonics,): the
        primary is half of the mains off earth in the mean."""
        farad = CORE_FARAD if not winding else WINDING_FARAD
        result = np.zeros(HARMONICS, dtype=complex)
        result[0] = 2j * np.pi * self.transfers.hertz[0] * farad * self.amplifier.design.brief.mains_volt / np.sqrt(2)
        return result

    @lazily
    def _strings(self) -> tuple[StringState, ...]:
        return heating(self.compiled, self.amplifier.state)

    def arms(self, use: Rectified) -> tuple[ComplexArray, ComplexArray, ComplexArray]:
        """The currents in the two ends of a winding and, of them, what flows in the pair, A (harmonics,)."""
        mains = self.amplifier.state.mains
        if mains is None:
            zero = np.zeros(HARMONICS, dtype=complex)
            return zero, zero, zero
        flow = np.concatenate([self.amplifier.state.of(name).currents for name in use.parts])
        step = round(mains.hertz / self.transfers.hertz[0])
        whole = np.tile(flow, (1, max(1, 2 // step) if step < 2 else 1))
        if step == 2:  # one half cycle: an arm's other half is nothing, or the other way in a bridge
            own, other = (np.concatenate([flow[0], 0 * flow[0]]), np.concatenate([0 * flow[0], flow[0]]))
        else:
            own = whole[0]
            other = whole[1] if len(whole) > 1 else 0 * own
        a, b = _phasors(own), _phasors(other)
        both = a - b if use.form in ("bridge", "doubler") else a + b
        # Of two arms in turn, the odd harmonics flow from end to end and the even ones from both to the tap.
        odd = np.arange(1, HARMONICS + 1) % 2 == 1
        return a, b, both if use.form in ("bridge", "doubler") else np.where(odd, (a - b) / 2, both)

    def _winding_volts(self, use: Rectified) -> tuple[ComplexArray, ComplexArray]:
        winding = self.windings[use.winding]
        angle = 2 * np.pi * np.arange(2048) / 2048
        swing = np.sqrt(2) * winding.volt * np.sin(angle)
        if use.form == "bridge":
            return _phasors(np.maximum(swing, 0.0)), _phasors(np.maximum(-swing, 0.0))
        return _phasors(swing), _phasors(-swing if winding.centre_tapped else 0 * swing)

    @lazily
    def _mains_amperes(self) -> ComplexArray:
        """What is drawn from the wall: the rectifiers' currents through their ratios, and heaters."""
        volt = self.amplifier.design.brief.mains_volt
        result = np.zeros(HARMONICS, dtype=complex)
        for use in self.uses:
            a, b, _ = self.arms(use)
            result += (a - b) * self.windings[use.winding].volt / volt
        design = self.amplifier.design
        watt = 0.0
        for envelope in design.envelopes:
            heater = design.tube_of(envelope.id).heater
            if heater:
                bottles = 1 if design.serves_all(envelope.id) else design.channels
                watt += bottles * heater.volts * heater.amperes
        result[0] += np.sqrt(2) * watt / volt * -1j
        return result

    def iron(self, body: Body, layout: Layout) -> IronSource | None:
        """The stray moment of a transformer or choke; None for a body that is neither."""
        measured = next((stray for stray in layout.strays if stray.body == body.key), None)
        moment = np.zeros(HARMONICS, dtype=complex)
        if body.nature.mains_iron:
            share = STRAY_SHARE[body.mount or "upright"]
            # At the same distance over its size every transformer's field is alike, so its moment goes as its mass.
            tesla, at, unsure = STRAY_TESLA, STRAY_AT, STRAY_UNSURE
            size = body.sizes.kg / _KG_OF_STRAY
            if measured:
                tesla, at, unsure = measured.microtesla * 1e-6, measured.distance, STRAY_MEASURED
                size = share = 1.0
            elif body.screen:
                share *= SCREEN_SHARE[body.screen]
            moment[0] = np.sqrt(2) * tesla * 2 * np.pi * at**3 / MU0 * size * share
            drawn = self._mains_amperes
            if abs(drawn[0]) > 0:
                moment[1:] = moment[0] * _LEAK * drawn[1:] / drawn[0]
            return IronSource(body, moment, unsure)
        if body.nature.gapped:
            choke = next(one for path, one in self.compiled.components(Choke) if path == body.path)
            # The gap holds L I²/2 = B² V/2mu0 at full current; all of it is magnetised by the ripple current.
            gap = choke.henry * choke.rating_ampere / CHOKE_TESLA
            moment = gap * self.transfers.of_branch(body.part) * SCREEN_SHARE[body.screen or "none"]
            unsure = CHOKE_UNSURE
            if measured and np.any(np.abs(moment) > 0):
                wanted = measured.microtesla * 1e-6 * 2 * np.pi * measured.distance**3 / MU0
                moment = moment * wanted / (np.sqrt(np.sum(np.abs(moment) ** 2) / 2))
                unsure = STRAY_MEASURED
            return IronSource(body, moment, unsure)
        return None


_KG_OF_STRAY = 0.6 * STRAY_VA / 25.0 * (25.0 / STRAY_VA) ** (0.6 / 3.6)  # of 100 VA, by the catalogue's rules


def _phasors(wave: Array) -> ComplexArray:
    """Amplitudes of the harmonics of one period of a wave, the mean left out: (harmonics,)."""
    result: ComplexArray = np.fft.rfft(wave)[1 : HARMONICS + 1] * 2 / len(wave)
    return result
