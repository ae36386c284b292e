"""Expressions of a SPICE netlist: numbers with scale factors, parameters, and laws of behavioural sources.

A law is written together with its derivatives, by forward differentiation (R. E. Wengert, "A simple automatic
derivative evaluation program", Communications of the ACM 7 (1964), p. 463), as a program of simple operations.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np

from thermionic.circuit.spice.tokens import number, tokens
from thermionic.devices import programs
from thermionic.errors import NetlistRefused


class Names(dict[str, float]):
    """The parameters in force, in lower case, and the functions: each with its arguments' names and its body."""

    def __init__(self, values: Mapping[str, float] | None = None) -> None:
        super().__init__(values or {})
        self.functions: dict[str, tuple[tuple[str, ...], str]] = dict(getattr(values, "functions", {}))


@dataclass(frozen=True)
class Quantity:
    """What a law senses: ``v`` between two nodes, ``i`` through a part (named in ``plus``), or the ``time``."""

    kind: str
    plus: str
    minus: str = "0"


@dataclass(frozen=True)
class ExpressionLaw:
    """A behavioural source's law: ``quantities`` are what it senses, in order, and ``program`` (see devices.programs)
    what it makes of them."""

    text: str
    quantities: tuple[Quantity, ...]
    program: tuple[float, ...]


_TRADE = re.compile(r"\d+[kKmMuµnpRrF]\d+")


def constant(text: str, names: Mapping[str, float]) -> float:
    """An expression of numbers and parameters only. Raises NetlistRefused."""
    if _TRADE.fullmatch(text.strip()):
        raise NetlistRefused(
            f"“{text.strip()[:20]}” is a value as parts are marked; SPICE wants 2.2k, 4.7u and the like."
        )
    law = parse(text, names)
    if law.quantities:
        raise NetlistRefused(f"“{text[:60]}” must not depend on voltages or currents.")
    value = programs.run(np.array(law.program), np.zeros(0), np.zeros(0)) if text.strip() else np.nan
    if not np.isfinite(value):
        raise NetlistRefused(f"“{text[:60]}” has no value.")
    return value


def parse(text: str, names: Mapping[str, float]) -> ExpressionLaw:
    """Read an expression, ``names`` being the parameters in force (in lower case). Raises NetlistRefused."""
    return _Parser(text, names).law()


# A register: one of the quantities, the constants or the results of the operations. A value within the program is the
# register that holds it, and those of its slopes by quantity, where not nothing.
_Register = tuple[str, int]
_Slopes = dict[int, _Register]
_Held = tuple[_Register, _Slopes]


class _Parser:
    """Precedence climbing over the tokens of one expression, writing the program as it goes."""

    def __init__(self, text: str, names: Mapping[str, float]) -> None:
        self.text, self.names = text, names
        self.functions: dict[str, tuple[tuple[str, ...], str]] = getattr(names, "functions", {})
        self.arguments: dict[str, _Held] = {}
        self.quantities: list[Quantity] = []
        self.constants: dict[float, int] = {}
        self.operations: list[tuple[str, list[_Register]]] = []
        self.made: dict[tuple[str, tuple[_Register, ...]], _Register] = {}  # each operation is done once
        self.tokens = tokens(text)
        self.at = 0
        self.depth = 0

    def law(self) -> ExpressionLaw:
        """The whole expression."""
        value, slopes = self._ternary()
        if self.at < len(self.tokens):
            raise NetlistRefused(f"“{self.tokens[self.at][1]}” is not expected in “{self.text[:60]}”.")
        slopes_at = [slopes.get(place) or self._constant(0.0) for place in range(len(self.quantities))]
        sensed, fixed = len(self.quantities), len(self.constants)
        first = {"quantity": 0, "constant": sensed, "result": sensed + fixed}

        def places(registers: list[_Register]) -> list[float]:
            return [float(first[kind] + at) for kind, at in registers]

        program = [sensed, fixed, len(self.operations), *places([value, *slopes_at])]
        program += self.constants
        for name, operands in self.operations:
            filled = (operands * 3)[:3] if len(operands) == 1 else [*operands, operands[0]][:3]
            program += [programs.OPERATIONS[name], *places(filled)]
        return ExpressionLaw(self.text, tuple(self.quantities), tuple(map(float, program)))

    # Writing the program

    def _constant(self, value: float) -> _Register:
        return "constant", self.constants.setdefault(value, len(self.constants))

    def _known(self, register: _Register) -> float | None:
        """The number that a register is, where it is one."""
        return list(self.constants)[register[1]] if register[0] == "constant" else None

    def _called(self, operation: str, *operands: _Register) -> _Register:
        if len(self.operations) > 20_000:
            raise NetlistRefused(f"“{self.text[:60]}…” is too long an expression.")
        known = [self._known(operand) for operand in operands]
        if all(value is not None for value in known):
            places = [float(place) for place in range(len(known))]
            step = [programs.OPERATIONS[operation], *(places * 3)[:3]]
            program = [0, len(known), 1, len(known), *known, *step]
            value = programs.run(np.array(program, dtype=float), np.zeros(0), np.zeros(0))
            if np.isfinite(value):
                return self._constant(value)
        made = self.made.get((operation, operands))
        if made is None:
            self.operations.append((operation, list(operands)))
            made = self.made[operation, operands] = ("result", len(self.operations) - 1)
        return made

    def _chained(self, terms: list[tuple[_Register | None, _Slopes]]) -> _Slopes:
        """The sum of factor x slope over (factor, slopes), a factor of one being None."""
        total: _Slopes = {}
        for factor, slopes in terms:
            for place, slope in slopes.items():
                part = slope if factor is None else self._called("*", factor, slope)
                total[place] = self._called("+", total[place], part) if place in total else part
        return total

    def _negative(self, held: _Held) -> _Held:
        value, slopes = held
        return self._called("negative", value), {
            place: self._called("negative", slope) for place, slope in slopes.items()
        }

    def _function(self, name: str, inner: _Held) -> _Held:
        value, slopes = inner
        result = self._called(name, value)
        if not slopes:
            return result, {}
        return result, self._chained([(self._called(f"{name}'", value), slopes)])

    def _where(self, test: _Register, yes: _Held, no: _Held) -> _Held:
        value = self._called("where", test, yes[0], no[0])
        nothing = self._constant(0.0)
        places = yes[1].keys() | no[1].keys()
        return value, {
            place: self._called("where", test, yes[1].get(place, nothing), no[1].get(place, nothing))
            for place in sorted(places)
        }

    def _join(self, operator: str, a: _Held, b: _Held) -> _Held:
        (x, x_slopes), (y, y_slopes) = a, b
        if operator == "+":
            return self._called("+", x, y), self._chained([(None, x_slopes), (None, y_slopes)])
        if operator == "-":
            value, falls = self._called("-", x, y), self._negative(b)[1] if y_slopes else {}
            return value, self._chained([(None, x_slopes), (None, falls)])
        if operator == "*":
            return self._called("*", x, y), self._chained([(y, x_slopes), (x, y_slopes)])
        if operator == "/":
            value = self._called("over", x, y)
            if not (x_slopes or y_slopes):
                return value, {}
            inverse = self._called("over", self._constant(1.0), y)
            terms: list[tuple[_Register | None, _Slopes]] = [(inverse, x_slopes)]
            if y_slopes:
                terms.append((self._called("*", self._called("negative", value), inverse), y_slopes))
            return value, self._chained(terms)
        if operator in ("min", "max"):
            test = self._called("<" if operator == "min" else ">", x, y)
            return self._where(test, a, b)
        if operator in ("pow", "pwr", "atan2"):
            value = self._called(operator, x, y)
            terms = []
            if x_slopes:
                terms.append((self._called(f"{operator}'1", x, y), x_slopes))
            if y_slopes:
                terms.append((self._called(f"{operator}'2", x, y), y_slopes))
            return value, self._chained(terms)
        return self._called(operator, x, y), {}

    # Reading

    def _next(self) -> tuple[str, str]:
        return self.tokens[self.at] if self.at < len(self.tokens) else ("end", "")

    def _here(self) -> str:
        """Where reading has come to, in words."""
        token, text = self._next()[1], self.text[:60]
        if token:
            return f"before “{token}” in “{text}”"
        return f"at the end of “{text}”" if text.strip() else "where there is nothing"

    def _take(self, *operators: str) -> str | None:
        kind, token = self._next()
        if kind == "operator" and token in operators:
            self.at += 1
            return token
        return None

    def _need(self, operator: str) -> None:
        if not self._take(operator):
            raise NetlistRefused(f"“{operator}” is wanted {self._here()}.")

    def _ternary(self) -> _Held:
        self.depth += 1
        if self.depth > 60:
            raise NetlistRefused(f"“{self.text[:60]}…” is nested too deeply.")
        result = self._binary(0)
        if self._take("?"):
            yes = self._ternary()
            self._need(":")
            result = self._where(result[0], yes, self._ternary())
        self.depth -= 1
        return result

    def _binary(self, level: int) -> _Held:
        if level == len(_LEVELS):
            return self._unary()
        left = self._binary(level + 1)
        while operator := self._take(*_LEVELS[level]):
            left = self._join(operator, left, self._binary(level + 1))
        return left

    def _unary(self) -> _Held:
        signs = 0
        while operator := self._take("-", "+", "!"):
            signs += 1
            if signs > 20:
                raise NetlistRefused(f"“{self.text[:60]}…” has too many signs in a row.")
            if operator == "-":
                return self._negative(self._unary_rest())
            if operator == "!":
                return self._called("==", self._unary_rest()[0], self._constant(0.0)), {}
        return self._unary_rest()

    def _unary_rest(self) -> _Held:
        if self._next() in (("operator", "-"), ("operator", "+"), ("operator", "!")):
            self.depth += 1
            if self.depth > 60:
                raise NetlistRefused(f"“{self.text[:60]}…” is nested too deeply.")
            inner = self._unary()
            self.depth -= 1
            return inner
        base = self._primary()
        if self._take("^", "**"):
            return self._join("pow", base, self._unary())
        return base

    def _primary(self) -> _Held:
        kind, token = self._next()
        self.at += 1
        if kind == "number":
            return self._constant(number(token)), {}
        if kind == "probe":
            return self._probe(token)
        if kind == "operator" and token == "(":
            inner = self._ternary()
            self._need(")")
            return inner
        if kind == "name":
            name = token.lower()
            if self._take("("):
                arguments = [] if self._next() == ("operator", ")") else [self._ternary()]
                while self._take(","):
                    arguments.append(self._ternary())
                self._need(")")
                return self._call(name, arguments)
            if name in self.arguments:
                return self.arguments[name]
            if name in self.names:
                return self._constant(self.names[name]), {}
            if name == "pi":
                return self._constant(math.pi), {}
            if name == "time":
                return self._sensed(Quantity("time", "time"))
            raise NetlistRefused(f"“{token}” is no parameter that is known, in “{self.text[:60]}”.")
        self.at -= 1
        raise NetlistRefused(f"a value is wanted {self._here()}.")

    def _probe(self, token: str) -> _Held:
        kind = token[0].lower()
        inside = token[token.index("(") + 1 : -1]
        ends = [end.strip() for end in inside.split(",")]
        if kind == "i" and len(ends) != 1:
            raise NetlistRefused(f"“{token}”: a current is that of one voltage source.")
        return self._sensed(Quantity(kind, ends[0], ends[1] if len(ends) > 1 else "0"))

    def _sensed(self, quantity: Quantity) -> _Held:
        if quantity not in self.quantities:
            self.quantities.append(quantity)
        place = self.quantities.index(quantity)
        return ("quantity", place), {place: self._constant(1.0)}

    def _defined(self, name: str, arguments: list[_Held]) -> _Held:
        """A function of the netlist's own, its body read with the arguments in their place."""
        wanted, body = self.functions[name]
        if len(arguments) != len(wanted):
            raise NetlistRefused(f"{name}() takes {len(wanted)} arguments, not {len(arguments)}.")
        self.depth += 1
        if self.depth > 60:
            raise NetlistRefused(f"{name}() calls itself, or is nested too deeply.")
        before = self.tokens, self.at, self.arguments
        self.tokens, self.at = tokens(body), 0
        self.arguments = dict(zip(wanted, arguments, strict=True))
        held = self._ternary()
        if self.at < len(self.tokens):
            raise NetlistRefused(f"“{self.tokens[self.at][1]}” is not expected in “{body[:60]}”.")
        self.tokens, self.at, self.arguments = before
        self.depth -= 1
        return held

    def _table(self, name: str, arguments: list[_Held]) -> _Held:
        """Straight lines between points: pwl() goes on along its outer ones, table() stays at its ends."""
        known = [self._known(value) if not slopes else None for value, slopes in arguments[1:]]
        numbers = [value for value in known if value is not None]
        xs, ys = numbers[::2], numbers[1::2]
        if len(numbers) < len(known) or len(xs) != len(ys) or len(xs) < 2 or any(np.diff(xs) <= 0):
            raise NetlistRefused(f"{name}() wants a value and pairs of numbers, the first of each pair rising.")
        outer = name == "pwl"
        whole: _Held = (self._constant(ys[0]), {})
        for place in range(len(xs) - 1):
            slope = (ys[place + 1] - ys[place]) / (xs[place + 1] - xs[place])
            part = arguments[0]
            if place > 0 or not outer:
                part = self._join("max", part, (self._constant(xs[place]), {}))
            if place < len(xs) - 2 or not outer:
                part = self._join("min", part, (self._constant(xs[place + 1]), {}))
            part = self._join("-", part, (self._constant(xs[place]), {}))
            whole = self._join("+", whole, self._join("*", (self._constant(slope), {}), part))
        return whole

    def _call(self, name: str, arguments: list[_Held]) -> _Held:
        if name in self.functions:
            return self._defined(name, arguments)
        if name in ("pwl", "table") and len(arguments) >= 5:
            return self._table(name, arguments)
        if name in programs.FUNCTIONS and len(arguments) == 1:
            return self._function(name, arguments[0])
        if name in ("min", "max") and len(arguments) >= 2:
            chosen = arguments[0]
            for other in arguments[1:]:
                chosen = self._join(name, chosen, other)
            return chosen
        if name in ("pwr", "pwrs") and "pwrs" in self.text.lower():
            # The dialect that has both takes pwr of a negative base as that of its size.
            name = "pwr" if name == "pwrs" else "size"
            if name == "size":
                arguments[:1] = [self._function("abs", argument) for argument in arguments[:1]]
                name = "pow"
        if name in ("pow", "pwr", "atan2") and len(arguments) == 2:
            return self._join(name, *arguments)
        if name == "limit" and len(arguments) == 3:
            return self._join("min", self._join("max", arguments[0], arguments[1]), arguments[2])
        if name == "if" and len(arguments) == 3:
            return self._where(arguments[0][0], arguments[1], arguments[2])
        more = {"min", "max", "pow", "pwr", "pwrs", "atan2", "limit", "if", "pwl", "table"}
        known = ", ".join(sorted({*programs.FUNCTIONS, *more}))
        raise NetlistRefused(
            f"{name}() with {len(arguments)} argument{'s' * (len(arguments) != 1)} is not known. There are {known}."
        )


_LEVELS = (("||",), ("&&",), ("==", "!=", "<", ">", "<=", ">="), ("+", "-"), ("*", "/"))
