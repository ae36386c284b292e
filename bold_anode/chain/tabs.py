"""The views of the Chain: the circuit, and what the whole amplifier does."""

from __future__ import annotations

from bold_anode.amps.tabs import Tab
from bold_anode.chain import circuit, feedback, levels, power, quiet, response, tolerance, variants

TABS = (
    Tab("circuit", "Circuit", circuit.draw),
    Tab("levels", "Levels", levels.draw),
    Tab("response", "Response", response.draw),
    Tab("power", "Power", power.draw),
    Tab("quiet", "Noise and hum", quiet.draw),
    Tab("feedback", "Feedback", feedback.draw),
    Tab("tolerances", "Tolerances", tolerance.draw),
    Tab("variants", "Variants", variants.draw),
)
