"""Design documents in and out as JSON."""

from __future__ import annotations

import json
import re
from typing import Any

from pydantic import ValidationError
from pydantic.json_schema import models_json_schema

from thermionic.blocks import KINDS
from thermionic.design.document import MOST_TUBE_NAME, TUBE_NAME, Design, OwnTriode
from thermionic.design.graph import check
from thermionic.design.paths import put
from thermionic.design.versions import upgraded
from thermionic.errors import DesignRefused, FitRefused, TextRefused, ValueRefused
from thermionic.text import all_readable
from thermionic.tubes import Fit
from thermionic.values import Quantity, display, parse

MOST_BYTES = 1_000_000


def load(text: str | bytes) -> Design:
    """Read a design document.

    Raises DesignRefused for text that is too long, not JSON, not a design, or that names an unknown tube; the
    message has a sentence for each of the first few faults, with its place.
    """
    if len(text) > MOST_BYTES:
        raise DesignRefused(
            f"The file is {len(text) / 1e6:.1f} MB; a design is a few kilobytes, and {MOST_BYTES / 1e6:g} MB "
            "is the most that is read."
        )
    try:
        raw = json.loads(text, parse_constant=_refuse_constant)
    except UnicodeDecodeError as fault:
        raise DesignRefused(f"The file is not text in UTF-8 (byte {fault.start}).") from None
    except json.JSONDecodeError as fault:
        raise DesignRefused(
            f"The file is not complete JSON: {fault.msg} at line {fault.lineno}, column {fault.colno}."
        ) from None
    except RecursionError:
        raise DesignRefused("The file nests thousands of levels deep; a design has five.") from None
    except ValueError as fault:  # a number of thousands of digits
        raise DesignRefused(f"The file holds a number that cannot be read: {fault}.") from None
    try:
        all_readable(raw)
    except TextRefused as fault:
        raise DesignRefused(str(fault)) from None
    return validate(raw)


def validate(raw: Any) -> Design:
    """A design from plain data. Raises DesignRefused."""
    if not isinstance(raw, dict):
        raise DesignRefused(f"A design is a JSON object; this is {_json_kind(raw)}.")
    try:
        raw = upgraded(raw)
        design = Design.model_validate(raw)
    except ValidationError as fault:
        raise DesignRefused(" ".join(_sentences(fault, raw))) from None
    except RecursionError:
        raise DesignRefused("The document nests too deep; a design has five levels.") from None
    check(design)
    return design


def _refuse_constant(name: str) -> None:
    raise DesignRefused(f"The file holds {name}, which is not a number that a part can have.")


def _json_kind(raw: Any) -> str:
    kinds = {list: "a list", str: "text", bool: "true or false", type(None): "null"}
    return kinds.get(type(raw), "a number")


def _sentences(fault: ValidationError, raw: dict[str, Any]) -> list[str]:
    errors = fault.errors(include_url=False, include_context=True)
    lines = [f"{_place(error['loc'], raw)}{_reason(error)}" for error in errors[:5]]
    if len(errors) > 5:
        lines.append(f"And {len(errors) - 5} more faults.")
    return lines


def _place(location: tuple[int | str, ...], raw: Any) -> str:
    """Where in the document, with a block's own id in place of its number."""
    words: list[str] = []
    at = raw
    for step in location:
        try:
            at = at[step]
        except (KeyError, IndexError, TypeError):
            at = None
        if isinstance(step, int):
            own = at.get("id") if isinstance(at, dict) else None
            words.append(str(own)[:40] if own else f"number {step + 1}")
        else:
            words.append(step[:40])
    return f"{', '.join(words)}: " if words else ""


def _reason(error: Any) -> str:
    kind, context = error["type"], error.get("ctx", {})
    if kind == "value_error":
        return str(context["error"])
    if kind == "missing":
        return "is missing."
    if kind == "extra_forbidden":
        return "is not something that a design has here."
    if kind == "string_pattern_mismatch" and "\\." in context.get("pattern", ""):
        return "a reference is a block and a port with a dot between, such as volume.out or v1.a."
    if kind == "string_pattern_mismatch":
        return "small letters and digits, beginning with a letter, with single underscores between."
    return str(error["msg"]).replace("Input should be", "should be").rstrip(".") + "."


def dump(design: Design) -> dict[str, Any]:
    """The design as plain data, ready for JSON; ``validate`` gives the same design back."""
    raw = design.model_dump(mode="json")
    if not raw["own_tubes"]:
        del raw["own_tubes"]  # most designs have none, and their files need not say so
    # Parts that are left out need not be listed.
    raw["blocks"] = [{name: value for name, value in block.items() if value is not None} for block in raw["blocks"]]
    return raw


def with_value(design: Design, path: str, value: Any) -> Design:
    """The design with plain data put at ``path``, which must lead somewhere. Raises DesignRefused."""
    first, *way = path.split("/")
    if first == "blocks" and len(way) > 1:
        # Of the other blocks all is checked already.
        raw = design.block(way[0]).model_dump(mode="json")
        put(raw, "/".join(way[1:]), value)
        try:
            changed = KINDS[raw["kind"]].model_validate(raw)
        except (KeyError, ValidationError):
            pass  # which place of the whole it is, is said below
        else:
            blocks = tuple(changed if block.id == way[0] else block for block in design.blocks)
            result = design.model_copy(update={"blocks": blocks})
            check(result)
            return result
    raw = dump(design)
    put(raw, path, value)
    return validate(raw)


_OWN_RATINGS = {
    "Highest anode voltage": (Quantity.VOLTAGE, 5.0, 30e3),
    "Anode dissipation": (Quantity.POWER, 0.01, 20e3),
}


def check_own_tube(name: str, anode_volt: str, anode_watt: str) -> None:
    """Raise FitRefused for a name or ratings (as typed) that no tube of the builder's own can have."""
    if not re.fullmatch(TUBE_NAME, name) or len(name) > MOST_TUBE_NAME:
        raise FitRefused(
            f"“{name[:60]}” is no name for a tube: up to {MOST_TUBE_NAME} letters a to z, digits, blanks, dots, "
            "slashes and hyphens, beginning with a letter or digit."
        )
    for typed, (what, (quantity, least, most)) in zip((anode_volt, anode_watt), _OWN_RATINGS.items(), strict=True):
        try:
            value = parse(typed, quantity)
        except ValueRefused as fault:
            raise FitRefused(f"{what}: {fault}") from None
        if not least <= value <= most:
            shown = display(least, quantity), display(most, quantity)
            raise FitRefused(f"{what} is {typed.strip()}; it must be from {shown[0]} to {shown[1]}.")


def triode_from_fit(name: str, fitted: Fit, anode_volt: str, anode_watt: str) -> OwnTriode:
    """A fit as a type of the builder's own, with its two ratings as typed. Raises DesignRefused."""
    raw = {
        "name": name.strip(),
        "coefficients": fitted.as_dict()["coefficients"],
        "anode_volt": anode_volt,
        "anode_watt": anode_watt,
        "points": len(fitted.residuals),
        "rms_error": fitted.rms,
    }
    try:
        return OwnTriode.model_validate(raw)
    except ValidationError as fault:
        raise DesignRefused(" ".join(_sentences(fault, raw))) from None


def schema() -> dict[str, Any]:
    """The document's JSON Schema, with every kind of block."""
    kinds, definitions = models_json_schema([(kind, "validation") for kind in KINDS.values()])
    whole = Design.model_json_schema()
    whole["$defs"] = {**whole.get("$defs", {}), **definitions.get("$defs", {})}
    whole["properties"]["blocks"]["items"] = {
        "oneOf": [kinds[kind, "validation"] for kind in KINDS.values()],
        "discriminator": {"propertyName": "kind"},
    }
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **whole}
