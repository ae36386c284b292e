"""The loudspeaker: a resistance, a driver's model, or a measured table."""

from typing import Annotated, Literal

from pydantic import Field, model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Load
from thermionic.blocks.fields import DriverModel, Ohms, named
from thermionic.blocks.ports import Flow, SignalRef
from thermionic.blocks.sketch import Says, Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.errors import NetlistRefused
from thermionic.values import Quantity, written


class Loudspeaker(Block):
    """A loudspeaker of nominal ``ohm``. Without more it is a resistance; with a ``driver`` its voice coil (``ohm``
    being then the DC resistance) and resonance; with a ``table`` the impedance as measured, lines of Hz, Ω and
    degrees. ``count`` like ones are in series or in parallel."""

    kind: Literal["loudspeaker"] = "loudspeaker"
    input: SignalRef = named("Connected to")
    ohm: Ohms = named("Impedance")
    driver: DriverModel | None = named("Driver's model", None, first=DriverModel())
    table: Annotated[str, Field(max_length=40_000)] | None = named("Measured impedance", None)
    count: Annotated[int, Field(ge=1, le=4)] = named("How many", 1)
    connection: Literal["series", "parallel"] = named("In", "parallel")
    reversed: bool = named("Polarity reversed", False)

    title = "Loudspeaker"
    about = "A resistance, a driver's model or a measured table; two in series or parallel."
    group = Group.LOAD
    first = {"ohm": 8.0}

    @model_validator(mode="after")
    def _one_model(self) -> "Loudspeaker":
        if self.driver and self.table:
            raise ValueError(f"{self.id}: a driver's model or a measured table, not both.")
        if self.table:
            try:
                devices.read_impedance(self.table)
            except NetlistRefused as refusal:
                raise ValueError(f"{self.id}: {refusal}") from None
        return self

    def ports(self) -> dict[str, Flow]:
        return {}

    @property
    def whole_ohm(self) -> float:
        """The nominal impedance of all together."""
        return self.ohm * (self.count if self.connection == "series" else 1 / self.count)

    def device(self) -> devices.Device:
        """The load as a device."""
        times = self.whole_ohm / self.ohm
        if self.table:
            one = devices.read_impedance(self.table)
            return devices.MeasuredLoudspeaker(one.hertz, tuple(ohm * times for ohm in one.ohms), one.phases)
        if self.driver:
            d = self.driver
            return devices.Driver(
                self.whole_ohm, d.coil_henry * times, d.resonance_hertz, d.mechanical_q, d.electrical_q
            )
        return devices.Resistor(self.whole_ohm)

    def compile(self, bench: Bench) -> None:
        node = bench.take("input")
        name = bench.add("LS", self.device(), *((GROUND, node) if self.reversed else (node, GROUND)))
        bench.say(Load(self.id, name, node, self.whole_ohm, bench.tap_ohm("input")))

    def sketch(self, pen: Sketch) -> None:
        middle = pen.level
        pen.wire((0, middle - 40), (8, middle - 40), (8, middle - 14))
        pen.wire((8, middle + 14), (8, middle + 40), (0, middle + 40))
        pen.dot(8, middle + 40)
        pen.wire((8, middle + 40), (8, middle + 50))
        pen.earth(8, middle + 50)
        pen.start("input", 0, middle)
        text = written(self.ohm, Quantity.RESISTANCE) + " Ω" + (f" ×{self.count}" if self.count > 1 else "")
        pen.mark(
            "",
            "loudspeaker",
            (14, middle),
            size=(44, 50),
            label=(22, -4, "start"),
            says=Says(text=text, main=f"blocks/{self.id}/ohm", spoken="loudspeaker"),
        )
        pen.figure("watts", self.id, 36, middle + 30, "signal")
        pen.width = 98
