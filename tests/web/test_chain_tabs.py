"""The Chain's views of the whole amplifier: tabs, studies, feedback's compensation, variants."""

import io
import re
from unittest import mock

import pytest
from django.http import Http404
from django.urls import reverse

from bold_anode.accounts import carrying
from bold_anode.amps import operations, studies, variants
from bold_anode.amps.models import Project, Variant
from bold_anode.amps.operations import change_design, create_project
from bold_anode.chain.tabs import TABS
from bold_anode.frame.versioned import Stale
from bold_anode.tasks.models import State, Work
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import changed
from thermionic.errors import ThermionicError, ValueRefused
from thermionic.performance.levels import gain_budget
from thermionic.performance.tolerances import tolerances
from thermionic.values import Quantity, display

OHM = "blocks/output/cathode_resistor/ohm"


def chain(project, tab):
    return f"{reverse('room', args=[project.pk, 'chain'])}?tab={tab}"


@pytest.fixture
def hurdle(owner):
    return create_project(owner, examples.example("hurdle"))


@pytest.mark.parametrize("tab", [tab.slug for tab in TABS])
@pytest.mark.parametrize("name", ["lantern", "hurdle", "plover", "otter"])
def test_every_view_is_drawn_of_every_sort_of_amplifier(bench, owner, name, tab):
    project = create_project(owner, examples.example(name))
    page = bench.get(chain(project, tab))
    assert page.status_code == 200
    assert f'?tab={tab}" aria-current="page"' in page.content.decode()


def test_the_levels_are_the_cores_numbers(bench, project):
    result = gain_budget(solve(examples.example("lantern")))
    page = bench.get(chain(project, "levels")).content.decode()
    driver = next(step for step in result.steps if step.block == "driver")
    assert display(driver.at_full, Quantity.VOLTAGE) in page
    assert f"× {driver.gain:.3g}" in page
    assert f"{driver.margin_db:+.1f} dB" in page


def test_a_change_made_from_a_view_is_answered_with_that_view(bench, project):
    data = {"path": OHM, "value": "820", "seen": "1"}
    headers = {"HX-Request": "true", "HX-Current-URL": f"http://testserver{chain(project, 'quiet')}"}
    answer = bench.post(reverse("change", args=[project.pk, "chain"]), data, headers=headers).content.decode()
    assert "Noise at the load" in answer
    assert 'data-revision="2"' in answer


def without_token(answer):
    text = answer if isinstance(answer, str) else answer.content.decode()
    return re.sub(r'name="csrfmiddlewaretoken" value="\w+"', "", text)


@pytest.mark.parametrize("slug", ["two-tones", "burst", "schools"])
def test_a_study_is_asked_for_by_looking_and_kept_with_its_revision(bench, hurdle, worker, slug):
    address = reverse("study", args=[hurdle.pk, slug])
    waiting = bench.get(address).content.decode()
    assert "every 1s" in waiting
    bench.get(address)
    (work,) = Work.objects.filter(kind=f"study: {slug}")
    assert work.revision == hurdle.current
    worker()
    done = bench.get(address).content.decode()
    assert "every 1s" not in done
    assert ("<svg" in done) == (slug != "schools")
    change_design(hurdle.owner, hurdle.pk, lambda design: (changed(design, OHM, "160"), "less"))
    assert "every 1s" in bench.get(address).content.decode()  # another design, another study
    operations.undo(hurdle.owner, hurdle.pk)
    assert without_token(bench.get(address)) == without_token(done)


def test_builds_are_asked_for_with_their_number_and_shown(bench, project, worker):
    address = reverse("study", args=[project.pk, "tolerances"])
    assert "Not built yet" in bench.get(address).content.decode()
    for wrong in ("", "5", "1e3", "9999999", "-4"):
        assert bench.post(address, {"builds": wrong}).status_code == 422
    assert not Work.objects.exists()
    bench.post(address, {"builds": "60"})
    work = Work.objects.get()
    assert work.arguments == {"builds": 60, "matched": False}
    worker()
    work.refresh_from_db()
    assert work.state == State.DONE
    page = bench.get(address).content.decode()
    gain = next(
        quantity
        for quantity in tolerances(solve(examples.example("lantern")), 60).quantities
        if quantity.key == "gain"
    )
    assert f"{gain.low:+.2f} dB to {gain.high:+.2f} dB" in page
    assert "60 builds</h3>" in page  # there are no pairs to be matched
    assert studies.latest(project.owner, project, studies.named("tolerances")) == work


def test_a_study_of_anothers_amplifier_is_no_page(client, stranger, project):
    client.force_login(stranger)
    assert client.get(reverse("study", args=[project.pk, "burst"])).status_code == 404
    assert client.get(reverse("study", args=[project.pk, "nothing"])).status_code == 404
    assert not Work.objects.exists()


def test_a_compensation_is_offered_put_in_and_undone(bench, hurdle):
    offered = bench.get(reverse("chain-compensation", args=[hurdle.pk, "feedback"])).content.decode()
    sent = dict(re.findall(r'name="(kind|farad|ohm|place|seen)" value="([^"]*)"', offered.split("</form>")[0]))
    assert sent["kind"] == "lead"
    address = reverse("chain-compensate", args=[hurdle.pk, "feedback"])
    for spoiled in ({"farad": "much"}, {"kind": "magic"}, {"ohm": ""}):
        assert bench.post(address, sent | spoiled).status_code == 422
    assert bench.post(address, sent).status_code == 302
    design = Project.objects.get(pk=hurdle.pk).at.design
    assert display(design.block("feedback").capacitor.farad, Quantity.CAPACITANCE) == "22 pF"
    step = dict(re.findall(r'name="(kind|farad|ohm|place)" value="([^"]*)"', offered.split("</form>")[1]))
    assert bench.post(address, step | {"seen": "2"}).status_code == 302
    assert Project.objects.get(pk=hurdle.pk).at.design.block("step_network").a == step["place"]
    operations.undo(hurdle.owner, hurdle.pk)
    operations.undo(hurdle.owner, hurdle.pk)
    assert Project.objects.get(pk=hurdle.pk).at.design == examples.example("hurdle")


def names(project):
    return [(variant.name, variant.head.number) for variant in project.variants.all()]


def test_variants_stay_beside_each_other_and_each_goes_its_own_way(owner, project):
    variants.keep(owner, project.pk, "Hotter", lambda design: (changed(design, OHM, "680"), "hotter"))
    project.refresh_from_db()
    assert names(project) == [("As it was", 1), ("Hotter", 2)]
    assert project.variant.name == "Hotter"
    change_design(owner, project.pk, lambda design: (changed(design, OHM, "620"), "hotter still"))
    assert names(project) == [("As it was", 1), ("Hotter", 3)]
    operations.undo(owner, project.pk)
    assert names(project) == [("As it was", 1), ("Hotter", 2)]
    operations.redo(owner, project.pk)
    first = project.variants.get(name="As it was")
    variants.choose(owner, project.pk, first.pk)
    change_design(owner, project.pk, lambda design: (changed(design, OHM, "1k"), "cooler"))
    project.refresh_from_db()
    assert names(project) == [("As it was", 4), ("Hotter", 3)]
    assert project.at.parent.number == 1
    # A copy of it as it is needs no revision of its own; a name that is taken is numbered.
    variants.keep(owner, project.pk, "Hotter")
    project.refresh_from_db()
    assert names(project) == [("As it was", 4), ("Hotter", 3), ("Hotter 2", 4)]
    assert project.current.number == 4


def test_variants_are_renamed_and_deleted_but_for_the_one_worked_on(owner, stranger, project):
    variants.keep(owner, project.pk, "Other")
    project.refresh_from_db()
    other, first = project.variant, project.variants.get(name="As it was")
    variants.rename(owner, project.pk, first.pk, "  The  first ", " 240  or so")
    assert project.variants.get(pk=first.pk).cost == "240 or so"
    with pytest.raises(ValueRefused, match="up to 20 characters"):
        variants.rename(owner, project.pk, first.pk, "The first", "a very great deal of money")
    with pytest.raises(ValueRefused, match="already"):
        variants.rename(owner, project.pk, other.pk, "The first")
    with pytest.raises(ValueRefused, match="1 to 60"):
        variants.rename(owner, project.pk, other.pk, " ")
    with pytest.raises(ValueRefused, match="worked on"):
        variants.drop(owner, project.pk, other.pk)
    for change in (variants.choose, variants.drop):
        with pytest.raises(Http404):
            change(stranger, project.pk, first.pk)
    elsewhere = create_project(owner, examples.example("lantern"))
    with pytest.raises(Http404):
        variants.choose(owner, elsewhere.pk, first.pk)
    variants.drop(owner, project.pk, first.pk)
    assert names(project) == [("Other", 1)]
    assert project.revisions.count() == 1


def test_no_more_variants_than_are_compared(owner, project):
    for number in range(variants.MOST - 1):
        variants.keep(owner, project.pk, f"Number {number}")
    with pytest.raises(ValueRefused, match="delete one first"):
        variants.keep(owner, project.pk, "One more")
    assert Variant.objects.count() == variants.MOST


def test_a_refused_variant_leaves_nothing(owner, project):
    def spoil(design):
        return changed(design, "blocks/output/cathode_resistor/ohm", "nothing"), "spoiled"

    with pytest.raises(ThermionicError):
        variants.keep(owner, project.pk, "Spoiled", spoil)
    assert not Variant.objects.exists()
    with pytest.raises(Stale):
        variants.keep(owner, project.pk, "Behind", seen=7)


def test_a_school_becomes_a_variant_and_its_numbers_stand_beside(bench, hurdle, worker):
    bench.get(reverse("study", args=[hurdle.pk, "schools"]))
    worker()
    page = bench.get(chain(hurdle, "variants")).content.decode()
    assert "Triode connection" in page
    assert "the only one" in page
    bench.post(reverse("variant-keep", args=[hurdle.pk]), {"school": "triode", "name": "Triode", "seen": "1"})
    hurdle.refresh_from_db()
    assert hurdle.variant.name == "Triode"
    assert hurdle.at.design.block("output").screen is None
    row = bench.get(reverse("variant-row", args=[hurdle.pk, hurdle.variants.first().pk])).content.decode()
    full = solve(examples.example("hurdle")).full_output.power_watt
    assert display(full, Quantity.POWER) in row.replace("\u00a0", " ")
    page = bench.get(chain(hurdle, "variants")).content.decode()
    assert "Triode against As it was" in page
    assert "Output, screen" in page
    assert bench.post(reverse("variant-keep", args=[hurdle.pk]), {"school": "magic", "name": "x"}).status_code == 422
    assert bench.post(reverse("variant-keep", args=[hurdle.pk]), {"name": ""}).status_code == 422


def test_variants_travel_with_an_account(owner, stranger, project):
    variants.keep(owner, project.pk, "Hotter", lambda design: (changed(design, OHM, "680"), "hotter"))
    variants.rename(owner, project.pk, project.variants.get(name="Hotter").pk, "Hotter", "240")
    carrying.unpack(stranger, io.BytesIO(carrying.packed(owner)))
    copy = Project.objects.of(stranger).get()
    assert names(copy) == [("As it was", 1), ("Hotter", 2)]
    assert copy.variants.get(name="Hotter").cost == "240"
    assert copy.variant.name == "Hotter"
    operations.forget_projects(owner)
    assert Variant.objects.count() == 2


def test_a_handle_that_is_let_go_changes_the_design(bench, project):
    address = reverse("chain-drag", args=[project.pk])
    moved = {"stage": "driver", "handle": "point", "volt": "150", "ampere": "0.0015", "seen": "1"}
    assert bench.post(address, moved).status_code == 302
    after = solve(Project.objects.get(pk=project.pk).at.design)
    assert after.parts["V1"].current == pytest.approx(1.5e-3, rel=0.05)
    for spoiled in ({"volt": ""}, {"ampere": "-1"}, {"handle": "curve"}, {"stage": "speaker"}, {"stage": "nothing"}):
        assert bench.post(address, moved | {"seen": "2"} | spoiled).status_code == 422, spoiled
    # A point above the operating point and to its right is on no load line.
    nowhere = {"handle": "line", "volt": "290", "ampere": "0.05", "seen": "2"}
    assert bench.post(address, moved | nowhere).status_code == 422
    assert Project.objects.get(pk=project.pk).revisions.count() == 2


def test_a_stage_that_clips_with_no_signal_is_said_to(bench, project):
    limits = {"driver": 1.0, "output": 0.0}
    with mock.patch("thermionic.performance.levels.gives_out", lambda _, block: limits.get(block)):
        change_design(
            project.owner, project.pk, lambda d: (changed(d, "blocks/output/cathode_resistor/ohm", 777.0), "")
        )
        page = bench.get(chain(project, "levels"))
    assert page.status_code == 200
    assert "clips at any level" in page.content.decode()
