"""The equations of harmonic balance, and their Jacobian; see harmonic_balance."""

from __future__ import annotations

from typing import Any

import numba
import numpy as np

from thermionic.circuit.kernels.dense import factored, solve_factored
from thermionic.compiled import COMPLEX, REAL, WHOLE, gives, ready, takes


@ready(numba.void(takes(REAL, 2), takes(REAL, 2), takes(COMPLEX, 4), takes(REAL, 3), gives(REAL, 2)))
def left_over(v: Any, source: Any, reach: Any, flowing: Any, residual: Any) -> None:
    """V - E + Z I, (levels, ports x width): each port's mean, real parts and imaginary parts.

    ``reach`` is Z, (levels or 1, frequencies, ports, injects); ``flowing`` the devices' currents (width, levels,
    injects), as such unknowns.
    """
    levels, (_, count, ports, injects) = len(v), reach.shape
    width = 2 * count - 1
    for level in range(levels):
        z = reach[level % len(reach)]
        for port in range(ports):
            first = port * width
            for k in range(count):
                real, imaginary = 0.0, 0.0
                for inject in range(injects):
                    one = z[k, port, inject]
                    re = flowing[k, level, inject]
                    im = flowing[count + k - 1, level, inject] if k else 0.0
                    real += one.real * re - one.imag * im
                    imaginary += one.real * im + one.imag * re
                at = first + k
                residual[level, at] = v[level, at] - source[level, at] + real
                if k:
                    at += count - 1
                    residual[level, at] = v[level, at] - source[level, at] + imaginary


@ready(numba.void(takes(REAL, 2), gives(REAL, 3)))
def of_one_tone(slopes: Any, mixed: Any) -> None:
    """What each unknown of a voltage does to each of a current, (columns, width, width), by slopes over a period.

    ``slopes`` (columns, 2 x twice the harmonics + 1) are their own mean, cosines and sines up to twice the harmonics:
    a product of two harmonics is half their sum and half their difference.
    """
    width = mixed.shape[1]
    harmonics = (width - 1) // 2
    sines = 2 * harmonics  # where they begin, less one: a sine of nothing is none
    for column in range(len(slopes)):
        g, m = slopes[column], mixed[column]
        m[0, 0] = g[0]
        for k in range(1, harmonics + 1):
            in_phase, across = g[k], g[sines + k]
            m[0, k], m[0, harmonics + k] = 0.5 * in_phase, 0.5 * across
            m[k, 0], m[harmonics + k, 0] = in_phase, across
            for j in range(1, harmonics + 1):
                apart = k - j if k > j else j - k
                turn = 1.0 if k > j else -1.0
                cosine = 2.0 * g[0] if apart == 0 else g[apart]
                sine = 0.0 if apart == 0 else turn * g[sines + apart]
                m[k, j] = 0.5 * (cosine + g[k + j])
                m[k, harmonics + j] = 0.5 * (g[sines + k + j] - sine)
                m[harmonics + k, j] = 0.5 * (g[sines + k + j] + sine)
                m[harmonics + k, harmonics + j] = 0.5 * (cosine - g[k + j])


_THROUGH = takes(REAL, 4), takes(WHOLE, 2), takes(COMPLEX, 4)


@ready(numba.void(*_THROUGH, gives(REAL, 3)), numba.void(*_THROUGH, gives(numba.float32, 3)))
def through(mixed: Any, pairs: Any, reach: Any, matrix: Any) -> None:
    """I + Z dI/dV to ``matrix`` (levels, n, n), zeros before; see ``left_over``.

    ``pairs`` (columns, 2) are the injects and ports whose slopes ``mixed`` has, (levels, columns, width, width).
    """
    levels, columns, width, _ = mixed.shape
    count, ports = reach.shape[1:3]
    for level in range(levels):
        z, to = reach[level % len(reach)], matrix[level]
        for one in range(len(to)):
            to[one, one] = 1.0
        for column in range(columns):
            inject, moved = pairs[column]
            m = mixed[level, column]
            first = moved * width
            for port in range(ports):
                for k in range(count):
                    re, im = z[k, port, inject].real, z[k, port, inject].imag
                    row = port * width + k
                    if k == 0:
                        for j in range(width):
                            to[row, first + j] += re * m[0, j]
                        continue
                    other = row + count - 1
                    for j in range(width):
                        real, imaginary = m[k, j], m[count + k - 1, j]
                        to[row, first + j] += re * real - im * imaginary
                        to[other, first + j] += re * imaginary + im * real


@ready(numba.void(takes(REAL, 3), takes(WHOLE, 1), takes(WHOLE, 1), takes(REAL, 1), gives(REAL, 2)))
def among(answers: Any, sample: Any, port: Any, more: Any, matrix: Any) -> None:
    """What voltages at chosen samples do to each other through slopes there, ``more`` (chosen,), and the network; and
    one on the diagonal: (chosen, chosen).

    ``answers`` (ports, ports, samples) is what each port's ampere at one sample does to each port afterwards;
    ``sample`` and ``port`` (chosen,) say which are chosen.
    """
    samples = answers.shape[2]
    for row in range(len(sample)):
        for column in range(len(sample)):
            later = sample[row] - sample[column]
            if later < 0:
                later += samples
            matrix[row, column] = answers[port[column], port[row], later] * more[column]
        matrix[row, row] += 1.0


@ready(numba.void(takes(COMPLEX, 3), takes(REAL, 1), takes(REAL, 2), gives(COMPLEX, 3), gives(REAL, 3)))
def within(reach: Any, least: Any, sides: Any, inside: Any, unknowns: Any) -> None:
    """The network with siemens ``least`` (ports,) over each port: what an ampere in each port does, and what
    ``sides`` (ports x width, columns) are, at each frequency.

    ``reach`` and ``inside`` (frequencies, ports, ports) are without and with them; ``unknowns`` (ports + columns,
    ports, width) what each port sees of those amperes, and then of the sides.
    """
    count, ports, _ = reach.shape
    columns = sides.shape[1]
    matrix, rhs = np.empty((ports, ports), dtype=np.complex128), np.empty(ports, dtype=np.complex128)
    pivots = np.empty(ports, dtype=np.int64)
    for k in range(count):
        for port in range(ports):
            for other in range(ports):
                matrix[port, other] = reach[k, port, other] * least[other]
            matrix[port, port] += 1.0
        factored(matrix, pivots)
        for column in range(ports + columns):
            for port in range(ports):
                if column < ports:
                    rhs[port] = reach[k, port, column]
                else:
                    at = port * (2 * count - 1) + k
                    imaginary = sides[at + count - 1, column - ports] if k else 0.0
                    rhs[port] = complex(sides[at, column - ports], imaginary)
            solve_factored(matrix, pivots, rhs)
            for port in range(ports):
                if column < ports:
                    inside[k, port, column] = rhs[port]
                unknowns[column, port, k] = rhs[port].real
                if k:
                    unknowns[column, port, count - 1 + k] = rhs[port].imag
