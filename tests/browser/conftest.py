"""The real thing: ./start serving a database of its own, and Debian's Chromium looking at it."""

import contextlib
import os
import signal
import subprocess
import sys
import uuid
from pathlib import Path
from urllib.parse import urlsplit, urlunsplit

import psycopg
import pytest
from playwright.sync_api import expect, sync_playwright

ROOT = Path(__file__).resolve().parents[2]
sys.path.insert(0, str(ROOT / "tools"))

from local import free_port  # noqa: E402

# Long enough for any machine: what is shown is tested, not how soon.
PATIENCE = 90_000
expect.set_options(timeout=PATIENCE)
SWITCHES = ["--no-sandbox", "--disable-background-networking", "--disable-component-update", "--disable-sync"]


@pytest.fixture(scope="session")
def database():
    """The address of a database made for these tests."""
    server = os.environ["DATABASE_URL"]
    name = f"browser_{uuid.uuid4().hex[:12]}"
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute(f"CREATE DATABASE {name}")
    yield urlunsplit(urlsplit(server)._replace(path=f"/{name}"))
    with psycopg.connect(server, autocommit=True) as connection:
        connection.execute(f"DROP DATABASE {name} WITH (FORCE)")


@pytest.fixture(scope="session")
def address(database, tmp_path_factory):
    """The address that ./start serves at, with the demo workshop in the database."""
    port = free_port()
    surroundings = {
        **os.environ,
        "DATABASE_URL": database,
        "BOLD_ANODE_STATIC": str(tmp_path_factory.mktemp("static")),
        "BOLD_ANODE_DEMO": "1",
    }
    process = subprocess.Popen(
        [ROOT / "start", "--port", str(port)],
        env=surroundings,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    try:
        said = []
        while f"http://127.0.0.1:{port}" not in "".join(said):
            said.append(process.stdout.readline())
            assert said[-1], "".join(said) + process.stderr.read()
        yield f"http://127.0.0.1:{port}"
    finally:
        process.send_signal(signal.SIGTERM)
        assert process.wait(30) == 0
        process.stdout.close()
        process.stderr.close()


@pytest.fixture(scope="session")
def browser():
    # pytest-django must not take Playwright's own loop for asynchronous code of ours.
    os.environ["DJANGO_ALLOW_ASYNC_UNSAFE"] = "1"
    with sync_playwright() as playwright:
        chromium = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=SWITCHES)
        yield chromium
        chromium.close()


@contextlib.contextmanager
def signed_in(browser, address, **options):
    """A page signed in to the demo account, in a context of its own; anything on its console fails the test."""
    context = browser.new_context(**{"viewport": {"width": 1280, "height": 800}, **options})
    context.set_default_timeout(PATIENCE)
    page = context.new_page()
    complaints = []
    expected = "status of 422"  # a refused value answers with that, and the browser notes it
    page.on("console", lambda m: complaints.append(m.text) if m.type == "error" and expected not in m.text else None)
    page.on("pageerror", lambda error: complaints.append(str(error)))
    page.goto(f"{address}/sign-in/")
    name, password = page.locator(".demo b").all_text_contents()
    page.fill("#id_username", name)
    page.fill("#id_password", password)
    page.keyboard.press("Enter")
    page.wait_for_url(f"{address}/")
    yield page
    context.close()
    assert complaints == []


@pytest.fixture
def page(browser, address):
    with signed_in(browser, address) as one:
        yield one
