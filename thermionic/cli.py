"""The command line: solve a design or a netlist, look up or fit a tube, print netlists. JSON out; errors on
stderr, exit code 2."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from thermionic import budget, tubes
from thermionic.amplifier import SolvedAmplifier, solve
from thermionic.circuit import spice
from thermionic.design import load, schema
from thermionic.devices import GasRegulator, Pentode, Triode
from thermionic.errors import NetlistRefused, ThermionicError
from thermionic.report import ANALYSES, report

_NETLIST_SUFFIXES = (".cir", ".ckt", ".net", ".sp", ".spice")


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command. Returns the exit code: 0, or 2 for anything refused."""
    chosen = _parser().parse_args(arguments)
    try:
        with budget.limit(getattr(chosen, "budget", None) or budget.DEFAULT_SECONDS):
            result = _COMMANDS[chosen.command](chosen)
    except ThermionicError as refusal:
        print(refusal, file=sys.stderr)
        return 2
    except OSError as fault:
        print(f"{fault.filename or chosen.file}: {fault.strerror}.", file=sys.stderr)
        return 2
    try:
        if isinstance(result, str):
            print(result, end="")
        else:
            json.dump(result, sys.stdout, indent=2, ensure_ascii=False, allow_nan=False)
            print()
    except BrokenPipeError:
        sys.stderr.close()
    return 0


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="python -m thermionic", description=__doc__)
    commands = parser.add_subparsers(dest="command", required=True)

    commands.add_parser("tubes", help="list the tube library, with the model's error at every published point")

    library = commands.add_parser("library", help="the tube library for use elsewhere")
    library.add_argument("--spice", action="store_true", required=True, help="every tube as a SPICE subcircuit")

    tube = commands.add_parser("tube", help="one tube at one operating point")
    tube.add_argument("type")
    tube.add_argument("--anode", type=float, required=True, help="anode to cathode, V")
    tube.add_argument("--grid", type=float, help="grid to cathode, V (not for a rectifier)")
    tube.add_argument(
        "--screen", type=float, help="screen to cathode, V, of a pentode; without it, strapped as a triode"
    )
    tube.add_argument("--unit", choices=("triode", "pentode", "rectifier"), help="which unit of a combined type")

    fit = commands.add_parser("fit", help="fit a tube's coefficients to points in a CSV file")
    fit.add_argument("file", type=Path, help="CSV with a heading line, SI units, or - for standard input")
    fit.add_argument("--kind", choices=("triode", "pentode", "rectifier"), default="triode")

    commands.add_parser("schema", help="the JSON Schema of a design file")

    solving = commands.add_parser(
        "solve",
        help="solve a design, or run a SPICE netlist's own .op, .ac, .tran and .four",
        description="A design is solved for everything, or for the analyses named. A netlist (by its suffix "
        f"{', '.join(_NETLIST_SUFFIXES)}, or by not being JSON) has its own analyses run.",
    )
    solving.add_argument("file", type=Path, help="a design as JSON, a SPICE netlist, or - for standard input")
    solving.add_argument("--budget", type=_seconds, help="stop after this many seconds (60)")
    for name, (_, text) in ANALYSES.items():
        solving.add_argument(f"--{name}", action="store_true", help=text)

    netlist = commands.add_parser("spice", help="print a design's netlist for a SPICE-class simulator")
    netlist.add_argument("file", type=Path, help="a design as JSON, or - for standard input")
    netlist.add_argument(
        "--supply",
        choices=("solved", "mains"),
        default="solved",
        help="the HT rectifier as the source it was solved to be, for .op, .ac and .four (default); or as "
        "winding and diodes on the mains, for .tran",
    )
    return parser


def _seconds(text: str) -> float:
    value = float(text)
    if not 0 < value <= 86400:
        raise argparse.ArgumentTypeError("a budget is more than 0 s and at most a day")
    return value


_MOST_BYTES = 5_000_000  # of a file that a netlist includes


def _bytes(file: Path) -> bytes:
    return sys.stdin.buffer.read() if str(file) == "-" else file.read_bytes()


def _text(file: Path, what: str) -> str:
    try:
        return _bytes(file).decode("utf-8-sig")
    except UnicodeDecodeError:
        raise ThermionicError(f"{file} is not {what}: it is not text in UTF-8.") from None


def _tubes(_: argparse.Namespace) -> Any:
    return [_described(tube) for tube in tubes.all_types().values()]


def _described(tube: tubes.TubeType) -> dict[str, Any]:
    return {
        "type": tube.type,
        "kind": tube.kind,
        "aliases": list(tube.aliases),
        "description": tube.description,
        "base": tube.base,
        "pins": {str(pin): electrode for pin, electrode in tube.pins.items()},
        "heater": asdict(tube.heater) if tube.heater else None,
        "units": [_unit(tube, unit) for unit in tube.units],
        "note": tube.note,
    }


def _unit(tube: tubes.TubeType, unit: tubes.Unit) -> dict[str, Any]:
    limits = unit.limits or unit.rectifier_limits or unit.regulator_limits
    result: dict[str, Any] = {
        "name": unit.name,
        "kind": unit.kind,
        "sections": unit.sections,
        "limits": {key: value for key, value in asdict(limits).items() if value is not None} if limits else None,
    }
    if unit.kind in ("triode", "pentode"):
        device = tube.device(unit)
        assert isinstance(device, Triode | Pentode)
        result["cutoffs"] = [
            {**_given(cutoff), "ratio": tubes.cutoff_ratio(device, cutoff)} for cutoff in unit.cutoffs
        ]
        result["points"] = [{**_given(point), "errors": tubes.errors(device, point)} for point in unit.points]
    if unit.kind == "rectifier":
        result["points"] = [
            {**asdict(drop), "errors": {"drop_v": tubes.drop_error(tube.rectifier(), drop)}} for drop in unit.drops
        ]
    if unit.kind == "regulator":
        result |= {"striking_v": unit.striking_v, "running_v": unit.running_v, "regulation_v": unit.regulation_v}
    return result


def _given(point: tubes.Point | tubes.Cutoff) -> dict[str, Any]:
    return {key: value for key, value in asdict(point).items() if value is not None}


def _tube(chosen: argparse.Namespace) -> Any:
    for name in ("anode", "grid", "screen"):
        value = getattr(chosen, name)
        if value is not None and not np.isfinite(value):
            raise ThermionicError(f"--{name} must be a finite voltage.")
    tube = tubes.get(chosen.type, chosen.unit)
    unit = chosen.unit or next((kind for kind in ("triode", "pentode", "rectifier") if tube.has(kind)), None)
    if unit == "pentode" or (chosen.screen is not None and tube.has("pentode")):
        unit = "pentode"
    if unit is None:
        raise ThermionicError(f"{tube.type} is a {tube.kind}; it has no characteristics to solve.")
    if unit == "rectifier":
        i, _ = tube.rectifier().currents(np.array([chosen.anode, 0.0]))
        return {"anode_a": float(i[0])}
    if chosen.grid is None:
        raise ThermionicError(f"A {unit} needs its grid voltage: --grid.")
    device = tube.pentode() if unit == "pentode" else tube.triode()
    strapped = unit == "pentode" and chosen.screen is None
    result = tubes.characteristics(device, chosen.anode, chosen.grid, chosen.screen, strapped)
    return {key: value if np.isfinite(value) else None for key, value in result.items()}


def _fit(chosen: argparse.Namespace) -> Any:
    points = tubes.read_points(_text(chosen.file, "a table of points"), chosen.kind)
    return tubes.fit_points(chosen.kind, points).as_dict()


def _library(_: argparse.Namespace) -> str:
    pieces = ["* Every tube of the library as a subcircuit. Terminals are in the order that each line gives.\n"]
    for tube in tubes.all_types().values():
        devices = tube.devices()
        for unit, device in devices.items():
            name = _spice_name(tube.type) + (f"_{unit.replace(' ', '_')}" if len(devices) > 1 else "")
            said = f"{tube.type}: {tube.description}"
            if isinstance(device, GasRegulator):
                device = tube.regulator(lit=True)
                said += ", as it is once struck"
            pieces.append(spice.subcircuit(name, device, said))
    return "\n".join(pieces)


def _spice_name(name: str) -> str:
    return f"T{name}" if name[0].isdigit() else name


def _is_netlist(file: Path, raw: bytes) -> bool:
    return file.suffix.lower() in _NETLIST_SUFFIXES or (
        file.suffix.lower() != ".json" and not raw.lstrip(b"\xef\xbb\xbf \t\r\n").startswith((b"{", b"["))
    )


def _beside(file: Path) -> spice.Files:
    """The files that a netlist may include: those in its own folder and below, and none by another way."""
    folder = file.resolve().parent

    def read(name: str) -> str:
        wanted = (folder / name.replace("\\", "/")).resolve()
        if not wanted.is_relative_to(folder):
            raise NetlistRefused(f"{name} is outside the netlist's folder, and only what is in there is read.")
        if not wanted.is_file():
            raise NetlistRefused(f"there is no file {name} beside the netlist.")
        if wanted.stat().st_size > _MOST_BYTES:
            raise NetlistRefused(f"{name} is larger than {_MOST_BYTES // 1_000_000} MB.")
        return spice.decode(wanted.read_bytes())

    return read


def _solve(chosen: argparse.Namespace) -> Any:
    raw = _bytes(chosen.file)
    asked = [name for name in ANALYSES if getattr(chosen, name)]
    if _is_netlist(chosen.file, raw):
        if asked:
            raise ThermionicError(f"--{asked[0]} is for a design; a netlist has its analyses in its own lines.")
        return spice.run(spice.read(spice.decode(raw), _beside(chosen.file) if str(chosen.file) != "-" else None))
    amplifier = solve(load(raw))
    if not asked:
        return report(amplifier)
    return {name: ANALYSES[name][0](amplifier) for name in asked}


def _spice(chosen: argparse.Namespace) -> str:
    amplifier: SolvedAmplifier = solve(load(_bytes(chosen.file)))
    if chosen.supply == "mains":
        return spice.write(amplifier.netlist)
    return spice.write(amplifier.netlist, state=amplifier.state, watch=amplifier.load.node)


_COMMANDS: dict[str, Callable[[argparse.Namespace], Any]] = {
    "tubes": _tubes,
    "library": _library,
    "tube": _tube,
    "fit": _fit,
    "schema": lambda _: schema(),
    "solve": _solve,
    "spice": _spice,
}
