"""All nonlinear devices' laws and limits, each called by its number; compiled.

A law takes a device's numbers ``p``, by the names that its NamedTuple gives them, its sensed voltages ``v`` and the
phase, and writes its currents ``i`` (injects,) and their slopes ``g`` (injects, ports), which come to it as zeros.
"""

from __future__ import annotations

from enum import IntEnum
from typing import Any

import numba

from thermionic.compiled import REAL, WHOLE, compiled, gives, inlined, ready, takes
from thermionic.devices.converter_laws import converter, linear_regulator
from thermionic.devices.junction_laws import (
    begin_bipolar,
    begin_diode,
    begin_mosfet,
    begin_zener,
    bipolar,
    diode,
    junction_charge,
    limit_bipolar,
    limit_diode,
    limit_mosfet,
    limit_zener,
    mosfet,
    selenium,
    zener,
)
from thermionic.devices.programs import run
from thermionic.devices.state_laws import core, fuse, gas_regulator, hot
from thermionic.devices.tube_laws import filament_triode, limit_grid, pentode, triode, vacuum_rectifier


class Law(IntEnum):
    """Which of the laws below is a device's own."""

    TRIODE = 0
    FILAMENT_TRIODE = 1
    PENTODE = 2
    VACUUM_RECTIFIER = 3
    DIODE = 4
    JUNCTION_CHARGE = 5
    ZENER = 6
    SELENIUM = 7
    GAS_REGULATOR = 9
    BIPOLAR = 10
    MOSFET = 11
    THERMISTOR = 12
    LAMP = 13
    FUSE = 14
    CORE = 15
    PROGRAM = 16
    CONVERTER = 17
    LINEAR_REGULATOR = 18


@inlined
def _program(p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    i[0] = p[0] * run(p[1:], v, g[0])
    for port in range(len(v)):
        g[0, port] *= p[0]


@inlined
def _flow(law: int, p: Any, v: Any, phase: float, i: Any, g: Any) -> None:
    if law == Law.TRIODE:
        triode(p, v, phase, i, g)
    elif law == Law.PENTODE:
        pentode(p, v, phase, i, g)
    elif law == Law.FILAMENT_TRIODE:
        filament_triode(p, v, phase, i, g)
    elif law == Law.VACUUM_RECTIFIER:
        vacuum_rectifier(p, v, phase, i, g)
    elif law == Law.DIODE:
        diode(p, v, phase, i, g)
    elif law == Law.JUNCTION_CHARGE:
        junction_charge(p, v, phase, i, g)
    elif law == Law.ZENER:
        zener(p, v, phase, i, g)
    elif law == Law.SELENIUM:
        selenium(p, v, phase, i, g)
    elif law == Law.GAS_REGULATOR:
        gas_regulator(p, v, phase, i, g)
    elif law == Law.BIPOLAR:
        bipolar(p, v, phase, i, g)
    elif law == Law.MOSFET:
        mosfet(p, v, phase, i, g)
    elif law == Law.THERMISTOR or law == Law.LAMP:
        hot(law == Law.LAMP, p, v, i, g)
    elif law == Law.FUSE:
        fuse(p, v, phase, i, g)
    elif law == Law.CORE:
        core(p, v, phase, i, g)
    elif law == Law.PROGRAM:
        _program(p, v, phase, i, g)
    elif law == Law.CONVERTER:
        converter(p, v, phase, i, g)
    elif law == Law.LINEAR_REGULATOR:
        linear_regulator(p, v, phase, i, g)


@inlined
def _begin(law: int, p: Any, v: Any) -> None:
    """Put a device's sensed voltages where its law is neither dead nor steep."""
    if law == Law.TRIODE or law == Law.PENTODE or law == Law.FILAMENT_TRIODE:
        v[0] = min(v[0], 0.0)
    elif law == Law.DIODE:
        begin_diode(p, v)
    elif law == Law.ZENER:
        begin_zener(p, v)
    elif law == Law.BIPOLAR:
        begin_bipolar(p, v)
    elif law == Law.MOSFET:
        begin_mosfet(p, v)


@inlined
def _limit(law: int, p: Any, new: Any, old: Any) -> None:
    """Hold a device's sensed voltages to where its law may be taken after ``old``."""
    if law == Law.TRIODE or law == Law.PENTODE or law == Law.FILAMENT_TRIODE:
        limit_grid(p, new, old)
    elif law == Law.DIODE:
        limit_diode(p, new, old)
    elif law == Law.ZENER:
        limit_zener(p, new, old)
    elif law == Law.BIPOLAR:
        limit_bipolar(p, new, old)
    elif law == Law.MOSFET:
        limit_mosfet(p, new, old)


@ready(
    numba.void(
        takes(WHOLE, 1),
        takes(WHOLE, 2),
        takes(REAL, 2),
        takes(REAL, 2),
        takes(REAL, 1),
        gives(REAL, 2),
        gives(REAL, 3),
    )
)
def evaluate(laws: Any, at: Any, numbers: Any, v: Any, phase: Any, i: Any, g: Any) -> None:
    """All devices at all rows: adds nothing up, writes ``i`` (rows, injects) and ``g`` (rows, injects, ports), zeros
    before.

    ``laws`` (devices,) says which law is whose and ``at`` (devices, 5) where: the first of its numbers, its ports
    from and to, its injects from and to. ``numbers`` (variants, all numbers) goes round with the rows, and so does
    ``phase``; ``v`` is (rows, ports).
    """
    variants, phases = len(numbers), len(phase)
    own = turn = 0
    for row in range(len(v)):
        for device in range(len(laws)):
            first, port, ports = at[device, 0], at[device, 1], at[device, 2]
            inject, injects = at[device, 3], at[device, 4]
            _flow(
                laws[device], numbers[own, first:], v[row, port:ports], phase[turn],
                i[row, inject:injects], g[row, inject:injects, port:ports],
            )  # fmt: skip
        own, turn = own + 1 if own + 1 < variants else 0, turn + 1 if turn + 1 < phases else 0


@compiled
def begun(laws: Any, at: Any, p: Any, v: Any) -> None:
    """Put the voltages (ports,) that the laws sense where each may be taken at first; see ``evaluate``."""
    for device in range(len(laws)):
        first, port, ports = at[device, 0], at[device, 1], at[device, 2]
        _begin(laws[device], p[first:], v[port:ports])


@compiled
def limited(laws: Any, at: Any, p: Any, new: Any, old: Any) -> None:
    """Hold the voltages (ports,) that the laws sense to where each may be taken after ``old``."""
    for device in range(len(laws)):
        first, port, ports = at[device, 0], at[device, 1], at[device, 2]
        _limit(laws[device], p[first:], new[port:ports], old[port:ports])
