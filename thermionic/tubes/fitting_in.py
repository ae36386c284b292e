"""What would have to change for one tube type to go where another is."""

from __future__ import annotations

from thermionic.tubes.library import TubeType, Unit


def differences(now: TubeType, other: TubeType, letter: str = "a") -> tuple[str, ...]:
    """Where ``other`` does not simply go into the socket of ``now``, each in a few words: base, heater, ratings lower
    than those of the section ``letter``, a larger swing that its grid wants. Empty where it does."""
    result = []
    if other.base and now.base and other.base != now.base:
        result.append(f"base {other.base}")
    elif other.pins != now.pins and other.base:
        result.append("other pins")
    if now.heater and other.heater:
        volts, was = other.heater.volts, now.heater.volts
        if abs(volts - was) > 0.05 * was:
            result.append(f"heater {volts:g} V for {was:g} V")
        elif other.heater.amperes > 1.1 * now.heater.amperes:
            result.append(f"heater {other.heater.amperes:g} A for {now.heater.amperes:g} A")
    result += _ratings(now.section(letter), other.section(letter))
    return tuple(result)


def _ratings(now: Unit, other: Unit) -> list[str]:
    result = []
    if now.kind != other.kind:
        result.append(f"a {other.kind}")
    if now.limits and other.limits:
        for name, unit in (("anode_w", "W"), ("anode_v", "V")):
            was, limit = getattr(now.limits, name), getattr(other.limits, name)
            if limit < 0.95 * was:
                result.append(f"anode {limit:g} {unit} for {was:g} {unit}")
    drive = _bias(other), _bias(now)
    if all(drive) and drive[0] > 1.3 * drive[1]:  # type: ignore[operator]
        result.append(f"drive about {drive[0] / drive[1]:.1f} times")  # type: ignore[operator]
    return result


def _bias(unit: Unit) -> float | None:
    """The bias of its first published point, which is about the swing that its grid takes, V."""
    point = next((point for point in unit.points if point.grid_v < 0), None)
    return abs(point.grid_v) if point else None
