"""What the workshop shows of an amplifier: its strip in small, three figures and its worst finding, kept."""

from __future__ import annotations

from typing import Any

from bold_anode.amps.models import Revision, Summary
from bold_anode.amps.solved import Solved, solved
from bold_anode.amps.strip import strip
from thermionic.edition import edition
from thermionic.errors import BudgetSpent, ThermionicError
from thermionic.values import Quantity, display


def kept(revision: Revision) -> dict[str, Any] | None:
    """The summary of a revision if this edition of the computation has made it already."""
    result = getattr(revision, "summary", None)
    return result.data if result is not None and result.edition == edition() else None


def summary(revision: Revision) -> dict[str, Any]:
    """The summary of a revision: as kept, else worked out and kept; of one without a solution its ``refusal``."""
    result = kept(revision)
    if result is not None:
        return result
    try:
        result = _of(solved(revision))
    except BudgetSpent as refusal:  # it may do better another time
        return {"refusal": str(refusal)}
    except ThermionicError as refusal:
        result = {"refusal": str(refusal)}
    Summary.objects.update_or_create(revision=revision, defaults={"edition": edition(), "data": result})
    return result


def _of(now: Solved) -> dict[str, Any]:
    amplifier = now.amplifier
    full = amplifier.full_output
    worst = now.findings[0] if now.findings else None
    return {
        "stations": [
            {"title": station.title, "volts": station.volts, "level": station.level}
            for station in strip(amplifier).stations
        ],
        "output": amplifier.load.written(amplifier.output(full)),
        "highest_rail": display(amplifier.highest_rail, Quantity.VOLTAGE),
        "output_impedance": display(amplifier.output_impedance, Quantity.RESISTANCE),
        "findings": len(now.findings),
        "worst": worst
        and {
            "severity": worst.severity.name.lower(),
            "words": worst.severity.words,
            "title": worst.title,
            "evidence": worst.evidence,
        },
    }
