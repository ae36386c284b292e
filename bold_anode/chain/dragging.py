"""The operating point or the load line dragged on the plot: one change of the design."""

from __future__ import annotations

from django.http import HttpResponse
from django.views.decorators.http import require_POST

from bold_anode.amps import operations
from bold_anode.amps.rooms import after, owned, seen
from bold_anode.amps.solved import solved
from bold_anode.frame.requests import Request
from thermionic.amplifier import anode_diagram
from thermionic.design import Design
from thermionic.errors import ValueRefused
from thermionic.performance.dragging import move_line, move_point


@require_POST
def drag(request: Request, project_id: int) -> HttpResponse:
    """The handle let go at ``volt`` and ``ampere`` on a stage's plot: the design with the parts that follow."""
    block, handle = request.POST.get("stage", ""), request.POST.get("handle", "")

    def change(design: Design) -> tuple[Design, str]:
        volt, ampere = _number(request, "volt"), _number(request, "ampere")
        amplifier = solved(owned(request, project_id).at).amplifier
        if not amplifier.compiled.tubes_of(block):
            raise ValueRefused(f"There is no tube in {block[:40]} whose plot could be dragged.")
        words = block.replace("_", " ")
        if handle == "point":
            return move_point(amplifier, block, volt, ampere), f"{words}: operating point moved"
        if handle == "line":
            at, idle = anode_diagram(amplifier, block).operating_point
            fall = idle - ampere
            if fall * (volt - at) <= 0:
                raise ValueRefused("A load line falls from left to right through the operating point.")
            return move_line(amplifier, block, (volt - at) / fall), f"{words}: load line turned"
        raise ValueRefused("The operating point or the load line can be dragged.")

    return after(
        request,
        project_id,
        "chain",
        lambda: operations.change_design(request.user, project_id, change, seen(request)),
    )


def _number(request: Request, name: str) -> float:
    """A place on an axis, in V or A. Raises ValueRefused."""
    try:
        value = float(request.POST.get(name, ""))
    except ValueError:
        value = float("nan")
    if not 0.0 < value < 1e4:
        raise ValueRefused("A place on the plot is in volts and amperes, above nought.")
    return value
