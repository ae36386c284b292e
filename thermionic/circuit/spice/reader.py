"""Reading a SPICE netlist: what we write ourselves, and what people write by hand.

Elements R C L K V I D Q J M S W B E F G H X; ``.param``, ``.func``, ``.model``, ``.subckt``, ``.global``, ``.if``,
``.temp``, files beside the netlist; and the analyses of ``directives``. Anything else is refused by its line number:
a circuit read half would be a wrong one. Lines that only say how to print or how hard to try (``.print``, ``.save``,
``.options``, ...) are passed over and listed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from thermionic import budget
from thermionic.circuit.netlist import Netlist
from thermionic.circuit.spice import directives, measuring, models
from thermionic.circuit.spice.assembly import Assembly
from thermionic.circuit.spice.builder import Place
from thermionic.circuit.spice.directives import Analyses
from thermionic.circuit.spice.elements import ELEMENTS, control_nodes
from thermionic.circuit.spice.expressions import ExpressionLaw, constant, parse
from thermionic.circuit.spice.lines import Files, Line, logical
from thermionic.circuit.spice.tokens import number
from thermionic.circuit.spice.words import Scope, Subcircuit, bare, pairs, value_of
from thermionic.errors import NetlistRefused

_MOST_PARTS = 3000
_PASSED_OVER = (".print", ".plot", ".save", ".probe", ".options", ".option", ".title", ".width", ".nodeset",
                ".backanno", ".csparam")  # fmt: skip
_TOP = Place("", {}, 0)
_NOMINAL = 27.0


@dataclass(frozen=True)
class Deck:
    """A netlist as read: the circuit, the analyses, and the lines that were passed over.

    ``sensed`` are the quantities that the analyses ask for, as written in lower case: a law and the nodes, two and
    two, of what it senses. ``again`` reads it with other values of parameters and parts.
    """

    netlist: Netlist
    analyses: Analyses
    passed_over: tuple[str, ...]
    sensed: Mapping[str, tuple[ExpressionLaw, tuple[str, ...]]]
    again: Callable[[Mapping[str, float]], Deck]


def read(text: str, files: Files | None = None) -> Deck:
    """Read a netlist; its first line is the title, as everywhere in SPICE.

    ``files`` gives the text of what it includes; without it including is refused. Raises NetlistRefused with the
    number of the line that is wrong or not known.
    """
    lines = logical(text, files)
    first = text.splitlines()[:1]
    title = (first[0].lstrip("* ").strip() if first else "")[:200] or "netlist"

    def again(stepped: Mapping[str, float]) -> Deck:
        return _Reader(title, lines, stepped).deck(again)

    return again({})


class _Reader(Assembly):
    def __init__(self, title: str, lines: list[Line], stepped: Mapping[str, float]) -> None:
        super().__init__()
        self.title, self.lines = title, lines
        self.stepped = {name.lower(): value for name, value in stepped.items()}
        self.passed_over: list[str] = []
        self.analyses = Analyses()
        self.celsius = _NOMINAL

    def deck(self, again: Callable[[Mapping[str, float]], Deck]) -> Deck:
        """The whole netlist."""
        try:
            scope = Scope()
            scope.parameters["temper"] = _NOMINAL
            if "temp" in self.stepped:
                self.celsius = scope.parameters["temper"] = self.stepped["temp"]
            self._before_all(scope)
            body = self.definitions(self.lines, scope)
            for line in body:
                self.line = line.number
                if line.text[0] == ".":
                    self._directive(line.text, scope)
                else:
                    self.element(line.text, scope, _TOP)
            for sweep in self.analyses.steps:
                if sweep.name.lower() not in ("temp", *scope.parameters) and sweep.name.upper() not in self.names:
                    raise NetlistRefused(f"A .step changes a parameter, a part or temp; there is no {sweep.name}.")
            sensed = self._sensed(scope)
            self.change({name: value for name, value in self.stepped.items() if name != "temp"})
            self.put_probes()
            self.couple()
            return Deck(Netlist(self.title, tuple(self.parts)), self.analyses, tuple(self.passed_over), sensed, again)
        except NetlistRefused as refusal:
            if str(refusal).startswith(("Line ", "The netlist has")):
                raise
            raise NetlistRefused(f"Line {self.line}: {refusal}" if self.line else str(refusal)) from None

    def _before_all(self, scope: Scope) -> None:
        """What counts wherever it stands: the temperature, and the nodes that are the same in every subcircuit."""
        for line in self.lines:
            self.line = line.number
            words = line.text.split()
            if words[0].lower() == ".temp" and "temp" not in self.stepped:
                if len(words) != 2 or not -100 <= number(words[1]) <= 300:
                    raise NetlistRefused(".temp wants one temperature from -100 to 300 °C.")
                self.celsius = scope.parameters["temper"] = number(words[1])
            elif words[0].lower() == ".global":
                self.shared |= {word.lower() for word in words[1:]}

    # Definitions

    def definitions(self, lines: list[Line], scope: Scope) -> list[Line]:
        """Take subcircuits, parameters, functions and models out of ``lines`` into the scope; what is left is
        returned."""
        lines = self._chosen(lines, scope)
        rest: list[Line] = []
        parameters: list[Line] = []
        wanted_models: list[Line] = []
        at = 0
        while at < len(lines):
            line = lines[at]
            self.line = line.number
            word = line.text.split()[0].lower()
            if word == ".subckt":
                end = self._end_of(lines, at)
                self._subcircuit(line.text, lines[at + 1 : end], scope)
                at = end
            elif word == ".ends":
                raise NetlistRefused(".ends without a .subckt.")
            elif word == ".control":
                raise NetlistRefused("a .control section is a program for one simulator; put its analyses as lines.")
            elif word in (".param", ".params"):
                parameters.append(line)
            elif word in (".func", ".function"):
                self._function(line.text.split(maxsplit=1)[-1], scope)
            elif word == ".model":
                wanted_models.append(line)
            elif word == ".end":
                break
            else:
                rest.append(line)
            at += 1
        self._parameters(parameters, scope)
        for line in wanted_models:
            self.line = line.number
            model = models.read(line.text, scope.parameters, scope.models)
            scope.models[model.name] = model
        return rest

    def _chosen(self, lines: list[Line], scope: Scope) -> list[Line]:
        """The lines that .if leaves, by the parameters that are known before it."""
        if not any(line.text.split()[0].lower() == ".if" for line in lines):
            return lines
        before = scope.inner()
        out: list[Line] = []
        # Of every .if that is open: whether its present branch counts, whether one has, whether it is at .else.
        open_: list[list[bool]] = []
        for line in lines:
            self.line = line.number
            word = line.text.split()[0].lower()
            counts = all(one[0] for one in open_)
            if word == ".if":
                yes = counts and self._holds(line.text[3:], before)
                open_.append([yes, yes, False])
            elif word in (".elseif", ".else", ".endif"):
                if not open_ or (open_[-1][2] and word != ".endif"):
                    raise NetlistRefused(f"{word} without its .if.")
                if word == ".endif":
                    open_.pop()
                    continue
                within = all(one[0] for one in open_[:-1])
                yes = within and not open_[-1][1] and (word == ".else" or self._holds(line.text[7:], before))
                open_[-1] = [yes, open_[-1][1] or yes, word == ".else"]
            elif counts:
                out.append(line)
                if word in (".param", ".params"):
                    try:
                        self._parameters([line], before)
                    except NetlistRefused:
                        continue  # it may use what stands below; said there if it never comes
        if open_:
            raise NetlistRefused("an .if has no .endif.")
        return out

    def _holds(self, condition: str, scope: Scope) -> bool:
        text = condition.strip()
        return bool(value_of(text[1:-1] if text.startswith("(") and text.endswith(")") else text, scope))

    def _end_of(self, lines: list[Line], start: int) -> int:
        depth = 0
        for at in range(start, len(lines)):
            word = lines[at].text.split()[0].lower()
            depth += word == ".subckt"
            depth -= word == ".ends"
            if depth == 0:
                return at
        raise NetlistRefused("this .subckt has no .ends.")

    def _subcircuit(self, text: str, lines: list[Line], scope: Scope) -> None:
        plain, given = pairs(re.sub(r"\bparams:", " ", text, flags=re.IGNORECASE))
        if len(plain) < 3:
            raise NetlistRefused("a .subckt needs a name and at least one node.")
        name = plain[1].lower()
        if name in scope.subcircuits:
            raise NetlistRefused(f"the subcircuit {plain[1]} is defined twice.")
        scope.subcircuits[name] = Subcircuit(plain[1], tuple(plain[2:]), tuple(given), lines)

    def _function(self, text: str, scope: Scope) -> None:
        result = re.fullmatch(r"\s*([a-z_]\w*)\s*\(([^()]*)\)\s*=?\s*(.+)", text, flags=re.IGNORECASE)
        arguments = [word.strip().lower() for word in result[2].split(",") if word.strip()] if result else []
        if not result or not all(re.fullmatch(r"[a-z_]\w*", word) for word in arguments):
            raise NetlistRefused("a .func wants a name, its arguments and an expression: .func f(x,y) {x*y}.")
        scope.parameters.functions[result[1].lower()] = (tuple(arguments), bare(result[3]))

    def _parameters(self, lines: list[Line], scope: Scope) -> None:
        """Parameters may be used before the line that gives them."""
        waiting: list[tuple[str, str, str]] = []
        for line in lines:
            self.line = line.number
            if re.match(r"\S+\s+[a-z_]\w*\s*\([^()]*\)\s*=", line.text, flags=re.IGNORECASE):
                self._function(line.text.split(maxsplit=1)[-1], scope)
                continue
            plain, given = pairs(line.text)
            if len(plain) != 1 or not given:
                raise NetlistRefused("a .param line gives name=value pairs.")
            waiting += [(line.number, name, value) for name, value in given]
        while waiting:
            left: list[tuple[str, str, str]] = []
            fault: NetlistRefused | None = None
            for place, name, value in waiting:
                self.line = place
                if name in self.stepped:
                    scope.parameters[name] = self.stepped[name]
                    continue
                try:
                    scope.parameters[name] = constant(value, scope.parameters)
                except NetlistRefused as refusal:
                    fault = fault or refusal
                    left.append((place, name, value))
            if len(left) == len(waiting):
                self.line = left[0][0]
                raise NetlistRefused(str(fault))
            waiting = left

    # Analyses

    def _directive(self, text: str, scope: Scope) -> None:
        word = text.split()[0].lower()
        if directives.take(self.analyses, text, self.line, scope.parameters):
            return
        if word in (".temp", ".global"):
            return  # read before all else
        if word in _PASSED_OVER:
            self.passed_over.append(f"line {self.line}: {word}")
            return
        raise NetlistRefused(
            f"{text.split()[0][:40]} is not known. Read are {' '.join(directives.KNOWN)} .param .func .model .subckt "
            ".include .lib .global .if .temp."
        )

    def _sensed(self, scope: Scope) -> dict[str, tuple[ExpressionLaw, tuple[str, ...]]]:
        """The laws of what the analyses ask for, by how it is written."""
        asked = [quantity for four in self.analyses.four for quantity in four.quantities]
        asked += [thd.quantity for thd in self.analyses.thd]
        result = {}
        for written in asked:
            law = parse(written, scope.parameters)
            result[written.lower()] = (law, control_nodes(self, law, _TOP))
        for measure in self.analyses.measures:
            self.line = measure.number
            for written in measuring.expressions(measure):
                law = parse(bare(written), scope.parameters)
                result[written.lower()] = (law, control_nodes(self, law, _TOP))
        return result

    # Elements

    def element(self, text: str, scope: Scope, place: Place) -> None:
        """Read one element."""
        budget.check("reading the netlist")
        if re.match(r"[^\s=]*\s*=", text):
            raise NetlistRefused(f"“{text[:40]}” is no element: one begins with its name and its nodes.")
        letter = text[0].lower()
        reader = ELEMENTS.get(letter)
        if reader is None:
            raise NetlistRefused(
                f"“{text.split()[0][:40]}” begins with {text[0].upper()}, which is no element that is known. "
                "Read are R C L K V I D Q J M S W B E F G H X."
            )
        if len(self.parts) > _MOST_PARTS:
            raise NetlistRefused(f"there are more than {_MOST_PARTS} parts.")
        reader(self, text, scope, place)
