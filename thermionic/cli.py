"""The command line: solve a design file, look up a tube, print a netlist. JSON out; errors on stderr, exit code 2."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import numpy as np

from thermionic import tubes
from thermionic.blocks import SolvedAmplifier, solve
from thermionic.circuit import spice
from thermionic.design import load, schema
from thermionic.errors import ThermionicError
from thermionic.report import report


def main(arguments: Sequence[str] | None = None) -> int:
    """Run one command. Returns the exit code: 0, or 2 for anything refused."""
    parser = argparse.ArgumentParser(prog="python -m thermionic", description=__doc__)
    commands = parser.add_subparsers(dest="command", required=True)
    commands.add_parser("tubes", help="list the tube library")
    tube = commands.add_parser("tube", help="one tube at one operating point")
    tube.add_argument("type")
    tube.add_argument("--anode", type=float, required=True, help="anode to cathode, V")
    tube.add_argument("--grid", type=float, required=True, help="grid to cathode, V")
    commands.add_parser("schema", help="the JSON Schema of a design file")
    for name, text in (
        ("solve", "solve a design: voltages, currents, dissipations, gain, findings"),
        ("spice", "print a design's netlist for a SPICE-class simulator"),
    ):
        command = commands.add_parser(name, help=text)
        command.add_argument("file", type=Path, help="a design as JSON, or - for standard input")
    commands.choices["spice"].add_argument(
        "--supply",
        choices=("solved", "mains"),
        default="solved",
        help="the HT rectifier as the source it was solved to be, for .op, .ac and .four (default); or as "
        "winding and diodes on the mains, for .tran",
    )
    chosen = parser.parse_args(arguments)
    try:
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


def _tubes(_: argparse.Namespace) -> Any:
    return [
        {
            "type": tube.type,
            "aliases": list(tube.aliases),
            "description": tube.description,
            "sections": tube.sections,
            "base": tube.base,
            "anode_v_max": tube.limits.anode_v,
            "anode_w_max": tube.limits.anode_w,
            "points": [
                {
                    "anode_v": point.anode_v,
                    "grid_v": point.grid_v,
                    "source": point.source,
                    "unsure": point.unsure,
                    "errors": tubes.errors(tube.triode(), point),
                }
                for point in tube.points
            ],
            "note": tube.note,
        }
        for tube in tubes.all_types().values()
    ]


def _tube(chosen: argparse.Namespace) -> Any:
    for name in ("anode", "grid"):
        if not np.isfinite(getattr(chosen, name)):
            raise ThermionicError(f"--{name} must be a finite voltage.")
    found = tubes.characteristics(tubes.get(chosen.type).triode(), chosen.anode, chosen.grid)
    return {key: value if np.isfinite(value) else None for key, value in found.items()}


def _solved(chosen: argparse.Namespace) -> SolvedAmplifier:
    if str(chosen.file) == "-":
        return solve(load(sys.stdin.buffer.read()))
    return solve(load(chosen.file.read_bytes()))


def _solve(chosen: argparse.Namespace) -> Any:
    return report(_solved(chosen))


def _spice(chosen: argparse.Namespace) -> str:
    amplifier = _solved(chosen)
    if chosen.supply == "mains":
        return spice.write(amplifier.netlist)
    return spice.write(amplifier.netlist, state=amplifier.state, watch=amplifier.design.loudspeaker.id)


_COMMANDS = {
    "tubes": _tubes,
    "tube": _tube,
    "schema": lambda _: schema(),
    "solve": _solve,
    "spice": _spice,
}
