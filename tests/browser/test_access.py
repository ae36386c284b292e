"""Every page: no serious accessibility violation, no sideways scrolling, printable, in light and dark."""

from pathlib import Path

from playwright.sync_api import expect

from tests.browser.conftest import signed_in

AXE = (Path(__file__).parents[1] / "vendor" / "axe" / "axe.min.js").read_text()
LOOKS = (Path(__file__).parent / "looks.js").read_text()


def every_page(page, address):
    """The addresses of what there is to see: each room that is registered, whatever its name, of two amplifiers, with
    every view of one of them; the supply of a third, which has all of one; and the pages beside them."""
    page.goto(address)
    links = page.locator(".card-amp h2 a")
    projects = {link.inner_text(): link.get_attribute("href") for link in links.all()}
    chosen = [where for name, where in projects.items() if name in ("Lantern, as first drawn", "Saltpan push-pull")]
    assert len(chosen) == 2, projects
    result = ["/", "/tubes/", "/account/", "/shelf/", "/unknown-iron/"]
    page.goto(f"{address}/unknown-iron/")
    result.append(page.get_by_role("link", name="From the shed").get_attribute("href"))
    for where in chosen:
        page.goto(address + where)
        rooms = [link.get_attribute("href") for link in page.locator("nav.rooms a").all()]
        result += rooms
        if where == chosen[-1]:  # every view of every room that has several, of one of them
            for room in rooms:
                page.goto(address + room)
                views = [link.get_attribute("href") for link in page.locator("nav.tabs a").all()]
                result += [view for view in views if view.startswith(room)]
            page.goto(address + where)
        page.get_by_role("link", name="Power-up").click()
        result += [page.url.split("?")[0].removeprefix(address) + "?step=no-tubes"]
    mill = projects["Mill transformer-coupled 45"].replace("/chain/", "/")
    return [*result, f"{mill}rails/", f"{mill}rails/?tab=mains", f"{mill}heaters/"]


def serious(page, only=None):
    """axe-core's serious and critical violations, in short; of some of its rules."""
    page.evaluate(AXE)
    result = page.evaluate("only => axe.run(document, {resultTypes: ['violations'], ...only})",
                          {"runOnly": {"type": "rule", "values": only}} if only else {})  # fmt: skip
    return [
        (violation["id"], node["target"], node["failureSummary"][:300])
        for violation in result["violations"]
        if violation["impact"] in ("serious", "critical")
        for node in violation["nodes"]
    ]


def test_no_serious_violation_and_no_sideways_scrolling(browser, address):
    # axe is put into the page from outside, which the policy rightly forbids to the page itself
    with signed_in(browser, address, color_scheme="light", bypass_csp=True) as page:
        html = page.locator("html")
        for where in every_page(page, address):
            page.goto(address + where)
            page.wait_for_load_state("networkidle")
            expect(html).to_have_attribute("data-bs-theme", "light")
            assert serious(page) == [], where
            page.emulate_media(color_scheme="dark")
            expect(html).to_have_attribute("data-bs-theme", "dark")
            assert serious(page, ["color-contrast"]) == [], where  # colours are no other shape
            page.emulate_media(color_scheme="light")
            for width in (1280, 800, 390):
                page.set_viewport_size({"width": width, "height": 844})
                assert page.evaluate(LOOKS) == [], (where, width)
            page.set_viewport_size({"width": 718, "height": 1040})
            page.emulate_media(media="print")
            assert page.evaluate(LOOKS) == [], (where, "paper")
            page.emulate_media(media="screen")
            page.set_viewport_size({"width": 1280, "height": 800})
        page.emulate_media(color_scheme="dark")
        page.goto(address)
        expect(html).to_have_attribute("data-bs-theme", "dark")
        page.get_by_role("link", name="Lantern single-ended", exact=True).first.click()
        page.locator('[data-path="blocks/reservoir/capacitor"]').click()
        expect(page.get_by_label("Capacitance, F")).to_be_focused()
        assert serious(page) == []


def test_signed_out_pages(browser, address):
    context = browser.new_context(bypass_csp=True)
    page = context.new_page()
    for where in ("/sign-in/", "/sign-up/"):
        page.goto(address + where)
        assert serious(page) == [], where
    context.close()


def test_the_bench_copy_prints(page, address):
    """Point, what to expect, a box to write into, cautions, revision, mains and date, and nothing that wants a mouse;
    the circuit with its supplies and figures on one landscape page."""
    page.get_by_role("link", name="Lantern single-ended", exact=True).first.click()
    page.emulate_media(media="print")
    across = page.pdf(prefer_css_page_size=True)
    assert b"/MediaBox [0 0 842" in across or b"/MediaBox [0 0 841" in across
    page.set_viewport_size({"width": 1047, "height": 718})  # A4 across within its margins
    bottom = "(e) => e.getBoundingClientRect().bottom"
    for part in (".supply-sheet .drawing", ".stage-numbers"):
        assert page.locator(part).evaluate(bottom) < 718, part
    page.emulate_media(media="screen")
    page.get_by_role("link", name="Power-up").click()
    page.emulate_media(media="print")
    paper = page.locator(".paper")
    expect(paper).to_be_visible()
    for words in ("revision", "V mains", "printed"):
        expect(paper).to_contain_text(words)
    expect(page.locator(".caution")).to_be_visible()
    assert page.locator("input.reading").first.bounding_box()["width"] > 100
    for gone in (".rooms", "button", "select", ".verdict"):
        assert [one.is_visible() for one in page.locator(gone).all()].count(True) == 0, gone


def test_three_tasks_with_one_thumb_on_a_telephone(browser, address):
    """A value changed, eight readings typed, the verdict read: by touch, at 390 px, targets of 44 px."""
    phone = {"viewport": {"width": 390, "height": 844}, "has_touch": True, "is_mobile": True}
    with signed_in(browser, address, **phone) as page:
        page.get_by_label("Its name").fill("Pocket lantern")
        page.get_by_role("button", name="Start", exact=True).tap()
        resistor = page.locator('[data-path="blocks/output/cathode_resistor"]').first
        resistor.tap()
        value = page.get_by_label("Resistance, Ω")
        expect(value).to_have_attribute("inputmode", "decimal")
        value.fill("1")
        page.locator(".prefixes button", has_text="k").first.tap()
        expect(value).to_have_value("1k")
        for button in page.locator(".prefixes button:visible, nav.rooms a").all():
            assert button.bounding_box()["height"] >= 44
        page.get_by_role("button", name="Set").first.tap()
        expect(resistor).to_contain_text("1k")

        page.get_by_role("link", name="Power-up").tap()
        page.get_by_role("link", name="All tubes in").tap()
        page.get_by_label("Mains at the wall").fill("230")
        page.get_by_role("button", name="Start readings").tap()
        readings = page.locator("input.reading")
        expect(readings.first).to_be_enabled()
        to_the_edge = "(e) => window.scrollBy(0, e.getBoundingClientRect().bottom - innerHeight)"
        # Eight, the last of all among them: after it no other field is gone to.
        for count in (0, 1, 2, 3, 4, 5, 6, readings.count() - 1):
            expect(readings.nth(count)).to_have_attribute("inputmode", "decimal")
            readings.nth(count).fill("5")
            readings.nth(count).evaluate(to_the_edge)
            page.keyboard.press("Enter")
            verdict = page.locator(".readings .verdict").nth(count)
            expect(verdict).not_to_be_empty()
            in_sight = "(e) => e.getBoundingClientRect().bottom <= innerHeight - 48"
            page.wait_for_function(in_sight, arg=verdict.element_handle())  # it is brought back into it
            assert readings.nth(count).bounding_box()["y"] >= 0
        expect(page.locator("#reasons")).to_contain_text("Stop here")


def test_light_and_dark_by_hand_and_remembered(page, address):
    page.get_by_role("button", name="Light or dark").click()
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
