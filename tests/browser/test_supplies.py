"""Rails and Heaters in the browser: selenium, the tap from logged readings, the tubes pulled, a filament's null."""

import re

from playwright.sync_api import expect

from tests.browser.test_journey import card
from tests.browser.test_whole import check, opened
from thermionic.amplifier import solve
from thermionic.design import changed, load
from thermionic.supplies.moments import cold
from thermionic.supplies.selenium import replacement
from thermionic.supplies.starting import switch_on
from thermionic.values import Quantity, display


def own_copy(page, address, name):
    """A duplicate to work on: its address, and its design solved here."""
    card(page, name).get_by_role("button", name="Duplicate").click()
    return opened(page, address, f"{name} (copy)")


def design_at(page, where):
    return load(page.request.get(f"{where}/export/").body())


def test_selenium_is_replaced_and_brings_its_dropping_resistor(page, address):
    where, amplifier = own_copy(page, address, "Wrack, as it came in")
    result, _ = replacement(amplifier, "bias")
    page.goto(f"{where}/rails/")
    panel = page.get_by_role("region", name="Selenium")
    expect(panel).to_contain_text(f"{display(result.ohm, Quantity.RESISTANCE)} in series")
    expect(panel).to_contain_text("poisonous fumes")
    panel.get_by_role("button", name="Replace it").click()
    expect(page.locator('[data-path="blocks/bias/dropping"]')).to_contain_text(
        display(result.ohm, Quantity.RESISTANCE)
    )
    expect(panel).to_have_count(0)
    after = solve(design_at(page, where))
    bias = page.locator(".node", has=page.locator(".about", has_text=re.compile("^Bias Bias supply")))
    expect(bias.locator(".volt")).to_have_text(display(after.voltage("bias_out"), Quantity.VOLTAGE))
    page.keyboard.press("Control+z")
    expect(panel).to_be_visible()


def test_the_primary_tap_is_chosen_from_readings_of_the_house(page, address):
    where, _ = own_copy(page, address, "Reedbed parallel single-ended")
    page.goto(f"{where}/rails/?tab=mains")
    for volt in ("239", "246", "242"):
        page.get_by_label("Read now, V").fill(volt)
        page.get_by_role("button", name="Write down").click()
        expect(page.locator(".log")).to_contain_text(f"{volt} V")
    expect(page.locator("main")).to_contain_text("239 V lowest, 242 V in the middle, 246 V highest")
    page.get_by_role("button", name="Take these for this amplifier").click()
    expect(page.locator(".big")).to_contain_text("read from 239 to 246 V")
    row = page.locator("tr", has_text="The tap for 240 V")
    row.get_by_role("button", name="Take it").click()
    expect(page.locator("tr.now")).to_contain_text("The tap for 240 V")
    design = design_at(page, where)
    assert design.block("mains_transformer").tap_volt == 240.0
    expect(page.locator("tr.now")).to_contain_text(display(solve(design).voltage("reservoir"), Quantity.VOLTAGE))


def test_with_all_tubes_pulled_the_capacitor_that_is_over_is_seen(page, address):
    where, amplifier = own_copy(page, address, "Mill transformer-coupled 45")
    page.goto(f"{where}/rails/")
    page.locator('[data-path="blocks/ht2/capacitor"]').click()
    page.get_by_label("Rating").fill("450")
    page.keyboard.press("Enter")
    expect(page.locator(".findings")).to_contain_text("C8 is over its voltage")
    page.get_by_role("link", name="Worst moments").click()
    row = page.locator(".stresses tr.over", has_text="C8")
    volt = cold(amplifier, amplifier.design.brief.mains_volt * 1.1).state.at.voltage("ht2")
    expect(row).to_contain_text(display(volt, Quantity.VOLTAGE))
    expect(row).to_contain_text("tubes cold or pulled")
    page.get_by_role("navigation", name="Views of the supply").get_by_role("link", name="Switch on").click()
    curve = page.locator('.plot[aria-label="Every rail from the switch"]')
    expect(curve).to_be_visible(timeout=120_000)
    design = changed(amplifier.design, "blocks/ht2/capacitor/rating_volt", "450")
    run = switch_on(solve(design), design.brief.mains_volt * 1.1)
    inside = run.seconds >= 0.01
    rails = {name: run.rails[name][inside] for name in ("reservoir", "ht1")}
    check(page, "Every rail from the switch", run.seconds[inside], rails, tolerance=3.0)


def test_a_filament_is_balanced_to_its_null(page, address):
    where, _ = own_copy(page, address, "Mill transformer-coupled 45")
    page.goto(f"{where}/heaters/")
    null = page.get_by_role("button", name="Set it to its null")
    expect(null).to_be_visible(timeout=60_000)
    null.click()
    done = page.get_by_role("region", name="Filament balance").get_by_role("cell", name="balanced", exact=True)
    expect(done).to_be_visible(timeout=60_000)
    assert abs(design_at(page, where).block("output").filament.travel - 0.5) < 0.01
