"""The design document: what the builder decided, as typed, versioned, validated data."""

from thermionic.design.document import (
    Block,
    Brief,
    Capacitor,
    Design,
    HTSection,
    HTSupply,
    Input,
    Loudspeaker,
    OutputTransformer,
    Resistor,
    TriodeOutput,
    TriodeStage,
    VolumeControl,
)
from thermionic.design.editing import Field, changed, choices, field, fields_at, fit_part, optional_parts, step_field
from thermionic.design.reading import dump, load, schema

__all__ = [
    "Block",
    "Brief",
    "Capacitor",
    "Design",
    "Field",
    "HTSection",
    "HTSupply",
    "Input",
    "Loudspeaker",
    "OutputTransformer",
    "Resistor",
    "TriodeOutput",
    "TriodeStage",
    "VolumeControl",
    "changed",
    "choices",
    "dump",
    "field",
    "fields_at",
    "fit_part",
    "load",
    "optional_parts",
    "schema",
    "step_field",
]
