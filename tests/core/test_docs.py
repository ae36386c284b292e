"""What the documents say of the code is so: packages, counts, commands, words."""

import re
from pathlib import Path

from thermionic import tubes
from thermionic.blocks import KINDS
from thermionic.examples import names

ROOT = Path(__file__).resolve().parents[2]


def _text(*parts):
    return ROOT.joinpath(*parts).read_text()


def test_the_map_has_every_package_and_no_other():
    core, web = _text("docs", "packages.md").split("## `bold_anode/`")
    for text, folder in ((core, "thermionic"), (web, "bold_anode")):
        told = set(re.findall(r"^\| `(\w+)` \|", text, re.M))
        here = {path.parent.name for path in ROOT.joinpath(folder).glob("*/__init__.py")}
        assert told - {"values"} == here - {"values"}


def test_the_readme_counts_what_is_there():
    text = _text("README.md")
    assert f"[{len(KINDS)} kinds of them]" in text
    assert f"{len(names())} amplifiers of our own" in " ".join(text.split())
    assert f"knows {len(tubes.all_types())} tube types" in " ".join(text.split())


def test_every_file_and_page_that_the_documents_name_is_there():
    for page in [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *ROOT.glob("docs/*.md")]:
        for link in re.findall(r"\]\(([^)#]+)", page.read_text()):
            if "://" not in link:
                assert (page.parent / link).exists(), (page.name, link)
        for name in re.findall(r"`((?:tools|bench|tests)/[\w/.]+)`", page.read_text()):
            assert (ROOT / name).exists(), (page.name, name)
