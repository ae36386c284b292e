"""A circuit as parts on named nodes."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace
from functools import lru_cache

from thermionic.devices import Device
from thermionic.errors import NetlistRefused
from thermionic.lazily import lazily

GROUND = "0"
_NAME = re.compile(r"[A-Za-z0-9_][A-Za-z0-9_.+#:/\[\]-]*")


@lru_cache(maxsize=4096)  # the same names come by with every variant of a circuit
def _is_name(name: str) -> bool:
    return name == GROUND or _NAME.fullmatch(name) is not None


@dataclass(frozen=True)
class Part:
    """A device with a designator, on nodes in the order of its terminals.

    ``path`` says which value of a design document it came from, if any; ``side`` which half of a balanced pair.
    """

    name: str
    device: Device
    nodes: tuple[str, ...]
    path: str = ""
    side: str = ""


@dataclass(frozen=True)
class Netlist:
    """Parts connected at nodes; node ``0`` is signal earth.

    Raises NetlistRefused for a designator used twice, a name with anything but letters, digits and . _ + - #, or a
    wrong number of nodes. A node that one terminal alone touches is allowed: an empty tube socket has several.
    """

    title: str
    parts: tuple[Part, ...]

    def __post_init__(self) -> None:
        seen: set[str] = set()
        for part in self.parts:
            if part.name.upper() in seen:
                raise NetlistRefused(f"Two parts are called {part.name}.")
            seen.add(part.name.upper())
            for name in (part.name, *part.nodes):
                if not _is_name(name):
                    raise NetlistRefused(
                        f"“{name}” will not do as a name: letters, digits and . _ + - # : / [ ] only."
                    )
            if len(part.nodes) != len(part.device.terminals):
                raise NetlistRefused(
                    f"{part.name} has {len(part.device.terminals)} terminals "
                    f"({', '.join(part.device.terminals)}) but {len(part.nodes)} nodes."
                )
        if self.parts and not any(GROUND in part.nodes for part in self.parts):
            raise NetlistRefused("Nothing is connected to node 0, signal earth.")

    @lazily
    def nodes(self) -> tuple[str, ...]:
        """All nodes but earth, in order of first use."""
        names = dict.fromkeys(node for part in self.parts for node in part.nodes)
        names.pop(GROUND, None)
        return tuple(names)

    @lazily
    def _by_name(self) -> dict[str, Part]:
        return {part.name: part for part in self.parts}

    def __getitem__(self, name: str) -> Part:
        """The part called ``name``. Raises NetlistRefused if there is none."""
        try:
            return self._by_name[name]
        except KeyError:
            raise NetlistRefused(f"There is no part {name} in {self.title}.") from None

    def __contains__(self, name: str) -> bool:
        return name in self._by_name

    def with_device(self, name: str, device: Device) -> Netlist:
        """The same circuit with another device as part ``name``."""
        old = self[name]
        new = replace(old, device=device)
        if len(device.terminals) != len(old.nodes):
            return replace(self, parts=tuple(new if part is old else part for part in self.parts))
        return self._with(new if part is old else part for part in self.parts)

    def like(self, other: Netlist) -> Netlist:
        """The same circuit with the very parts and devices of another one where they are equal, so that what has been
        worked out of those serves again. Neither may hold arrays of variants."""
        known = other._by_name
        parts = []
        for part in self.parts:
            old = known.get(part.name)
            if old is not None and old.device == part.device:
                part = old if old == part else replace(part, device=old.device)
            parts.append(part)
        return self._with(parts)

    def _with(self, parts: Iterable[Part]) -> Netlist:
        """Other devices as the same parts on the same nodes: all that is checked of a circuit is as it was."""
        changed = Netlist.__new__(Netlist)
        changed.__dict__.update(title=self.title, parts=tuple(parts), nodes=self.nodes)
        return changed

    def without(self, unwanted: Callable[[Part], bool]) -> Netlist:
        """The circuit with the ``unwanted`` parts pulled. What hung on them stays, on nodes of its own."""
        return replace(self, parts=tuple(part for part in self.parts if not unwanted(part)))

    def with_parts(self, extra: Iterable[Part]) -> Netlist:
        """The circuit with more parts."""
        return replace(self, parts=(*self.parts, *extra))
