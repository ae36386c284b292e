"""The numbers and signs that expressions of a netlist are made of."""

from __future__ import annotations

import re

import numpy as np

from thermionic.errors import NetlistRefused

_SCALES = {"t": 1e12, "g": 1e9, "meg": 1e6, "k": 1e3, "mil": 25.4e-6, "m": 1e-3, "u": 1e-6, "µ": 1e-6, "n": 1e-9,
           "p": 1e-12, "f": 1e-15}  # fmt: skip


_NUMBER = re.compile(r"((?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)(meg|mil|[tgkmunpfµ])?[a-zA-ZΩ]*", re.IGNORECASE)


_TOKEN = re.compile(
    r"\s*(?:(?P<probe>[vi]\s*\(\s*[^()\s,]+\s*(?:,\s*[^()\s,]+\s*)?\))"
    r"|(?P<number>(?:\d+\.?\d*|\.\d+)(?:e[+-]?\d+)?(?:meg|mil|[tgkmunpfµ])?[a-zΩ]*)"
    r"|(?P<name>[a-z_][a-z0-9_.#]*)"
    r"|(?P<operator>\*\*|<=|>=|==|!=|&&|\|\||[-+*/^()?:,<>!]))",
    re.IGNORECASE,
)


def number(text: str) -> float:
    """A SPICE number: digits, an exponent, a scale factor (k, meg, m, u, n, p, f, g, t, mil), then letters that
    say nothing.

    Raises NetlistRefused.
    """
    sign = 1.0
    body = text.strip()
    if body[:1] in "+-":
        sign, body = (-1.0 if body[0] == "-" else 1.0), body[1:]
    match = _NUMBER.fullmatch(body)
    if not match:
        raise NetlistRefused(f"“{text[:40]}” is not a number.")
    value = sign * float(match[1]) * _SCALES.get((match[2] or "").lower(), 1.0)
    if not np.isfinite(value):
        raise NetlistRefused(f"“{text[:40]}” is too large a number.")
    return value


def tokens(text: str) -> list[tuple[str, str]]:
    result: list[tuple[str, str]] = []
    at = 0
    stripped = text.rstrip()
    while at < len(stripped):
        token = _TOKEN.match(stripped, at)
        if not token or token.end() == at:
            raise NetlistRefused(f"“{stripped[at : at + 20]}” makes no sense in “{text[:60]}”.")
        kind = token.lastgroup or ""
        result.append((kind, token[kind]))
        at = token.end()
    if len(result) > 3000:
        raise NetlistRefused(f"“{text[:60]}…” is too long an expression.")
    return result
