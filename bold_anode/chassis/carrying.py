"""A project's layouts in an export, with every state that they were in; and the sizes that the workshop keeps."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import AwareDatetime, Field

from bold_anode.amps.models import Project, Revision
from bold_anode.chassis.models import ChassisLayout, KeptSize, LayoutState
from bold_anode.chassis.operations import MOST_LAYOUTS, MOST_SIZES, MOST_STATES, copy_layouts
from bold_anode.frame.bounds import MOST_NUMBER
from bold_anode.frame.carried import AccountPart, Carried, ProjectPart, stored
from thermionic.errors import DesignRefused


class _State(Carried):
    number: int = Field(ge=1, le=MOST_NUMBER)
    parent: int | None
    note: str = Field(max_length=200)
    made_at: AwareDatetime
    document: dict[str, Any]


class _Layout(Carried):
    """One layout, with the number of the state that it stands at."""

    name: str = Field(min_length=1, max_length=60)
    chosen: bool
    current: int
    made_at: AwareDatetime
    states: list[_State] = Field(min_length=1, max_length=MOST_STATES)


class _Layouts(Carried):
    layouts: list[_Layout] = Field([], max_length=MOST_LAYOUTS)


class _Size(Carried):
    """A size that the workshop keeps, m."""

    name: str = Field(min_length=1, max_length=60)
    across: float
    along: float
    above: float
    below: float


def _pack_sizes(user: Any) -> list[dict[str, Any]]:
    return list(KeptSize.objects.of(user).values("name", "across", "along", "above", "below"))


def _store_sizes(user: Any, sizes: list[_Size]) -> int:
    """A size that is there by that name stays."""
    have = set(KeptSize.objects.of(user).values_list("name", flat=True))
    new = {size.name: size for size in sizes if size.name not in have}
    if len(have) + len(new) > MOST_SIZES:
        raise DesignRefused(f"The workshop keeps at most {MOST_SIZES} sizes; take some out first.")
    for one in new.values():
        stored(KeptSize(owner=user, **one.model_dump()))
    return len(new)


def _forget_sizes(user: Any) -> None:
    KeptSize.objects.of(user).delete()


_Sizes = Annotated[list[_Size], Field(max_length=MOST_SIZES)]
SIZES = AccountPart("sizes.json", _Sizes, [], _pack_sizes, _store_sizes, _forget_sizes)


def _pack(project: Project, numbers: dict[int, int]) -> dict[str, Any]:
    return {
        "layouts": [
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
    }


def _store(project: Project, made: dict[int, Revision], data: Any) -> None:
    names = [layout.name for layout in data.layouts]
    if len(set(names)) < len(names) or sum(layout.chosen for layout in data.layouts) > 1:
        raise DesignRefused("Its layouts have one name twice, or two of them are the chosen one.")
    for one in data.layouts:
        layout = stored(ChassisLayout(project=project, name=one.name, chosen=one.chosen), made_at=one.made_at)
        states: dict[int, LayoutState] = {}
        for state in one.states:
            if state.number in states:
                raise DesignRefused(f"State {state.number} of the layout {one.name} comes twice.")
            row = LayoutState(layout=layout, number=state.number, document=state.document, note=state.note)
            row.parent = states.get(state.parent or 0)
            states[state.number] = stored(row, made_at=state.made_at)
        if one.current not in states:
            raise DesignRefused(
                f"The layout {one.name} stands at state {one.current}, which is not among its states."
            )
        ChassisLayout.objects.filter(pk=layout.pk).update(current=states[one.current])


LAYOUTS = ProjectPart(_Layouts, _pack, _store, copy=copy_layouts)
