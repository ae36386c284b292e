"""Every change that the rooms of the supply make."""

from __future__ import annotations

from datetime import datetime
from statistics import median
from typing import Any

from django.shortcuts import get_object_or_404
from django.utils import timezone
from django.utils.dateparse import parse_datetime

from bold_anode.amps.models import Project
from bold_anode.amps.operations import change_design
from bold_anode.frame.owned import alone
from bold_anode.rails.models import HIGHEST, LOWEST, MainsReading
from thermionic.amplifier import solve
from thermionic.blocks.fields import FilamentSupply
from thermionic.blocks.ports import block_at
from thermionic.design import Design, changed, find, has_field
from thermionic.errors import ValueRefused
from thermionic.performance.heater_supplies import with_heater_supplies
from thermionic.supplies import taps
from thermionic.supplies.bleeding import can_bleed, with_bleeder
from thermionic.supplies.selenium import replacement, selenium_blocks
from thermionic.values import Quantity, display, parse

MOST_READINGS = 1000


def add_reading(user: Any, typed: str, when: str = "") -> MainsReading:
    """Write down what the mains was read to be, now or ``when`` (ISO 8601). Raises ValueRefused."""
    volt = parse(typed, Quantity.VOLTAGE)
    if not LOWEST <= volt <= HIGHEST:
        raise ValueRefused(f"A house's mains is from {LOWEST:g} to {HIGHEST:g} V rms; {volt:g} V is none.")
    moment = _moment(when)
    with alone(user):
        if MainsReading.objects.of(user).count() >= MOST_READINGS:
            raise ValueRefused(f"The log holds {MOST_READINGS} readings; take some out first.")
        reading: MainsReading = MainsReading.objects.create(owner=user, volt=volt, read_at=moment)
    return reading


def _moment(when: str) -> datetime:
    if not when.strip():
        return timezone.now()
    try:
        result = parse_datetime(when.strip())
        result = timezone.make_aware(result) if result is not None and timezone.is_naive(result) else result
    except (ValueError, OverflowError):
        result = None
    if result is None:
        raise ValueRefused(f"“{when[:40]}” is no date and time; 2026-11-26T19:30 is one.")
    return result


def remove_reading(user: Any, reading_id: int) -> None:
    """Take a reading out of the log. Raises Http404."""
    reading = get_object_or_404(MainsReading.objects.of(user), pk=reading_id)
    reading.delete()


def spread(user: Any) -> tuple[float, float, float] | None:
    """The lowest, the middle and the highest of the readings; None where there are none."""
    volts = list(MainsReading.objects.of(user).values_list("volt", flat=True))
    return (min(volts), float(median(volts)), max(volts)) if volts else None


def use_readings(user: Any, project_id: int, seen: int | None = None) -> Project:
    """Take the mains of a project's house from the log: usual, lowest and highest. Raises Http404, ValueRefused,
    Stale, ThermionicError."""
    result = spread(user)
    if result is None:
        raise ValueRefused("There is no reading of the mains yet; write one down first.")
    low, usual, high = result

    def change(design: Design) -> tuple[Design, str]:
        brief = design.brief.model_copy(update={"mains_volt": usual, "mains_low_volt": low, "mains_high_volt": high})
        return design.model_copy(update={"brief": brief}), f"mains as read: {low:g}, {usual:g}, {high:g} V"

    return change_design(user, project_id, change, seen)


def take_way(user: Any, project_id: int, key: str, seen: int | None = None) -> Project:
    """Meet the mains by one of the ways that were compared. Raises Http404, Stale, ValueRefused, ThermionicError."""

    def change(design: Design) -> tuple[Design, str]:
        try:
            return taps.chosen(solve(design), key)
        except KeyError:
            raise ValueRefused("That way is not open to this design any more; look at the list again.") from None

    return change_design(user, project_id, change, seen)


def replace_selenium(user: Any, project_id: int, block_id: str, seen: int | None = None) -> Project:
    """Silicon and its dropping resistor in place of a selenium rectifier. Raises Http404, Stale, ValueRefused,
    ThermionicError."""

    def change(design: Design) -> tuple[Design, str]:
        amplifier = solve(design)
        if block_id not in selenium_blocks(amplifier):
            raise ValueRefused("There is no selenium rectifier there any more.")
        result, after = replacement(amplifier, block_id)
        return after, f"selenium replaced, {display(result.ohm, Quantity.RESISTANCE)} in series"

    return change_design(user, project_id, change, seen)


def balance(user: Any, project_id: int, path: str, travel: str, seen: int | None = None) -> Project:
    """Set a filament's balance pot. Raises Http404, Stale, ThermionicError."""

    def change(design: Design) -> tuple[Design, str]:
        if not isinstance(find(design, path).value, FilamentSupply):
            raise ValueRefused("Only a filament's supply has a balance to be set.")
        return changed(design, f"{path}/travel", travel), "filament balanced"

    return change_design(user, project_id, change, seen)


def feed_heaters(user: Any, project_id: int, seen: int | None = None) -> Project:
    """Wind heater supplies for the tubes that nothing feeds. Raises Http404, Stale, ThermionicError."""

    def change(design: Design) -> tuple[Design, str]:
        return with_heater_supplies(solve(design)), "heater supplies added"

    return change_design(user, project_id, change, seen)


def set_hum_tap(user: Any, project_id: int, block: str, share: str, seen: int | None = None) -> Project:
    """Set an output transformer's turns past the HT. Raises Http404, Stale, ThermionicError."""

    def change(design: Design) -> tuple[Design, str]:
        if not has_field(design, f"blocks/{block}/hum_share"):
            raise ValueRefused("Only an output transformer has turns past the HT to be set.")
        return changed(design, f"blocks/{block}/hum_share", share), "hum tap at its null"

    return change_design(user, project_id, change, seen)


def fit_bleeder(user: Any, project_id: int, path: str, ohm: str, watt: str, seen: int | None = None) -> Project:
    """Put a bleeder in, or another value for the one there is. Raises Http404, Stale, ValueRefused,
    ThermionicError."""

    def change(design: Design) -> tuple[Design, str]:
        if not can_bleed(design, path):
            raise ValueRefused("Only a supply's own block can have a bleeder.")
        value, rating = parse(ohm, Quantity.RESISTANCE), parse(watt, Quantity.POWER)
        after = with_bleeder(design, block_at(path), value, rating)
        return after, f"bleeder of {display(value, Quantity.RESISTANCE)}"

    return change_design(user, project_id, change, seen)
