"""The words on the editors' fields."""

LABELS = {
    "ohm": "Resistance",
    "rating_watt": "Rating",
    "tolerance": "Tolerance (fraction)",
    "farad": "Capacitance",
    "rating_volt": "Rating",
    "tube": "Tube",
    "feed": "Fed from",
    "track_ohm": "Track",
    "travel": "Position (0 to 1)",
    "source_volt": "Source level, rms",
    "source_ohm": "Source resistance",
    "primary_ohm": "Primary load",
    "tap_ohm": "Tap in use",
    "primary_henry": "Primary inductance",
    "leakage_henry": "Leakage inductance",
    "primary_copper_ohm": "Primary copper",
    "secondary_copper_ohm": "Secondary copper",
    "primary_volt": "Primary rated for",
    "winding_volt": "Winding, open circuit, rms",
    "winding_ohm": "Winding resistance",
    "mains_volt": "Mains at the wall",
}

OPTIONAL = {
    "grid_leak": "grid leak",
    "grid_stopper": "grid stopper",
    "cathode_bypass": "cathode bypass",
    "bleeder": "bleeder",
}
