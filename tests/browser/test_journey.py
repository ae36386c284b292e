"""What a builder does, in a real browser against the real server and database."""

import json
import re
from urllib.parse import urljoin

import pytest
from playwright.sync_api import expect

from thermionic import examples
from thermionic.amplifier import solve
from thermionic.design import changed
from thermionic.powerup import Step, plan
from thermionic.powerup.faults import wrong_value
from thermionic.values import Quantity, display

RESISTOR = "blocks/output/cathode_resistor"


def own_copy(page, name="Lantern single-ended"):
    """A duplicate to work on, so that no test meets another's changes. Opens it."""
    card(page, name).get_by_role("button", name="Duplicate").click()
    card(page, f"{name} (copy)").get_by_role("link", name="Open").click()
    expect(page.locator(".drawing").first).to_be_visible()


def card(page, name):
    """The newest amplifier of that name in the workshop, on whichever of its pages it is."""
    page.locator(".card-amp").first.wait_for()
    result = page.locator(".card-amp", has=page.get_by_role("link", name=name, exact=True))
    older = page.get_by_role("link", name="Older", exact=True)
    while not result.count() and older.count():
        page.goto(urljoin(page.url, older.get_attribute("href")))
    return result.first


def volts(page, node):
    return page.locator(f'[data-figure="{node}"]').first.text_content()


def figure(page, name):
    return page.locator(
        ".stage-numbers div", has=page.locator("dt", has_text=re.compile(f"^{re.escape(name)}"))
    ).first


def test_from_the_drawing_to_the_wrong_reading(page):
    own_copy(page)
    design = examples.example("lantern")
    amplifier = solve(design)
    assert volts(page, "output_cathode") == display(amplifier.voltage("output_cathode"), Quantity.VOLTAGE)
    assert volts(page, "driver_anode") == display(amplifier.voltage("driver_anode"), Quantity.VOLTAGE)
    expect(page.locator(".findings")).to_contain_text("No findings")
    line = page.locator(".plot .dc").get_attribute("points")
    power = figure(page, "Power as set").text_content()

    page.locator(f'[data-path="{RESISTOR}"]').click()
    page.get_by_label("Resistance, Ω").fill("560R")
    page.keyboard.press("Enter")
    expect(page.locator(".findings")).to_contain_text("2A3 anode runs too hot")
    after = solve(changed(design, f"{RESISTOR}/ohm", "560"))
    assert volts(page, "output_cathode") == display(after.voltage("output_cathode"), Quantity.VOLTAGE)
    assert page.locator(".plot .dc").get_attribute("points") != line
    assert figure(page, "Power as set").text_content() != power
    expect(figure(page, "Power as set")).to_contain_text(
        "was " + display(amplifier.at_source.power_watt, Quantity.POWER)
    )
    expect(figure(page, "Distortion there")).to_contain_text(f"{after.at_source.distortion:.2%}")
    expect(page.locator(f'[data-path="{RESISTOR}"]')).to_be_focused()
    expect(page.locator('.strip [class="changed"]', has_text="Output")).to_be_visible()

    page.locator(".finding", has_text="too hot").get_by_role("button").click()
    expect(page.locator(".findings")).to_contain_text("No findings")
    page.keyboard.press("Control+z")
    expect(page.locator(".findings")).to_contain_text("2A3 anode runs too hot")
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".findings")).to_contain_text("No findings")
    assert volts(page, "output_cathode") == display(amplifier.voltage("output_cathode"), Quantity.VOLTAGE)

    page.get_by_role("link", name="Power-up").click()
    page.get_by_role("link", name="All tubes in").click()
    expect(page.locator(".caution")).to_contain_text("never drive the output transformer unloaded")
    page.get_by_label("Mains at the wall").fill("229")
    page.get_by_role("button", name="Start readings").click()
    expect(page.locator(".conditions")).to_contain_text("229 V mains")
    the_plan = plan(design, Step.ALL_TUBES, 229.0)
    measured = the_plan.solve(wrong_value(the_plan, "R5", 22e3).netlist)
    page.locator("input.reading").first.focus()
    for value in measured:
        page.keyboard.type(f"{value:.4g}")
        page.keyboard.press("Enter")
    row = page.locator("#row-driver_anode")
    expect(row).to_have_class(re.compile("wrong"))
    expect(page.locator("#row-reservoir")).to_have_class(re.compile("good"))
    expect(page.locator("#reasons li").first).to_contain_text(re.compile(r"R5 is about \d+k where it should be 100k"))

    page.reload()
    expect(page.locator("#reasons li").first).to_contain_text("R5 is about")
    expect(page.locator("#row-driver_anode input")).to_have_value(re.compile(r"\d"))


def test_bad_values_are_said_and_change_nothing(page):
    own_copy(page)
    before = volts(page, "output_cathode")
    page.locator(f'[data-path="{RESISTOR}"]').click()
    page.get_by_label("Resistance, Ω").fill("9x10")
    page.keyboard.press("Enter")
    expect(page.get_by_role("alert")).to_contain_text("“9x10” is not a resistance. Write it like 4k7, in Ω.")
    expect(page.get_by_label("Resistance, Ω")).to_have_value("9x10")
    assert volts(page, "output_cathode") == before
    page.keyboard.press("Escape")
    expect(page.locator(f'[data-path="{RESISTOR}"]')).to_be_focused()


def test_the_drawing_by_keyboard_alone(page):
    own_copy(page)
    page.locator(".part").first.focus()
    for _ in range(30):
        if page.evaluate("document.activeElement.dataset.path") == RESISTOR:
            break
        page.keyboard.press("ArrowRight")
    page.keyboard.press("ArrowUp")
    part = page.locator(f'[data-path="{RESISTOR}"]')
    expect(part).to_contain_text("1k")
    expect(part).to_be_focused()
    page.keyboard.press("ArrowDown")
    expect(part).to_contain_text("910")
    expect(part).to_be_focused()
    page.keyboard.press("Enter")
    expect(page.get_by_label("Resistance, Ω")).to_be_focused()
    page.keyboard.type("1k2")
    page.keyboard.press("Enter")
    expect(part).to_contain_text("1k2")
    expect(part).to_be_focused()
    page.keyboard.press("Control+z")
    expect(part).to_contain_text("910")
    page.keyboard.press("Control+y")
    expect(part).to_contain_text("1k2")


def test_the_next_step_does_not_wait_for_the_cures_of_the_last(page):
    own_copy(page, "Lantern, as first drawn")
    kept = []
    page.route("**/findings/**", lambda route: kept.append(route))
    part = page.locator(f'[data-path="{RESISTOR}"]')
    part.focus()
    page.keyboard.press("ArrowDown")
    expect(part).to_contain_text("820")
    for value in ("750", "680"):
        page.keyboard.press("ArrowDown")
        expect(part).to_contain_text(value)
        expect(page.locator("#findings")).to_have_attribute("aria-busy", "true")

    def answer_the_page():
        asked = f"seen={page.locator('#work').get_attribute('data-revision')}"
        for _ in range(1200):
            if kept and asked in kept[-1].request.url:
                break
            page.wait_for_timeout(50)
        kept.pop().continue_()

    answer_the_page()
    expect(page.locator(".findings")).to_contain_text("Looking for a change that cures it")
    output = page.locator('.part[data-path="blocks/output"]').first
    expect(output).to_have_attribute("data-finding", "over")
    answer_the_page()
    expect(page.locator(".looking")).to_have_count(0)
    expect(page.locator(".findings")).to_contain_text("Raise the cathode resistor")
    # Until the next change is examined the findings stay, without what they offered.
    page.keyboard.press("ArrowDown")
    expect(part).to_contain_text("620")
    expect(page.locator("#findings")).to_have_attribute("aria-busy", "true")
    expect(page.locator(".findings")).to_contain_text("too hot")
    expect(page.locator(".cure")).to_have_count(0)


def test_the_drawing_is_moved_about_by_pointer_key_and_touch(page):
    own_copy(page, "Saltpan push-pull")
    page.set_viewport_size({"width": 800, "height": 700})
    sheet, picture = page.locator(".chain .sheet").first, page.locator(".chain .drawing").first

    def width():
        return picture.bounding_box()["width"]

    whole = width()
    sheet.focus()
    page.keyboard.press("+")
    assert width() == pytest.approx(1.25 * whole, rel=0.01)
    before = sheet.evaluate("e => e.scrollLeft")
    at = sheet.bounding_box()
    page.mouse.move(at["x"] + 10, at["y"] + 60)
    page.mouse.down()
    page.mouse.move(at["x"] - 90, at["y"] + 60)
    page.mouse.up()
    assert sheet.evaluate("e => e.scrollLeft") == before + 100
    # Another value: the drawing stays as it was looked at.
    page.locator('[data-path="blocks/first/anode_load"]').focus()
    scrolled = sheet.evaluate("e => e.scrollLeft")
    page.keyboard.press("ArrowUp")
    expect(page.locator('[data-path="blocks/first/anode_load"]')).to_contain_text("75k")
    assert width() == pytest.approx(1.25 * whole, rel=0.01)
    assert sheet.evaluate("e => e.scrollLeft") == scrolled
    sheet.focus()
    page.keyboard.press("f")
    assert width() <= sheet.bounding_box()["width"]
    page.keyboard.press("0")
    touch = page.context.new_cdp_session(page)
    middle = at["x"] + 300, 400
    for kind, gap in (("touchStart", 50), ("touchMove", 75), ("touchMove", 100), ("touchEnd", None)):
        points = [{"x": middle[0] + side * gap, "y": middle[1]} for side in (-1, 1)] if gap else []
        touch.send("Input.dispatchTouchEvent", {"type": kind, "touchPoints": points})
    assert width() == pytest.approx(2 * whole, rel=0.02)
    page.get_by_role("button", name="Stage").click()
    expect(page.get_by_role("button", name="Stage")).to_have_attribute("aria-pressed", "true")


def test_tubes_taps_and_optional_parts_from_the_drawing(page):
    own_copy(page)
    page.locator('[data-path="blocks/speaker"]').click()
    page.get_by_label("Connected to").select_option("transformer.16")
    expect(page.locator(".findings")).to_contain_text("wrong tap")
    page.locator('[data-path="blocks/driver"]').click()
    # The list is searched by any name, and says before it is chosen what would no longer fit.
    page.get_by_text("Tube V1").click()
    page.keyboard.type("6dj8")
    choices = page.locator(".editor .list button:visible")
    expect(choices).to_have_count(1)
    expect(choices).to_contain_text("ECC88")
    expect(choices).to_contain_text("heater")
    page.get_by_label("Search by any of its names").fill("12ax7")
    page.keyboard.press("Enter")
    expect(page.locator(".strip")).to_contain_text("ECC83")
    expect(page.locator(".stage-numbers")).to_contain_text("2A3")
    page.locator('[data-path="blocks/driver/cathode_bypass"]').click()
    page.get_by_role("button", name="Take it out").click()
    expect(page.locator('[data-path="blocks/driver/cathode_bypass"]')).to_have_count(0)
    page.locator('[data-path="blocks/driver"]').click()
    page.get_by_role("button", name="Fit a cathode bypass").click()
    expect(page.locator('[data-path="blocks/driver/cathode_bypass"]')).to_have_count(1)
    # A part that is clicked while a change is on its way is still opened.
    page.locator('[data-path="blocks/driver/anode_load"]').focus()
    page.keyboard.press("ArrowUp")
    page.locator('[data-path="blocks/driver/cathode_resistor"]').click()
    expect(page.locator('[data-path="blocks/driver/anode_load"]')).to_contain_text("110k")
    expect(page.get_by_label("Resistance, Ω")).to_have_value("1k5")
    page.keyboard.press("Escape")
    page.get_by_role("button", name="Undo").click()
    expect(page.locator('[data-path="blocks/driver/anode_load"]')).not_to_contain_text("110k")
    page.locator(".strip").get_by_role("link", name="Driver").click()
    expect(page.locator(".stage-numbers")).to_contain_text("Driver ECC83")
    # Undo, and a cure, leave the stage that is looked at where it is.
    page.get_by_role("button", name="Undo").click()
    expect(page.locator('[data-path="blocks/driver/cathode_bypass"]')).to_have_count(0)
    expect(page.locator(".stage-numbers")).to_contain_text("Driver ECC83")
    page.locator(".finding", has_text="wrong tap").get_by_role("button").click()
    expect(page.locator(".findings")).not_to_contain_text("wrong tap")
    expect(page.locator(".stage-numbers")).to_contain_text("Driver ECC83")


def test_the_brief_weighs_what_is_asked_against_what_is_given(page):
    own_copy(page)
    page.get_by_role("link", name="Brief").click()
    power = page.locator(".comparison", has_text="Power each channel")
    expect(power).to_have_class(re.compile("enough"))
    page.get_by_label("Sensitivity").fill("84")
    page.keyboard.press("Enter")
    expect(power).to_have_class(re.compile("short"))
    page.get_by_label("Mains voltage").fill("250")
    page.keyboard.press("Tab")
    expect(page.locator(".strip .rail", has_text="reservoir")).to_have_class(re.compile("changed"))


def test_a_file_goes_out_and_comes_back_and_a_deletion_is_undone(page, tmp_path):
    flawed = card(page, "Lantern, as first drawn")
    expect(flawed).to_contain_text("danger: C4 is over its voltage")
    with page.expect_download() as download:
        flawed.get_by_role("link", name="Export").click()
    raw = json.loads(download.value.path().read_text())
    raw["name"] = "Came back"
    file = tmp_path / "back.json"
    file.write_text(json.dumps(raw))
    page.set_input_files("#file", file)
    page.get_by_role("button", name="Import").click()
    expect(page.get_by_role("heading", name="Came back")).to_be_visible()
    page.get_by_role("link", name="Bold Anode").click()
    page.get_by_role("button", name="Delete Came back").click()
    expect(page.locator(".card-amp", has_text="Came back")).to_have_count(0)
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".card-amp", has_text="Came back")).to_have_count(1)
    page.get_by_role("button", name="Delete Came back").click()


def test_a_tube_of_ones_own_from_its_points_to_the_drawing(page):
    page.get_by_role("link", name="Tube drawer").click()
    expect(page.get_by_role("heading", name="Jam jar 76")).to_be_visible()
    page.get_by_label("Its name").fill("Shed 82")
    page.get_by_label("Anode dissipation").fill("2.75 W")
    page.get_by_label("Points as CSV").fill("anode_v,grid_v,anode_a\n250,-8.5,10.5\n")
    page.get_by_role("button", name="Fit it").click()
    expect(page.locator("#notice")).to_contain_text("Line 2: anode_a is 10.5")
    assert page.get_by_label("Its name").input_value() == "Shed 82"
    rows = [
        "anode_v,grid_v,anode_a,gm_s,mu",
        "250,-8.5,0.0105,0.0022,17",
        "100,0,0.0118,0.0031,19.5",
        "150,-4,0.0069,,",
    ]
    page.get_by_label("Points as CSV").fill("\n".join(rows))
    page.get_by_role("button", name="Fit it").click()
    expect(page.locator("#notice")).to_contain_text("Shed 82 fitted")
    expect(page.locator(".own-curves circle")).to_have_count(17 + 3)

    page.get_by_role("link", name="Workshop", exact=True).click()
    own_copy(page)
    before = volts(page, "driver_anode")
    page.locator('[data-path="blocks/driver"]').first.click()
    page.get_by_text("Tube V1").click()
    page.get_by_role("button", name="Shed 82").click()
    expect(page.locator('[data-figure="driver_anode"]').first).not_to_have_text(before)
    page.reload()
    expect(page.locator(".drawing").first).to_contain_text("Shed 82")


def test_a_connection_is_pointed_at_in_the_drawing(page):
    """A feed by its rail's flag, the loudspeaker's tap by the transformer; bottles shared between stages."""
    own_copy(page, "Saltpan push-pull")
    page.locator('[data-path="blocks/splitter"]').first.click()
    fed = page.locator(".editor").get_by_label("Fed from")
    assert fed.input_value() == "ht2.out"
    expect(fed.locator("option:checked")).to_have_text(re.compile(r"^Ht2, \d+ V$", re.IGNORECASE))
    page.locator('.editor form:has(input[value="blocks/splitter/feed"]) [data-pick]').click()
    expect(page.locator('[data-path="blocks/ht3/resistor"]')).to_have_class(re.compile("candidate"))
    expect(page.locator('[data-path="blocks/volume"]')).not_to_have_class(re.compile("candidate"))
    page.locator('.labels [data-reference="ht3.out"]').first.click()
    expect(page.locator(".project-bar")).to_contain_text("splitter feed: ht2.out to ht3.out")
    expect(page.locator(".pointing")).to_have_count(0)
    page.locator('[data-path="blocks/splitter"]').first.click()
    expect(fed).to_have_value("ht3.out")
    # Escape leaves everything as it is.
    page.locator('.editor form:has(input[value="blocks/splitter/feed"]) [data-pick]').click()
    page.keyboard.press("Escape")
    expect(page.locator(".pointing")).to_have_count(0)
    page.locator('[data-path="blocks/speaker"]').click()
    page.locator('.editor form:has(input[value="blocks/speaker/input"]) [data-pick]').click()
    page.locator('[data-path="blocks/transformer"]').first.click()
    page.locator(".editor").get_by_label("Connected to").select_option("transformer.4")
    expect(page.locator(".findings")).to_contain_text("tap")
    # Side b of the splitter gets a bottle of its own, and its half of the old one is free.
    page.locator('[data-path="blocks/splitter"]').first.click()
    page.locator(".editor").get_by_label("Sections, side b").select_option("new")
    expect(page.locator(".project-bar")).to_contain_text("splitter tubes b: v2.b to")
    page.locator('[data-path="blocks/splitter"]').first.click()
    expect(page.locator(".editor").get_by_label("Sections, side b").locator("option")).to_contain_text(
        [re.compile("V2b"), re.compile("V\\d+a")]
    )


def test_a_starter_made_push_pull_with_other_tubes_cured_and_carried_over(page, tmp_path):
    """From the 2A3 starter to a push-pull amplifier of 300Bs: everything from where it is shown."""
    page.get_by_label("Its name").fill("Grown up")
    page.get_by_label("2A3, 3.9 W").check()
    page.get_by_role("button", name="Start", exact=True).click()
    expect(page.locator(".findings")).to_contain_text("No findings")
    # The room is drawn anew for the block: a click before that would be on what goes.
    with page.expect_response(lambda response: "stage=output" in response.url):
        page.get_by_label("Block", exact=True).select_option("output")
    expect(page.locator(".htmx-request, .htmx-swapping, .htmx-settling")).to_have_count(0)
    expect(page.locator(".stage-numbers")).to_contain_text("Output 2A3")
    page.get_by_role("button", name="Make it push-pull").click()
    expect(page.locator('[data-path="blocks/cathodyne"]').first).to_be_visible()
    expect(page.locator('[data-path="blocks/output"]')).to_have_count(2)

    page.locator('[data-path="blocks/output"]').first.click()
    summary = page.locator(".editor summary")
    expect(summary).to_have_text(re.compile("Tubes V\\d, V\\d: 2A3"))
    summary.click()
    page.get_by_role("button", name=re.compile("^300B")).click()
    expect(page.locator(".strip")).to_contain_text("300B")
    expect(page.locator(".strip")).not_to_contain_text("2A3")

    cures = page.locator(".finding button.cure")
    for _ in range(10):
        expect(page.locator("#findings[aria-busy]")).to_have_count(0)
        expect(page.locator(".looking")).to_have_count(0)
        if not cures.count():
            break
        before = page.locator(".project-bar .revision").text_content()
        cures.first.click()
        expect(page.locator(".project-bar .revision")).not_to_have_text(before)
    expect(cures).to_have_count(0)
    numbers = whole(page)

    # The control's wiper, the undoing of everything, and back again.
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".project-bar")).to_be_visible()
    page.get_by_role("button", name="Redo").click()
    page.get_by_role("link", name="Bold Anode").click()
    with page.expect_download() as download:
        card(page, "Grown up").get_by_role("link", name="Export").click()
    page.set_input_files("#file", download.value.path())
    page.get_by_role("button", name="Import").click()
    expect(page.get_by_role("heading", name="Grown up")).to_be_visible()
    assert whole(page) == numbers


def whole(page):
    """The whole amplifier's numbers, without what they were before."""
    shown = page.locator(".stage-numbers dl.whole dd").all_text_contents()
    return [re.sub(r" was .*$", "", text) for text in shown]
