"""The whole amplifier in the browser: plots read off with the pointer, points dragged, variants and iron."""

import re

import numpy as np
import pytest
from playwright.sync_api import expect

from tests.browser.test_journey import card, own_copy
from thermionic.amplifier import anode_diagram, pair_balance, solve
from thermionic.design import load
from thermionic.iron.output import reflected
from thermionic.iron.saturating import output_against_frequency, saturating_cycle
from thermionic.performance import loop as loops
from thermionic.performance.burst import burst
from thermionic.performance.power import intermodulations, level_sweeps
from thermionic.performance.response import SQUARES, square_wave, sweep

PREFIX = {"M": 1e6, "k": 1e3, "": 1.0, "m": 1e-3, "µ": 1e-6, "n": 1e-9}


def opened(page, address, name):
    """The project of that name: its address, and its design solved here."""
    where = card(page, name).get_by_role("link", name="Open").get_attribute("href")
    number = re.search(r"/amps/(\d+)/", where)[1]
    design = load(page.request.get(f"{address}/amps/{number}/export/").body())
    return f"{address}/amps/{number}", solve(design)


def read_off(page, plot, share):
    """What the plot says at a share of its way across: the place, and every line's value by its name."""
    box = plot.evaluate(
        """(e, share) => {
            const [left, top, width, height] = e.dataset.frame.split(" ").map(Number);
            const at = new DOMPoint(left + share * width, top + height / 2).matrixTransform(e.getScreenCTM());
            return [at.x, at.y];
        }""",
        share,
    )
    page.mouse.move(*box)
    text = plot.locator("xpath=ancestor::figure").locator(".read-off").text_content()
    place, _, rest = text.partition(": ")
    values = {}
    for piece in rest.split(", "):
        match = re.fullmatch(r"(.*) (-?[\d.e+-]+) ([MkmµnV]?)(\D*)", piece.strip())
        if match:
            name, number, prefix, unit = match.groups()
            scale = PREFIX.get(prefix, 1.0) if unit or prefix in ("", "k", "M") else 1.0
            values[name] = float(number) * (scale if prefix in PREFIX else 1.0)
    return place, values


def check(page, title, x, lines, count=3, log=True, up_log=False, relative=0.04, tolerance=0.0):
    """The plot of that title agrees with ``lines`` (name to values over ``x``) at three places within it."""
    plot = page.locator(f'.plot[aria-label="{title}"]')
    plot.scroll_into_view_if_needed()
    least, most, _ = plot.get_attribute("data-reads").split()
    least, most = float(least), float(most)
    said = 0
    for share in (0.31, 0.5, 0.72):
        at = np.exp(np.log(least) + share * np.log(most / least)) if log else least + share * (most - least)
        _, values = read_off(page, plot, share)
        for name, y in lines.items():
            if not min(x) <= at <= max(x) or name not in values:
                continue
            height = np.log(y) if up_log else np.asarray(y)  # as the lines are drawn between what was solved
            expected = np.interp(np.log(at), np.log(x), height) if log else np.interp(at, x, height)
            expected = np.exp(expected) if up_log else expected
            assert values[name] == pytest.approx(expected, rel=relative, abs=tolerance), (title, share, name)
            said += 1
    assert said >= count, (title, said)


def test_every_plot_of_the_chain_is_read_off_as_the_core_has_it(page, address):
    where, amplifier = opened(page, address, "Saltpan push-pull")
    page.goto(f"{where}/chain/?tab=response")
    result = sweep(amplifier)
    check(page, "Response and phase against frequency", result.hertz,
          {"level": result.decibels, "phase": result.degrees}, 4, tolerance=0.3)  # fmt: skip
    check(page, "Output impedance and damping against frequency", result.hertz,
          {"impedance": np.abs(result.output_ohm), "damping factor": result.damping}, 4)  # fmt: skip
    for hertz, words in zip(SQUARES, ("100 Hz", "1 kHz", "10 kHz"), strict=True):
        square = square_wave(amplifier, hertz)
        check(page, f"Square wave of {words} at the load", square.seconds, {"at the load": square.volts},
              2, log=False, tolerance=0.08)  # fmt: skip
    page.goto(f"{where}/chain/?tab=power")
    for level_sweep in level_sweeps(amplifier):
        words = {1e3: "1 kHz", 10e3: "10 kHz"}.get(level_sweep.hertz, f"{level_sweep.hertz:g} Hz")
        outputs = [point.power_watt for point in level_sweep.points]
        total = [100 * point.distortion for point in level_sweep.points]
        rising = np.concatenate([[True], np.diff(np.maximum.accumulate(outputs)) > 0])
        # The plot's lines are straight over both logarithms.
        check(page, f"Distortion against output at {words}", np.array(outputs)[rising],
              {"all": np.array(total)[rising]}, 2, up_log=True)  # fmt: skip
    page.locator('.plot[aria-label="Intermodulation against output"]').wait_for()
    low, _ = intermodulations(amplifier)
    check(page, "Intermodulation against output", low.outputs,
          {"60 Hz and 7 kHz": 100 * np.array(low.fractions)}, 2, up_log=True)  # fmt: skip
    page.locator('.plot[aria-label="Bias of every tube after a burst"]').wait_for()
    for recovery in burst(amplifier).recoveries[:2]:
        check(
            page,
            "Bias of every tube after a burst",
            recovery.curve[:, 0],
            {recovery.part: recovery.curve[:, 1]},
            2,
            log=False,
            tolerance=0.3,
        )
    page.goto(f"{where}/chain/?tab=feedback")
    (loop,) = amplifier.compiled.loops
    case = loops.load_cases(amplifier, loop.block)[0].loop
    check(page, "Loop gain and phase against frequency", case.hertz,
          {"loop gain": 20 * np.log10(np.abs(case.gain)), "phase": case.degrees}, 4, tolerance=1.5)  # fmt: skip
    both = loops.with_and_without(amplifier, loop.block)
    check(page, "Gain with and without the feedback", both.hertz,
          {"with feedback": both.closed.decibels, "without": both.opened.decibels}, 4, tolerance=0.3)  # fmt: skip
    check(page, "Output impedance with and without the feedback", both.hertz,
          {"with feedback": both.closed_ohm, "without": both.opened_ohm}, 4)  # fmt: skip
    page.goto(f"{where}/chain/?stage=splitter")
    balance = pair_balance(amplifier, "splitter")
    check(page, "Balance of the two sides against frequency", balance.hertz,
          {"level": balance.level_db, "phase": balance.phase_degrees}, 2, tolerance=0.1)  # fmt: skip
    page.goto(f"{where}/iron/")
    seen = reflected(amplifier)
    check(page, "What the whole primary shows", seen.hertz, {"primary": seen.ohm, "phase": seen.phase_degrees}, 4,
          tolerance=1.5)  # fmt: skip
    page.locator('.plot[aria-label="Full output against frequency"]').wait_for()
    lows = output_against_frequency(amplifier)
    check(page, "Full output against frequency", lows.hertz, {"full output": lows.watt}, 3, relative=0.05)
    cycle = saturating_cycle(amplifier)
    check(page, "One cycle with the core at its rating", cycle.share / cycle.hertz,
          {"into the load": cycle.carried}, 2, log=False, tolerance=4e-3)  # fmt: skip


def test_the_operating_point_is_dragged_and_the_parts_follow(page):
    own_copy(page)
    page.goto(page.url.split("?")[0] + "?stage=driver")
    anode_load = page.locator('[data-path="blocks/driver/anode_load"]')
    expect(anode_load).to_contain_text("100k")
    handle = page.locator('.handle[data-handle="point"] .grip')
    box = handle.bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 30, y - 20, steps=4)
    expect(page.locator(".dragged")).to_contain_text("mA")
    volt, milliampere = re.findall(r"[\d.]+", page.locator(".dragged").text_content())
    page.mouse.up()
    expect(anode_load).not_to_contain_text("100k")
    design = load(page.request.get(re.sub(r"/chain/.*", "/export/", page.url)).body())
    diagram = anode_diagram(solve(design), "driver")
    assert diagram.operating_point[0] == pytest.approx(float(volt), rel=0.06)
    assert 1e3 * diagram.operating_point[1] == pytest.approx(float(milliampere), rel=0.06)
    page.get_by_role("button", name="Undo").click()
    expect(anode_load).to_contain_text("100k")


def test_a_school_is_made_a_variant_compared_and_left_again(page):
    own_copy(page, "Saltpan push-pull")
    page.get_by_role("link", name="Variants").click()
    school = page.locator("#study-schools tbody", has_text="Triode connection")
    school.get_by_role("button", name="Make it a variant").click()
    chosen = page.locator("tbody.chosen")
    expect(chosen).to_contain_text("Triode connection")
    expect(page.locator('[aria-label="Differences"]')).to_contain_text("Output, screen")
    assert page.locator('[aria-label="Differences"] .changed').count() > 0
    other = page.locator("tbody", has_text="As it was")
    expect(other).to_contain_text("W")
    other.get_by_role("button", name="Work on it").click()
    expect(chosen).to_contain_text("As it was")
    page.get_by_role("link", name="Circuit").click()
    expect(page.locator('[data-figure="watts"], .drawing').first).to_be_visible()


def test_a_thousand_builds_are_made_while_the_page_waits(page):
    own_copy(page)
    page.get_by_role("link", name="Tolerances").click()
    page.get_by_role("textbox", name="Builds").fill("200")
    page.get_by_role("button", name="Build them").click()
    expect(page.locator("#study-tolerances")).to_contain_text("200 builds")
    expect(page.locator("#study-tolerances article", has_text="Full output")).to_contain_text("V2")


def test_a_design_is_chosen_in_brief_and_undone(page):
    own_copy(page)
    page.get_by_role("link", name="Brief").click()
    page.get_by_label("I want").select_option("headphones")
    page.get_by_label("of", exact=True).fill("100 mW")
    page.get_by_label("into", exact=True).fill("300")
    page.get_by_role("button", name="Work out designs").click()
    row = page.locator("#study-chooser tbody", has_text="6AS7G follower")
    row.get_by_role("button", name="Use this design").click()
    expect(page.locator(".strip")).to_contain_text("6AS7G")
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".strip")).to_contain_text("2A3")


def test_iron_from_the_shelf_goes_into_the_amplifier(page):
    own_copy(page)
    page.get_by_role("link", name="Iron").click()
    expect(page.locator("#study-taps tbody")).to_contain_text("two in parallel")
    expect(page.locator("#study-unloaded")).to_contain_text("dummy load")
    page.get_by_role("link", name="Shelf").click()
    piece = page.locator("article", has_text="Mossgate 25 W")
    piece.get_by_role("button", name="Use as Transformer").click()
    expect(piece).to_contain_text("in Lantern single-ended (copy)")
    expect(page.locator(".findings")).to_contain_text("core carries too much steady current")
    piece.get_by_role("button", name="Back to the shelf").click()
    expect(piece).not_to_contain_text("in Lantern")
