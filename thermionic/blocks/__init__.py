"""Blocks of an amplifier, a kind a file: parameters, ports, parts on nodes, and how each is drawn."""

from thermionic.blocks import kinds
from thermionic.blocks.base import KINDS, Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.building import Build
from thermionic.blocks.fields import (
    Capacitor,
    Choke,
    Component,
    CurrentSourcePart,
    Measured,
    Model,
    Potentiometer,
    Resistor,
    Tap,
    named,
)
from thermionic.blocks.ports import Flow, split
from thermionic.blocks.sketch import Sketch

__all__ = [
    "KINDS",
    "Bench",
    "Block",
    "Build",
    "Capacitor",
    "Choke",
    "Component",
    "CurrentSourcePart",
    "Flow",
    "Group",
    "Measured",
    "Model",
    "Potentiometer",
    "Resistor",
    "Sketch",
    "Tap",
    "kinds",
    "named",
    "split",
]
