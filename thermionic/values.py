"""Component values as they are written on a drawing: ``4k7`` to 4700.0 and back.

SI units throughout. The multiplier may stand in place of the decimal point (IEC 60062), or follow
the number with or without a space; ``m`` is milli and ``M`` is mega, always.
"""

from __future__ import annotations

import math
import re
from dataclasses import dataclass
from enum import Enum

from thermionic.errors import ValueRefused

_MULTIPLIERS = {"p": -12, "n": -9, "u": -6, "m": -3, "": 0, "k": 3, "M": 6, "G": 9}
_TYPED_FORMS = str.maketrans({"µ": "u", "μ": "u", "Ω": "Ω", "K": "k", ",": "."})


@dataclass(frozen=True)
class _Kind:
    name: str
    symbol: str
    spellings: tuple[str, ...]
    least: float
    most: float
    example: str
    infix: bool
    can_be_negative: bool = False
    other_units: tuple[tuple[str, float], ...] = ()  # spelling, and what it is in the SI unit


_LENGTHS = (("cm", 1e-2), ("in", 0.0254), ("″", 0.0254), ('"', 0.0254), ("ft", 0.3048))


class Quantity(Enum):
    """What a value measures: its unit, how it is spelled, and the range a real part can have."""

    RESISTANCE = _Kind("resistance", "Ω", ("Ω", "ohms", "ohm", "R", "r"), 1e-3, 1e9, "4k7", True)
    CAPACITANCE = _Kind("capacitance", "F", ("F", "f"), 1e-13, 1.0, "0u47", True)
    INDUCTANCE = _Kind("inductance", "H", ("H", "h"), 1e-9, 1e4, "15 H", True)
    VOLTAGE = _Kind("voltage", "V", ("Vrms", "V", "v"), 0.0, 1e5, "6.3V", False, True)
    CURRENT = _Kind("current", "A", ("A", "a"), 0.0, 1e3, "60 mA", False, True)
    POWER = _Kind("power", "W", ("W", "w"), 0.0, 1e4, "5 W", False)
    FREQUENCY = _Kind("frequency", "Hz", ("Hz", "hz", "HZ"), 1e-3, 1e9, "50 Hz", False)
    LENGTH = _Kind("length", "m", ("m",), 1e-4, 1e3, "3 m", False,
                   other_units=_LENGTHS)  # fmt: skip
    LEVEL = _Kind("level", "dB", ("dB", "db", "DB"), 0.0, 300.0, "88 dB", False, True)
    RATIO = _Kind("ratio", "", (), 0.0, 1e6, "0.5", False)

    @property
    def unit(self) -> str:
        """The SI unit's symbol."""
        return self.value.symbol

    @property
    def title(self) -> str:
        """The quantity's name in words."""
        return self.value.name


_INFIX = re.compile(r"(\d*)([pnumkMGRr])(\d+)")
_PLAIN = re.compile(r"([+-]?)(\d+\.?\d*(?:[eE][+-]?\d+)?|\.\d+(?:[eE][+-]?\d+)?)([pnumkMG]?)")


def parse(text: str, quantity: Quantity) -> float:
    """Read a typed value.

    ``4k7``, ``.022u``, ``0u47``, ``47p``, ``1M``, ``6.3V``, ``60 mA``, ``4700`` are all accepted, with or
    without the unit. Returns the value in the SI unit of ``quantity``.

    Raises ValueRefused, with the reason and an example, if the text is not a value or if no such part
    can exist (a negative resistance, a capacitor of a megafarad).
    """
    value = read(text, quantity)
    check(value, quantity)
    return value


def read(text: str, quantity: Quantity, bare: float = 1.0) -> float:
    """Read a typed value as ``parse`` does, but of any size and sign: a place on a sheet may be zero or negative. A
    number without a unit or a multiplier counts ``bare`` SI units: 1e-3 where a form asks for millimetres.

    Raises ValueRefused if the text is not a value. It does not check its size: an exponent can make it infinite.
    """
    kind = quantity.value
    typed = str(text)
    if len(typed) > 40:
        raise ValueRefused(f"A {kind.name} is a few characters long; {len(typed)} were typed. Try {kind.example}.")
    compact = typed.strip().translate(_TYPED_FORMS).replace(" ", "")
    value = _read(compact, quantity, bare)
    if value is None:
        raise ValueRefused(
            f"Enter a {kind.name}, for example {kind.example}."
            if not compact
            else f"“{typed.strip()}” is not a {kind.name}. Write it like {kind.example}"
            + (f", in {kind.symbol}." if kind.symbol else ".")
        )
    return value


def _read(compact: str, quantity: Quantity, bare: float) -> float | None:
    kind = quantity.value
    for spelling, factor in kind.other_units:
        if compact.endswith(spelling) and (match := _PLAIN.fullmatch(compact[: -len(spelling)])) and not match[3]:
            return float(match[1] + match[2]) * factor
    # The unit first: the m of "3 m" is a metre, that of "3 mm" milli.
    for spelling in (*kind.spellings, ""):
        if spelling and not compact.endswith(spelling):
            continue
        body = compact[: len(compact) - len(spelling)] if spelling else compact
        if kind.infix and (match := _INFIX.fullmatch(body)):
            whole, multiplier, fraction = match.groups()
            exponent = _MULTIPLIERS.get(multiplier, 0)
            if multiplier in "Rr" and quantity is not Quantity.RESISTANCE:
                continue
            return float(f"{whole or '0'}.{fraction}e{exponent}")
        if match := _PLAIN.fullmatch(body):
            sign, number, multiplier = match.groups()
            # One rounding of the written decimal: 0.1e-6, not 0.1 * 1e-6.
            mantissa, _, power = number.lower().partition("e")
            value = float(f"{sign}{mantissa}e{int(power or 0) + _MULTIPLIERS[multiplier]}")
            return value if spelling or multiplier else bare * value
    return None


def check(value: float, quantity: Quantity) -> None:
    """Raise ValueRefused unless a real part or setting could have this SI value."""
    kind = quantity.value
    if not math.isfinite(value):
        raise ValueRefused(f"A {kind.name} must be a finite number, like {kind.example}.")
    if value < 0 and not kind.can_be_negative:
        raise ValueRefused(f"A {kind.name} cannot be negative: {display(value, quantity)}. Try {kind.example}.")
    size = abs(value)
    if kind.infix and value == 0:
        raise ValueRefused(
            f"{display(value, quantity)} is not a part. "
            f"Enter a {kind.name} like {kind.example}, or take the part out."
        )
    if size > kind.most or size < kind.least:
        hint = ""
        if quantity is Quantity.CAPACITANCE and size > kind.most:
            hint = " M means mega; write u for micro, n for nano, p for pico."
        raise ValueRefused(
            f"{display(value, quantity)} is out of range: a {kind.name} must be "
            f"{display(kind.least, quantity)} to {display(kind.most, quantity)}.{hint}"
        )


def written(value: float, quantity: Quantity) -> str:
    """The value as a builder writes it on a drawing: ``4k7``, ``22n``, ``60 mA``, ``6.3 V``.

    Up to six significant figures are kept, so ``parse(written(x)) == x`` to a part in a million.
    """
    if not quantity.value.infix:
        return display(value, quantity, digits=6)
    lowest = 0 if quantity is Quantity.RESISTANCE else -12  # 0R47, not 470m
    number, multiplier = _scaled(value, digits=6, lowest=lowest)
    if "." not in number:
        return number + multiplier
    letter = multiplier or ("R" if quantity is Quantity.RESISTANCE else "")
    return number.replace(".", letter) if letter else number


def display(value: float, quantity: Quantity, digits: int = 3) -> str:
    """The value with its unit, to ``digits`` significant figures: ``281 V``, ``62.4 mA``, ``4.7 kΩ``."""
    if not math.isfinite(value):
        return f"{value} {quantity.unit}"
    if quantity in (Quantity.RATIO, Quantity.LEVEL, Quantity.LENGTH):
        number, multiplier = _plain(value, digits), ""
    else:
        number, multiplier = _scaled(value, digits)
    return f"{number} {multiplier.replace('u', 'µ')}{quantity.unit}".strip()


def _plain(value: float, digits: int) -> str:
    text = f"{value:.{digits}g}"
    return f"{float(text):.0f}" if "e" in text and abs(value) >= 1 else text


def _scaled(value: float, digits: int, lowest: int = -12) -> tuple[str, str]:
    """Engineering notation: the number as text and its multiplier."""
    if abs(value) < 1e-15:  # below any unit that is written: the dust of a numerical solution
        return "0", ""
    # Round first, so that 999.9999 becomes 1k and not 1000.
    rounded = float(f"{value:.{digits - 1}e}")
    exponent = 3 * math.floor(math.log10(abs(rounded)) / 3 + 1e-12)
    exponent = min(max(exponent, lowest), 9)
    multiplier = next(letter for letter, power in _MULTIPLIERS.items() if power == exponent)
    return _plain(rounded / 10.0**exponent, digits), multiplier


class Series(Enum):
    """The preferred values of IEC 60063, as mantissas from 1 to 10."""

    E12 = (1.0, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2)
    E24 = (1.0, 1.1, 1.2, 1.3, 1.5, 1.6, 1.8, 2.0, 2.2, 2.4, 2.7, 3.0,
           3.3, 3.6, 3.9, 4.3, 4.7, 5.1, 5.6, 6.2, 6.8, 7.5, 8.2, 9.1)  # fmt: skip
    E96 = tuple(round(10 ** (step / 96), 2) for step in range(96))


def nearest(value: float, series: Series) -> float:
    """The preferred value nearest to ``value`` by ratio. Raises ValueRefused unless value > 0."""
    if not (math.isfinite(value) and value > 0):
        raise ValueRefused("Only a positive value has a nearest preferred value.")
    return min(_around(value, series), key=lambda candidate: abs(math.log(candidate / value)))


def step(value: float, series: Series, steps: int) -> float:
    """The preferred value ``steps`` places up (or down, if negative) from ``value``.

    From a value between two preferred ones, the first step goes to the neighbour in that direction.
    """
    at = value
    for _ in range(abs(steps)):
        ladder = _around(at, series)
        if steps > 0:
            at = next(rung for rung in ladder if rung > at * (1 + 1e-9))
        else:
            at = next(rung for rung in reversed(ladder) if rung < at * (1 - 1e-9))
    return at


def _around(value: float, series: Series) -> list[float]:
    decade = math.floor(math.log10(value))
    return [float(f"{mantissa}e{power}") for power in range(decade - 1, decade + 2) for mantissa in series.value]
