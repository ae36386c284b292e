"""An HT converter on a low voltage."""

from typing import Annotated, Literal, Self

from pydantic import Field, model_validator

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import ConverterUse, Rail
from thermionic.blocks.fields import Amperes, Capacitor, Ohms, Volts, Watts, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, display


class HTConverter(Block):
    """A module that makes HT of a low voltage, which heaters may share. What it switches, and what of that gets out,
    is not computed."""

    kind: Literal["converter"] = "converter"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("Fed by")
    volt: Annotated[Volts, Field(gt=0)] = named("Voltage")
    ampere: Annotated[Amperes, Field(gt=0)] = named("Delivers at the most", 0.1)
    ohm: Annotated[Ohms, Field(gt=0)] = named("Source resistance", 5.0)
    least_volt: Annotated[Volts, Field(gt=0)] = named("Wants at its input at least", 10.0)
    most_volt: Annotated[Volts, Field(gt=0)] = named("Stands at its input", 16.0)
    efficiency: Annotated[float, Field(ge=0.2, le=1.0)] = named("Efficiency (0 to 1)", 0.85)
    idle_watt: Watts = named("Takes with nothing on it", 0.5)
    rises_second: Annotated[float, Field(ge=0.0, le=60.0)] = named("Comes up in, s", 0.3)
    output: Capacitor | None = named("Output capacitor", None, first=Capacitor(farad=22e-6, rating_volt=450.0))

    title = "HT converter"
    about = "A switching module that makes HT of a low DC voltage, with its limit and its start."
    group = Group.SUPPLY
    first = {"volt": 250.0}
    suffixes = {"out": ""}

    @model_validator(mode="after")
    def _inward(self) -> Self:
        if self.most_volt <= self.least_volt:
            raise ValueError(f"{self.id}: what its input stands must be more than what it wants at least.")
        return self

    @property
    def in_words(self) -> str:
        return display(self.volt, Quantity.VOLTAGE)

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def knob(self, port: str) -> str:
        return "volt"

    def compile(self, bench: Bench) -> None:
        source, out = bench.take("input"), bench.node("out")
        device = devices.Converter(self.volt, self.ampere, self.least_volt, self.ohm, self.efficiency, self.idle_watt)
        name = bench.add("U", device, source, out)
        bench.fit("output", out, GROUND)
        ends = self.least_volt, self.most_volt
        bench.say(ConverterUse(self.id, name, source, out, *ends, self.ampere, self.rises_second))
        bench.say(Rail(self.id, out, bench.path("output") if self.output else ""))

    def sketch(self, pen: Sketch) -> None:
        pen.boxed("input", "output", display(self.volt, Quantity.VOLTAGE), "volt")
