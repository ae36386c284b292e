"""Template filters that write SI values as a builder does."""

from collections.abc import Callable

from django import template

from thermionic.values import Quantity, display

register = template.Library()


def _shown(quantity: Quantity) -> Callable[..., str]:
    def show(value: float | None, digits: int = 3) -> str:
        return "–" if value is None else display(float(value), quantity, int(digits))

    return show


for _name, _quantity in {
    "volts": Quantity.VOLTAGE,
    "amperes": Quantity.CURRENT,
    "watts": Quantity.POWER,
    "ohms": Quantity.RESISTANCE,
    "farads": Quantity.CAPACITANCE,
    "hertz": Quantity.FREQUENCY,
}.items():
    register.filter(_name, _shown(_quantity))


@register.filter
def whole_percent(value: float) -> str:
    """A share as whole per cent, never quite certain."""
    return f"{min(float(value), 0.99) * 100:.0f} %"


@register.filter
def deviation(value: float) -> str:
    """A relative deviation as signed per cent."""
    return f"{float(value) * 100:+.1f} %"
