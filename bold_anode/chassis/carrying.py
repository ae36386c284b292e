"""A project's layouts as plain data, with every state that they were in, and back."""

from __future__ import annotations

from typing import Any

from pydantic import AwareDatetime, BaseModel, ConfigDict, Field

from bold_anode.amps.models import Project
from bold_anode.chassis.models import ChassisLayout, KeptSize, LayoutState
from bold_anode.chassis.operations import MOST_LAYOUTS, MOST_STATES, keep_size
from thermionic.chassis.document import read_layout
from thermionic.errors import DesignRefused


class CarriedState(BaseModel):
    """One state of a layout."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    number: int = Field(ge=1, lt=2**31)
    parent: int | None
    note: str = Field(max_length=200)
    made_at: AwareDatetime
    document: dict[str, Any]


class CarriedLayout(BaseModel):
    """One layout, with the number of the state that it stands at."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    name: str = Field(min_length=1, max_length=60)
    chosen: bool
    current: int
    made_at: AwareDatetime
    states: list[CarriedState] = Field(min_length=1, max_length=MOST_STATES)


class CarriedSize(BaseModel):
    """A size that the workshop keeps, m."""

    model_config = ConfigDict(extra="forbid", allow_inf_nan=False)

    name: str = Field(min_length=1, max_length=60)
    across: float = Field(gt=0, le=0.5)
    along: float = Field(gt=0, le=0.5)
    above: float = Field(ge=0, le=0.5)
    below: float = Field(ge=0, le=0.3)


def carried_sizes(user: Any) -> list[dict[str, Any]]:
    """Every size that a user keeps."""
    return list(KeptSize.objects.of(user).values("name", "across", "along", "above", "below"))


def store_sizes(user: Any, sizes: list[CarriedSize]) -> None:
    """Put sizes into a user's workshop; one that is there by that name stays. Raises LayoutRefused."""
    have = set(KeptSize.objects.of(user).values_list("name", flat=True))
    for one in sizes:
        if one.name not in have:
            keep_size(user, **one.model_dump())


def carried(project: Project) -> list[dict[str, Any]]:
    """Every layout of a project."""
    return [
        {
            "name": layout.name,
            "chosen": layout.chosen,
            "current": layout.at.number,
            "made_at": layout.made_at.isoformat(),
            "states": [
                {
                    "number": state.number,
                    "parent": state.parent.number if state.parent else None,
                    "note": state.note,
                    "made_at": state.made_at.isoformat(),
                    "document": state.document,
                }
                for state in layout.states.select_related("parent")
            ],
        }
        for layout in project.layouts.select_related("current")
    ]


def store(project: Project, layouts: list[CarriedLayout]) -> None:
    """Put layouts into a project that has none. Raises DesignRefused, LayoutRefused."""
    names = [one.name for one in layouts]
    if len(set(names)) < len(names) or len(names) > MOST_LAYOUTS or sum(one.chosen for one in layouts) > 1:
        raise DesignRefused("Its layouts have one name twice, are too many, or two of them are the chosen one.")
    for one in layouts:
        layout = ChassisLayout.objects.create(project=project, name=one.name, chosen=one.chosen)
        made: dict[int, LayoutState] = {}
        for state in one.states:
            if state.number in made:
                raise DesignRefused(f"State {state.number} of the layout {one.name} comes twice.")
            read_layout(state.document)
            made[state.number] = LayoutState.objects.create(
                layout=layout,
                number=state.number,
                parent=made.get(state.parent or 0),
                document=state.document,
                note=state.note,
            )
            LayoutState.objects.filter(pk=made[state.number].pk).update(made_at=state.made_at)
        if one.current not in made:
            raise DesignRefused(
                f"The layout {one.name} stands at state {one.current}, which is not among its states."
            )
        ChassisLayout.objects.filter(pk=layout.pk).update(current=made[one.current], made_at=one.made_at)
