"""The netlist as it grows: what a block's ``compile`` works with.

Designators run in the document's order: R1, C1; a tube has its envelope's. Nodes are named after the blocks that make
them. Where a channel's block takes something from a shared one, a Feed stands for the other channel, which is taken
to be identical and driven alike; no block does that itself.
"""

from __future__ import annotations

from collections.abc import Iterable

from thermionic import devices
from thermionic.blocks.base import Block
from thermionic.blocks.building import Build, Facet
from thermionic.blocks.facets import (
    Copper,
    Core,
    RectifierUse,
    TubeUse,
    Winding,
)
from thermionic.blocks.placing import ALONE, Electrodes, Position, Setting
from thermionic.blocks.ports import split
from thermionic.circuit.netlist import GROUND, Part
from thermionic.errors import DesignRefused
from thermionic.tubes import TubeType

# From a winding's centre tap to the middle of a filament; and the least that a winding has.
_TAP_OHM = 1e-3


class Bench:
    """Where one block is put together."""

    def __init__(self, build: Build, block: Block) -> None:
        self._build, self.block = build, block

    @property
    def mains(self) -> tuple[float, float]:
        """The house's mains, V rms and Hz."""
        return self._build.design.mains

    @property
    def channels(self) -> int:
        """How many identical channels."""
        return self._build.design.channels

    def is_winding(self, reference_field: str) -> bool:
        """Whether a reference is to a mains winding."""
        return split(getattr(self.block, reference_field))[0] in self._build.windings

    def is_split(self, envelope: str) -> bool:
        """Whether the channels share a bottle, or it belongs to what they share."""
        return self._build.design.serves_all(envelope)

    def node(self, port: str, side: str = "") -> str:
        """A node of this block's own."""
        return self._build.own(self.block.node(port, side), self.block.id)

    def take(self, reference_field: str, side: str = "") -> str:
        """The node that a reference stands for, with what stands for the other channel put in between."""
        reference = getattr(self.block, reference_field)
        producer_id, port = split(reference)
        producer = self._build.design.block(producer_id)
        node = producer.node(port, side if producer.sided(port) else "")
        return self._fed_to(node, producer, reference_field, side)

    def _fed_to(self, node: str, producer: Block, reference_field: str, side: str) -> str:
        """A node of another block as this one has it, with what stands for the other channel in between."""
        channels = self._build.design.channels
        if channels == 1 or self.block.scope == producer.scope:
            return node
        key = (f"{self.block.id}.{reference_field}", node)
        if key not in self._build._fed:
            inner = self.node(f"{reference_field}_wire", side)
            name = self._build.next_name("F")
            self._build.add(Part(name, devices.Feed(channels), (node, inner, GROUND), side=side))
            self._build._fed[key] = inner
        return self._build._fed[key]

    def used(self, port: str) -> bool:
        """Whether anything takes from a port of this block."""
        return f"{self.block.id}.{port}" in self._build.taken

    def knob(self, reference_field: str) -> str:
        """The path of the value that sets the bias that a reference is to."""
        producer, port = split(getattr(self.block, reference_field))
        return f"blocks/{producer}/{self._build.design.block(producer).knob(port)}"

    def emf(self) -> str:
        """The node of a source's own voltage, before its resistance."""
        return self.node("emf")

    def source(self, device: devices.Device, node: str) -> str:
        """A signal source from ``node`` to earth. Returns its name."""
        return self.add("VIN", device, node, GROUND)

    def join(self, node: str, with_node: str) -> None:
        """Make two nodes one, under the second's name."""
        self._build.aliases[node] = with_node

    def tap_ohm(self, reference_field: str) -> float | None:
        """The load that a transformer's tap is meant for, where a reference is to one."""
        producer, port = split(getattr(self.block, reference_field))
        return self._build.tap_ohms.get((producer, port))

    def offer_taps(self, taps: dict[str, float]) -> None:
        """Say what load each secondary tap of this block is meant for."""
        self._build.tap_ohms |= {(self.block.id, port): ohm for port, ohm in taps.items()}

    def rectifying_tube(self, section: str, anode1: str, anode2: str, cathode: str) -> str:
        """A vacuum rectifier in its envelope."""
        envelope = section.partition(".")[0]
        type_ = self.type_of(section)
        unit = type_.section(section[-1])
        if unit.kind != "rectifier":
            raise DesignRefused(f"{self.block.id}: {type_.type} is no rectifier.")
        if unit.sections == 1:
            if anode1 != anode2:
                raise DesignRefused(
                    f"{self.block.id}: {type_.type} has one anode; it rectifies a half-wave, without anode resistors."
                )
            anode2 = cathode
        name = envelope.upper()
        self._build.add(Part(name, type_.rectifier(), (anode1, anode2, cathode), self.path()))
        self.say(RectifierUse(self.block.id, name, envelope, type_))
        return name

    def gas_tube(self, section: str, anode: str, cathode: str) -> str:
        """A gas regulator in its envelope. Returns its name."""
        name = section.partition(".")[0].upper()
        return self._build.add(Part(name, self.type_of(section).regulator(), (anode, cathode), self.path()))

    def winding(self, reference_field: str) -> Winding:
        """The mains winding that a reference stands for. Raises DesignRefused."""
        producer, _ = split(getattr(self.block, reference_field))
        return self._build.windings[producer]

    def offer_winding(self, winding: Winding) -> None:
        """Say what this block's winding is."""
        self._build.windings[self.block.id] = winding
        self.say(winding)

    def core(self, reference_field: str) -> Core:
        """The mains transformer that a reference stands for."""
        return self._build.cores[split(getattr(self.block, reference_field))[0]]

    def offer_core(self, core: Core) -> None:
        """Say what this block's transformer is."""
        self._build.cores[self.block.id] = core
        self.say(core)

    def winding_end(self, reference_field: str, whole: bool = False, minus: str = GROUND) -> str:
        """A node of |the winding's voltage| behind its copper, over ``minus``: what a rectifier finds that
        conducts in both half cycles alike. ``whole`` it is that of both halves of a tapped one."""
        w = self.winding(reference_field)
        turns = 2 if whole and w.centre_tapped else 1
        key = (w.block, turns)
        if key not in self._build.terminals:
            owner = Bench(self._build, self._build.design.block(w.block))
            side = "whole" if turns == 2 else ""
            emf, end = owner.node("emf", side), owner.node("end", side)
            if w.core:
                ratio = turns * w.volt / w.core.mains_volt
                owner.add("T", devices.IdealTransformer(ratio), owner.take("transformer"), GROUND, emf, GROUND)
            else:
                owner.add("T", devices.MainsSource(turns * w.volt * 2**0.5, w.hertz, folded=True), emf, GROUND)
            copper = owner.add("RW", devices.Resistor(turns * max(w.ohm, _TAP_OHM)), emf, end)
            share = 0.5 if w.centre_tapped and turns == 1 else 1.0
            self.say(Copper(w.block, copper, share, w.rating_ampere))
            self._build.terminals[key] = end
        end = self._fed_to(self._build.terminals[key], self._build.design.block(w.block), reference_field, "")
        if minus == GROUND:
            return end
        afloat = self.node("afloat", minus)
        self.loose("XF", devices.IdealTransformer(1.0), end, GROUND, afloat, minus)
        return afloat

    def winding_emf(self, reference_field: str, whole: bool = False) -> str:
        """The node of |the winding's voltage| before its copper; after ``winding_end`` of the same."""
        w = self.winding(reference_field)
        owner = self._build.design.block(w.block)
        return owner.node("emf", "whole" if whole and w.centre_tapped else "")

    def swinging_end(
        self, reference_field: str, side: str, sign: int, whole: bool = False, minus: str = GROUND
    ) -> str:
        """A node that swings over ``minus`` with the winding's end in both half cycles, or with ``sign`` -1 with its
        other end: what a rectifier finds that conducts in one of them.

        It is |the winding's voltage| with a source in series that is nothing in the one half cycle and turns it over
        in the other, when nothing is drawn.
        """
        return self._swung(
            self.winding(reference_field), self.winding_end(reference_field, whole, minus), side, sign, whole
        )

    def coupled_end(self, reference_field: str) -> str:
        """A node that swings with the winding's end, from crest to crest, for what draws little and through a
        capacitor; what that draws does not count in the winding.

        The end sags at the crest at which its own half's rectifier conducts, and with the primary alone at the other.
        Both are in the positive half cycle here, one on the other, and the node stays low in the other: each cycle as
        much goes through the capacitor as there, within half the time.
        """
        w = self.winding(reference_field)
        sagging, both = self.node("sagging"), self.node("both")
        self.loose("EW", devices.VoltageControlled(1.0), sagging, GROUND, self.winding_end(reference_field), GROUND)
        self.loose("EW", devices.VoltageControlled(1.0), both, sagging, self.winding_emf(reference_field), GROUND)
        low, end = self.node("low"), self.node("coupled_end")
        self.loose("RW", devices.Resistor(max(w.ohm, 1.0)), self._swung(w, both, "a", 1, False), low)
        self.loose("D", devices.Diode(emission=0.1), GROUND, low)
        self.loose("VS", devices.VoltageSource(w.volt * 2**0.5), low, end)
        return end

    def _swung(self, w: Winding, end: str, side: str, sign: int, whole: bool) -> str:
        middle, swinging = self.node("turn", side), self.node("swing", side)
        peak = w.volt * 2**0.5 * (2 if whole and w.centre_tapped else 1)
        self.loose("VM", devices.MainsSource(sign * peak, w.hertz), middle, end)
        self.loose("VM", devices.MainsSource(-peak, w.hertz, folded=True), swinging, middle)
        return swinging

    def diode(self, name: str, a: str, b: str, arms: int = 1, side: str = "") -> str:
        """The rectifier diode that a field holds, ``arms`` of them one behind the other as one."""
        field = type(self.block).model_fields[name]
        own = name if field.default is None else ""  # what cannot be left out is the block's own symbol
        return self.add("D", getattr(self.block, name).arms(arms), a, b, name=own, side=side)

    def say(self, facet: Facet) -> None:
        """Add to what the solved design can be asked."""
        self._build.facets.append(facet)

    def path(self, name: str = "") -> str:
        """The path of this block, or of a part of it."""
        return f"blocks/{self.block.id}/{name}" if name else f"blocks/{self.block.id}"

    def add(self, prefix: str, device: devices.Device, *nodes: str, name: str = "", side: str = "") -> str:
        """Add a device with the next designator; ``name`` is the field that it comes from."""
        return self._build.add(Part(self._build.next_name(prefix), device, nodes, self.path(name), side))

    def loose(self, prefix: str, device: devices.Device, *nodes: str) -> str:
        """Add a device that no value of the design stands for alone."""
        return self._build.add(Part(self._build.next_name(prefix), device, nodes))

    def fit(self, name: str, a: str, b: str, side: str = "") -> bool:
        """Put in the part that the field ``name`` holds, between two nodes. Returns whether there is one."""
        part = getattr(self.block, name)
        if part is None:
            return False
        self.add(part.letter, part.device(), *part.turned(a, b), name=name, side=side)
        return True

    def filament(self, name: str, sections: Iterable[str], cathode: str, side: str = "") -> str:
        """The middle of the filaments of a position's tubes, whose supply the field holds, before the node of its
        cathode circuit; that node itself where the field holds none."""
        supply = getattr(self.block, name)
        if supply is None:
            return cathode
        heater = self.type_of(next(iter(sections))).heater
        assert heater is not None  # the block's ``unfit`` has seen to it
        middle = self.node("filament", side)
        wiper = cathode
        if supply.unbalance:
            wiper = self.node("filament_tap", side)
            peak = supply.unbalance * heater.volts * 2**0.5
            self.loose("VF", devices.MainsSource(peak, self.mains[1]), wiper, cathode)
        self.add("RV", devices.Resistor(max(supply.ohm, _TAP_OHM)), middle, wiper, name=name, side=side)
        return middle

    def part_of(self, name: str) -> str:
        """The designator of a part of this block that has been put in."""
        return self._build.by_path[self.path(name)][0]

    def through(self, name: str, a: str, port: str, side: str = "") -> str:
        """The node behind a part in series: a new node of this block, or ``a`` itself where there is no such part."""
        if getattr(self.block, name) is None:
            return a
        inner = self.node(port, side)
        self.fit(name, a, inner, side)
        return inner

    def current_source(self, name: str, plus: str, minus: str, side: str = "") -> bool:
        """A transistor current source from ``plus`` down to ``minus``, if the field holds one."""
        part = getattr(self.block, name)
        if part is None:
            return False
        base, emitter = self.node(f"{name}_base", side), self.node(f"{name}_emitter", side)
        self.loose("VREF", devices.VoltageSource(part.reference_volt), base, minus)
        self.loose("RSET", devices.Resistor((part.reference_volt - 0.65) / part.ampere), emitter, minus)
        self.add("Q", devices.BipolarTransistor(early_volt=400.0, forward_beta=100.0), plus, base, emitter,
                 name=name, side=side)  # fmt: skip
        return True

    def current_load(self, name: str, plus: str, minus: str, side: str = "") -> bool:
        """A transistor current source from a rail ``plus`` into ``minus`` (PNP), if the field holds one."""
        part = getattr(self.block, name)
        if part is None:
            return False
        base, emitter = self.node(f"{name}_base", side), self.node(f"{name}_emitter", side)
        self.loose("VREF", devices.VoltageSource(part.reference_volt), plus, base)
        self.loose("RSET", devices.Resistor((part.reference_volt - 0.65) / part.ampere), plus, emitter)
        self.add("Q", devices.BipolarTransistor(early_volt=400.0, forward_beta=100.0, polarity=-1),
                 minus, base, emitter, name=name, side=side)  # fmt: skip
        return True

    def type_of(self, section: str) -> TubeType:
        """The type of the envelope that a section belongs to."""
        return self._build.design.tube_of(section.partition(".")[0])

    def tubes(
        self,
        sections: Iterable[str],
        electrodes: Electrodes,
        *,
        source: str,
        setting: Setting,
        output: str = "",
        leak: str = "",
        position: Position = ALONE,
    ) -> None:
        """Sections side by side, each with a grid stopper of its own if there is one.

        The signal comes from ``source``, before any coupling, and leaves at ``output``, by default the anode;
        ``leak`` is the field of the grid leak.

        Raises UnknownTube for a section that is not there, DesignRefused for one that is no amplifier.
        """
        sections = tuple(sections)
        for place, section in enumerate(sections):
            envelope, _, letter = section.partition(".")
            type_ = self.type_of(section)
            unit = type_.section(letter)
            if unit.kind not in ("triode", "pentode"):
                raise DesignRefused(
                    f"{self.block.id}: {section} is a {unit.kind} of {type_.type}, which amplifies nothing."
                )
            port = position.grid_port if len(sections) == 1 else f"{position.grid_port}_{place + 1}"
            nodes = electrodes.of(unit.kind, self._stopped(electrodes.grid, port, position))
            name = envelope.upper() + (letter if self._build.sections_used.get(envelope, 1) > 1 else "")
            device = type_.device(unit, position.scale)
            self._build.add(Part(name, device, tuple(nodes.values()), self.path(), position.side))
            assert unit.limits is not None
            self.say(
                TubeUse(
                    block=self.block.id, part=name, envelope=envelope, type=type_, unit=unit.kind, nodes=nodes,
                    limits=unit.limits, bias=setting.bias, knob=self._knob_path(setting.knob),
                    knob_raises=setting.raises, side=position.side or position.role, source_node=source,
                    output=output or electrodes.anode, leak=self.path(leak) if leak else "", section=letter,
                )
            )  # fmt: skip

    def _stopped(self, grid: str, port: str, position: Position) -> str:
        """The node of a tube's own grid: behind its stopper, if it has one."""
        if not position.stopper or getattr(self.block, position.stopper, None) is None:
            return grid
        behind = self.node(port, position.side)
        self.fit(position.stopper, grid, behind, position.side)
        return behind

    def _knob_path(self, knob: str) -> str:
        """The path of a knob, which may be another block's."""
        return knob if not knob or knob.startswith("blocks/") else self.path(knob)
