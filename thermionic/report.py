"""A solved design as plain data, for the command line."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, replace
from typing import Any

import numpy as np

from thermionic.amplifier import SolvedAmplifier, needs
from thermionic.amplifier.full_output import DrivenPoint
from thermionic.amplifier.solved import REFERENCE_HERTZ
from thermionic.blocks.facets import Rail
from thermionic.circuit.large_signal import clipping_level, intermodulation, two_tones
from thermionic.circuit.netlist import GROUND
from thermionic.circuit.noise import noise
from thermionic.circuit.startup import start_up
from thermionic.circuit.system import System
from thermionic.circuit.transient import transient
from thermionic.devices import Sine
from thermionic.findings import examine

_NOISE_HERTZ = np.geomspace(10.0, 50e3, 150)
_PERIODS, _PRINTED = 20, 200
_START_UP_SECONDS = 60.0


def report(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """``nodes`` (name to volts), ``parts`` (name to current A, voltage V, dissipation W, path), ``supply``,
    ``signal`` (gain, response, power, distortion) and ``findings``. Raises NoSolution."""
    return {
        "name": amplifier.design.name,
        "nodes": {node: amplifier.voltage(node) for node in amplifier.netlist.nodes},
        "parts": {
            name: {**asdict(state), "path": amplifier.netlist[name].path} for name, state in amplifier.parts.items()
        },
        "supply": _supply(amplifier),
        "signal": _signal(amplifier),
        "findings": [
            {
                "rule": finding.rule,
                "severity": finding.severity.words,
                "designator": finding.designator,
                "path": finding.path,
                "title": finding.title,
                "evidence": finding.evidence,
                "why": finding.why,
                "value": finding.value,
                "limit": finding.limit,
                "cure": asdict(finding.cure) if finding.cure else None,
            }
            for finding in examine(amplifier)
        ],
    }


def _ripple(amplifier: SolvedAmplifier, rail: Rail) -> float | None:
    """A rail's ripple, V peak to peak; None behind a converter, whose own is not known."""
    return None if amplifier.compiled.node(rail.node) in amplifier.switched else amplifier.ripple(rail.node)


def _supply(amplifier: SolvedAmplifier) -> dict[str, Any]:
    rails = amplifier.compiled.rails
    return {
        "rails_v": {rail.name: amplifier.voltage(rail.node) for rail in rails},
        "rails_v_without_tubes": {
            rail.name: amplifier.without_tubes.at.voltage(amplifier.compiled.node(rail.node)) for rail in rails
        },
        "ripple_v_peak_to_peak": {rail.name: _ripple(amplifier, rail) for rail in rails},
        "rectifiers": {
            rectifier.part: {
                "mean_v": rectifier.mean_volt,
                "mean_a": rectifier.mean_ampere,
                "peak_a": rectifier.peak_ampere,
                "rms_a": rectifier.winding_rms_ampere,
            }
            for rectifier in amplifier.rectifiers
        },
    }


def _signal(amplifier: SolvedAmplifier) -> dict[str, Any]:
    load = amplifier.load
    response = amplifier.response(load.node)
    needed = needs(amplifier.compiled)
    return {
        "hertz": REFERENCE_HERTZ,
        "gain": amplifier.gain(load.node),
        "output_impedance_ohm": amplifier.output_impedance,
        "response": {
            "low_hertz": response.corner(REFERENCE_HERTZ, upwards=False),
            "high_hertz": response.corner(REFERENCE_HERTZ, upwards=True),
            "hertz": response.hertz.tolist(),
            "gain_db": response.decibels.tolist(),
        },
        "power": {
            "at_source": _point(amplifier.at_source),
            "full_output": _point(amplifier.full_output),
            "needed_w": needed.power_watt,
            "needed_vrms": needed.output_volt,
        },
        "distortion": [_point(point) for point in amplifier.sweep],
    }


def _point(point: DrivenPoint | None) -> dict[str, Any] | None:
    if point is None:
        return None
    return {
        "source_vrms": point.source_volt,
        "output_vrms": point.output_volt,
        "power_w": point.power_watt,
        "thd": point.distortion,
        "harmonics": {str(order): size for order, size in enumerate(point.harmonics, start=2)},
    }


# One analysis at a time, for the command line's options.


def _operating(amplifier: SolvedAmplifier) -> dict[str, Any]:
    return {
        "nodes": {node: amplifier.voltage(node) for node in amplifier.netlist.nodes},
        "parts": {name: asdict(state) for name, state in amplifier.parts.items()},
    }


def _small(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """Every node per volt of the source, as pairs of real and imaginary parts, and what loads and drives it."""
    speaker = amplifier.load.node
    response = amplifier.response(speaker)
    small = amplifier.small_signal
    system = amplifier.state.at.system
    per_volt = small.from_source(amplifier.compiled.source.part, response.hertz)
    return {
        "frequency": response.hertz.tolist(),
        "nodes": {
            node: np.stack([per_volt[:, place].real, per_volt[:, place].imag], axis=1).tolist()
            for place, node in enumerate(system.nodes)
        },
        "output_impedance_ohm": amplifier.output_impedance,
        "rails_to_load_db": {
            rail.name: {f"{hertz:g} Hz": 20 * float(np.log10(max(abs(_rail(amplifier, rail.node, hertz)), 1e-30)))
                         for hertz in (2 * amplifier.design.brief.mains_hertz, 1000.0)}
            for rail in amplifier.compiled.rails
        },
    }  # fmt: skip


def _rail(amplifier: SolvedAmplifier, rail: str, hertz: float) -> complex:
    """Volts at the load for each volt of ripple on a rail."""
    small, name = amplifier.small_signal, amplifier.compiled.node
    system = amplifier.state.at.system
    moved = small.respond(np.array([hertz]), small.push(name(rail)))[0, :, 0]
    return complex(moved[system.node(amplifier.load.node)] / moved[system.node(name(rail))])


def _noise(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """Noise at the loudspeaker and referred to the source, V rms, 20 Hz to 20 kHz; tubes' flicker is unsure."""
    result = noise(amplifier.state.at, amplifier.load.node, amplifier.compiled.source.part, _NOISE_HERTZ)
    return {
        "output_vrms": {name: result.output_volt(name) for name in ("flat", "A", "468")},
        "input_vrms": {name: result.input_volt(name) for name in ("flat", "A", "468")},
        "by_part_vrms": result.by_part(),
        "frequency": _NOISE_HERTZ.tolist(),
        "output_v_per_root_hertz": np.sqrt(result.density).tolist(),
        "unsure": ["the flicker noise of tubes, which differs tenfold from sample to sample"],
    }


def _large(amplifier: SolvedAmplifier) -> dict[str, Any]:
    speaker = amplifier.load.node
    at = amplifier.state.at
    full = amplifier.full_output
    level = (
        full.source_volt
        * 2**0.5
        / float(np.real(amplifier.netlist[amplifier.compiled.source.part].device.excitation().tone[2]))
    )
    levels = level * np.array([0.25, 0.5, 0.7])
    low_high = two_tones(at, 60.0, 7000.0, 4.0, levels)
    clipping = clipping_level(at, REFERENCE_HERTZ, speaker)
    return {
        "sweep": [_point(point) for point in amplifier.sweep],
        "full_output": _point(full),
        "one_per_cent_at_source_vrms": None if clipping is None else clipping * full.source_volt / level,
        "intermodulation": [
            {"source_vrms_of_equal_peak": float(one / level * full.source_volt), "of_7_kHz": float(size)}
            for one, size in zip(levels, intermodulation(low_high, speaker), strict=True)
        ],
        "bias_shift_v": {
            use.cathode: float(amplifier.drive.bias_shift(use.cathode)[-1])
            for use in amplifier.compiled.tubes
            if use.cathode != GROUND
        },
    }


def _in_time(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """The first periods of the test tone from idle, at every node."""
    at = amplifier.state.at
    source = amplifier.netlist[amplifier.compiled.source.part].device
    tone = float(np.real(source.excitation().tone[2]))
    driven = replace(source, wave=Sine(0.0, tone, REFERENCE_HERTZ))  # type: ignore[type-var]
    system = System(amplifier.state.standing.with_device(amplifier.compiled.source.part, driven))
    period = 1 / REFERENCE_HERTZ
    moved = transient(system, _PERIODS * period, start=at.x, longest=period / 50)
    times = np.linspace(0, _PERIODS * period, _PERIODS * _PRINTED // 2 + 1)
    points = moved.at(times)
    return {"time": times.tolist(), "nodes": {n: points[:, k].tolist() for k, n in enumerate(system.nodes)}}


def _switching_on(amplifier: SolvedAmplifier) -> dict[str, Any]:
    """From the switch to a minute later: the rectifier is silicon, so the rails stand before the tubes draw."""
    run = start_up(amplifier.compiled.warming().netlist, _START_UP_SECONDS)
    return {
        "time": run.seconds.tolist(),
        "nodes": {node: run.voltage(node).tolist() for node in run.system.nodes},
        "peaks": {node: dict(zip(("volt", "second"), run.peak(node), strict=True)) for node in run.system.nodes},
        "unsure": ["how long tubes take to warm up, which differs by half from type to type"],
    }


ANALYSES: dict[str, tuple[Callable[[SolvedAmplifier], Any], str]] = {
    "op": (_operating, "node voltages and the state of every part"),
    "ac": (_small, "transfer to every node from 2 Hz to 500 kHz, output impedance, supply rejection"),
    "noise": (_noise, "noise at the loudspeaker, flat and weighted, by part"),
    "distortion": (_large, "power sweep, harmonics, clipping, intermodulation, bias shift"),
    "supply": (_supply, "rectifier and ripple over the mains cycle"),
    "transient": (_in_time, "the first twenty periods of the test tone"),
    "startup": (_switching_on, "the first minute from switch-on"),
}
