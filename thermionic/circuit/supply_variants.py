"""Variants of a whole mains-fed circuit, its rectifiers included: tolerances, tubes and mains voltages as arrays.

The alternation of ``supply`` with every step on all variants at once: operating points, impedances over the
mains cycle, and the balance of the rectifiers' ports.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from thermionic import budget
from thermionic.circuit.netlist import Netlist, Part
from thermionic.circuit.rectified import BESIDE, REFERENCE, RectifierPorts
from thermionic.circuit.small_signal import respond
from thermionic.circuit.spectrum import waveform
from thermionic.circuit.supply import AGREED, HARMONICS, SAMPLES, solve_circuit
from thermionic.circuit.system import System
from thermionic.circuit.variants import VariantPoints, one_of, operating_points
from thermionic.devices import AffinePorts
from thermionic.devices.base import Array, ComplexArray, variants_in
from thermionic.errors import NoSolution

_ROUNDS = 40


@dataclass(frozen=True, eq=False)
class SupplyVariants:
    """The solved variants: ``points`` their operating points, and ``x`` the phasors of every unknown over the
    mains cycle, (variants, size, harmonics + 1)."""

    points: VariantPoints
    x: ComplexArray

    def voltage(self, node: str) -> Array:
        """A node's mean voltage in every variant, V, (variants,)."""
        return self.points.voltage(node)

    def ripple_peak_to_peak(self, node: str) -> Array:
        """Ripple at a node in every variant, V, (variants,)."""
        ripple: Array = np.ptp(waveform(self.x[:, self.points.system.node(node)], 512), axis=-1)
        return ripple


def solve_variants(netlist: Netlist) -> SupplyVariants:
    """Solve an array of variants of ``netlist``, which must be on the mains with a rectifier.

    Starts from the first variant, solved by itself. Raises ValueError if it holds no array or has no rectifier,
    NoSolution where a variant has none, BudgetSpent.
    """
    counts = {length for part in netlist.parts for length in variants_in(part.device)}
    if len(counts) != 1:
        raise ValueError("there is no array of variants in this circuit, or arrays of several lengths")
    count = counts.pop()
    with budget.at_most():
        first = solve_circuit(one_of(netlist, 0))
        if first.mains is None:
            raise ValueError("there is no rectifier on the mains; use circuit.variants")
        mains = RectifierPorts(netlist, HARMONICS, SAMPLES)
        ports, open_system = len(mains.pairs), mains.open
        siemens = np.repeat(first.mains.stand_in.siemens[None], count, axis=0)
        ampere = np.repeat(first.mains.stand_in.ampere[None], count, axis=0)
        volts = np.repeat(first.mains.volts[None], count, axis=0)
        amperes = np.repeat((first.mains.amperes - REFERENCE * first.mains.volts)[None], count, axis=0)
        start: Array = first.at.x
        for _ in range(_ROUNDS):
            budget.check(f"solving {count} variants of {netlist.title} over the mains cycle")
            stand_in = AffinePorts(mains.pairs, siemens, ampere)
            system = System(_with(open_system.netlist, mains.name, stand_in))
            at = operating_points(system, start)
            if at.failed.any():
                variant, reason = next(iter(at.reasons.items()))
                raise NoSolution(f"Variant {variant + 1} of {count}: {reason}", where=netlist.title)
            output = at.x @ mains.ports
            drawn = ampere + np.einsum("lpq,lq->lp", siemens, output)
            slopes = np.broadcast_to(open_system.jacobian(at.port_slopes), (count, system.size, system.size))
            solved = respond(open_system, slopes, mains.hertz, mains.columns)
            reach = solved[..., :ports]
            shapes = mains.drive if mains.drive.ndim == 3 else mains.drive[:, None]
            drive = np.einsum(
                "lkns,kls->lkn",
                solved[..., ports:],
                np.broadcast_to(shapes, (len(shapes), count, shapes.shape[2])),
            )
            impedance = np.einsum("np,lknq->lkpq", mains.ports, reach)
            lone = impedance[:, 0].real + BESIDE * np.eye(ports)
            impedance[:, 0] = lone
            open_volts = np.swapaxes(drive @ mains.ports, 1, 2)
            open_volts[:, :, 0] = output + np.einsum("lpq,lq->lp", lone, drawn - REFERENCE * output)
            if not mains.behind.any():
                mains.move_behind(impedance[0])
            guess = mains.moved_behind(volts, amperes)
            found = mains.balanced_once(impedance, open_volts, guess, together=True)
            volts, amperes = found.volts, found.amperes
            mean = volts[:, :, 0].real
            current = found.amperes[:, :, 0].real + REFERENCE * mean
            lines = [mains.straightened(found.follows[k], lone[k], mean[k], current[k]) for k in range(count)]
            siemens = np.stack([line.siemens for line in lines])
            ampere = np.stack([line.ampere for line in lines])
            if np.max(np.abs(mean - output)) <= AGREED * np.max(np.abs(mean)) + 1e-6:
                x = -np.einsum("lknp,lpk->lnk", reach, found.amperes) + np.swapaxes(drive, 1, 2)
                x[:, :, 0] = at.x
                return SupplyVariants(at, x)
            start = at.x
    raise NoSolution(f"{netlist.title}: its {count} variants would not agree with their rectifiers.")


def _with(netlist: Netlist, name: str, device: AffinePorts) -> Netlist:
    parts = tuple(Part(part.name, device, part.nodes) if part.name == name else part for part in netlist.parts)
    return replace(netlist, parts=parts)
