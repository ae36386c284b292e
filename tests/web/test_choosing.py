"""The chooser in Brief: asked for, compared with the shelf, and taken as the design."""

import pytest
from django.urls import reverse

from bold_anode.amps.models import Project
from bold_anode.amps.operations import undo
from bold_anode.iron import operations
from bold_anode.tasks.models import Work
from thermionic import examples
from thermionic.amplifier import solve

ASKED = {"sort": "headphones", "watt": "100 mW", "load_ohm": "300", "tubes": "6AS7G, ECC82", "screens": ""}


def test_designs_are_worked_out_and_one_is_taken(bench, owner, project, worker):
    address = reverse("study", args=[project.pk, "chooser"])
    assert bench.post(address, ASKED).status_code == 200
    worker()
    page = bench.get(address).content.decode()
    assert "Use this design" in page
    assert '<td data-label="Still to buy">nothing</td>' in page
    work = Work.objects.get()
    assert (work.result[0]["missing"], work.result[0]["title"]) == ([], "Gain stage and a 6AS7G follower")
    take = reverse("chooser-take", args=[project.pk, work.pk, 0])
    assert bench.post(take, {"seen": "1"}).status_code == 302
    design = Project.objects.get(pk=project.pk).at.design
    assert design.name == "Lantern single-ended"
    assert design.brief == examples.example("lantern").brief
    assert solve(design).full_output.power_watt == pytest.approx(work.result[0]["numbers"]["full"], rel=1e-3)
    assert bench.post(take, {"seen": "2"}).status_code == 404  # of another design than it was worked out for
    undo(owner, project.pk)
    assert Project.objects.get(pk=project.pk).at.design == examples.example("lantern")


def test_iron_on_the_shelf_goes_into_what_is_proposed_and_is_held_by_what_is_taken(bench, owner, project, worker):
    address = reverse("study", args=[project.pk, "chooser"])
    asked = {"sort": "loudspeaker", "watt": "3", "load_ohm": "8", "tubes": "2A3", "winding_volt": "270"}
    bench.post(address, asked)
    worker()
    assert "2 output transformers of" in bench.get(address).content.decode()
    iron = {"primary_ohm": ("3k", "label"), "sides": ("single-ended", "label"), "watt": ("10", "label"),
            "ampere": ("70m", "label"), "hertz": ("40", "assumed")}  # fmt: skip
    operations.add_item(owner, "output", "Mossgate", "", "", iron)
    operations.add_item(owner, "output", "Far off", "", "", {**iron, "primary_ohm": ("9k", "label")})
    bench.post(address, asked)
    worker()
    page = bench.get(address).content.decode()
    assert "from the shelf Mossgate" in page
    assert "a second Mossgate" in page
    assert "Far off" not in page
    work = Work.objects.first()
    place, proposal = next((at, one) for at, one in enumerate(work.result) if one["iron"] == ["Mossgate"])
    assert (
        next(block for block in proposal["design"]["blocks"] if block["id"] == "transformer")["primary_ohm"] == 3000.0
    )
    bench.post(reverse("chooser-take", args=[project.pk, work.pk, place]), {"seen": "1"})
    assert list(project.iron.values_list("name", flat=True)) == ["Mossgate"]


@pytest.mark.parametrize(
    ("changed", "says"),
    [
        ({"sort": "radio"}, "Ask for"),
        ({"watt": ""}, "The power"),
        ({"load_ohm": "many"}, "The load"),
        ({"tubes": "2A3, XYZ1"}, "XYZ1"),
        ({"screens": "round"}, "Ask for"),
        ({"sort": "phono", "gain_db": "lots"}, "number of dB"),
        ({"sort": "phono", "gain_db": "400"}, "0 to 80"),
    ],
)
def test_what_cannot_be_asked_for_is_refused(bench, project, changed, says):
    answer = bench.post(reverse("study", args=[project.pk, "chooser"]), ASKED | changed)
    assert answer.status_code == 422
    assert says in answer.content.decode()
    assert not Work.objects.exists()
