"""The finder of unknown transformers, on simulated ones read with a poor meter."""

import itertools

import numpy as np
import pytest

from thermionic.errors import ValueRefused
from thermionic.iron.meaning import as_mains, as_output, kind_of
from thermionic.iron.readings import METER, Resistance, Voltage
from thermionic.iron.unknown import find

APPLIED = 6.0


class Iron:
    """A transformer made up at random: windings as turns of each lead, with ohms in another proportion."""

    def __init__(self, random):
        self.random = random
        letters = list("abcdefghijklmnop")
        random.shuffle(letters)
        self.windings = []
        for place in range(random.integers(2, 5)):
            count = int(random.choice([2, 2, 3, 3, 4, 5] if place == 0 else [2, 2, 3, 4]))
            whole = float(np.exp(random.uniform(np.log(1.0), np.log(12.0)))) if place else 40.0
            inner = np.sort(random.uniform(0.12, 0.88, count - 2))
            # Taps lie apart by more than a meter's error; often one is in the middle.
            while count > 2 and np.min(np.diff([0.0, *inner, 1.0])) < 0.09:
                inner = np.sort(random.uniform(0.08, 0.92, count - 2))
            if count == 3 and random.random() < 0.6:
                inner = np.array([0.5])
            turns = whole * np.array([0.0, *inner, 1.0])
            ohms = float(np.exp(random.uniform(np.log(8.0), np.log(300.0)))) if not place else whole * 2.0 + 1.0
            steps = np.diff(turns) / whole * ohms * random.uniform(0.9, 1.1, count - 1)
            self.windings.append(([letters.pop() for _ in range(count)], turns, np.array([0.0, *np.cumsum(steps)])))
        self.leads = sorted(lead for names, _, _ in self.windings for lead in names)

    def off(self, value):
        return float(value * (1 + METER * self.random.uniform(-1, 1)))

    def readings(self):
        result = []
        names, turns, _ = self.windings[0]
        volt_a_turn = APPLIED / turns[-1]
        for these, at, ohms in self.windings:
            for one, other in itertools.combinations(range(len(these)), 2):
                result.append(Resistance(these[one], these[other], self.off(abs(ohms[one] - ohms[other]))))
                volt = self.off(abs(at[one] - at[other]) * volt_a_turn)
                if {these[one], these[other]} != {names[0], names[-1]}:
                    result.append(Voltage(names[0], names[-1], APPLIED, these[one], these[other], volt))
        for one, other in itertools.combinations(self.windings, 2):
            result.append(Resistance(one[0][0], other[0][0], None))
        return result


def right(iron, found):
    """Whether windings, their taps in order, and all ratios are what the iron has, to three errors of the meter."""
    assert {frozenset(winding.leads) for winding in found.windings} == {
        frozenset(names) for names, _, _ in iron.windings
    }
    volt_a_turn = APPLIED / iron.windings[0][1][-1]
    for names, turns, _ in iron.windings:
        (winding,) = [winding for winding in found.windings if set(winding.leads) == set(names)]
        assert winding.leads in (tuple(names), tuple(names[::-1])), (winding, names)
        at = (
            np.array(winding.turns)
            if winding.leads == tuple(names)
            else winding.turns[-1] - np.array(winding.turns)[::-1]
        )
        np.testing.assert_allclose(at, turns * volt_a_turn, rtol=3 * METER, atol=0.03 * APPLIED / 6)
        middle = [lead for lead, turn in zip(names, turns, strict=True) if abs(turn - turns[-1] / 2) < 1e-9]
        if len(names) > 2:
            assert winding.centre == (middle[0] if middle else winding.centre)
    return True


@pytest.mark.parametrize("seed", range(200))
def test_windings_taps_and_ratios_are_found(seed):
    iron = Iron(np.random.default_rng(seed))
    result = find(iron.leads, iron.readings())
    assert result.contradictions == ()
    assert all(winding.sure for winding in result.windings), result.windings
    assert result.cannot_tell == ()
    assert right(iron, result)


@pytest.mark.parametrize("seed", range(1000, 1050))
def test_a_planted_contradiction_is_pointed_out(seed):
    random = np.random.default_rng(seed)
    checked = []
    while not checked:  # only what others check can be contradicted: within a winding with a tap
        iron = Iron(random)
        readings = iron.readings()
        tapped = [set(names) for names, _, _ in iron.windings if len(names) > 2]
        checked = [
            (place, factor)
            for place, one in enumerate(readings)
            for factor in (0.4, 0.6, 1.6, 2.5)
            if _is_clear(one, factor, readings, tapped)
        ]
    place, factor = checked[random.integers(len(checked))]
    was = readings[place]
    spoiled = (
        Resistance(was.a, was.b, was.ohm * factor)
        if isinstance(was, Resistance)
        else Voltage(was.on_a, was.on_b, was.applied, was.a, was.b, was.volt * factor)
    )
    readings[place] = spoiled
    result = find(iron.leads, readings)
    named = [
        other for contradiction in result.contradictions for other in (contradiction.reading, *contradiction.others)
    ]
    inside = _winding_of(iron, was)
    assert any({one.a, one.b} <= inside for one in named), (result.contradictions, spoiled)
    if len(inside) > 3:  # with three leads ohms may be right one way and volts the other
        assert spoiled in named


def _is_clear(reading, factor, readings, tapped):
    """Whether a reading within a winding with a tap is then off by more than the meter on all of that winding."""
    inside = next((names for names in tapped if {reading.a, reading.b} <= names), None)
    value = _value(reading)
    if inside is None or value is None:
        return False
    like = [_value(one) for one in readings if type(one) is type(reading) and {one.a, one.b} <= inside]
    return abs(value * (factor - 1)) > 0.15 * max(like) + (0.5 if isinstance(reading, Resistance) else 0.05)


def _value(reading):
    return reading.ohm if isinstance(reading, Resistance) else reading.volt


def _winding_of(iron, reading):
    return next(set(names) for names, _, _ in iron.windings if reading.a in names)


def test_what_cannot_be_told_is_said_and_what_to_read_next():
    result = find(["a", "b", "c", "d"], [Resistance("a", "b", 120.0)])
    assert any("Whether a, b and c" in one for one in result.cannot_tell)
    assert result.next.words.startswith("Resistance from a to c")
    readings = [Resistance("a", "b", 120.0), Resistance("c", "d", 0.5), Resistance("a", "c", None)]
    result = find(["a", "b", "c", "d"], readings)
    assert result.ratio(("a", "b"), ("c", "d")) is None
    assert (result.next.kind, result.next.a, result.next.b) == ("apply", "a", "b")
    result = find(["a", "b", "c", "d"], [*readings, Voltage("a", "b", 6.0, "c", "d", 0.24)])
    assert result.ratio(("a", "b"), ("c", "d")) == pytest.approx(25.0)
    assert (result.cannot_tell, result.next, result.contradictions) == ((), None, ())


def test_three_leads_with_two_resistances_have_no_order_yet():
    """By hand: 10 Ω and 10 Ω from one lead put it in the middle or, did they overlap, at an end."""
    result = find(["a", "b", "c"], [Resistance("a", "b", 10.0), Resistance("a", "c", 30.0)])
    assert not result.windings[0].sure
    assert any("what order" in one for one in result.cannot_tell)
    result = find(
        ["a", "b", "c"], [Resistance("a", "b", 10.0), Resistance("a", "c", 30.0), Resistance("b", "c", 40.0)]
    )
    assert result.windings[0].leads in (("b", "a", "c"), ("c", "a", "b"))


def test_a_wire_between_two_windings_tells_their_sense():
    base = [
        Resistance("a", "b", 100.0), Resistance("c", "d", 2.0), Resistance("a", "c", None),
        Voltage("a", "b", 6.0, "c", "d", 2.0),
    ]  # fmt: skip
    for volt, together in ((4.0, True), (8.0, False)):
        joined = Voltage("a", "b", 6.0, "b", "d", volt, joined=("a", "c"))
        assert find(["a", "b", "c", "d"], [*base, joined]).senses == {("a", "c"): together}
    weak = Voltage("a", "b", 6.0, "b", "d", 6.0, joined=("a", "c"))  # neither sum nor difference
    assert find(["a", "b", "c", "d"], [*base, weak]).senses == {}


@pytest.mark.parametrize(
    ("leads", "reading", "says"),
    [
        (["a"], Resistance("a", "a", 1.0), "1 leads"),
        (["a", "a"], Resistance("a", "a", 1.0), "called the same"),
        (["a", "b"], Resistance("a", "x", 1.0), "no lead x"),
        (["a", "b"], Resistance("a", "a", 1.0), "from one to itself"),
        (["a", "b"], Resistance("a", "b", -1.0), "no less than 0"),
        (["a", "b"], Voltage("a", "b", 0.0, "a", "b", 1.0), "above 0 V"),
    ],
)
def test_nonsense_is_refused_in_a_sentence(leads, reading, says):
    with pytest.raises(ValueRefused, match=says):
        find(leads, [reading])


def ordinary(windings):
    """Readings without error: windings as (leads, turns in V for 6 V on the first, ohms)."""
    result = []
    first = windings[0][0]
    for leads, turns, ohms in windings:
        for one, other in itertools.combinations(range(len(leads)), 2):
            result.append(Resistance(leads[one], leads[other], abs(ohms[one] - ohms[other])))
            if (leads[one], leads[other]) != (first[0], first[-1]):
                volt = abs(turns[one] - turns[other])
                result.append(Voltage(first[0], first[-1], 6.0, leads[one], leads[other], volt))
    for one, other in itertools.combinations(windings, 2):
        result.append(Resistance(one[0][0], other[0][0], None))
    return find([lead for leads, _, _ in windings for lead in leads], result)


def test_an_output_transformer_is_read_as_one():
    """By hand: 6.6 kΩ to 8 Ω is a ratio of 28.7; screen taps at 43 % of each half lie 57 % in from the ends."""
    ratio = (6600 / 8) ** 0.5
    turns = (0.0, 3 * 0.57, 3.0, 3 + 3 * 0.43, 6.0)
    result = ordinary([
        (["blue", "yellow", "red", "orange", "brown"], turns, (0.0, 60.0, 105.0, 150.0, 215.0)),
        (["black", "green"], (0.0, 6 / ratio), (0.0, 0.4)),
    ])  # fmt: skip
    output = as_output(result, core_cm2=7.0)
    assert (output.centre, kind_of(result, 230.0)) == ("red", "output")
    assert {lead: round(share, 2) for lead, share in output.screen_taps} == {"yellow": 0.43, "orange": 0.43}
    (tap,) = output.taps
    assert tap.ratio == pytest.approx(ratio, rel=1e-3)
    assert tap.primary_ohm == pytest.approx((3300, 6600, 13200), rel=2e-3)
    assert tap.suits == ("", "two EL34", "")
    # 7 cm² carry 40 VA, a twentieth of which is 2 W in 215 Ω.
    assert output.watt == pytest.approx(40.5, rel=0.01)
    assert output.ampere == pytest.approx((2.025 / 215) ** 0.5, rel=0.01)


def test_a_mains_transformer_is_told_from_an_output_transformer():
    """By hand, for 230 V: 6.3 V heaters with a tenth over, a 5 V rectifier winding and 2 x 300 V of HT."""
    scale = 6.0 / 230.0
    result = ordinary([
        (["p1", "p2"], (0.0, 6.0), (0.0, 18.0)),
        (["h1", "h2"], (0.0, 6.9 * scale), (0.0, 0.2)),
        (["r1", "r2"], (0.0, 5.4 * scale), (0.0, 0.3)),
        (["s1", "ct", "s2"], (0.0, 300 * scale, 600 * scale), (0.0, 45.0, 92.0)),
    ])  # fmt: skip
    assert kind_of(result, 230.0) == "mains"
    mains = as_mains(result, 230.0)
    assert mains.primary.leads == ("p1", "p2")
    what = {secondary.winding.leads[0]: secondary for secondary in mains.secondaries}
    assert what["h1"].what == "heaters of 6.3 V"
    assert what["r1"].what == "heaters of 5 V or a rectifier's"
    assert (what["s1"].what, round(what["s1"].volt)) == ("HT, full-wave", 300)
    assert what["s1"].direct_volt == pytest.approx(0.9 * 2**0.5 * 300, rel=0.01)
    assert as_mains(result, 230.0, "h1").secondaries[0].volt > 5000  # named wrongly, it says what that would give


def test_what_could_be_either_is_not_guessed():
    result = ordinary([(["a", "b"], (0.0, 6.0), (0.0, 50.0)), (["c", "d"], (0.0, 3.0), (0.0, 30.0))])
    assert kind_of(result, 230.0) == ""
    assert as_mains(result, 230.0) is None
