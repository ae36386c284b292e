"""A lamp that says that a rail is up."""

from typing import Annotated, Literal

from pydantic import Field

from thermionic import devices
from thermionic.blocks.base import Block, Group
from thermionic.blocks.build import Bench
from thermionic.blocks.facets import Indicated
from thermionic.blocks.fields import Amperes, Resistor, named
from thermionic.blocks.ports import Flow, RailRef
from thermionic.blocks.sketch import SUPPLY_EARTH, SUPPLY_PART, SUPPLY_RAIL, Says, Sketch
from thermionic.circuit.netlist import GROUND

# A small neon lamp: struck at 70 to 90 V of DC, 60 V lit, 0.3 to 2 mA. Usual figures of many makes, each unsure by
# a tenth.
_NEON = devices.GasRegulator(striking_volt=85.0, running_volt=60.0, ohm=3e3, least_ampere=0.2e-3, most_ampere=2e-3)


class Indicator(Block):
    """A light-emitting diode, or a small neon lamp, behind a resistor on a rail. ``ampere`` is what it is to light
    with. It goes out while there is still a voltage to be hurt by: a neon at some 60 V, an LED far below."""

    kind: Literal["indicator"] = "indicator"
    scope: Literal["channel", "shared"] = named("Belongs to", "shared")
    input: RailRef = named("On")
    lamp: Literal["LED", "neon"] = named("Lamp", "LED")
    ampere: Annotated[Amperes, Field(gt=0)] = named("To light with", 2e-3)
    resistor: Resistor = named("Series resistor")

    title = "Indicator lamp"
    about = "An LED or a neon lamp on a rail, behind its resistor."
    group = Group.SUPPLY
    first = {"resistor": {"ohm": 150e3, "rating_watt": 2.0}}

    def ports(self) -> dict[str, Flow]:
        return {}

    def compile(self, bench: Bench) -> None:
        rail, lamp = bench.take("input"), bench.node("lamp")
        bench.fit("resistor", rail, lamp)
        device = devices.LED() if self.lamp == "LED" else _NEON
        name = bench.add("H", device, lamp, GROUND)
        bench.say(Indicated(self.id, name, rail, lamp, bench.path("resistor"), self.ampere))

    def sketch(self, pen: Sketch) -> None:
        top, middle, earth = SUPPLY_RAIL, SUPPLY_PART, SUPPLY_EARTH
        pen.start("input", 0, top)
        x = pen.lying("resistor", 0, top, 84, label=(0, 40, "middle")) + 30
        pen.wire((x - 30, top), (x, top))
        reach, symbol = (22.0, "led") if self.lamp == "LED" else (20.0, "gas-tube")
        pen.wire((x, top), (x, middle - reach))
        pen.mark(
            "",
            symbol,
            (x, middle),
            size=(44, 44),
            label=(28, 0, "start"),
            says=Says(text=self.lamp, main=f"blocks/{self.id}/lamp", spoken="indicator lamp"),
        )
        pen.wire((x, middle + reach), (x, earth))
        pen.earth(x, earth)
        pen.width = x + 80
