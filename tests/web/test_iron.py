"""Iron: the output transformer's page, the shelf, unknown transformers."""

import io

import pytest
from django.urls import reverse

from bold_anode.accounts import carrying
from bold_anode.amps.models import Project
from bold_anode.amps.operations import change_design, create_project
from bold_anode.iron import operations
from bold_anode.iron.models import Origin, ShelfItem, UnknownIron
from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import changed
from thermionic.design.iron import Piece, places_for, put_in
from thermionic.errors import DesignRefused, ValueRefused
from thermionic.iron.taps import on_taps, unloaded
from thermionic.values import Quantity, display


def iron(project, tab="output"):
    return f"{reverse('room', args=[project.pk, 'iron'])}?tab={tab}"


@pytest.mark.parametrize("name", ["lantern", "saltpan", "wicket", "plover", "otter"])
def test_the_room_is_drawn_of_every_sort_of_amplifier(bench, owner, name):
    project = create_project(owner, examples.example(name))
    page = bench.get(iron(project)).content.decode()
    assert ("Never unloaded" in page) == (name not in ("plover", "otter"))


def test_every_tap_is_solved_and_the_load_left_off(bench, project, worker):
    for slug in ("taps", "unloaded", "lows"):
        bench.get(reverse("study", args=[project.pk, slug]))
    worker()
    page = bench.get(iron(project)).content.decode()
    amplifier = solve(examples.example("lantern"))
    for on_tap in on_taps(amplifier):
        assert display(on_tap.power_watt, Quantity.POWER) in page
        assert display(on_tap.primary_ohm, Quantity.RESISTANCE) in page
    assert display(unloaded(amplifier).anode_volt, Quantity.VOLTAGE) in page
    assert "Nine tenths of full output down to" in page


FIGURES = {
    "figure-primary_ohm": "5k", "from-primary_ohm": "label",
    "figure-primary_henry": "12", "from-primary_henry": "measured",
    "figure-watt": "8 W", "from-watt": "assumed", "figure-hertz": "50 Hz", "from-hertz": "assumed",
}  # fmt: skip


def test_a_piece_is_put_on_the_shelf_used_and_put_back(bench, owner, project):
    bench.post(reverse("shelf-add"), {"kind": "output", "name": "Old one", "place": "left", **FIGURES})
    item = ShelfItem.objects.get()
    assert item.figures["primary_henry"] == {"text": "12", "from": "measured"}
    page = bench.get(iron(project, "shelf")).content.decode()
    assert "Use as Transformer" in page
    bench.post(reverse("shelf-use", args=[project.pk, item.pk]), {"path": "blocks/transformer", "seen": "1"})
    design = Project.objects.get(pk=project.pk).at.design
    transformer = design.block("transformer")
    assert (transformer.primary_ohm, transformer.primary_henry, transformer.core.watt) == (5000.0, 12.0, 8.0)
    assert transformer.leakage_henry == examples.example("lantern").block("transformer").leakage_henry  # not known
    item.refresh_from_db()
    assert item.project == project
    # Where each value came from goes with it, until another value stands there.
    path = "blocks/transformer/primary_henry"
    assert operations.origins_of(Project.objects.get(pk=project.pk))[path] == "measured"
    bench.post(reverse("change", args=[project.pk, "iron"]), {"path": path, "value": "15"})
    assert path not in operations.origins_of(Project.objects.get(pk=project.pk))
    bench.post(reverse("iron-origin", args=[project.pk]), {"path": path, "source": "data sheet"})
    assert operations.origins_of(Project.objects.get(pk=project.pk))[path] == "data sheet"
    assert "<option selected>data sheet</option>" in bench.get(iron(project)).content.decode()
    other = create_project(owner, examples.example("lantern"))
    answer = bench.post(reverse("shelf-use", args=[other.pk, item.pk]), {"path": "blocks/transformer"})
    assert "already" in answer.content.decode()
    bench.post(reverse("shelf-put-back", args=[item.pk]))
    assert bench.post(reverse("shelf-use", args=[other.pk, item.pk]), {"path": "blocks/speaker"}).status_code == 422
    # Measured now: it replaces what was assumed, and says so.
    changed = {"name": "Old one", "figure-watt": "10", "from-watt": "measured"}
    bench.post(reverse("shelf-change", args=[item.pk]), changed)
    item.refresh_from_db()
    assert item.figures == {"watt": {"text": "10 W", "from": "measured"}}
    bench.post(reverse("shelf-remove", args=[item.pk]))
    assert not ShelfItem.objects.exists()


def test_taps_come_with_a_piece_and_what_hung_on_one_that_is_gone_hangs_on_the_nearest():
    design = examples.example("saltpan")
    piece = Piece("Old one", "output", {"taps": "3.75, 15", "primary_ohm": "6k6"})
    after = put_in(design, "blocks/transformer", piece)
    before, taps = design.block("transformer").taps, after.block("transformer").taps
    assert [tap.id for tap in taps] == ["3.75", "15"]
    # By hand: copper goes with the turns, which go with the root of the load; 15 Ω is nearest to the 16 Ω tap.
    at_16 = next(tap for tap in before if tap.id == "16")
    assert taps[1].copper_ohm == pytest.approx(at_16.copper_ohm * (15 / 16) ** 0.5)
    assert after.block("speaker").input == "transformer.15"  # of 8 Ω, nearer to 15 than to 3.75 by ratio
    assert after.block("transformer").core is None  # the rating was another core's
    with pytest.raises(ValueRefused, match="without a centre tap"):
        put_in(design, "blocks/transformer", Piece("SE", "output", {"sides": "single-ended"}))


def test_a_choke_goes_where_a_choke_is(owner):
    design = examples.example("saltpan")
    assert [path for path, _ in places_for(design, "choke")] == ["blocks/ht1/choke"]
    assert [path for path, _ in places_for(design, "mains")] == ["blocks/winding", "blocks/bias_winding"]
    assert places_for(design, "driver") == []


@pytest.mark.parametrize(
    ("sent", "says"),
    [
        ({"kind": "magnet", "name": "x"}, "is one of"),
        ({"kind": "choke", "name": ""}, "1 to 60"),
        ({"kind": "choke", "name": "x", "figure-henry": "much", "from-henry": "label"}, "Inductance at full current"),
        ({"kind": "output", "name": "x", "figure-taps": "4, many", "from-taps": "label"}, "Taps for"),
        ({"kind": "output", "name": "x", "figure-sides": "both", "from-sides": "label"}, "one of push-pull"),
        ({"kind": "choke", "name": "x", "figure-henry": "10", "from-henry": "a dream"}, "where it came from"),
    ],
)
def test_what_makes_no_piece_of_iron_is_refused(bench, sent, says):
    answer = bench.post(reverse("shelf-add"), sent)
    assert (answer.status_code, ShelfItem.objects.count()) == (422, 0)
    assert says in answer.content.decode()


def read(bench, unknown, **typed):
    return bench.post(reverse("unknown-iron-read", args=[unknown.pk]), typed)


def test_an_unknown_transformer_is_found_out_step_by_step(bench):
    bench.post(reverse("unknown-iron-begin"), {"name": "Shed", "leads": "red, blue, brown black green"})
    unknown = UnknownIron.objects.get()
    one = reverse("unknown-iron-one", args=[unknown.pk])
    assert "Next: Resistance from red to blue" in bench.get(one).content.decode()
    for a, b, ohms in (("red", "blue", "118"), ("red", "brown", "124"), ("blue", "brown", "241"),
                       ("black", "green", "0.6"), ("red", "black", "open")):  # fmt: skip
        assert read(bench, unknown, kind="ohms", a=a, b=b, ohms=ohms).status_code == 302
    page = bench.get(one).content.decode()
    assert "Low voltage only" in page
    assert "on blue and brown" in page
    for a, b, volts in (("blue", "red", "3.01"), ("red", "brown", "2.98"), ("black", "green", "0.19")):
        read(bench, unknown, kind="volts", on_a="blue", on_b="brown", applied="6", a=a, b=b, volts=volts)
    page = bench.get(one).content.decode()
    assert "It is an output transformer" in page
    assert "red (centre)" in page
    assert "two EL84" in page  # 31.6 : 1, 8 kΩ with 8 Ω
    assert "These do not go together" not in page
    read(bench, unknown, kind="ohms", a="red", b="blue", ohms="12")
    page = bench.get(one).content.decode()
    assert "These do not go together" in page
    bench.post(reverse("unknown-iron-take-back", args=[unknown.pk, 8]))
    assert "These do not go together" not in bench.get(one).content.decode()


@pytest.mark.parametrize(
    ("typed", "says"),
    [
        ({"kind": "ohms", "a": "red", "b": "red", "ohms": "1"}, "from one to itself"),
        ({"kind": "ohms", "a": "red", "b": "pink", "ohms": "1"}, "no lead pink"),
        ({"kind": "ohms", "a": "red", "b": "blue", "ohms": "some"}, "The reading"),
        (
            {"kind": "volts", "a": "red", "b": "blue", "on_a": "red", "on_b": "blue", "applied": "", "volts": "1"},
            "is on",
        ),
    ],
)
def test_a_reading_that_is_none_is_refused_and_not_kept(bench, owner, typed, says):
    unknown = operations.begin_unknown(owner, "Shed", "red blue")
    answer = read(bench, unknown, **typed)
    unknown.refresh_from_db()
    assert (answer.status_code, unknown.readings) == (422, [])
    assert says in answer.content.decode()


def test_only_a_figure_has_an_origin_however_long_a_name_is(bench, owner, project):
    change_design(owner, project.pk, lambda design: (changed(design, "name", "n" * 120), "a long name"))
    for path in ("name", "blocks/transformer/id", "blocks/transformer", "x" * 3000):
        sent = {"path": path, "source": "measured"}
        assert bench.post(reverse("iron-origin", args=[project.pk]), sent, HTTP_HX_REQUEST="true").status_code == 422
    assert Origin.objects.count() == 0


def test_iron_travels_with_an_account_and_nobody_else_sees_it(client, owner, stranger, project):
    used = operations.add_item(owner, "output", "In use", "", "", {"primary_henry": ("15", "measured")})
    operations.use_item(owner, project.pk, used.pk, "blocks/transformer")
    item = operations.add_item(owner, "choke", "Ten henry", "", "", {"henry": ("10", "label")})
    unknown = operations.begin_unknown(owner, "Shed", "red blue")
    operations.read_unknown(owner, unknown.pk, {"kind": "ohms", "a": "red", "b": "blue", "ohms": "12"})
    exported = carrying.packed(owner)
    client.force_login(stranger)
    for name, args in (
        ("shelf-remove", [item.pk]),
        ("unknown-iron-forget", [unknown.pk]),
        ("shelf-change", [item.pk]),
    ):
        assert client.post(reverse(name, args=args), {"name": "mine"}).status_code == 404
    assert client.get(reverse("unknown-iron-one", args=[unknown.pk])).status_code == 404
    carrying.unpack(stranger, io.BytesIO(exported))
    assert ShelfItem.objects.of(stranger).get(kind="choke").figures == item.figures
    copy = Project.objects.of(stranger).get()
    assert operations.origins_of(copy) == {"blocks/transformer/primary_henry": "measured"}
    unknown.refresh_from_db()
    assert UnknownIron.objects.of(stranger).get().readings == unknown.readings
    UnknownIron.objects.filter(pk=unknown.pk).update(readings=[{"a": "red", "b": "blue", "ohm": "much"}])
    with pytest.raises(DesignRefused, match="no more than"):
        carrying.unpack(stranger, io.BytesIO(carrying.packed(owner)))
