"""Two windows on one project: nothing is lost, nothing is written over."""

import threading
from concurrent.futures import ThreadPoolExecutor

import pytest
from django.db import connection

from bold_anode.amps.operations import change_design, create_project
from bold_anode.frame.versioned import Stale
from bold_anode.powerup import plans
from thermionic import examples
from thermionic.design import changed, field
from thermionic.powerup import Step

RESISTOR = "blocks/output/cathode_resistor/ohm"


@pytest.mark.django_db(transaction=True)
def test_changes_at_the_same_moment_are_both_kept(owner):
    project = create_project(owner, examples.example("lantern"))
    gate = threading.Barrier(4)
    failures = []

    def change(path, typed):
        try:
            gate.wait(20)
            change_design(owner, project.pk, lambda design: (changed(design, path, typed), path))
        except Exception as failure:
            failures.append(failure)
        finally:
            connection.close()

    edits = {
        RESISTOR: "820",
        "blocks/driver/cathode_resistor/ohm": "1k8",
        "blocks/driver/anode_load/ohm": "82k",
        "blocks/ht3/resistor/ohm": "10k",
    }
    threads = [threading.Thread(target=change, args=edit) for edit in edits.items()]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(60)
    assert failures == []
    project.refresh_from_db()
    assert [revision.number for revision in project.revisions.all()] == [1, 2, 3, 4, 5]
    for path, typed in edits.items():
        assert field(project.current.design, path).text == typed


@pytest.mark.django_db(transaction=True)
def test_a_window_that_is_behind_is_told_so(owner):
    project = create_project(owner, examples.example("lantern"))
    change_design(owner, project.pk, lambda design: (changed(design, RESISTOR, "820"), "first"), seen=1)
    with pytest.raises(Stale, match="another window"):
        change_design(owner, project.pk, lambda design: (changed(design, RESISTOR, "1k"), "second"), seen=1)
    project.refresh_from_db()
    assert field(project.current.design, RESISTOR).text == "820"


@pytest.mark.django_db
def test_a_plan_that_is_being_solved_keeps_no_other_waiting(owner, monkeypatch):
    """Two power-up plans are solved side by side; the same one is solved once, however many ask."""
    first, second = (create_project(owner, examples.example(name)).current for name in ("lantern", "saltpan"))
    solving, both = [], threading.Barrier(2, timeout=20)

    def plan(design, *_):
        solving.append(design.name)
        both.wait()  # broken unless the other is solved meanwhile
        return design.name

    monkeypatch.setattr(plans, "plan", plan)
    asked = [(first, 201.5), (second, 201.5), (first, 201.5)]
    with ThreadPoolExecutor(3) as pool:
        result = list(pool.map(lambda one: plans.plan_for(one[0], Step.ALL_TUBES, one[1]), asked))
    assert result == [first.design.name, second.design.name, first.design.name]
    assert sorted(solving) == sorted({first.design.name, second.design.name})
