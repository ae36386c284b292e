"""How heaters are wired, as a builder writes it: ``v1, v2+v3|47`` is V1 beside a string of V2 and V3, V3 shunted by
47 Ω."""

from __future__ import annotations

import re
from dataclasses import dataclass

from thermionic.values import Quantity, parse

_LINK = re.compile(r"([a-z][a-z0-9]*)(?:\|(.+))?")


@dataclass(frozen=True)
class Link:
    """One tube in a chain, with the resistance across its heater if there is one, Ω."""

    envelope: str
    shunt_ohm: float | None = None


def chains(written: str) -> tuple[tuple[Link, ...], ...]:
    """The chains, side by side, each from its hot end to its return. Raises ValueError in a sentence."""
    result = tuple(
        tuple(_link(link.strip()) for link in chain.split("+")) for chain in written.split(",") if chain.strip()
    )
    if not result:
        raise ValueError("a heater string needs a tube: write v1, v2 for two side by side, v1+v2 for two in series.")
    names = [link.envelope for chain in result for link in chain]
    twice = next((name for name in names if names.count(name) > 1), None)
    if twice:
        raise ValueError(f"{twice} is written twice; a heater is fed once.")
    return result


def _link(written: str) -> Link:
    match = _LINK.fullmatch(written.lower())
    if match is None:
        raise ValueError(
            f"“{written[:40]}” is no tube of a heater string; write v1, v1+v2 or, with a resistor across it, v1|47."
        )
    name, shunt = match.groups()
    return Link(name, parse(shunt, Quantity.RESISTANCE) if shunt else None)
