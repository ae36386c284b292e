"""The tube drawer: a type of one's own from points to a place in an amplifier."""

import json

import numpy as np
import pytest

from bold_anode.amps.models import Project, Revision
from bold_anode.tubes.models import OwnTube
from thermionic import cli, tubes


def measured(name="ECC82", scale=1.1):
    """Points of a sample that draws a tenth more than its type, as CSV."""
    tube = tubes.get(name).triode(scale)
    rows = ["anode_v,grid_v,anode_a"]
    for grid in (-2.0, -6.0, -10.0):
        for anode in (100.0, 175.0, 250.0):
            ampere = float(tube.currents(np.array([grid, anode]))[0][1])
            if ampere > 1e-4:
                rows.append(f"{anode},{grid},{ampere:.6f}")
    return "\n".join(rows)


def post(bench, **typed):
    filled = {"name": "Bench 82", "kind": "triode", "anode_volt": "300", "anode_watt": "2.75 W", "points": measured()}
    return bench.post("/tubes/add/", {**filled, **typed}, follow=True)


def test_a_measured_tube_is_fitted_and_takes_a_place_in_an_amplifier(bench, owner, project):
    page = post(bench).content.decode()
    assert "Bench 82 fitted" in page
    assert "9 types" not in page
    tube = OwnTube.objects.get()
    assert tube.owner == owner
    assert tube.fitted["rms_error"] < 0.03

    part = bench.get(f"/amps/{project.pk}/chain/part/", {"path": "blocks/driver"}).content.decode()
    assert "Bench 82" in part
    assert "ECC82" in part
    changed = bench.post(
        f"/amps/{project.pk}/chain/change/", {"path": "envelopes/v1/type", "value": "Bench 82"}, follow=True
    )
    assert changed.status_code == 200
    project.refresh_from_db()
    design = project.current.design
    assert design.tube_type("bench 82").type == "Bench 82"

    # It travels: taken out of the drawer, exported, solved on the command line, imported by somebody else.
    bench.post(f"/tubes/{tube.pk}/remove/")
    assert not OwnTube.objects.exists()
    text = bench.get(f"/amps/{project.pk}/export/").content
    assert json.loads(text)["own_tubes"][0]["name"] == "Bench 82"
    again = bench.post("/amps/import/", {"file": __import__("io").BytesIO(text)}, follow=True)
    assert "Bench 82" in again.content.decode()


def test_the_command_line_solves_a_design_with_its_own_tube(bench, project, tmp_path, capsys):
    post(bench)
    bench.post(f"/amps/{project.pk}/chain/change/", {"path": "envelopes/v1/type", "value": "Bench 82"})
    file = tmp_path / "own.json"
    file.write_bytes(bench.get(f"/amps/{project.pk}/export/").content)
    assert cli.main(["solve", str(file), "--op"]) == 0
    assert json.loads(capsys.readouterr().out)["op"]["nodes"]["driver_anode"] > 20


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ({"name": ""}, "Give the tube a name"),
        ({"name": "12AX7"}, "is a type of the library"),
        ({"name": "<b>bad</b>"}, "name"),
        ({"points": "anode_v,grid_v,anode_a\n250,-8,0.01\n"}, "cannot determine"),
        ({"points": "anode_v,grid_v,anode_a\n250,-8,ten\n"}, "Line 2"),
        ({"points": ""}, "first line must name the columns"),
        ({"kind": "magnetron"}, "cannot be fitted"),
        ({"anode_volt": "lots"}, "lots"),
        ({"anode_watt": ""}, "anode_watt"),
    ],
)
def test_what_cannot_be_a_tube_is_refused_in_words_and_kept_in_the_form(bench, typed, says):
    response = post(bench, **typed)
    assert response.status_code == 422
    page = response.content.decode()
    assert says in page
    assert OwnTube.objects.count() == 0
    assert "Fit it" in page
    if "anode_watt" not in typed:
        assert "2.75 W" in page


def test_a_drawer_is_ones_own(bench, client, stranger, project):
    post(bench)
    tube = OwnTube.objects.get()
    client.force_login(stranger)
    assert b"Bench 82" not in client.get("/tubes/").content
    assert client.post(f"/tubes/{tube.pk}/remove/").status_code == 404
    assert OwnTube.objects.exists()
    assert Project.objects.count() == Revision.objects.count() == 1


def test_a_name_is_used_once_and_pentodes_and_rectifiers_are_kept_too(bench):
    post(bench)
    assert post(bench, name="BENCH 82").status_code == 422
    rows = "drop_v,anode_a\n17,0.225\n10,0.1\n"
    page = post(bench, name="Old rectifier", kind="rectifier", points=rows).content.decode()
    assert "No stage can hold a rectifier yet" in page
    assert OwnTube.objects.count() == 2
