"""Which pin of a base is which electrode of which section, read from what the tube data call them."""

from __future__ import annotations

from thermionic.tubes import TubeType

_ELECTRODES = {
    "anode": "anode", "target": "anode", "grid": "grid", "cathode": "cathode", "screen": "screen",
    "filament": "cathode", "anode1": "anode", "anode2": "anode",
}  # fmt: skip


def _words(name: str) -> list[str]:
    return name.replace("(", " ").replace(")", " ").replace(" of ", " ").replace(" and ", " ").split()


UNKNOWN = " (pin not known)"


def section_pins(type_: TubeType, letter: str) -> dict[str, str]:
    """The pin, by its number as text, of each electrode of a section: anode, grid, cathode, screen; of a rectifier
    anode1, anode2, cathode. An electrode whose pin is not known has none invented: it is called by its own name."""
    unit = type_.section(letter)
    first = next(section_letter for section_letter in type_.section_letters if type_.section(section_letter) is unit)
    number = ord(letter) - ord(first) + 1
    wanted = ("anode1", "anode2", "cathode") if unit.kind == "rectifier" else ("anode", "grid", "cathode", "screen")
    result: dict[str, str] = {}
    for electrode in wanted:
        digit = electrode[-1] if electrode[-1].isdigit() else str(number)
        pin = _pin(type_, _ELECTRODES[electrode], unit.kind, digit)
        if pin is not None:
            result[electrode] = pin
    several = len(type_.section_letters) > 1
    for electrode in wanted:
        result.setdefault(electrode, f"{electrode} {letter}{UNKNOWN}" if several else electrode + UNKNOWN)
    return result | {"a": result["anode"]} if "anode" in result else result


def _pin(type_: TubeType, electrode: str, kind: str, digit: str) -> str | None:
    """The pin whose name says the electrode, of that section where several are told apart."""
    alike = []
    for pin, name in sorted(type_.pins.items()):
        words = _words(name)
        if electrode in words or (electrode == "cathode" and words == ["filament"]):
            alike.append((str(pin), words))
    told = [pin for pin, words in alike if digit in words]
    kinds = [pin for pin, words in alike if kind in words]
    plain = [pin for pin, words in alike if not any(word.isdigit() for word in words)]
    exact = told or kinds or plain
    return exact[0] if exact else None


def heater_pins(type_: TubeType) -> tuple[str, ...]:
    """The pins of the heater or filament, in order, by their names where the pins are not known."""
    result = tuple(str(pin) for pin, name in sorted(type_.pins.items()) if {"heater", "filament"} & set(_words(name)))
    if not result and not type_.pins and type_.heater:
        return f"heater, one end{UNKNOWN}", f"heater, other end{UNKNOWN}"
    return result[:2]
