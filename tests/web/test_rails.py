"""Rails and Heaters: the tree, the log of the mains, selenium, taps and filaments."""

import io

import pytest
from django.urls import reverse

from bold_anode.accounts import carrying
from bold_anode.amps.models import Project
from bold_anode.amps.operations import create_project
from bold_anode.rails import operations
from bold_anode.rails.models import MainsReading
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import changed, dump, validate
from thermionic.errors import ValueRefused
from thermionic.supplies.bleeding import bleeders
from thermionic.supplies.heating import heating
from thermionic.supplies.moments import at_work, cold
from thermionic.supplies.sagging import sag
from thermionic.supplies.selenium import replacement
from thermionic.supplies.starting import switch_on
from thermionic.supplies.stress import stresses
from thermionic.supplies.trimming import reaches
from thermionic.values import Quantity, display


def room(project, slug="rails", tab=""):
    return reverse("room", args=[project.pk, slug]) + (f"?tab={tab}" if tab else "")


def design_of(project):
    return Project.objects.get(pk=project.pk).at.design


@pytest.mark.parametrize("name", sorted(examples.names()))
def test_both_rooms_are_drawn_of_every_sort_of_amplifier(bench, owner, name):
    project = create_project(owner, examples.example(name))
    tabs = ("supplies", "moments", "playing", "switch", "schools", "mains")
    for address in (*(room(project, tab=tab) for tab in tabs), room(project, "heaters")):
        assert bench.get(address).status_code == 200


def test_the_tree_has_every_solved_figure_and_what_hangs_where(bench, owner):
    project = create_project(owner, examples.example("mill"))
    page = bench.get(room(project)).content.decode()
    amplifier = solve(examples.example("mill"))
    for rail in amplifier.compiled.rails:
        assert display(amplifier.voltage(rail.node), Quantity.VOLTAGE) in page
    assert "Interstage <b>" in page
    assert 'data-path="blocks/rectifier/anode_resistor"' in page
    editor = bench.get(
        reverse("chain-part", args=[project.pk]), {"path": "blocks/reservoir/capacitor", "room": "rails"}
    )
    assert reverse("change", args=[project.pk, "rails"]) in editor.content.decode()
    odd = bench.get(reverse("chain-part", args=[project.pk]), {"path": "blocks/reservoir/capacitor", "room": "attic"})
    assert reverse("change", args=[project.pk, "chain"]) in odd.content.decode()


def test_every_moment_is_on_the_page_as_it_was_solved(bench, owner):
    project = create_project(owner, examples.example("mill"))
    page = bench.get(room(project, tab="moments")).content.decode()
    amplifier = solve(examples.example("mill"))
    for moment in (at_work(amplifier, 207.0), at_work(amplifier, 253.0), cold(amplifier, 253.0)):
        assert display(moment.state.at.voltage("reservoir"), Quantity.VOLTAGE) in page
    over = next(
        stress for stress in stresses(amplifier) if stress.designator == "V3" and stress.what == "reverse voltage"
    )
    assert over.value > over.limit == 1000.0
    assert f"▲ {over.share:.0%}" in page
    assert "±10 % assumed" in page


def test_the_first_minute_is_a_study_with_its_peaks(bench, owner, worker):
    project = create_project(owner, examples.example("saltpan"))
    for slug in ("switch-on", "buys", "sag"):
        bench.get(reverse("study", args=[project.pk, slug]))
    worker()
    page = bench.get(room(project, tab="switch")).content.decode()
    run = switch_on(solve(examples.example("saltpan")), 253.0)
    peak = run.capacitors["C6"]
    assert peak.value > 550.0  # the choke rings the reservoir over what it is made for
    assert display(peak.value, Quantity.VOLTAGE) in page
    assert f"{peak.value / 550:.0%}" in page
    page = bench.get(room(project, tab="playing")).content.decode()
    assert "dB quieter" in page
    sagged = next(rail for rail in sag(solve(examples.example("saltpan"))).rails if rail.name == "ht1")
    assert display(sagged.under, Quantity.VOLTAGE) in page
    assert f"{100 * (sagged.under / sagged.before - 1):+.1f} %" in page


def test_a_school_of_supplies_becomes_a_variant(bench, owner, worker):
    project = create_project(owner, examples.example("lantern"))
    assert "Compare them here" in bench.get(room(project, tab="schools")).content.decode()
    bench.post(reverse("study", args=[project.pk, "supply-schools"]))
    worker()
    page = bench.get(room(project, tab="schools")).content.decode()
    for school in ("Vacuum rectifier", "Choke in the HT", "MOSFET filter", "Film reservoir"):
        assert school in page
    fields = {"school": "choke", "name": "Choke", "seen": project.at.number}
    assert bench.post(reverse("variant-keep", args=[project.pk]), fields).status_code == 302
    assert project.variants.get(name="Choke").head.design.block("ht1").kind == "lc-section"


def test_turns_past_the_ht_are_set_to_their_null(bench, owner, worker):
    raw = dump(examples.example("wicket"))
    blocks = {block["id"]: block for block in raw["blocks"]}
    blocks["transformer"]["hum_share"] = 0.02
    for name, more in (("ht1", {}), ("ht2", {"input": "transformer.bucked"})):
        blocks[name] |= {"scope": "channel", **more}
    project = create_project(owner, validate(raw))
    bench.get(reverse("study", args=[project.pk, "hum-tap"]))
    worker()
    page = bench.get(room(project, tab="playing")).content.decode()
    assert "Set it to its null" in page
    fields = {"block": "transformer", "share": "0.05", "seen": "1"}
    bench.post(reverse("hum-tap", args=[project.pk]), fields)
    assert design_of(project).block("transformer").hum_share == 0.05
    wrong = bench.post(reverse("hum-tap", args=[project.pk]), {"block": "ht1", "share": "0.05"})
    assert b"Only an output transformer" in wrong.content


def test_the_mains_is_read_written_down_and_taken(bench, owner, stranger, client):
    project = create_project(owner, examples.example("reedbed"))
    for volt, when in (("238", "2026-11-20T07:30"), ("247", "2026-11-21T23:00"), ("241", "")):
        assert bench.post(reverse("mains-read", args=[project.pk]), {"volt": volt, "when": when}).status_code == 302
    assert operations.spread(owner) == (238.0, 241.0, 247.0)
    assert (
        "238 V lowest, 241 V in the middle, 247 V highest" in bench.get(room(project, tab="mains")).content.decode()
    )
    bench.post(reverse("mains-use", args=[project.pk]), {"seen": "1"})
    brief = design_of(project).brief
    assert (brief.mains_low_volt, brief.mains_volt, brief.mains_high_volt) == (238.0, 241.0, 247.0)
    bench.post(
        reverse("mains-take", args=[project.pk]), {"way": "blocks/mains_transformer/tap_volt=240", "seen": "2"}
    )
    assert design_of(project).block("mains_transformer").tap_volt == 240.0
    gone = bench.post(reverse("mains-take", args=[project.pk]), {"way": "blocks/mains_transformer/tap_volt=99"})
    assert b"not open to this design" in gone.content
    again = carrying.packed(owner)
    assert carrying.unpack(stranger, io.BytesIO(again)) == {"projects": 1, "tubes": 0}
    assert operations.spread(stranger) == (238.0, 241.0, 247.0)
    client.force_login(stranger)
    first = MainsReading.objects.of(owner).first()
    assert client.post(reverse("mains-forget", args=[project.pk, first.pk])).status_code == 404
    operations.remove_reading(owner, first.pk)
    assert MainsReading.objects.of(owner).count() == 2


@pytest.mark.parametrize(
    ("volt", "when", "says"),
    [("12", "", "from 80 to 300 V"), ("lots", "", "lots"), ("230", "yesterday", "no date and time"),
     ("230", "2026-13-45T10:00", "no date and time")],
)  # fmt: skip
def test_a_reading_that_cannot_be_is_refused_in_a_sentence(owner, volt, when, says):
    with pytest.raises(ValueRefused, match=says):
        operations.add_reading(owner, volt, when)
    assert not MainsReading.objects.exists()


def test_selenium_is_replaced_with_its_resistor(bench, owner):
    design = changed(examples.example("saltpan"), "blocks/bias/diode/material", "selenium")
    design = changed(design, "blocks/bias/diode/in_series", "5")
    project = create_project(owner, design)
    result, _ = replacement(solve(design), "bias")
    page = bench.get(room(project)).content.decode()
    assert f"<b>{display(result.ohm, Quantity.RESISTANCE)}</b> in series" in page
    assert "poisonous fumes" in page
    bench.post(reverse("selenium-replace", args=[project.pk]), {"block": "bias", "seen": "1"})
    after = design_of(project).block("bias")
    assert after.diode.material == "silicon"
    assert after.dropping.ohm == result.ohm
    again = bench.post(reverse("selenium-replace", args=[project.pk]), {"block": "bias"})
    assert b"no selenium rectifier there any more" in again.content


def test_heaters_are_as_the_core_has_them_and_a_filament_is_set_to_its_null(bench, owner, worker):
    design = changed(examples.example("mill"), "blocks/output/filament/travel", "0.44")
    project = create_project(owner, design)
    bench.get(reverse("study", args=[project.pk, "filament-null"]))
    worker()
    page = bench.get(room(project, "heaters")).content.decode()
    for string in heating(solve(design).compiled, solve(design).state):
        assert display(string.volt, Quantity.VOLTAGE) + " AC" in page
    assert "Set it to its null" in page
    bench.post(reverse("filament-balance", args=[project.pk]),
               {"path": "blocks/output/filament", "travel": "0.5", "seen": "1"})  # fmt: skip
    assert design_of(project).block("output").filament.travel == 0.5
    wrong = bench.post(reverse("filament-balance", args=[project.pk]), {"path": "blocks/output", "travel": "0.5"})
    assert b"Only a filament" in wrong.content


def test_heaters_that_nothing_feeds_get_their_windings(bench, owner):
    """At the press of one button each tube has its volts, within a twentieth; with all fed it is refused."""
    project = create_project(owner, examples.example("weir"))
    page = bench.get(reverse("room", args=[project.pk, "heaters"])).content.decode()
    assert "No heater supply drawn" in page
    page = bench.post(reverse("heaters-feed", args=[project.pk]), {"seen": 1}, follow=True).content.decode()
    assert "No heater supply drawn" not in page
    amplifier = solve(Project.objects.get(pk=project.pk).current.design)
    heaters = {
        one.use.envelope: one for state in heating(amplifier.compiled, amplifier.state) for one in state.heated
    }
    assert {name: round(one.volt, 1) for name, one in heaters.items()} == {"v1": 6.3, "v2": 6.3, "v3": 5.0}
    # The rectifier's cathode is at the HT and its heater with it: it has a winding of its own.
    assert heaters["v3"].use.block != heaters["v1"].use.block == heaters["v2"].use.block
    again = bench.post(reverse("heaters-feed", args=[project.pk]), {"seen": 2}, follow=True).content.decode()
    assert "is fed already" in again


def test_the_reach_of_the_bias_trimmers_is_told(bench, owner, worker):
    project = create_project(owner, changed(examples.example("saltpan"), "blocks/bias/trim/track_ohm", "3k3"))
    bench.get(reverse("study", args=[project.pk, "trim-reach"]))
    worker()
    page = bench.get(room(project), {"tab": "moments"}).content.decode()
    needs = [need.travel for reach in reaches(solve(design_of(project))) for need in reach.needs]
    assert 0 < needs.count(None) < len(needs)
    assert page.count("out of reach") == needs.count(None)
    for travel in needs:
        assert travel is None or f"<b>{travel:.0%}</b>" in page


def test_a_bleeder_that_was_sized_is_fitted(bench, owner, worker):
    project = create_project(owner, examples.example("saltpan"))
    bench.get(reverse("study", args=[project.pk, "bleeders"]))
    worker()
    page = bench.get(room(project), {"tab": "switch"}).content.decode()
    one = bleeders(solve(design_of(project)))[0]
    assert f"<b>{display(one.ohm, Quantity.RESISTANCE)}</b>" in page
    said = {"path": one.path, "ohm": f"{one.ohm:g}", "watt": f"{one.rating_watt:g}"}
    for wrong, words in (({"ohm": "many"}, "many"), ({"path": "blocks/output/foot"}, "Only a supply"),
                         ({"watt": "-3"}, "3")):  # fmt: skip
        refused = bench.post(reverse("bleeder-fit", args=[project.pk]), said | wrong)
        assert words in refused.content.decode()
        assert design_of(project) == examples.example("saltpan")
    bench.post(reverse("bleeder-fit", args=[project.pk]), said)
    assert design_of(project).block("reservoir").bleeder.ohm == one.ohm
    assert design_of(project).block("reservoir").bleeder.rating_watt == one.rating_watt
