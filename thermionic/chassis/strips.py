"""What is too small to be placed by itself: on tag strips, and from pin to pin of a socket."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from dataclasses import replace

from thermionic.blocks.facets import HeaterFeed, HeaterUse, Rectified, Winding
from thermionic.chassis import catalogue
from thermionic.chassis.body import SIDES, Attached, Body, Pin
from thermionic.chassis.making import Making
from thermionic.chassis.nets import EARTH, Net, block_of
from thermionic.circuit.netlist import Part
from thermionic.devices import Resistor, Transformer


class Small:
    """The small parts that a making of bodies has left over."""

    def __init__(self, making: Making) -> None:
        self.making = making
        self.amplifier, self.compiled, self.nets = making.amplifier, making.compiled, making.nets
        self.netlist = making.netlist

    def loose(self) -> list[tuple[Part, int]]:
        """Every small part that is on no body yet, by channel."""
        heaters = self.nets.heater_blocks
        return [
            (part, channel)
            for part in self.netlist.parts
            if block_of(part) not in heaters and (part.path or part.side) and not isinstance(part.device, Transformer)
            for channel in self.nets.copies(block_of(part))
            if (part.name, channel) not in self.making.taken and not self._is_winding(part)
        ]

    def _is_winding(self, part: Part) -> bool:
        return block_of(part) in {winding.block for winding in self.compiled.said(Winding)}

    def with_stoppers(self, found: list[Body]) -> list[Body]:
        """Sockets with what hangs from one of their pins alone: its far end is a lug beside them."""
        loose = self.loose()
        count: dict[Net, int] = defaultdict(int)
        for part, channel in loose:
            for node in part.nodes:
                count[self.nets.of(node, channel)] += 1
        for place, body in enumerate(found):
            if not body.nature.glass:
                continue
            pins = list(body.pins)
            for number, pin in enumerate(body.pins):
                if (
                    pin.net is None
                    or pin.net == EARTH
                    or count[pin.net] != 1
                    or self._elsewhere(pin.net, body, found)
                ):
                    continue
                part, channel = next(
                    (part, ch) for part, ch in loose if pin.net in [self.nets.of(node, ch) for node in part.nodes]
                )
                hung = (part.name, channel) in self.making.taken
                if hung or len(part.nodes) != 2 or not isinstance(part.device, Resistor):
                    continue
                near = 0 if self.nets.of(part.nodes[0], channel) == pin.net else 1
                _, here = self.making.at(part, near, channel)
                far, there = self.making.at(part, 1 - near, channel)
                pins[number] = replace(pin, attached=(*pin.attached, here))
                x, y, z = pin.at
                pins.append(Pin(f"{part.name} beside {pin.name}", (2.2 * x, 2.2 * y, z), far, (there,), pin.grid))
            found[place] = replace(body, pins=tuple(pins))
        return found

    def _elsewhere(self, net: Net, but: Body, found: list[Body]) -> bool:
        return any(body is not but and any(pin.net == net for pin in body.pins) for body in found)

    def strips(self) -> Iterator[Body]:
        """Tag strips for all that is left: one for each bottle's stages in each channel, and those of the supply."""
        groups: dict[tuple[str, int], list[tuple[Part, int]]] = defaultdict(list)
        for part, channel in self.loose():
            groups[(self._stage_of(block_of(part)), channel)].append((part, channel))
        for (stage, channel), parts in groups.items():
            wired: dict[Net, list[Attached]] = defaultdict(list)
            if stage == "supply":
                for use in self._steady_heaters():
                    part = self.netlist[use.part]
                    for terminal in range(len(part.nodes)):
                        net, attached = self.making.at(part, terminal, 0)
                        wired[net].append(attached)
                for winding in self.compiled.said(Winding):
                    if not winding.centre_tapped and winding.block in self._rectified:
                        for part, terminal in self.making.earthed_ends(winding.block):
                            net, attached = self.making.at(part, terminal, 0)
                            wired[net].append(attached)
            for part, copy in parts:
                for terminal in range(len(part.nodes)):
                    net, attached = self.making.at(part, terminal, copy)
                    wired[net].append(attached)
            key = f"strip:{stage}:{channel}"
            placed = self.making.layout.of(key)
            sizes = catalogue.strip(len(wired), placed.strip if placed and placed.strip else "tag strip")
            order = list(wired)
            if placed and placed.earth_lug and EARTH in wired:
                here, there = order.index(EARTH), min(placed.earth_lug, len(order)) - 1
                order[here], order[there] = order[there], order[here]
            pins = tuple(
                Pin(str(number + 1), (sizes.pins or {})[str(number + 1)], net, tuple(wired[net]))
                for number, net in enumerate(order)
            )
            watt = sum(abs(self.amplifier.parts[part.name].dissipation) for part, _ in parts)
            blocks = tuple(dict.fromkeys(block_of(part) for part, _ in parts))
            title = f"Tag strip of {stage.upper()}" if stage != "supply" else "Tag strip of the supply"
            yield Body(
                key, title + SIDES[channel],
                f"{stage.upper() if stage != 'supply' else 'HT'}{SIDES[channel][1:2].upper()}", "strip", sizes, pins,
                inside=True, channel=channel, watt=watt, blocks=blocks,
            )  # fmt: skip

    def _steady_heaters(self) -> list[HeaterUse]:
        """The heaters that are fed with DC, whose current comes back by signal earth."""
        steady = {feed.block for feed in self.compiled.said(HeaterFeed) if not feed.winding}
        return [use for use in self.compiled.said(HeaterUse) if use.block in steady]

    @property
    def _rectified(self) -> set[str]:
        return {use.winding for use in self.compiled.said(Rectified)}

    def _stage_of(self, block: str) -> str:
        """The envelope whose strip a block's parts hang on; "supply" for a shared block."""
        if block in self.nets.shared:
            return "supply"
        design = self.amplifier.design
        seen = {block}
        while seen:
            for one in sorted(seen, key=lambda name: name != block):
                sections = design.block(one).sections
                if sections:
                    return sections[0].partition(".")[0]
            takers = {
                other.id
                for other in design.blocks
                if any(reference.partition(".")[0] in seen for reference in other.references.values())
            }
            if not takers - seen:
                break
            seen = takers
        last = list(self.compiled.tubes)
        return last[-1].envelope if last else "supply"
