"""What the rules about tubes share."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from thermionic.amplifier import SolvedAmplifier
from thermionic.blocks.facets import TubeUse


def worst_of_each_block(
    amplifier: SolvedAmplifier, value: Callable[[TubeUse], float]
) -> Iterator[tuple[TubeUse, float]]:
    """For each block with tubes and each type in it, the section with the highest value, and that value."""
    worst: dict[tuple[str, str], tuple[TubeUse, float]] = {}
    for use in amplifier.compiled.tubes:
        key, result = (use.block, use.type.type), value(use)
        if key not in worst or result > worst[key][1]:
            worst[key] = (use, result)
    yield from worst.values()
