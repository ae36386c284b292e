"""Device equations: current as a function of voltage, with derivatives, one device a class."""

from thermionic.devices.base import Device, Excitation
from thermionic.devices.diode import Diode, RectifiedWinding
from thermionic.devices.linear import (
    Capacitor,
    CurrentSource,
    Feed,
    Inductor,
    Potentiometer,
    Resistor,
    Thevenin,
    VoltageSource,
)
from thermionic.devices.transformer import OutputTransformer
from thermionic.devices.triode import Triode, TriodeCoefficients

__all__ = [
    "Capacitor",
    "CurrentSource",
    "Device",
    "Diode",
    "Excitation",
    "Feed",
    "Inductor",
    "OutputTransformer",
    "Potentiometer",
    "RectifiedWinding",
    "Resistor",
    "Thevenin",
    "Triode",
    "TriodeCoefficients",
    "VoltageSource",
]
