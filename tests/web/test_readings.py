"""Readings: kept for good, with the revision and the conditions that they were taken in."""

import pytest
from django.urls import reverse

from bold_anode.amps.operations import change_design, delete_project, restore_project
from bold_anode.demo.workshop import load_demo
from bold_anode.powerup.models import Reading, ReadingSet
from thermionic.design import changed

HTMX = {"HTTP_HX_REQUEST": "true"}


@pytest.fixture
def reading_set(bench, project):
    response = bench.post(
        reverse("readings-start", args=[project.pk]), {"step": "all-tubes", "mains": "231 V", "channel": "right"}
    )
    made = ReadingSet.objects.get()
    assert response.url == f"/amps/{project.pk}/power-up/?set={made.pk}"
    return made


def take(bench, reading_set, point, volt):
    return bench.post(reverse("reading", args=[reading_set.pk]), {"point": point, "volt": volt}, **HTMX)


def test_a_reading_is_kept_judged_and_corrected_by_another(bench, reading_set):
    assert (reading_set.mains_volt, reading_set.channel, reading_set.revision.number) == (231.0, "right", 1)
    good = take(bench, reading_set, "output_cathode", "48.2").content.decode()
    assert "as expected" in good
    bad = take(bench, reading_set, "output_cathode", "4.8").content.decode()
    assert "far too low" in bad
    assert "Stop here" in bad
    take(bench, reading_set, "output_cathode", "")
    assert reading_set.latest() == {}
    assert [reading.volt for reading in Reading.objects.all()] == [48.2, 4.8, None]


def test_readings_stay_with_their_revision(bench, owner, project, reading_set):
    take(bench, reading_set, "reservoir", "334")
    change_design(owner, project.pk, lambda d: (changed(d, "blocks/output/cathode_resistor/ohm", "1k"), "1k"))
    reading_set.refresh_from_db()
    assert reading_set.revision.number == 1
    page = bench.get(reverse("room", args=[project.pk, "power-up"]), {"set": reading_set.pk}).content.decode()
    assert "moved on to revision 2" in page
    assert "334" in page


def test_a_deleted_projects_readings_are_404_until_it_is_brought_back(bench, owner, project, reading_set):
    delete_project(owner, project.pk)
    assert take(bench, reading_set, "reservoir", "334").status_code == 404
    assert bench.get(reverse("meaning", args=[reading_set.pk])).status_code == 404
    restore_project(owner, project.pk)
    assert take(bench, reading_set, "reservoir", "334").status_code == 200


@pytest.mark.parametrize(
    ("point", "volt", "says"),
    [
        ("reservoir", "blue", "is not a voltage"),
        ("nowhere", "5", "no test point"),
        ("reservoir", "1e9", "must be 0 V to 100 kV"),
    ],
)
def test_a_bad_reading_is_refused_and_not_kept(bench, reading_set, point, volt, says):
    response = take(bench, reading_set, point, volt)
    assert response.status_code == 422
    assert says in response.content.decode()
    assert not Reading.objects.exists()


@pytest.mark.parametrize(
    "values",
    [{"step": "half", "mains": "230"}, {"step": "no-tubes", "mains": "23"}, {"step": "no-tubes", "mains": ""}],
)
def test_bad_conditions_are_refused(bench, project, values):
    assert bench.post(reverse("readings-start", args=[project.pk]), values, **HTMX).status_code == 422
    assert not ReadingSet.objects.exists()


def test_anothers_readings_are_404(client, reading_set, stranger):
    client.force_login(stranger)
    assert take(client, reading_set, "reservoir", "334").status_code == 404
    assert client.get(reverse("meaning", args=[reading_set.pk])).status_code == 404
    assert not Reading.objects.exists()


def test_the_demo_is_loaded_once_and_its_bad_build_is_explained(client, django_user_model, worker):
    load_demo()
    load_demo()
    user = django_user_model.objects.get(username="saltmarsh")
    assert user.projects.count() == 11
    client.force_login(user)
    project = user.projects.get(reading_sets__step="all-tubes")
    page = client.get(reverse("room", args=[project.pk, "power-up"])).content.decode()
    meaning = reverse("meaning", args=[project.reading_sets.get(step="all-tubes").pk])
    assert f'hx-get="{meaning}"' in page
    assert "no worker is running" in client.get(meaning).content.decode()
    worker()
    page = client.get(meaning).content.decode()
    assert "hx-trigger" not in page
    assert "R4 is about 15k where it should be 1k5" in page
    assert "It would explain 12 of 12 readings" in page
    load_demo(fresh=True)
    assert user.projects.count() == 11
    assert not user.projects.filter(pk=project.pk).exists()
