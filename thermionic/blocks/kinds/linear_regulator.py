"""A three-terminal regulator."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import LinearUse, Rail
from thermionic.blocks.fields import Amperes, Capacitor, Volts, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import Sketch
from thermionic.circuit.netlist import GROUND
from thermionic.values import Quantity, display


class LinearRegulator(Block):
    """A regulator in one case, on a heat-sink: for heaters on DC, mostly."""

    kind: Literal["linear-regulator"] = "linear-regulator"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("Behind")
    volt: Annotated[Volts, Field(gt=0)] = named("Voltage")
    ampere: Annotated[Amperes, Field(gt=0)] = named("Delivers at the most", 1.5)
    dropout_volt: Annotated[Volts, Field(gt=0)] = named("Wants across it at least", 2.0)
    rating_volt: Annotated[Volts, Field(gt=0)] = named("Stands at its input", 35.0)
    kelvin_per_watt: Annotated[float, Field(gt=0.1, le=100.0)] = named("Heat-sink with its case, K/W", 6.0)
    output: Capacitor | None = named("Output capacitor", None, first=Capacitor(farad=10e-6, rating_volt=25.0))

    title = "Three-terminal regulator"
    about = "A regulator in one case, for heaters on DC: its drop, its limit and its heat."
    group = Group.SUPPLY
    first = {"volt": 6.3}
    suffixes = {"out": ""}

    @property
    def in_words(self) -> str:
        return display(self.volt, Quantity.VOLTAGE)

    def ports(self) -> dict[str, Flow]:
        return {"out": Flow.RAIL}

    def knob(self, port: str) -> str:
        return "volt"

    def celsius(self, watt: float, ambient: float = 45.0) -> float:
        """The temperature inside with ``watt`` in it, °C, in a chassis at ``ambient``."""
        return ambient + watt * self.kelvin_per_watt

    def compile(self, bench: Bench) -> None:
        source, out = bench.take("input"), bench.node("out")
        name = bench.add("U", devices.LinearRegulator(self.volt, self.ampere, self.dropout_volt), source, out)
        bench.fit("output", out, GROUND)
        bench.say(LinearUse(self.id, name, source, out))
        bench.say(Rail(self.id, out, bench.path("output") if self.output else ""))

    def sketch(self, pen: Sketch) -> None:
        pen.boxed("input", "output", display(self.volt, Quantity.VOLTAGE), "volt")
