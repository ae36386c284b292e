"""Readings in an export."""

from __future__ import annotations

from typing import Any

from pydantic import AwareDatetime, Field

from bold_anode.amps.models import Project, Revision
from bold_anode.frame.carried import Carried, ProjectPart, checked, stored, when
from bold_anode.powerup.models import Reading, ReadingSet
from bold_anode.powerup.operations import CHANNELS
from thermionic.errors import DesignRefused
from thermionic.powerup import METER_OHM, Step


class _Reading(Carried):
    point: str = Field(max_length=80)
    volt: float | None
    taken_at: AwareDatetime


class _ReadingSet(Carried):
    revision: int
    step: Step
    channel: str = Field(max_length=20)
    mains_volt: float
    meter_ohm: float = METER_OHM  # exports from before it was asked for have none
    started_at: AwareDatetime
    readings: list[_Reading]


class _Readings(Carried):
    reading_sets: list[_ReadingSet]


def _pack(project: Project, numbers: dict[int, int]) -> dict[str, Any]:
    return {
        "reading_sets": [
            {
                "revision": numbers[one.revision_id],
                "step": one.step,
                "channel": one.channel,
                "mains_volt": one.mains_volt,
                "meter_ohm": one.meter_ohm,
                "started_at": when(one.started_at),
                "readings": [
                    {"point": reading.point, "volt": reading.volt, "taken_at": when(reading.taken_at)}
                    for reading in one.readings.all()
                ],
            }
            for one in project.reading_sets.order_by("pk").prefetch_related("readings")
        ]
    }


def _store(project: Project, made: dict[int, Revision], data: Any) -> None:
    known = {channel for channels in CHANNELS.values() for channel in channels}
    for reading_set in data.reading_sets:
        if reading_set.revision not in made:
            raise DesignRefused(
                f"Readings belong to revision {reading_set.revision}, which is not among the revisions."
            )
        if reading_set.channel not in known:
            raise DesignRefused(
                f"Readings are of a channel, {', '.join(filter(None, known))}; none is {reading_set.channel}."
            )
        row = ReadingSet(
            project=project,
            revision=made[reading_set.revision],
            step=reading_set.step.value,
            channel=reading_set.channel,
            mains_volt=reading_set.mains_volt,
            meter_ohm=reading_set.meter_ohm,
        )
        stored(row, started_at=reading_set.started_at)
        readings = [
            Reading(reading_set=row, point=reading.point, volt=reading.volt, taken_at=reading.taken_at)
            for reading in reading_set.readings
        ]
        for reading in readings:
            checked(reading)
        moments = [reading.taken_at for reading in readings]
        rows = Reading.objects.bulk_create(readings)
        for reading, moment in zip(rows, moments, strict=True):
            reading.taken_at = moment
        Reading.objects.bulk_update(rows, ["taken_at"])


def _forget(project: Project) -> None:
    """They hold on to the revisions that they were taken of."""
    project.reading_sets.all().delete()


READINGS = ProjectPart(_Readings, _pack, _store, forget=_forget)
