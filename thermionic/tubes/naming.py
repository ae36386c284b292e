"""The names by which a type is known, and what is offered for one that is not."""

from __future__ import annotations

import difflib
from functools import cache

from thermionic.errors import UnknownTube
from thermionic.tubes.library import TubeType, all_types, types_with


@cache
def _names() -> dict[str, TubeType]:
    names: dict[str, TubeType] = {}
    for tube in all_types().values():
        for name in (tube.type, *tube.aliases):
            if names.setdefault(name.upper(), tube) is not tube:
                raise AssertionError(f"two tube files claim the name {name}")
    return names


def library_names() -> frozenset[str]:
    """Every name by which a type of the library is known, in capitals."""
    return frozenset(_names())


def _is_slip(typed: str, known: str) -> bool:
    """Whether a name is a known one with letters or one digit too many or too few. Another digit or letter in the
    place of one is another type, often of another family, as is any other number under which the services bought."""
    if typed.startswith("CV") or typed.isdigit():
        return False
    steps = [step for step in difflib.SequenceMatcher(None, typed, known).get_opcodes() if step[0] != "equal"]
    changed = "".join(typed[a:b] + known[c:d] for _, a, b, c, d in steps)
    return {step[0] for step in steps} in ({"insert"}, {"delete"}) and (
        len(changed) == 1 or (len(changed) == 2 and changed.isalpha())
    )


def get(name: str, kind: str | None = None) -> TubeType:
    """The type known by ``name`` or an equivalent of it, in any case.

    With ``kind``, only a type that has such a unit will do. Raises UnknownTube.
    """
    result = _names().get(name.strip().upper())
    if result:
        if kind:
            result.unit(kind)
        return result
    fitting = [known for known, tube in _names().items() if kind is None or tube.has(kind)]
    near = difflib.get_close_matches(name.strip().upper(), fitting, n=5)
    slip = next((known for known in near if _is_slip(name.strip().upper(), known)), "")
    suggestion = f" Did you mean {slip}?" if slip else ""
    known = ", ".join(types_with(kind)) if kind else f"{len(all_types())} types"
    raise UnknownTube(f"“{name[:40]}” is not in the tube library.{suggestion} It has {known}.")
