"""Every page: no serious accessibility violation, no sideways scrolling, printable, in light and dark."""

from pathlib import Path

import pytest
from playwright.sync_api import expect

from tests.browser.conftest import signed_in

AXE = (Path(__file__).parents[1] / "vendor" / "axe" / "axe.min.js").read_text()
PAGES = (
    "/",
    "/tubes/",
    "/amps/1/chain/",
    "/amps/1/chain/?stage=driver",
    "/amps/1/brief/",
    "/amps/1/power-up/",
    "/amps/1/power-up/?stage=no-tubes",
)


# Controls that reach past the edge of the page, unless what they stand in scrolls.
CUT_OFF = """() => {
  const style = (e) => getComputedStyle(e);
  const scrolls = (e) => e !== document.body && (/auto|scroll/.test(style(e).overflowX) || scrolls(e.parentElement));
  const past = ({ width, left, right }) => width > 1 && (right > innerWidth + 1 || left < -1);
  return [...document.querySelectorAll("button, a[href], input:not([type=hidden]), select, textarea")]
    .filter((e) => !e.closest("svg, .skip") && e.checkVisibility() && style(e).position !== "absolute")
    .filter((e) => past(e.getBoundingClientRect()) && !scrolls(e.parentElement))
    .map((e) => e.textContent.trim().slice(0, 30) || e.name || e.id);
}"""


def serious(page):
    """axe-core's serious and critical violations, in short."""
    page.evaluate(AXE)
    found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")
    return [
        (one["id"], node["target"], node["failureSummary"][:300])
        for one in found["violations"]
        if one["impact"] in ("serious", "critical")
        for node in one["nodes"]
    ]


@pytest.mark.parametrize("scheme", ["light", "dark"])
def test_no_serious_violation_and_no_sideways_scrolling(browser, address, scheme):
    # axe is put into the page from outside, which the policy rightly forbids to the page itself
    with signed_in(browser, address, color_scheme=scheme, bypass_csp=True) as page:
        for where in PAGES:
            page.goto(address + where)
            expect(page.locator("html")).to_have_attribute("data-bs-theme", scheme)
            assert serious(page) == [], where
            for width in (1280, 800, 390):
                page.set_viewport_size({"width": width, "height": 800})
                assert page.evaluate("document.scrollingElement.scrollWidth") <= width, (where, width)
                assert page.evaluate(CUT_OFF) == [], (where, width)
            page.set_viewport_size({"width": 1280, "height": 800})
        page.goto(f"{address}/amps/1/chain/")
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
    page.goto(f"{address}/amps/1/power-up/")
    page.emulate_media(media="print")
    expect(page.locator(".rooms")).to_be_hidden()
    expect(page.locator(".caution")).to_be_visible()
    expect(page.locator("table.readings")).to_be_visible()
    assert len(page.pdf(format="A4")) > 10_000


def test_light_and_dark_by_hand_and_remembered(page, address):
    page.get_by_role("button", name="Light or dark").click()
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-bs-theme", "dark")
