"""The design document: what the builder decided, as typed, versioned, validated data."""

from thermionic.blocks import Block, Capacitor, Resistor
from thermionic.design.document import Brief, Design, Envelope, OwnTriode
from thermionic.design.editing import (
    Field,
    changed,
    choices,
    field,
    fields_at,
    fit_part,
    fitting_types,
    full_up,
    optional_parts,
    step_field,
    with_own_tube,
)
from thermionic.design.graph import consumers, order, route, signal_inputs
from thermionic.design.paths import find, fitted, has_field, values_within
from thermionic.design.reading import check_own_tube, dump, load, schema, triode_from_fit, validate

__all__ = [
    "Block",
    "Brief",
    "Capacitor",
    "Design",
    "Envelope",
    "Field",
    "OwnTriode",
    "Resistor",
    "changed",
    "check_own_tube",
    "choices",
    "consumers",
    "dump",
    "field",
    "fields_at",
    "find",
    "fit_part",
    "fitted",
    "fitting_types",
    "full_up",
    "has_field",
    "load",
    "optional_parts",
    "order",
    "route",
    "schema",
    "signal_inputs",
    "step_field",
    "triode_from_fit",
    "validate",
    "values_within",
    "with_own_tube",
]
