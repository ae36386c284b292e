"""Two windows on one project: nothing is lost, nothing is written over."""

import threading

import pytest
from django.db import connection

from bold_anode.amps.operations import Stale, change_design, create_project
from thermionic import examples
from thermionic.design import changed, field

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
