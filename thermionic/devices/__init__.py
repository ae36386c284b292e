"""Device equations: current as a function of voltage, with derivatives, one device a class."""

from thermionic.devices.base import Device, Excitation, Noise
from thermionic.devices.behavioural import BehaviouralCharge, BehaviouralCurrent, BehaviouralVoltage
from thermionic.devices.converter import Converter, LinearRegulator
from thermionic.devices.diode import LED, Diode, JunctionCharge, SeleniumRectifier, Zener
from thermionic.devices.gas import GasRegulator
from thermionic.devices.linear import (
    AffinePorts,
    Capacitor,
    CoupledInductors,
    CurrentProbe,
    CurrentSource,
    Feed,
    IdealTransformer,
    Inductor,
    LinearPart,
    MainsSource,
    Potentiometer,
    Resistor,
    Thevenin,
    Transconductance,
    VoltageControlled,
    VoltageSource,
)
from thermionic.devices.loudspeaker import Driver, MeasuredLoudspeaker, read_impedance
from thermionic.devices.pentode import Pentode, PentodeCoefficients
from thermionic.devices.thermal import Contact, Fuse, Lamp, Thermistor
from thermionic.devices.transformer import Choke, Core, OutputTransformer, Transformer, Winding, choke
from thermionic.devices.transistors import BipolarTransistor, Mosfet
from thermionic.devices.triode import FilamentTriode, Triode, TriodeCoefficients, Warmup
from thermionic.devices.vacuum_rectifier import VacuumRectifier
from thermionic.devices.waves import Exponential, Piecewise, Pulse, Sine, Wave

__all__ = [
    "LED",
    "AffinePorts",
    "BehaviouralCharge",
    "BehaviouralCurrent",
    "BehaviouralVoltage",
    "BipolarTransistor",
    "Capacitor",
    "Choke",
    "Contact",
    "Converter",
    "Core",
    "CoupledInductors",
    "CurrentProbe",
    "CurrentSource",
    "Device",
    "Diode",
    "Driver",
    "Excitation",
    "Exponential",
    "Feed",
    "FilamentTriode",
    "Fuse",
    "GasRegulator",
    "IdealTransformer",
    "Inductor",
    "JunctionCharge",
    "Lamp",
    "LinearPart",
    "LinearRegulator",
    "MainsSource",
    "MeasuredLoudspeaker",
    "Mosfet",
    "Noise",
    "OutputTransformer",
    "Pentode",
    "PentodeCoefficients",
    "Piecewise",
    "Potentiometer",
    "Pulse",
    "Resistor",
    "SeleniumRectifier",
    "Sine",
    "Thermistor",
    "Thevenin",
    "Transconductance",
    "Transformer",
    "Triode",
    "TriodeCoefficients",
    "VacuumRectifier",
    "VoltageControlled",
    "VoltageSource",
    "Warmup",
    "Wave",
    "Winding",
    "Zener",
    "choke",
    "read_impedance",
]
