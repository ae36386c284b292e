"""Expressions as programs: lists of operations on registers, run by a compiled interpreter.

A program is an array of numbers. First come the counts of quantities, constants and operations, and the place of the
result among the registers; then, for each quantity, the place of the result's slope by it; then the constants; then
each operation as its code and the places of its operands, three of them. The registers are the quantities, the
constants and the operations' results, in that order.
"""

from __future__ import annotations

import math
from enum import IntEnum
from typing import Any

import numpy as np

from thermionic.compiled import compiled


class Operation(IntEnum):
    """What a step of a program does. From ABS on there is one operand, and each function has its slope after it."""

    NEGATIVE = 0
    ADD = 1
    SUBTRACT = 2
    MULTIPLY = 3
    DIVIDE = 4
    WHERE = 5
    LESS = 6
    MORE = 7
    NOT_MORE = 8
    NOT_LESS = 9
    EQUAL = 10
    UNEQUAL = 11
    BOTH = 12
    EITHER = 13
    POW = 14
    POW_BY_FIRST = 15
    POW_BY_SECOND = 16
    PWR = 17
    PWR_BY_FIRST = 18
    PWR_BY_SECOND = 19
    ATAN2 = 20
    ATAN2_BY_FIRST = 21
    ATAN2_BY_SECOND = 22
    ABS = 23
    ABS_SLOPE = 24
    SQRT = 25
    SQRT_SLOPE = 26
    EXP = 27
    EXP_SLOPE = 28
    LN = 29
    LN_SLOPE = 30
    LOG = 31
    LOG_SLOPE = 32
    LOG10 = 33
    LOG10_SLOPE = 34
    SIN = 35
    SIN_SLOPE = 36
    COS = 37
    COS_SLOPE = 38
    TAN = 39
    TAN_SLOPE = 40
    ATAN = 41
    ATAN_SLOPE = 42
    ASIN = 43
    ASIN_SLOPE = 44
    ACOS = 45
    ACOS_SLOPE = 46
    SINH = 47
    SINH_SLOPE = 48
    COSH = 49
    COSH_SLOPE = 50
    TANH = 51
    TANH_SLOPE = 52
    SIGN = 53
    SIGN_SLOPE = 54
    STEP = 55
    STEP_SLOPE = 56
    RAMP = 57
    RAMP_SLOPE = 58
    FLOOR = 59
    FLOOR_SLOPE = 60
    CEIL = 61
    CEIL_SLOPE = 62


# Each operation by its name in an expression; ' stands for the slope of the function before it, by which operand.
OPERATIONS = {
    "negative": Operation.NEGATIVE,
    "+": Operation.ADD,
    "-": Operation.SUBTRACT,
    "*": Operation.MULTIPLY,
    "over": Operation.DIVIDE,
    "where": Operation.WHERE,
    "<": Operation.LESS,
    ">": Operation.MORE,
    "<=": Operation.NOT_MORE,
    ">=": Operation.NOT_LESS,
    "==": Operation.EQUAL,
    "!=": Operation.UNEQUAL,
    "&&": Operation.BOTH,
    "||": Operation.EITHER,
    "pow": Operation.POW,
    "pow'1": Operation.POW_BY_FIRST,
    "pow'2": Operation.POW_BY_SECOND,
    "pwr": Operation.PWR,
    "pwr'1": Operation.PWR_BY_FIRST,
    "pwr'2": Operation.PWR_BY_SECOND,
    "atan2": Operation.ATAN2,
    "atan2'1": Operation.ATAN2_BY_FIRST,
    "atan2'2": Operation.ATAN2_BY_SECOND,
    "abs": Operation.ABS,
    "abs'": Operation.ABS_SLOPE,
    "sqrt": Operation.SQRT,
    "sqrt'": Operation.SQRT_SLOPE,
    "exp": Operation.EXP,
    "exp'": Operation.EXP_SLOPE,
    "ln": Operation.LN,
    "ln'": Operation.LN_SLOPE,
    "log": Operation.LOG,
    "log'": Operation.LOG_SLOPE,
    "log10": Operation.LOG10,
    "log10'": Operation.LOG10_SLOPE,
    "sin": Operation.SIN,
    "sin'": Operation.SIN_SLOPE,
    "cos": Operation.COS,
    "cos'": Operation.COS_SLOPE,
    "tan": Operation.TAN,
    "tan'": Operation.TAN_SLOPE,
    "atan": Operation.ATAN,
    "atan'": Operation.ATAN_SLOPE,
    "asin": Operation.ASIN,
    "asin'": Operation.ASIN_SLOPE,
    "acos": Operation.ACOS,
    "acos'": Operation.ACOS_SLOPE,
    "sinh": Operation.SINH,
    "sinh'": Operation.SINH_SLOPE,
    "cosh": Operation.COSH,
    "cosh'": Operation.COSH_SLOPE,
    "tanh": Operation.TANH,
    "tanh'": Operation.TANH_SLOPE,
    "sgn": Operation.SIGN,
    "sgn'": Operation.SIGN_SLOPE,
    "u": Operation.STEP,
    "u'": Operation.STEP_SLOPE,
    "uramp": Operation.RAMP,
    "uramp'": Operation.RAMP_SLOPE,
    "floor": Operation.FLOOR,
    "floor'": Operation.FLOOR_SLOPE,
    "ceil": Operation.CEIL,
    "ceil'": Operation.CEIL_SLOPE,
}
# The functions of one operand.
FUNCTIONS = tuple(name for name in OPERATIONS if f"{name}'" in OPERATIONS)
_HEAD = 4
_STEEP = 300.0  # from here on e^x goes on as its tangent


@compiled
def _sign(x: float) -> float:
    return 1.0 if x > 0.0 else (-1.0 if x < 0.0 else 0.0)


@compiled
def _two(code: int, x: Any, y: Any, z: Any) -> Any:
    if code == Operation.NEGATIVE:
        return -x
    if code == Operation.ADD:
        return x + y
    if code == Operation.SUBTRACT:
        return x - y
    if code == Operation.MULTIPLY:
        return x * y
    if code == Operation.DIVIDE:
        return x / y
    if code == Operation.WHERE:
        return y if x != 0.0 else z
    if code == Operation.LESS:
        return 1.0 if x < y else 0.0
    if code == Operation.MORE:
        return 1.0 if x > y else 0.0
    if code == Operation.NOT_MORE:
        return 1.0 if x <= y else 0.0
    if code == Operation.NOT_LESS:
        return 1.0 if x >= y else 0.0
    if code == Operation.EQUAL:
        return 1.0 if x == y else 0.0
    if code == Operation.UNEQUAL:
        return 1.0 if x != y else 0.0
    if code == Operation.BOTH:
        return 1.0 if x != 0.0 and y != 0.0 else 0.0
    if code == Operation.EITHER:
        return 1.0 if x != 0.0 or y != 0.0 else 0.0
    # A negative base counts as its size, whatever the exponent, as general simulators have it; in pwr with its sign.
    size = abs(x)
    if code == Operation.POW:
        return size**y
    if code == Operation.PWR:
        return _sign(x) * size**y
    if code == Operation.POW_BY_FIRST or code == Operation.PWR_BY_FIRST:
        if size == 0.0:
            return 1.0 if y == 1.0 else 0.0
        return y * size ** (y - 1.0) * (_sign(x) if code == Operation.POW_BY_FIRST else 1.0)
    if code == Operation.POW_BY_SECOND or code == Operation.PWR_BY_SECOND:
        if size == 0.0:
            return 0.0
        return size**y * math.log(size) * (1.0 if code == Operation.POW_BY_SECOND else _sign(x))
    if code == Operation.ATAN2:
        return math.atan2(x, y)
    return (y if code == Operation.ATAN2_BY_FIRST else -x) / (x * x + y * y)


@compiled
def _one(code: int, x: Any) -> Any:
    if code == Operation.ABS:
        return abs(x)
    if code == Operation.ABS_SLOPE or code == Operation.SIGN:
        return _sign(x)
    if code == Operation.SQRT:
        return math.sqrt(max(x, 0.0))
    if code == Operation.SQRT_SLOPE:
        return 0.5 / math.sqrt(max(x, 1e-300))
    if code == Operation.EXP:
        return math.exp(x) if x < _STEEP else math.exp(_STEEP) * (1.0 + x - _STEEP)
    if code == Operation.EXP_SLOPE:
        return math.exp(min(x, _STEEP))
    if code == Operation.LN or code == Operation.LOG:
        return math.log(x)
    if code == Operation.LN_SLOPE or code == Operation.LOG_SLOPE:
        return 1.0 / x
    if code == Operation.LOG10:
        return math.log10(x)
    if code == Operation.LOG10_SLOPE:
        return 1.0 / (x * math.log(10.0))
    if code == Operation.SIN or code == Operation.COS_SLOPE:
        sine = math.sin(x)
        return sine if code == Operation.SIN else -sine
    if code == Operation.SIN_SLOPE or code == Operation.COS:
        return math.cos(x)
    if code == Operation.TAN:
        return math.tan(x)
    if code == Operation.TAN_SLOPE:
        return 1.0 + math.tan(x) ** 2
    if code == Operation.ATAN:
        return math.atan(x)
    if code == Operation.ATAN_SLOPE:
        return 1.0 / (1.0 + x * x)
    if code == Operation.ASIN:
        return math.asin(x)
    if code == Operation.ACOS:
        return math.acos(x)
    if code == Operation.ASIN_SLOPE or code == Operation.ACOS_SLOPE:
        slope = 1.0 / math.sqrt(1.0 - x * x)
        return slope if code == Operation.ASIN_SLOPE else -slope
    if code == Operation.SINH or code == Operation.COSH_SLOPE:
        return math.sinh(x)
    if code == Operation.SINH_SLOPE or code == Operation.COSH:
        return math.cosh(x)
    if code == Operation.TANH:
        return math.tanh(x)
    if code == Operation.TANH_SLOPE:
        return 1.0 - math.tanh(x) ** 2
    if code == Operation.STEP or code == Operation.RAMP_SLOPE:
        return 1.0 if x > 0.0 else 0.0
    if code == Operation.RAMP:
        return max(x, 0.0)
    if code == Operation.FLOOR:
        return float(math.floor(x))
    if code == Operation.CEIL:
        return float(math.ceil(x))
    return 0.0


@compiled
def run(program: Any, v: Any, slopes: Any) -> Any:
    """The program's value at the quantities ``v``; its slopes by them go to ``slopes``, 0 for what is no number."""
    quantities, constants, operations = int(program[0]), int(program[1]), int(program[2])
    first = quantities + constants
    registers = np.empty(first + operations)
    for number in range(quantities):
        registers[number] = v[number]
    at = _HEAD + quantities
    for number in range(constants):
        registers[quantities + number] = program[at + number]
    at += constants
    for number in range(operations):
        code, x = int(program[at]), registers[int(program[at + 1])]
        if code >= Operation.ABS:
            registers[first + number] = _one(code, x)
        else:
            registers[first + number] = _two(
                code, x, registers[int(program[at + 2])], registers[int(program[at + 3])]
            )
        at += 4
    for number in range(quantities):
        slope = registers[int(program[_HEAD + number])]
        slopes[number] = slope if math.isfinite(slope) else 0.0
    return registers[int(program[3])]
