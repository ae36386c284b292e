"""The chooser in Brief: asked for, compared with the shelf, and taken as the design."""

import pytest
from django.urls import reverse

from bold_anode.amps.models import Project
from bold_anode.amps.operations import undo
from bold_anode.iron import operations
from bold_anode.tasks.models import Work
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.values import Quantity, display

ASKED = {"sort": "headphones", "watt": "100 mW", "load_ohm": "300", "tubes": "6AS7G, ECC82", "screens": ""}


def test_designs_are_worked_out_and_one_is_taken(bench, owner, project, worker):
    address = reverse("study", args=[project.pk, "chooser"])
    assert bench.post(address, ASKED).status_code == 200
    worker()
    page = bench.get(address).content.decode()
    assert "Make it the design" in page
    assert "nothing that was named" in page
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


def test_a_transformer_on_the_shelf_is_named_where_it_would_do(bench, owner, project, worker):
    address = reverse("study", args=[project.pk, "chooser"])
    bench.post(address, {"sort": "loudspeaker", "watt": "4", "load_ohm": "8", "tubes": "2A3", "winding_volt": "270"})
    worker()
    assert "an output transformer of" in bench.get(address).content.decode()
    ohm = Work.objects.get().result[0]["primary_ohm"]
    for name, share in (("Mossgate", 1.2), ("Far off", 1.4)):
        operations.add_item(owner, "output", name, "", "", {"primary_ohm": (f"{share * ohm:.0f}", "label")})
    page = bench.get(address).content.decode()
    assert f"Mossgate on the shelf, for {display(ohm, Quantity.RESISTANCE)}" in page
    assert "Far off" not in page.split("</tbody>")[0]


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
