"""Amplifiers of our own that solve: for the demo, the tests, the benchmarks and as starting points."""

from importlib import resources

from thermionic.design import Design, load


def example(name: str) -> Design:
    """The example called ``name``, such as ``lantern``. Raises FileNotFoundError."""
    return load((resources.files("thermionic.examples") / f"{name}.json").read_bytes())


def names() -> list[str]:
    """All examples by name."""
    files = resources.files("thermionic.examples").iterdir()
    return sorted(entry.name.removesuffix(".json") for entry in files if entry.name.endswith(".json"))
