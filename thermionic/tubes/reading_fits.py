"""A fit that was written down as plain data, read back."""

from __future__ import annotations

from dataclasses import MISSING, fields
from math import isfinite
from typing import Any

from thermionic.devices import PentodeCoefficients, TriodeCoefficients
from thermionic.errors import FitRefused
from thermionic.tubes.fitting import Fit

_MAY_BE_NOTHING = {"coarse_share", "screen_slope", "screen_drive"}


def read_fit(kind: str, raw: Any) -> Fit:
    """The fit that ``Fit.as_dict`` wrote, of a tube of this kind. Raises FitRefused where it is none that can be."""
    if not isinstance(raw, dict) or raw.get("kind") != kind:
        raise FitRefused(f"What was fitted is not a {kind}.")
    residuals, rms = raw.get("residuals"), raw.get("rms_error")
    if not isinstance(residuals, list) or not all(_is_row(row) for row in residuals) or not _is_number(rms):
        raise FitRefused("The errors of the fit are not a list of numbers by name for each point, and their mean.")
    coefficients = raw.get("coefficients")
    result: TriodeCoefficients | PentodeCoefficients | float
    if kind == "rectifier":
        result = _numbers(coefficients, {"perveance": True})["perveance"]
    elif kind == "triode":
        result = TriodeCoefficients(**_of(TriodeCoefficients, coefficients))
    else:
        own = dict(coefficients) if isinstance(coefficients, dict) else {}
        triode = TriodeCoefficients(**_of(TriodeCoefficients, own.pop("space", None)))
        result = PentodeCoefficients(triode, **_of(PentodeCoefficients, own, without="space"))
    return Fit(kind, result, tuple(residuals), float(rms))  # type: ignore[arg-type]


def _of(kind: type[Any], raw: Any, without: str = "") -> dict[str, float]:
    return _numbers(raw, {field.name: field.default is MISSING for field in fields(kind) if field.name != without})


def _numbers(raw: Any, known: dict[str, bool]) -> dict[str, float]:
    """Coefficients by name, ``known`` saying of each whether it must be there. Raises FitRefused."""
    if (
        not isinstance(raw, dict)
        or set(raw) - set(known)
        or any(must and key not in raw for key, must in known.items())
    ):
        raise FitRefused(f"The fit has other coefficients than {', '.join(known)}.")
    for key, value in raw.items():
        if not _is_number(value) or not (0.0 if key in _MAY_BE_NOTHING else 1e-12) <= value < 1e12:
            raise FitRefused(f"The fit's coefficient {key} is out of all reason.")
    return {key: float(value) for key, value in raw.items()}


def _is_number(value: Any) -> bool:
    return isinstance(value, (int, float)) and not isinstance(value, bool) and isfinite(value)


def _is_row(row: Any) -> bool:
    return isinstance(row, dict) and all(_is_number(value) for value in row.values())
