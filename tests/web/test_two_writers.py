"""Two writers at each operation: what both were told is kept is kept, and no limit is passed.

After each reading query of a writer a moment passes, so that the other comes between; whatever is read, changed and
saved without a lock loses one of the two.
"""

import threading
import time
from contextlib import contextmanager

import pytest
from django.contrib.auth import get_user_model
from django.db import connection
from django.http import Http404

from bold_anode.accounts import arriving
from bold_anode.accounts.forms import SignUp
from bold_anode.accounts.operations import invite, sign_up
from bold_anode.amps import variants
from bold_anode.amps.models import Project, Variant
from bold_anode.amps.operations import change_design, create_project, delete_project, undo
from bold_anode.chassis import operations as chassis
from bold_anode.chassis.models import ChassisLayout, KeptSize
from bold_anode.iron import operations as iron
from bold_anode.iron.models import Origin, ShelfItem, UnknownIron
from bold_anode.powerup.models import Reading
from bold_anode.powerup.operations import start_set_on, take_reading
from bold_anode.rails import operations as rails
from bold_anode.rails.models import MainsReading
from bold_anode.tasks import kinds
from bold_anode.tasks import operations as tasks
from bold_anode.tasks.models import Work
from bold_anode.tubes import operations as tubes
from bold_anode.tubes.models import OwnTube
from thermionic import examples
from thermionic.chassis.document import changed_layout
from thermionic.design import changed
from thermionic.errors import ThermionicError
from thermionic.powerup import Step

pytestmark = pytest.mark.django_db(transaction=True)
WRITERS = 4
RESISTOR = "blocks/output/cathode_resistor/ohm"
RECTIFIER = "drop_v,anode_a\n17,0.225\n10,0.1\n"


@contextmanager
def slowly():
    """A moment after each query that only reads."""

    def wait(execute, sql, params, many, context):
        result = execute(sql, params, many, context)
        if sql.startswith("SELECT") and "FOR UPDATE" not in sql and "FOR NO KEY" not in sql and "pg_" not in sql:
            time.sleep(0.02)
        return result

    with connection.execute_wrapper(wait):
        yield


def at_once(write, writers=WRITERS):
    """Have so many write at the same moment, each given its number: how many were told that it is kept."""
    gate, kept, faults = threading.Barrier(writers), [], []

    def run(number):
        try:
            gate.wait(20)
            with slowly():
                kept.append(write(number))
        except (ThermionicError, Http404):
            pass
        except Exception as fault:
            faults.append(fault)
        finally:
            connection.close()

    threads = [threading.Thread(target=run, args=(number,)) for number in range(writers)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(120)
    assert faults == []
    assert kept, "nobody's was kept"
    return len(kept)


def test_every_reading_of_an_unknown_transformer_is_kept(owner):
    unknown = iron.begin_unknown(owner, "From the shed", "a b c d e f g h")
    leads = "bcdefgh"
    typed = lambda number: {"a": "a", "b": leads[number], "ohms": "open"}
    kept = at_once(lambda number: iron.read_unknown(owner, unknown.pk, typed(number)))
    unknown.refresh_from_db()
    assert len(unknown.readings) == kept == WRITERS
    assert at_once(lambda number: iron.describe_unknown(owner, unknown.pk, str(number + 1), "230")) == WRITERS
    at_once(lambda number: iron.take_back(owner, unknown.pk, number) if number % 2
            else iron.read_unknown(owner, unknown.pk, typed(4 + number // 2)))  # fmt: skip
    unknown.refresh_from_db()
    read = {reading["b"] for reading in unknown.readings}
    assert {"f", "g"} <= read
    assert unknown.core_cm2 in (1, 2, 3, 4)


LIMITED = {
    "mains readings": (rails, "MOST_READINGS", MainsReading, lambda o, n: rails.add_reading(o, f"{230 + n}")),
    "pieces": (iron, "MOST_ITEMS", ShelfItem, lambda o, n: iron.add_item(o, "choke", f"C{n}", "", "", {})),
    "unknown": (iron, "MOST_UNKNOWN", UnknownIron, lambda o, n: iron.begin_unknown(o, f"U{n}", "a b")),
    "sizes": (chassis, "MOST_SIZES", KeptSize, lambda o, n: chassis.keep_size(o, f"S{n}", 0.1, 0.1, 0.1, 0.1)),
    "tubes": (tubes, "MOST_TUBES", OwnTube,
              lambda o, n: tubes.add_tube(o, tubes.Measured(f"T{n}", "rectifier", RECTIFIER, "300", "1"))),
    "work": (tasks, "MOST_UNDER_WAY", Work, lambda o, n: tasks.ask(o, "counting", f"W{n}")),
}  # fmt: skip


@pytest.mark.parametrize("what", LIMITED)
def test_no_limit_is_passed(owner, monkeypatch, what):
    module, name, model, write = LIMITED[what]
    monkeypatch.setattr(kinds, "_kinds", {"counting": lambda work, report: None})
    monkeypatch.setattr(module, name, 2)
    assert at_once(lambda number: write(owner, number)) == model.objects.count() == 2


ONCE = {
    "a size": (KeptSize, lambda o, n: chassis.keep_size(o, "Box", 0.1, 0.1, 0.1, 0.1 + n / 100)),
    "a tube": (OwnTube, lambda o, n: tubes.add_tube(o, tubes.Measured("Mine", "rectifier", RECTIFIER, "300", "1"))),
    "work": (Work, lambda o, n: tasks.ask(o, "counting", "the same")),
    "an import": (Work, lambda o, n: arriving.ask(o, "a.zip", b"PK")),
}


@pytest.mark.parametrize("what", ONCE)
def test_what_is_there_once_is_made_once(owner, monkeypatch, what):
    model, write = ONCE[what]
    monkeypatch.setattr(kinds, "_kinds", {"counting": lambda work, report: None})
    at_once(lambda number: write(owner, number))
    assert model.objects.count() == 1


def test_a_piece_of_iron_goes_into_one_project(owner):
    item = iron.add_item(owner, "output", "Big", "", "", {"primary_ohm": ("3k5", "measured")})
    projects = [create_project(owner, examples.example("lantern")) for _ in range(2)]
    put = lambda number: iron.use_item(owner, projects[number].pk, item.pk, "blocks/transformer")
    assert at_once(put, writers=2) == 1
    item.refresh_from_db()
    holders = [project for project in projects if Origin.objects.filter(project=project).exists()]
    assert [project.pk for project in holders] == [item.project_id]


def test_changes_of_a_project_are_all_kept(owner, project):
    names = ("one", "two", "three", "four")
    assert at_once(lambda number: variants.keep(owner, project.pk, names[number])) == 4
    assert set(Variant.objects.values_list("name", flat=True)) >= set(names)
    assert at_once(lambda number: chassis.keep_variant(owner, project.pk, names[number])) == 4
    assert ChassisLayout.objects.filter(chosen=True).count() == 1
    fields = ("heater_pitch", "measured_volt")
    change = lambda number: chassis.change_layout(
        owner, project.pk, lambda layout: (changed_layout(layout, **{fields[number]: 0.02}), fields[number])
    )
    assert at_once(change, writers=2) == 2
    layout = ChassisLayout.objects.get(chosen=True).at.read
    assert (layout.heater_pitch, layout.measured_volt) == (0.02, 0.02)
    reading_set = start_set_on(project.current, Step.ALL_TUBES, 230.0, "left")
    assert at_once(lambda number: take_reading(owner, reading_set.pk, "output_cathode", f"4{number}")) == 4
    assert Reading.objects.count() == 4
    origin = lambda number: iron.say_origin(owner, project.pk, "blocks/transformer/primary_henry", "measured")
    assert at_once(origin) == 4
    assert Origin.objects.count() == 1


def test_undo_and_a_change_at_once_leave_one_history(owner, project):
    change_design(owner, project.pk, lambda design: (changed(design, RESISTOR, "800"), "first"))
    edit = lambda design: (changed(design, "blocks/driver/anode_load/ohm", "82k"), "second")
    at_once(lambda number: change_design(owner, project.pk, edit) if number % 2 else undo(owner, project.pk))
    numbers = list(project.revisions.values_list("number", flat=True))
    assert numbers == list(range(1, len(numbers) + 1))
    project.refresh_from_db()
    assert project.current.project_id == project.pk
    delete_or_edit = lambda number: (
        change_design(owner, project.pk, edit) if number else delete_project(owner, project.pk)
    )
    at_once(delete_or_edit, writers=2)
    assert Project.objects.of(owner).count() == 0


def test_a_name_and_an_invitation_are_used_once(settings):
    form = lambda name: SignUp({"username": name, "password1": "quite-some-thing", "password2": "quite-some-thing"})

    def make(name, token=""):
        made = sign_up(form(name), token)
        if made is None:
            raise ThermionicError("refused")
        return made

    names = ("Bo", "bo", "BO", "bO")
    assert at_once(lambda number: make(names[number])) == 1
    settings.SIGN_UP = "invitation"
    token = invite().token
    assert at_once(lambda number: make(f"guest-{number}", token)) == 1
    assert get_user_model().objects.count() == 2
