"""Layouts of the examples, for the tests of chassis and earths."""

from functools import cache

import numpy as np

from thermionic import examples
from thermionic.amplifier import solve
from thermionic.chassis.arranging import arranged
from thermionic.chassis.bodies import bodies
from thermionic.chassis.document import Layout
from thermionic.chassis.editing import (
    placed_at,
)
from thermionic.chassis.fields import Filaments, Sheet, linkage
from thermionic.chassis.laid import lay

NAMES = sorted(examples.names())
FIRST = "iron at the rear"


@cache
def amplifier(name):
    return solve(examples.example(name))


@cache
def first(name, school=FIRST):
    result = bodies(amplifier(name), Layout())
    return arranged(result, amplifier(name).design, Layout(), school)


def laid(name, layout=None):
    return lay(amplifier(name), layout or first(name))


def body_of(name, key, layout=None):
    return next(body for body in bodies(amplifier(name), layout or first(name)) if body.key.startswith(key))


def moved(name, layout, key, **changes):
    return placed_at(layout, body_of(name, key, layout), **changes)[0]


def way(now, source, how="magnetic", path="the wires"):
    """What one source leaves at the load by one way, V rms."""
    result = [cause for cause in now.hum.causes if source in cause.source and cause.way == how and path in cause.path]
    return sum(cause.volt**2 for cause in result) ** 0.5


NOTHING = Sheet(0.0, 0.0)


def linked(victims, sources, sheet=NOTHING, hertz=50.0):
    """The flux linkage of one polyline by an ampere in another, H; by default beside nothing."""
    alone = Filaments(sources, 0 * sources.wire, 0 * sources.start, np.zeros(len(sources.wire)))
    return complex(linkage(victims, 1, alone, 1, sheet, np.array([hertz]))[0, 0, 0])


def rms(phasors):
    return float(np.sqrt(np.sum(np.abs(phasors) ** 2) / 2))
