"""Chassis and Earths in the browser: a part placed, turned and moved by keys, a change taken, layouts compared, a
template out, earth wired otherwise."""

import re

import pypdfium2
from playwright.sync_api import expect

from tests.browser.test_supplies import own_copy

NUMBER = re.compile(r"-?\d+(?:\.\d+)?")


def hum(page):
    return int(NUMBER.search(page.locator(".hum .big").inner_text())[0])


def body(page, key):
    return page.locator(f'svg.box .body[data-body="{key}"]')


def settled(page):
    """Until the answer to the last change is on the page: the number of the layout's state goes up with each."""
    return page.locator("#laid").get_attribute("data-seen")


def changed_from(page, number):
    expect(page.locator("#laid")).not_to_have_attribute("data-seen", number)


def drag(page, key, dx, dy):
    number = settled(page)
    spot = body(page, key).locator(".outline").bounding_box()
    page.mouse.move(spot["x"] + spot["width"] / 2, spot["y"] + spot["height"] / 2)
    page.mouse.down()
    page.mouse.move(spot["x"] + spot["width"] / 2 + dx / 2, spot["y"] + spot["height"] / 2 + dy / 2, steps=4)
    page.mouse.move(spot["x"] + spot["width"] / 2 + dx, spot["y"] + spot["height"] / 2 + dy, steps=4)
    page.mouse.up()
    changed_from(page, number)


def test_a_part_is_dragged_turned_moved_by_keys_and_taken_back(page, address):
    where, _ = own_copy(page, address, "Lantern single-ended")
    page.goto(f"{where}/chassis/")
    tube = "tube:v1:0"
    before = float(body(page, tube).get_attribute("data-u"))
    drag(page, tube, 60, 0)
    moved = float(body(page, tube).get_attribute("data-u"))
    assert moved > before + 20
    expect(page.locator(".chosen h3")).to_have_text("V1 6SL7GT")
    number = settled(page)
    body(page, tube).focus()
    page.keyboard.press("Shift+ArrowLeft")
    page.keyboard.press("ArrowUp")
    changed_from(page, number)
    assert abs(float(body(page, tube).get_attribute("data-u")) - (moved - 10)) < 0.2
    number = settled(page)
    turn = int(body(page, tube).get_attribute("data-turn"))
    body(page, tube).focus()
    page.keyboard.press("r")
    changed_from(page, number)
    expect(body(page, tube)).to_have_attribute("data-turn", str((turn + 90) % 360))
    # Ctrl+Z is the layout's here.
    number = settled(page)
    page.keyboard.press("Control+z")
    changed_from(page, number)
    expect(body(page, tube)).to_have_attribute("data-turn", str(turn))
    # Typed, from the edge.
    page.get_by_label("From the left, mm").fill("12 cm")
    page.get_by_role("button", name="Put it there").click()
    expect(body(page, tube)).to_have_attribute("data-u", "120.0")
    page.get_by_role("button", name="From within").click()
    expect(page.locator("svg.box.mirrored")).to_be_visible()
    page.get_by_role("button", name="In section").click()
    expect(page.locator("svg.section")).to_be_visible()


def test_a_wire_is_pulled_and_parts_are_lined_up(page, address):
    where, _ = own_copy(page, address, "Lantern single-ended")
    page.goto(f"{where}/chassis/")
    number = settled(page)
    spot = body(page, "terminals:speaker:1").bounding_box()
    body(page, "terminals:speaker:1").click()
    expect(page.locator(".chosen h3")).to_have_text("Speaker left")
    body(page, "terminals:speaker:2").click(modifiers=["Shift"])
    expect(page.locator(".line-up")).to_contain_text("2 chosen")
    page.get_by_role("button", name="Mirrored").click()
    changed_from(page, number)
    one, other = (float(body(page, f"terminals:speaker:{n}").get_attribute("data-u")) for n in (1, 2))
    assert abs(one + other - 420) < 1
    assert spot
    # A signal wire, by the middle of its longest piece.
    number = settled(page)
    run = page.locator(".run.r-signal").first
    key = run.get_attribute("data-wire")
    grip = run.evaluate(
        """one => { const p = [...one.points]; let best = [0, p[0], p[0]];
        for (let k = 0; k + 1 < p.length; k += 1) { const l = Math.hypot(p[k+1].x - p[k].x, p[k+1].y - p[k].y);
          if (l > best[0]) best = [l, p[k], p[k+1]]; }
        const m = new DOMPoint((best[1].x + best[2].x) / 2, (best[1].y + best[2].y) / 2)
          .matrixTransform(one.ownerSVGElement.getScreenCTM()); return [m.x, m.y]; }"""
    )
    page.evaluate(
        """([key, x, y]) => { const one = document.querySelector(`[data-wire="${CSS.escape(key)}"]`);
        const fire = (kind, dx, dy) => one.dispatchEvent(new PointerEvent(kind,
          { bubbles: true, clientX: x + dx, clientY: y + dy, pointerId: 1, button: 0 }));
        one.setPointerCapture = () => {};
        fire("pointerdown", 0, 0); fire("pointermove", 12, 14); fire("pointerup", 12, 14); }""",
        [key, *grip],
    )
    changed_from(page, number)
    page.goto(f"{where}/chassis/?tab=wires")
    expect(page.locator("main")).to_contain_text("Every wire")


def test_the_best_change_is_offered_and_lessens_the_hum(page, address):
    where, _ = own_copy(page, address, "Lantern single-ended")
    page.goto(f"{where}/chassis/")
    page.locator(".the-box summary").click()
    number = settled(page)
    page.locator("select[name=school]").select_option("daisy chain")
    page.get_by_role("button", name="Wire it so").click()
    changed_from(page, number)
    before = hum(page)
    page.get_by_role("button", name="Find the best single change").click()
    first = page.locator(".offers li").first
    gain = float(NUMBER.search(first.locator("b").inner_text())[0])
    assert gain > 3
    number = settled(page)
    first.get_by_role("button", name="Do it").click()
    changed_from(page, number)
    assert abs(hum(page) - (before + gain)) <= 1


def test_two_layouts_are_compared_and_the_template_comes_out_at_full_size(page, address):
    where, _ = own_copy(page, address, "Lantern single-ended")
    page.goto(f"{where}/chassis/?tab=variants")
    page.get_by_label("Keep this one and go on with a copy called").fill("Symmetric")
    page.get_by_role("button", name="Keep and go on").click()
    expect(page.locator(".layouts th.chosen")).to_contain_text("Symmetric")
    page.goto(f"{where}/chassis/")
    number = settled(page)
    page.get_by_role("button", name="Symmetric", exact=True).click()
    changed_from(page, number)
    page.goto(f"{where}/chassis/?tab=variants")
    row = page.locator(".layouts tr", has_text="Symmetry")
    shares = [float(NUMBER.search(cell)[0]) for cell in row.locator("td").all_inner_texts()]
    assert shares[1] > shares[0]
    expect(page.locator(".layouts td.worse, .layouts td.better").first).to_be_visible()
    page.goto(f"{where}/chassis/?tab=drilling")
    with page.expect_download() as waited:
        page.get_by_role("link", name="PDF on A4").click()
    document = pypdfium2.PdfDocument(waited.value.path())
    try:
        # A4, and the faces on more than one sheet.
        assert [round(side / 72 * 25.4) for side in document[0].get_size()] == [210, 297]
        assert len(document) > 6
    finally:
        document.close()


def test_earth_is_wired_otherwise_and_a_fault_is_found(page, address):
    where, _ = own_copy(page, address, "Weir single-ended")
    page.goto(f"{where}/earths/?tab=schools")
    page.locator("tbody", has_text="Star").first.get_by_role("button", name="Wire it so").click()
    expect(page.locator("tbody.chosen")).to_contain_text("Star")
    page.goto(f"{where}/earths/?tab=faults")
    page.get_by_label("Put in").select_option(index=1)
    page.get_by_role("button", name="See what it does").click()
    expect(page.locator("main")).to_contain_text("How a meter finds it")
    expect(page.locator("main")).to_contain_text("discharged")
    page.goto(f"{where}/earths/?tab=protective")
    expect(page.locator("main")).to_contain_text("licensed electrician")
