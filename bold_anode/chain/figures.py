"""The numbers beside a stage's diagram, with what changed."""

from __future__ import annotations

from bold_anode.frame.figures import Figure
from thermionic.amplifier import SolvedAmplifier, pair_balance, stage_numbers, working_class
from thermionic.values import Quantity, display


def stage_figures(amplifier: SolvedAmplifier, before: SolvedAmplifier | None, block_id: str) -> list[Figure]:
    """The stage's own numbers; empty for a block without tubes."""
    old = _stage(before, block_id) if before is not None else {}
    return _compared(_stage(amplifier, block_id), old)


def amplifier_figures(amplifier: SolvedAmplifier, before: SolvedAmplifier | None) -> list[Figure]:
    """The whole amplifier's numbers."""
    return _compared(_amplifier(amplifier), _amplifier(before) if before else {})


def _compared(now: dict[str, str], old: dict[str, str]) -> list[Figure]:
    return [Figure(name, text, old[name] if old.get(name, text) != text else "") for name, text in now.items()]


def _stage(amplifier: SolvedAmplifier, block_id: str) -> dict[str, str]:
    if not amplifier.compiled.tubes_of(block_id):
        return _balance(amplifier, block_id)
    n = stage_numbers(amplifier, block_id)
    volt, ohm, hertz, watt = Quantity.VOLTAGE, Quantity.RESISTANCE, Quantity.FREQUENCY, Quantity.POWER
    screen = {}
    if n.screen_volt is not None and n.screen_watt is not None:
        screen = {
            "Screen to cathode": display(n.screen_volt, volt),
            "Screen dissipation": display(n.screen_watt, watt),
        }
    return {
        "Anode current": display(n.anode_ampere, Quantity.CURRENT),
        "Anode to earth": display(n.anode_volt, volt),
        "Cathode to earth": display(n.cathode_volt, volt),
        "Bias": display(n.bias_volt, volt),
        "Anode dissipation": f"{display(n.dissipation_watt, watt)} of {n.dissipation_limit_watt:g}",
        **screen,
        "Gain": f"{n.gain:.3g} ×",
        "Impedance at its output": display(n.output_ohm, ohm),
        "-3 dB": " to ".join(
            [
                display(n.low_hertz, hertz, 2) if n.low_hertz else "under 2 Hz",
                display(n.high_hertz, hertz, 2) if n.high_hertz else "over 500 kHz",
            ]
        ),
        "Grid drive for full output": f"{display(n.input_for_full_volt, volt)} rms",
        **_class(amplifier, block_id),
        **_balance(amplifier, block_id),
    }


def _class(amplifier: SolvedAmplifier, block_id: str) -> dict[str, str]:
    """The class that a stage works in, where it goes on to full output on the signal's way."""
    if block_id not in amplifier.route:
        return {}
    result = working_class(amplifier, block_id)

    output = amplifier.load.written
    words = [result.letters]
    if result.leaves_a is not None:
        words.append(f"A up to {output(result.leaves_a)}, then cut off up to {1 - result.conducts:.0%} of the cycle")
    if result.grid_from is not None:
        words.append(f"grid current from {output(result.grid_from)}")
    return {"Class": "; ".join(words)}


def _balance(amplifier: SolvedAmplifier, block_id: str) -> dict[str, str]:
    """How well a block balances the pair that it gives."""
    balance = pair_balance(amplifier, block_id)
    if balance is None:
        return {}
    at = {words: balance.at(hertz) for words, hertz in (("50 Hz", 50.0), ("1 kHz", 1e3), ("20 kHz", 20e3))}
    return {f"Sides at {words}": f"{db:+.2f} dB, {degrees:+.1f}°" for words, (db, degrees) in at.items()}


def _amplifier(amplifier: SolvedAmplifier) -> dict[str, str]:
    point, full = amplifier.at_source, amplifier.full_output
    name = "Power as set" if amplifier.load.power else "Level as set"
    if point is None:
        figures = {name: "overdriven", "Distortion there": "turn it down"}
    else:
        figures = {
            name: amplifier.load.written(amplifier.output(point)),
            "Distortion there": f"{point.distortion:.2%}",
        }
    most = amplifier.load.written(amplifier.output(full))
    gain = amplifier.gain(amplifier.load.node)
    return figures | {
        f"Full output, {full.distortion:.0%}": most,
        "Gain as set": f"{gain:.3g} ×",
        "Output impedance": display(amplifier.output_impedance, Quantity.RESISTANCE),
    }
